# The port runs this file at every start; it is compiled on the device, so it is short.
def up(name, n=6):
    # So deep that later calls write over what an import leaves on the stack: it would pass for pointers.
    up(name, n - 1) if n else __import__(name)


up("go")
up("start")
up = None  # type: ignore
import start

start.run()
