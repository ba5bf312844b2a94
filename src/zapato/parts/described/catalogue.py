"""The described chips that are known: the package's own, those of extensions, and those of the site."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import lru_cache, partial
from importlib import import_module
from pathlib import Path

from zapato import extensions
from zapato.errors import ZapatoError
from zapato.lang.fields import choice
from zapato.lang.folder import remembered
from zapato.lang.source import Source, shown
from zapato.parts.chip_files import OWN, described_names, file_of
from zapato.parts.described.description import ChipValue, Description, class_name
from zapato.parts.described.reading import read_description
from zapato.parts.kind import Driver, Part, Property
from zapato.parts.sensors import SensorChip, on_bus

OTHERS = {"analog": "analog", "onewire": "wire", "pulse": "pulses"}
"""The modules of chips that have no bus with transfers of their own: imported when a file has one."""


def description(name: str) -> Description:
    """The description of this name. Raises KeyError where there is none, ZapatoError where it has mistakes."""
    return remembered(_description_now, (name, extensions.scope()))


def _description_now(key: tuple[str, object]) -> Description:
    name, _ = key
    path = file_of(name)
    if path is None:
        raise KeyError(name)
    return _read(path, path.stat().st_mtime_ns)


@lru_cache(maxsize=256)
def _read(path: Path, _stamp: int) -> Description:
    judged = path.parent != OWN  # the package's own are judged by its tests
    description, document = read_description(Source.read(path), judged)
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
    properties = {name: _property(value) for name, value in chip.values.items()}
    if own := OTHERS.get(head["bus"]):
        return import_module(f"zapato.parts.described.{own}").made(chip, properties)
    plain, bench = on_bus(f"d_{chip.name}", class_name(chip.name), chip.name)
    driver = partial(_driver, chip, plain) if chip.settings else plain
    return SensorChip(
        name=chip.name,
        help=head["help"],
        properties=properties,
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
        fields=tuple(choice(s.name, s.help, *s.options, default=s.default) for s in chip.settings.values()),
        derived=tuple(name for name in chip.values if name not in chip.own),
    )


def _driver(chip: Description, plain: Callable[[Part], Driver], part: Part) -> Driver:
    """The driver with what the device file sets: of each setting the byte that is written, and what formulas read."""
    made, given = plain(part), list[object]()
    for name, setting in chip.settings.items():
        word = part.get(name, setting.default)
        given += [setting.options[word]] if name in chip.written_settings else []
        given += [setting.counts[word]] if name in chip.read_settings else []
    return replace(made, arguments=(*made.arguments, *given))


def _property(value: ChipValue) -> Property:
    return Property("number", value.unit, unknown=True, low=value.low, high=value.high, help=value.help)
