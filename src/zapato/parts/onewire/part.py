"""A one-wire bus: several sensors on one data line."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import measured, pin
from zapato.parts.electrical import RAIL, Passive, line_level
from zapato.parts.kind import Action, Driver, Kind, Need, Part, Property, ScanEntry
from zapato.parts.scans import on_onewire
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import line_simulation


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


class OnewireKind(Kind):
    """A one-wire bus."""

    terminals = {"pin": "DATA"}
    name = "onewire"
    thing = False
    called = "one-wire bus"
    help = "a one-wire bus"
    fields = (
        pin("pin", "the data line"),
        measured("pull_up", "the resistor fitted from the line to 3.3 V", "ohm", None, least=1),
        line_level(),
    )
    actions = {"scan": Action(help="ask for every sensor on the line")}
    wiring = (
        "One data line with 4.7 kohm to 3.3 V at the board, supply and ground beside it. Sensors "
        "hang in a row on one cable, not in a star; tens of metres work with three wires, few "
        "with two."
    )
    example = '[onewire.outlet]\npin = 27\npull_up = "4.7kohm"'

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        yield Passive(
            "resistor",
            "4.7 kohm",
            "from the data line to 3.3 V",
            "holds the line high, once a bus",
            "pin",
            RAIL,
        )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {"found": Property("text", unknown=True, help="serial numbers that answered the last scan")}

    def needs(self, part: Part) -> Iterable[Need]:
        return [
            Need(
                "pin",
                "line",
                rest="high",
                firm=True,
                volts=part.get("level", 0.0),
                circuit="the one-wire line, which its pull-up resistor holds high",
            )
        ]

    def simulation(self, part: Part) -> Simulation:
        return line_simulation(part, "pin")

    def driver(self, part: Part) -> Driver | None:
        return Driver("bus_onewire", "OneWireBus", (part.pins["pin"].gpio,))

    def sights(self, part: Part, text: str) -> Iterable[ScanEntry]:
        return on_onewire(part, text)


KIND = OnewireKind()
