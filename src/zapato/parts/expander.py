"""A pin expander on I2C: `pin = "io.3"` is pin 3 of the expander called io."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from zapato.boards.model import Pin
from zapato.lang.fields import measured, pin
from zapato.parts.bus_chip import Chips, addresses, chip_fields, place, stand_in
from zapato.parts.electrical import RAIL, Supplied, by_module, drawing, fed
from zapato.parts.model import Bench, Driver, Kind, Need, Part
from zapato.parts.offered import offered_pin


@dataclass(frozen=True)
class _Chip:
    pins: int
    addresses: tuple[int, ...]
    pull_up: bool
    beyond: float
    weak_high: bool
    source: str
    takes: tuple[float, float]
    reads_high: float


_QUASI = "{} datasheet, Quasi-bidirectional I/Os (high from power-up, 100 uA); Device address; Limiting values: VDD + 0.5 V; Static characteristics: 2.5 V to 5.5 V, input high from 0.7 VDD"
CHIPS: Mapping[str, _Chip] = {
    "mcp23017": _Chip(
        16,
        tuple(range(0x20, 0x28)),
        True,
        0.6,
        False,
        "MCP23017 datasheet, Device Overview; GPPU register; Absolute Maximum Ratings: VDD + 0.6 V; DC Characteristics: 1.8 V to 5.5 V, input high from 0.8 VDD",
        (1.8, 5.5),
        0.8,
    ),
    "pcf8574": _Chip(8, tuple(range(0x20, 0x28)), True, 0.5, True, _QUASI.format("PCF8574"), (2.5, 5.5), 0.7),
    "pcf8574a": _Chip(
        8, tuple(range(0x38, 0x40)), True, 0.5, True, _QUASI.format("PCF8574A"), (2.5, 5.5), 0.7
    ),
    "pcf8575": _Chip(
        16, tuple(range(0x20, 0x28)), True, 0.5, True, _QUASI.format("PCF8575"), (2.5, 5.5), 0.7
    ),
}


def _offers(part: Part) -> Mapping[str, Pin]:
    found = CHIPS.get(part.get("chip", ""))
    if found is None:
        return {}
    numbers = range(found.pins)
    return {
        str(n): offered_pin(
            part.name,
            n,
            drives=True,
            pull_up=found.pull_up,
            source=found.source,
            bears=part.get("supply", 3.3) + found.beyond,
            weak_high=found.weak_high,
        )
        for n in numbers
    }


def _needs(part: Part) -> Iterable[Need]:
    if part.values.get("interrupt") is not None:
        circuit = "the expander's open-drain interrupt line"
        yield Need("interrupt", "input", pull="up", interrupt=True, operated="low", circuit=circuit)


ADDRESSES: Chips = {name: chip.addresses for name, chip in CHIPS.items()}


def _driver(part: Part) -> Driver | None:
    at = place(part, ADDRESSES)
    if at is None:
        return None
    chip = part.get("chip", "")
    interrupt = part.pins["interrupt"].gpio if "interrupt" in part.pins else None
    arguments = (*at, CHIPS[chip].pins // 8, interrupt)
    if chip == "mcp23017":
        return Driver("expander_mcp", "McpExpander", arguments, ("expander",))
    return Driver("expander", "Expander", arguments)


def _bench(part: Part) -> Bench:
    pins = {int(word): pin.gpio for word, pin in _offers(part).items()}
    interrupt = part.pins["interrupt"].gpio if "interrupt" in part.pins else None
    chip = stand_in(part, ADDRESSES, pins, interrupt)
    return Bench(chips=(chip,) if chip else ())


def _supplied(part: Part) -> Supplied | None:
    found = CHIPS.get(part.get("chip", ""))
    own = Supplied(part.get("chip", ""), *found.takes, found.source, found.reads_high) if found else None
    return by_module(part, own)


KIND = Kind(
    name="expander",
    help="a pin expander on I2C; it offers pins to other parts",
    fields=(
        *fed('"3V3"'),
        *chip_fields("expander", ADDRESSES),
        pin(
            "interrupt",
            "the pin that its interrupt line is wired to; without, it is looked at every 20 ms",
            None,
        ),
        measured("supply", "what it runs on", "V", 3.3, least=1.8, most=5.5),
    ),
    offers=_offers,
    addresses=addresses(ADDRESSES),
    needs=_needs,
    loads=drawing("the expander", RAIL, 0.001),
    supplied=_supplied,
    driver=_driver,
    bench=_bench,
    wiring=(
        "On the bus like any chip, its address by its address pins; RESET to 3.3 V. The interrupt "
        "line to a pin of the board saves looking fifty times a second. Its pins give 25 mA "
        "(mcp23017) or hardly anything in the high state (pcf857x: LEDs and relay boards that "
        "switch with a low level)."
    ),
    example='[i2c.main]\nsda = 21\nscl = 22\n\n[expander.io]\nchip = "mcp23017"\nbus = "main"\n\n[relay.pump]\npin = "io.3"',
)
