"""The kinds' own examples as devices."""

from conftest import HEADER

import zapato
from zapato.parts import kind

BUSES = {
    "expander": "[i2c.main]\nsda = 21\nscl = 22\n",
    "converter": "[i2c.main]\nsda = 21\nscl = 22\n",
    "group": "[relay.heater]\npin = 26\n[relay.vent]\npin = 25\n",
    "guard": "",
}


def example(put, name: str):
    """A device of this kind's own example."""
    body = kind(name).example
    return zapato.load(put(HEADER.format(board="esp32-38pin") + BUSES.get(name, "") + body + "\n"))
