# Stands in for the port's esp32 module: the chip's own temperature, in the unit of the chip.
from world import ask


def __getattr__(name):
    known = ask("die").split()
    if name != known[0]:
        raise AttributeError(name)
    return lambda: float(known[1]) if name == "mcu_temperature" else int(known[1])
