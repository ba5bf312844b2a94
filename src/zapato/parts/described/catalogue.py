"""The described chips that are known: the package's own, those of extensions, and those of the site."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from zapato.errors import ZapatoError
from zapato.lang.source import Source, shown
from zapato.parts.chip_files import described_names, file_of
from zapato.parts.described.reading import ChipValue, Description, read_description
from zapato.parts.described.source import class_name
from zapato.parts.kind import Property
from zapato.parts.sensors import SensorChip, on_bus


def description(name: str) -> Description:
    """The description of this name. Raises KeyError where there is none, ZapatoError where it has mistakes."""
    path = file_of(name)
    if path is None:
        raise KeyError(name)
    return _read(path, path.stat().st_mtime_ns)


@lru_cache(maxsize=256)
def _read(path: Path, _stamp: int) -> Description:
    description, document = read_description(Source.read(path))
    if description is None:
        first = document.findings[0]
        raise ZapatoError(f"{shown(path)}:{first.place.line}: {first.message}", f"zapato check {shown(path)}")
    return description


def of_module(module: str) -> Description | None:
    """The description from which a runtime module is made; None where it is another module."""
    name = module.removeprefix("d_")
    return description(name) if module.startswith("d_") and name in described_names() else None


def described(name: str) -> SensorChip:
    """The chip of this name. Raises KeyError, ZapatoError."""
    return _made(description(name))


@lru_cache(maxsize=256)
def _made(chip: Description) -> SensorChip:
    head = chip.head
    driver, bench = on_bus(f"d_{chip.name}", class_name(chip.name), chip.name)
    return SensorChip(
        name=chip.name,
        help=head["help"],
        properties={name: _property(value) for name, value in chip.values.items()},
        driver=driver,
        simulation=bench,
        addresses=head["addresses"],
        bus=head["bus"],
        spi=chip.on_spi,
        requires=("select",) if chip.on_spi else (),
        bus_most=head["bus_most"] or 0.0,
        fastest=round(head["fastest"]),
        takes=head["supply"] or None,
        reads_high=head["reads_high"],
        draws=head["draws"],
        wiring=head["wiring"],
        source=head["source"],
        derived=tuple(name for name in chip.values if name not in chip.own),
    )


def _property(value: ChipValue) -> Property:
    return Property("number", value.unit, unknown=True, low=value.low, high=value.high, help=value.help)
