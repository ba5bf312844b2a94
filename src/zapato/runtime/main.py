# The port runs this file at every start; it is compiled on the device, so it is short.
import go
del go
import start
start.run()
