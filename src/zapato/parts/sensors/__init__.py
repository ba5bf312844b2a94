"""Sensor chips: a bundle a chip, whose chip.py has a `CHIP`; or a description, made into one."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import lru_cache

from zapato import extensions
from zapato.lang.fields import Field
from zapato.parts import bus_chip
from zapato.parts.chip_files import described_names
from zapato.parts.electrical import Passive
from zapato.parts.kind import Driver, Need, Part, Property
from zapato.parts.simulation import Simulation
from zapato.parts.stimuli import OnBus
from zapato.record import record


@record(frozen=True)
class SensorChip:
    """What the program knows of one sensor chip.

    Attributes:
        name: its part number in lower case, as `chip = ` gives it.
        help: one sentence.
        properties: what it measures, with SenML units.
        need: what its data pin must be able to do; None for a chip on a bus.
        addresses: the I2C addresses it can have, the usual one first; empty where it is not on I2C.
        fastest: the shortest time between readings, ms, with its source in `source`.
        source: the document behind the figures.
        bus_most: the fastest clock of its bus, Hz; 0 where not stated.
        takes: V at its supply, least and most, by its datasheet; None where a part of that name comes in several kinds.
        reads_high: the share of its supply from which its inputs read high; 0 where not stated.
        lifts: its data line goes up to its own supply.
        family: the first byte of its serial number on a one-wire bus; 0 where it has none.
        bus: the kind of bus it hangs on; "i2c" where it has addresses.
        spi: it can hang on an SPI bus as well, where a select pin is given.
        puts_out: V that its output has, least and most, where that does not stand in the device file as `range`.
        source_ohm: what its output has in series as its pin sees it, ohm; 0 where it drives the pin itself.
        draws: A at the most, by its datasheet; 0 where not stated here.
        only: the chips of boards that have it inside; empty where it is a part of its own.
        derived: properties that it computes from the others, so that nothing around it sets them.
        wiring: how it is wired, for the reference.
        fields: keys that its table has beside those of every sensor.
        requires: those of them that must be given.
        pins: what its pins must be able to do, where that is not `need` alone.
        beside: small parts that are wired beside it.
        inside: it is in the chip of the board: nothing is wired.
        driver: gives the object on the device, as in a kind.
        simulation: gives what stands in for it, as in a kind.
    """

    name: str
    help: str
    properties: Mapping[str, Property]
    driver: Callable[[Part], Driver]
    simulation: Callable[[Part], Simulation]
    need: Need | None = None
    addresses: tuple[int, ...] = ()
    bus: str = ""
    spi: bool = False
    fastest: int = 0
    bus_most: float = 0.0
    source: str = ""
    wiring: str = ""
    derived: tuple[str, ...] = ()
    only: tuple[str, ...] = ()
    draws: float = 0.0
    family: int = 0
    takes: tuple[float, float] | None = None
    reads_high: float = 0.0
    lifts: bool = False
    puts_out: tuple[float, float] | None = None
    source_ohm: Callable[[Part], float] = lambda part: 0.0
    fields: tuple[Field, ...] = ()
    requires: tuple[str, ...] = ()
    beside: Callable[[Part], Iterable[Passive]] = lambda part: ()
    inside: bool = False
    pins: Callable[[Part, Need], Iterable[Need]] = lambda part, need: (need,)

    def needs(self, part: Part) -> Iterable[Need]:
        """What its pins must be able to do."""
        return self.pins(part, self.need) if self.need else ()

    def __post_init__(self) -> None:
        if self.addresses and not self.bus:
            object.__setattr__(self, "bus", "i2c")


def chip_names() -> tuple[str, ...]:
    """The chips that `chip = ` of a sensor may name."""
    return _sorted(described_names() | frozenset(bus_chip.chip_names("sensor")))


@lru_cache(maxsize=8)
def _sorted(names: frozenset[str]) -> tuple[str, ...]:
    return tuple(sorted(names))


def chip(name: str) -> SensorChip:
    """The chip with this name. Raises KeyError; ZapatoError where an extension's cannot be loaded."""
    if bundle := extensions.bundle(name, "chip.py"):
        return bundle.member("chip", "CHIP")
    from zapato.parts.described import described

    return described(name)


def puts_out(part: Part) -> tuple[float, float] | None:
    """V at a sensor's output, least and most: as its table says, else as its chip is described; None where neither does."""
    given: tuple[float, float] | None = part.values.get("range")
    name = part.get("chip", "")
    return given or (chip(name).puts_out if name else None)


def quantity(unit: str, help: str, low: float | None = None, high: float | None = None) -> Property:
    """A measured number, unknown until the first reading."""
    return Property("number", unit, unknown=True, low=low, high=high, help=help)


def parallel(one: float, other: float) -> float:
    """Two resistors side by side, ohm."""
    return one * other / (one + other) if one and other else 0.0


by_name = chip


def on_bus(module: str, cls: str, chip: str) -> tuple[Callable[[Part], Driver], Callable[[Part], Simulation]]:
    """Driver and simulation of a chip whose MicroPython class takes a bus and its address there: on SPI, its select pin."""

    def address(part: Part) -> int:
        if "select" in part.pins:
            return part.pins["select"].gpio
        return part.get("address", 0) or by_name(chip).addresses[0]

    def driver(part: Part) -> Driver:
        bus = part.linked["bus"].name if "bus" in part.linked else ""
        return Driver(module, cls, (*common(part), bus, address(part)))

    def simulation(part: Part) -> Simulation:
        line = bus_chip.bus_line(part)
        at = -1 if line is None else line
        known = by_name(chip)
        settable = (name for name in known.properties if name not in known.derived)
        selected = "select" in part.pins
        return Simulation(stimuli={name: OnBus(at, address(part), chip, name, selected) for name in settable})

    return driver, simulation


def common(part: Part) -> tuple[object, ...]:
    """Arguments every sensor driver takes: its period in ms and the least change to report."""
    return part.get("every", 30_000), part.get("change", 0)
