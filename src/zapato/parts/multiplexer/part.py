"""A multiplexer of I2C buses: each of its channels can be a bus of its own ([channel.NAME])."""

from __future__ import annotations

from collections.abc import Iterable

from zapato.lang.fields import measured, pin
from zapato.parts.bus_chip import addresses, chip_fields, chip_of, place, stand_in, supplied
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed
from zapato.parts.kind import Driver, Kind, Need, Part
from zapato.parts.multiplexer.chip import MultiplexerChip
from zapato.parts.offered import offered_pin
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import AILS, ChipFault


class MultiplexerKind(Kind):
    """A multiplexer of I2C buses."""

    name = "multiplexer"
    called = "multiplexer"
    terminals = {"reset": "RESET"}
    help = "a multiplexer on I2C; each of its channels can be a bus of its own"
    fields = (
        *fed('"3V3"'),
        *chip_fields("multiplexer"),
        pin(
            "reset",
            "the pin at its RESET input; with it, a channel whose line is held low is cut off again",
            None,
        ),
        measured("supply", "what it runs on", "V", 3.3, least=1.65, most=5.5),
    )
    wiring = (
        "On the bus like any chip, its address by its address pins; SD0 and SC0 are the lines of channel 0, which want pull-ups "
        "of their own. RESET to 3.3 V, or to a pin of the board: a channel whose line is held low stops the whole bus, and then "
        "nothing else closes it."
    )
    example = '[i2c.main]\nsda = 21\nscl = 22\n\n[multiplexer.hall]\nchip = "tca9548a"\nbus = "main"\n\n[channel.north]\nmultiplexer = "hall"\nnumber = 0'

    def addresses(self, part: Part) -> tuple[int, ...]:
        return addresses(part)

    def needs(self, part: Part) -> Iterable[Need]:
        if part.values.get("reset") is not None:
            yield Need("reset", "output", active="low", circuit="the multiplexer's reset input")

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the multiplexer", RAIL, 0.001)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied(part)

    def driver(self, part: Part) -> Driver | None:
        at = place(part)
        reset = part.at("reset") if "reset" in part.pins else None
        return Driver("multiplexer", "Multiplexer", (*at, reset)) if at else None

    def simulation(self, part: Part) -> Simulation:
        lines = {number: channel_line(part.name, number) for number in range(channels(part))}
        reset = part.pins["reset"].gpio if "reset" in part.pins else None
        chip = stand_in(part, lines, reset=reset)
        if chip is None:
            return Simulation()
        faults = {word: ChipFault(chip.line, chip.address, AILS[word]) for word in ("fall_silent", "answer")}
        return Simulation(chips=(chip,), gestures=faults)


def channels(part: Part) -> int:
    """How many channels a multiplexer has; 0 while its chip is not known."""
    chip = chip_of(part, MultiplexerChip)
    return chip.channels if chip else 0


def channel_line(multiplexer: str, number: int) -> int:
    """The number of a channel's data line in a rehearsal: none of the chip's."""
    return offered_pin(multiplexer, number).gpio


KIND = MultiplexerKind()
