"""What devices heard on their buses, what that may be, and putting it into the device file."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from types import MappingProxyType

from zapato.adverts import Advert
from zapato.design.design import Design
from zapato.errors import UnknownName, ZapatoError
from zapato.lang.edit import add_table, set_keys
from zapato.lang.fields import nearest
from zapato.parts import kind
from zapato.parts.kind import Part, ScanEntry
from zapato.record import record

FOUND = "found"
"""The property in which a part that scans says what it met."""


@record(frozen=True)
class ScanResult:
    """One thing that a device met.

    Attributes:
        device, on: which device, and the part that scanned.
        address: as the device says it.
        used_by: the part of the device file that stands for it, or "".
        may_be: what it may be, "kind chip".
        words: what else is known.
        strength: of what advertises, how strongly it was heard, dBm.
        name: as it tells it.
        says: the structures that it advertises, as `data` of a beacon writes them.
    """

    device: str
    on: str
    address: str
    used_by: str = ""
    may_be: tuple[str, ...] = ()
    words: str = ""
    strength: int | None = None
    name: str = ""
    says: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, object]:
        return {**vars(self), "may_be": list(self.may_be), "says": list(self.says)}


def scanners(design: Design) -> list[Part]:
    """The parts of a device that scan."""
    return [part for part in design.parts.values() if FOUND in part.properties]


def heard(
    design: Design,
    scans: Mapping[str, str],
    adverts: Mapping[str, Mapping[str, Advert]] = MappingProxyType({}),
) -> list[ScanResult]:
    """What stands in the `found` of the parts that scan, and what a radio passed on, by the part's name."""
    rows: list[ScanResult] = []
    for part, sight in _sights(design, _with_adverts(scans, adverts)):
        advert = adverts.get(part.name, {}).get(sight.address)
        row = ScanResult(
            design.name,
            part.name,
            sight.address,
            _used(design, part, sight),
            tuple(f"{k} {c}".strip() for k, c in sight.may_be),
            sight.words,
        )
        if advert:
            row = replace(row, strength=advert.strength, name=advert.name, says=tuple(advert.says))
        rows.append(row)
    return rows


def _with_adverts(scans: Mapping[str, str], adverts: Mapping[str, Mapping[str, Advert]]) -> dict[str, str]:
    """`found`, with those after it that were passed on and do not stand in it."""
    more = dict(scans)
    for name, known in adverts.items():
        there = more.get(name, "").split()
        more[name] = " ".join([*there, *(address for address in known if address not in there)])
    return more


def _sights(design: Design, scans: Mapping[str, str]) -> Iterator[tuple[Part, ScanEntry]]:
    for part in scanners(design):
        for sight in part.kind.sights(part, scans.get(part.name, "")):
            yield part, sight


def _used(design: Design, on: Part, sight: ScanEntry) -> str:
    """The part that stands for what was met: its table says the same place."""
    for part in design.parts.values():
        if on.name not in {linked_part.name for linked_part in part.linked.values()}:
            continue
        usual = part.kind.addresses(part)[:1]
        values = {"address": usual[0]} | dict(part.values) if usual else part.values
        said = {key: values.get(key) for key in sight.keys}
        if all(said[key] == value for key, value in sight.keys.items() if value != on.name):
            return part.id
    return ""


def write_heard(design: Design, scans: Mapping[str, str], address: str, to: str, chip: str = "") -> str:
    """Put what was met at `address` into the device file as "kind.name"; gives the table's text, or the keys that were set.

    A part of this name that is there already gets the address and keeps the rest. Raises UnknownName, ZapatoError, Unwritable.
    """
    if design.document.row:
        raise ZapatoError(
            f"{design.name} is one of a family, and its file stands for all of them",
            f"put {address} into {design.row_place}",
        )
    kind_name, _, name = to.partition(".")
    sights = [(part, s) for part, s in _sights(design, scans) if s.address == address.lower()]
    if not sights:
        all_ = [sight.address for _, sight in _sights(design, scans)]
        raise UnknownName(
            f"{design.name} heard nothing at {address}",
            (nearest(address, all_) or (f"it heard: {', '.join(all_) or 'nothing'}",))[0],
        )
    if len(sights) > 1:
        raise ZapatoError(
            f"{address} was met on {' and '.join(p.name for p, _ in sights)}", "give them other addresses"
        )
    on, sight = sights[0]
    if kind(kind_name) is None or not name.isidentifier():
        raise UnknownName(f"--as takes kind.name, not {to}", "--as sensor.outlet")
    there = design.parts.get(name)
    if there is not None and there.path[0] != kind_name:
        raise ZapatoError(f"{name} is the name of {there.id} already", "another name")
    if user := _used(design, on, sight):
        if user != to:
            raise ZapatoError(f"{user} stands for {address} already", "another address, or --as " + user)
        return ""
    chips = [c for k, c in sight.may_be if k == kind_name]
    values = {"chip": _chip(chips, chip, kind_name, address, there), **sight.keys}
    if there is not None:
        set_keys(design.document.source, {(kind_name, name): _written(sight.keys)})
        return ", ".join(f"{key} = {_literal(value)}" for key, value in sight.keys.items())
    table = f"[{kind_name}.{name}]\n" + "".join(
        f"{key} = {_literal(value)}\n" for key, value in values.items() if value
    )
    add_table(design.document.source, table, f"[{on.id}]")
    return table


def _chip(chips: list[str], given: str, kind_name: str, address: str, there: Part | None) -> str:
    """Which chip it is: the one that was named, or the only one that it may be."""
    if there is not None:
        return ""
    if (given and given in chips) or (len(chips) == 1 and not given):
        return given or chips[0]
    if not chips:
        raise ZapatoError(f"no {kind_name} is known at {address}", "see what it may be: zapato heard DEVICE")
    what = f"not a {given}" if given else "several chips"
    raise ZapatoError(f"at {address} it may be {what}: {', '.join(chips)}", f"--chip {chips[0]}")


def _literal(value: object) -> str:
    return f"0x{value:02x}" if isinstance(value, int) else f'"{value}"'


def _written(keys: Mapping[str, object]) -> dict[str, object]:
    """Values for the file; addresses as people write them."""
    import tomlkit

    return {key: tomlkit.value(_literal(value)) for key, value in keys.items()}
