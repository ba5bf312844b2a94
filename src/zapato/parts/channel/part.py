"""A channel of a multiplexer: an I2C bus of its own, connected with the multiplexer's only while one of its chips is spoken to."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import REQUIRED, measured, names, whole
from zapato.parts.electrical import RAIL, Passive, ohms
from zapato.parts.kind import Action, Driver, Kind, Part, Property, ScanEntry
from zapato.parts.multiplexer.part import channel_line
from zapato.parts.scans import on_i2c
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import line_faults


class ChannelKind(Kind):
    """A channel of a multiplexer, as an I2C bus."""

    name = "channel"
    called = "channel"
    thing = False
    help = "a channel of a multiplexer: an I2C bus whose addresses are its own"
    fields = (
        names("multiplexer", "the multiplexer", REQUIRED, role="bus"),
        whole("number", "its number there, from 0", REQUIRED, least=0, most=7),
        measured(
            "pull_ups",
            "the pull-up resistor of each of its lines, all of them together",
            "ohm",
            None,
            least=100,
            most=1e6,
        ),
        measured("length", "of all its wires together", "m", 0.3, most=20),
    )
    actions = {"scan": Action(help="ask every address of the channel and say which answer")}
    roles = ("i2c",)
    wiring = (
        "SD and SC of this number to SDA and SCL of its chips; a pull-up of 4.7 kohm to 3.3 V a line, where the breakouts carry none. "
        "A chip here may have the address of one in another channel, but not that of one on the multiplexer's own bus."
    )
    example = (
        '[i2c.main]\nsda = 21\nscl = 22\n\n[multiplexer.hall]\nchip = "tca9548a"\nbus = "main"\n\n'
        '[channel.north]\nmultiplexer = "hall"\nnumber = 0\n\n[sensor.north_air]\nchip = "sht31"\nbus = "north"'
    )

    def bus(self, part: Part) -> str:
        return "multiplexer"

    def upstream(self, part: Part) -> Part | None:
        multiplexer = part.linked.get("multiplexer")
        return multiplexer.linked.get("bus") if multiplexer else None

    def line(self, part: Part) -> int | None:
        multiplexer, number = part.linked.get("multiplexer"), part.values.get("number")
        return None if multiplexer is None or number is None else channel_line(multiplexer.name, number)

    def ends(self, part: Part) -> Mapping[str, str]:
        multiplexer, number = part.linked.get("multiplexer"), part.values.get("number")
        if multiplexer is None or number is None:
            return {}
        return {line: f"{multiplexer.name} {line[:2]}{number}" for line in ("SDA", "SCL")}

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        for line in ("SDA", "SCL"):
            where = f"from {line} to 3.3 V, where the breakouts carry none"
            yield Passive(
                "resistor", ohms(part.get("pull_ups", 4700)), where, "lets the line rise", line, RAIL
            )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {"found": Property("text", unknown=True, help="addresses that answered the last scan")}

    def driver(self, part: Part) -> Driver | None:
        multiplexer = part.linked.get("multiplexer")
        return (
            Driver("channel", "Channel", (multiplexer.name, part.get("number", 0))) if multiplexer else None
        )

    def simulation(self, part: Part) -> Simulation:
        line = self.line(part)
        return Simulation() if line is None else Simulation(gestures=line_faults(line))

    def sights(self, part: Part, text: str) -> Iterable[ScanEntry]:
        return on_i2c(part, text)


KIND = ChannelKind()
