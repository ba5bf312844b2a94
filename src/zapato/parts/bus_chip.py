"""What parts share that are a chip on an I2C or an SPI bus: which one it is, its address or select line, what it runs on, and its stand-in.

Which chips a kind knows are the bundles whose CHIP names that kind: adding one touches nothing of the kind.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache
from typing import Any, TypeVar

from zapato import extensions
from zapato.lang.fields import REQUIRED, Field, Wrong, names, nearest, pin, whole
from zapato.parts.electrical import Supplied, by_module
from zapato.parts.kind import Need, Part
from zapato.parts.simulation import ChipAt
from zapato.record import record


@record(eq=False)
class BusChip:
    """A chip that a part of some kind can be.

    Attributes:
        kind: the kind of the parts that it can be.
        name: what `chip =` says.
        addresses: the I2C addresses that it can have, the usual one first; none for a chip on SPI.
        bus_most: the fastest clock of its bus, Hz; 0 where not stated.
        source: the document behind its figures.
        takes: V at its supply, least and most.
        reads_high: the share of its supply from which its inputs read high, 0 where not stated.
        called: what people supply, where that is a breakout and not the chip.
    """

    kind: str
    name: str
    addresses: tuple[int, ...]
    source: str
    takes: tuple[float, float]
    reads_high: float = 0.0
    called: str = ""
    bus_most: float = 0.0

    @property
    def on_spi(self) -> bool:
        return not self.addresses


def chip_names(kind: str) -> tuple[str, ...]:
    """The names of the chips that a part of this kind can be. Raises ZapatoError where an extension's cannot be loaded."""
    theirs = extensions.beside(_all_ours(), "chip.py", "a chip") - _all_ours()
    return tuple(sorted({*_ours(kind), *(name for name in theirs if _kind_of(name) == kind)}))


@cache
def _all_ours() -> frozenset[str]:
    return frozenset(bundle.name for bundle in extensions.own_bundles().values() if bundle.chip_of)


@cache
def _ours(kind: str) -> frozenset[str]:
    return frozenset(name for name in _all_ours() if extensions.own_bundles()[name].chip_of == kind)


def _kind_of(bundle: str) -> str:
    """The kind whose chip an extension is; a sensor where it does not say."""
    kind_name: str = getattr(extensions.bundles()[bundle].member("chip", "CHIP"), "kind", "sensor")
    return kind_name


T = TypeVar("T", bound=BusChip)


def chip_of(part: Part, cls: type[T]) -> T | None:
    """The CHIP of a part, of the class that its kind has; None while it is not known."""
    name = part.get("chip", "")
    bundle = extensions.bundle(name, "chip.py") if name else None
    found_chip = bundle.member("chip", "CHIP") if bundle else None
    return found_chip if isinstance(found_chip, cls) else None


class _Known(Mapping[str, Any]):
    """The schema of `chip`: the chips that are known when it is asked for, those of a site among them."""

    def __init__(self, known: Callable[[], tuple[str, ...]]) -> None:
        self.known = known

    def __getitem__(self, key: str) -> list[str]:
        return list({"enum": self.known()}[key])

    def __iter__(self) -> Iterator[str]:
        return iter(("enum",))

    def __len__(self) -> int:
        return 1


def chip_field(help: str, known: Callable[[], tuple[str, ...]], load: Callable[[str], object]) -> Field:
    """The field `chip`; `load` raises ZapatoError where a chip that is known cannot be used."""

    def read(value: object) -> str:
        options = known()
        if not isinstance(value, str) or value not in options:
            given = f'"{value}"' if isinstance(value, str) else str(value).lower()
            raise Wrong(f"is {given}; it takes one of: {', '.join(options)}", *nearest(value, options))
        load(value)
        return value

    return Field("chip", read, _Known(known), help, REQUIRED)


def chip_fields(kind: str, selected: bool = False) -> tuple[Field, ...]:
    """chip, bus, address, and the select line of a chip on SPI where the kind has such."""
    spi = (pin("select", "the pin that selects it, for a chip on an SPI bus", None),) if selected else ()
    return (
        chip_field(f"the {kind}'s chip", lambda: chip_names(kind), lambda name: None),
        names(
            "bus",
            "its bus: I2C, or SPI for chips that are on one" if selected else "its I2C bus",
            REQUIRED,
            role="bus",
        ),
        whole(
            "address",
            "its address on an I2C bus" if selected else "its address on the bus",
            None,
            least=1,
            most=127,
        ),
        *spi,
    )


def addresses(part: Part) -> tuple[int, ...]:
    """The addresses that a part can have."""
    chip = chip_of(part, BusChip)
    return chip.addresses if chip else ()


def supplied(part: Part) -> Supplied | None:
    """What it may be supplied with: its module's, or its chip's."""
    chip = chip_of(part, BusChip)
    own = chip and Supplied(chip.called or chip.name, *chip.takes, chip.source, chip.reads_high)
    return by_module(part, own)


def bus_of(part: Part) -> str:
    """The kind of bus that its chip is on."""
    chip = chip_of(part, BusChip)
    return "spi" if chip and chip.on_spi else "i2c"


def requires(part: Part) -> tuple[str, ...]:
    """The fields that its chip wants beside."""
    return ("select",) if bus_of(part) == "spi" else ()


def needs(part: Part) -> Iterable[Need]:
    """The select line of a chip on SPI."""
    if bus_of(part) == "spi" and part.values.get("select") is not None:
        circuit = f"the select input of the {part.get('chip', '')}"
        yield Need("select", "output", active="low", timed=True, circuit=circuit)


def place(part: Part) -> tuple[str, int] | None:
    """Its bus's name, and its address there or on SPI its select pin; None where the file is not right yet."""
    usual = addresses(part)
    if "bus" not in part.linked:
        return None
    if bus_of(part) == "spi":
        return (part.linked["bus"].name, part.pins["select"].gpio) if "select" in part.pins else None
    return (part.linked["bus"].name, part.get("address", 0) or usual[0]) if usual else None


def stand_in(
    part: Part,
    pins: Mapping[int, int] | None = None,
    interrupt: int | None = None,
    reset: int | None = None,
) -> ChipAt | None:
    """The chip on its bus in a rehearsal; None where the bus has no pins yet."""
    at, line = place(part), bus_line(part)
    return (
        ChipAt(line, at[1], part.get("chip", ""), pins or {}, interrupt, part.get("supply", 3.3), reset)
        if at and line is not None
        else None
    )


def bus_line(part: Part) -> int | None:
    """The number of the line that a part's bus has; None where it is on none yet."""
    bus = part.linked.get("bus")
    return bus.kind.line(bus) if bus else None
