"""A one-wire bus: several sensors on one data line."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import measured, pin
from zapato.parts.electrical import RAIL, Passive, line_level
from zapato.parts.model import Action, Driver, Kind, Need, Part, Property
from zapato.parts.sights import on_onewire
from zapato.parts.stimuli import line_bench


def crc8(data: bytes) -> int:
    """The check byte of one-wire chips (polynomial 0x8C, the lowest bit first; Maxim application note 27)."""
    crc = 0
    for byte in data:
        for _ in range(8):
            low = (crc ^ byte) & 1
            crc >>= 1
            crc ^= 0x8C if low else 0
            byte >>= 1
    return crc


def _beside(part: Part, logic: float) -> Iterable[Passive]:
    yield Passive(
        "resistor", "4.7 kohm", "from the data line to 3.3 V", "holds the line high, once a bus", "pin", RAIL
    )


KIND = Kind(
    terminals={"pin": "DATA"},
    beside=_beside,
    name="onewire",
    thing=False,
    called="one-wire bus",
    help="a one-wire bus",
    fields=(
        pin("pin", "the data line"),
        measured("pull_up", "the resistor fitted from the line to 3.3 V", "ohm", None, least=1),
        line_level(),
    ),
    properties=lambda part: {
        "found": Property("text", unknown=True, help="serial numbers that answered the last scan")
    },
    actions={"scan": Action(help="ask for every sensor on the line")},
    needs=lambda part: [
        Need(
            "pin",
            "line",
            rest="high",
            firm=True,
            volts=part.get("level", 0.0),
            circuit="the one-wire line, which its pull-up resistor holds high",
        )
    ],
    bench=line_bench("pin"),
    driver=lambda part: Driver("bus_onewire", "OneWireBus", (part.pins["pin"].gpio,)),
    sights=on_onewire,
    wiring=(
        "One data line with 4.7 kohm to 3.3 V at the board, supply and ground beside it. Sensors "
        "hang in a row on one cable, not in a star; tens of metres work with three wires, few "
        "with two."
    ),
    example='[onewire.outlet]\npin = 27\npull_up = "4.7kohm"',
)
