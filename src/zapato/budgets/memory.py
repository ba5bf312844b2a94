"""How much of the chip's memory the firmware takes, known without running it.

The figures come from the cost.json of each bundle, and from costs.json for what belongs to none: what each MicroPython module,
each part and each link took in the VM, by the method of least squares over devices made at random (tools/costs makes them;
tools/costs --check tells how far they are off).
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from functools import cache, lru_cache
from itertools import chain
from math import fsum
from pathlib import Path
from typing import TYPE_CHECKING

from zapato import extensions
from zapato.boards.port import port
from zapato.design.design import Design, once
from zapato.design.links import Link
from zapato.design.program import driver_modules, drivers, follows, network_modules, runtime_modules, timed
from zapato.design.sun import WEEKS
from zapato.lang.folder import remembered
from zapato.parts.kind import Driver, Part
from zapato.record import record

if TYPE_CHECKING:
    from zapato.parts.described import Description

STARTS = 0.92
"""The share of a small chip's heap up to which programs start and get through an outage: of 260 made at random none died below 0.929, and
3 of the 67 that never ran out of memory were above it (benchmarks/edge.py)."""
PROGRAM, NETWORK = "the program itself", "network"
"""Owners of memory beside parts and links."""
ROOMY = 64 * 1024
"""Bytes of heap from which on the program keeps line numbers and its own names; below, they would take kilobytes it needs."""


@record(frozen=True)
class Memory:
    """What the firmware takes, in bytes.

    Attributes:
        heap: at its highest, after a collection.
        heap_has: what the chip leaves a program.
        flash: of the compiled modules.
        pieces: bytes of heap by what was measured.
        starts: bytes of heap up to which a program starts and gets through an outage: loading wants room of its own.
        unmeasured: modules and parts whose cost nobody measured, so that they are not in the figures.
    """

    heap: int
    heap_has: int
    flash: int
    pieces: Mapping[str, float]
    starts: int
    unmeasured: tuple[str, ...] = ()

    @property
    def largest(self) -> tuple[tuple[str, int], ...]:
        """What takes most of the heap: (what, bytes), the largest first."""
        groups: Counter[str] = Counter()
        for what, size in self.pieces.items():
            groups[_group(what)] += round(size)
        return tuple(groups.most_common())


@once
def memory(design: Design) -> Memory | None:
    """What this design takes; None where its board is not known."""
    if design.board is None:
        return None
    has = design.board.chip.heap
    form = "whole" if has >= ROOMY else "short"
    needed = features(design)
    of_heap, of_flash = (_table(form, name, needed) for name in ("heap", "flash"))
    heap = {what: count * of_heap.get(what, 0.0) for what, count in needed.items()}
    if (design.mqtt or {}).get("tls"):
        heap["TLS buffers"] = float(sum(port(design.board.chip.port).tls.pieces))
    flash = fsum([count * of_flash.get(what, 0.0) for what, count in needed.items()])
    share = 1.0 if has >= ROOMY else STARTS
    gaps = tuple(what for what in needed if what.startswith(("module ", "part ")) and what not in of_heap)
    return Memory(round(fsum(heap.values())), has, round(flash), heap, round(share * has), gaps)


def features(design: Design) -> Counter[str]:
    """What the figures are measured for, and how often this design has it."""
    total: dict[str, int] = {}
    for _, taken in _taken(design):
        _add(total, taken)
    _add(total, {f"module {module}": 1 for module in runtime_modules(design)})
    return Counter(total)


def owners(design: Design) -> dict[str, Counter[str]]:
    """The features by what brings them along: the program itself, the network, each part and link, and the first of a kind."""
    owned: dict[str, Counter[str]] = {}
    modules = {
        owner: {f"module {module}": 1 for module in brought} for owner, brought in _brought(design).items()
    }
    for owner, taken in chain(_taken(design), modules.items()):
        owned.setdefault(owner, Counter()).update(taken)
    return owned


def _add(total: dict[str, int], taken: Mapping[str, int]) -> None:
    """As Counter.update, in less than half of its time: every device of a site is counted."""
    for what, count in taken.items():
        total[what] = total.get(what, 0) + count


def _taken(design: Design) -> Iterator[tuple[str, Mapping[str, int]]]:
    """What each owner takes beside modules."""
    yield PROGRAM, {"always": 1}
    for name, driver in drivers(design).items():
        part = design.parts[name]
        yield part.id, _of_driver(design, part, driver)
    for heard in design.heard.values():
        letters = len(heard.name) + 2 * len(heard.design.topic)
        number = len({*heard.properties, *heard.events})
        yield f"device {heard.name}", {"part RemotePart": 1, "heard": number, "letters": letters}
    if any(sunny for _, sunny in timed(design)):
        yield "the sun's table", {"data": 4 * WEEKS}
    for part in design.parts.values():
        if condition := follows(part):
            yield part.id, {"link": 1, "function": 1, "code": len(condition)}
    for link in design.links:
        codes = [*_codes(link)]
        plain = sum(not command.code for command in link.commands)
        yield (
            f"link {link.number}",
            {"link": 1, "function": len(codes), "code": sum(map(len, codes)), "order": plain},
        )


def _of_driver(design: Design, part: Part, driver: Driver) -> Mapping[str, int]:
    """What a part takes beside its modules."""
    counts = {f"part {driver.cls}": 1, "letters": len(part.name), "data": driver.data}
    counts["spoken"] = int(design.mqtt is not None)  # a mark in each part of what of it waits to be published
    for _, cls, _ in driver.wraps:
        _add(counts, {f"part {cls}": 1})
    if driver.watches:
        _add(counts, {"function": 2, "code": len(part.get(driver.watches, ""))})
    if driver.tells:
        lines = [line for page in part.pages(driver.tells) for line in page]
        _add(counts, {"function": len(lines), "code": sum(map(len, lines))})
    return counts


def _brought(design: Design) -> dict[str, list[str]]:
    """Each runtime module, under what brings it along first."""
    left = dict.fromkeys(runtime_modules(design))
    modules_of: dict[str, list[str]] = {}

    def brings(owner: str, modules: Iterable[str]) -> None:
        for module in modules:
            if module in left:
                del left[module]
                modules_of.setdefault(owner, []).append(module)

    brings(PROGRAM, ("loop", "values"))
    brings(NETWORK, network_modules(design))
    for name, driver in drivers(design).items():
        brings(f"the first {design.parts[name].kind.name}", sorted(driver_modules(driver)))
    brings("the first output or input", ("output", "pins"))
    brings("the first time of day", ("clock", "names", "dates"))
    brings("the first link", ("links",))
    brings("the first expression that a part follows", ("follow",))
    brings("the first device that is listened to", ("remote_part",))
    brings("the first text of a link", ("texts", "unknown"))
    brings("the first link with every", ("link_repeated",))
    return modules_of | ({"what several share": [*left]} if left else {})


def _codes(link: Link) -> Iterable[str]:
    """The expressions of a link that become functions on the device."""
    yield from (expression.code for expression in (link.when, link.condition) if expression)
    if link.rearm:
        yield link.rearm
    yield from (command.code for command in link.commands if command.code)


def _group(what: str) -> str:
    """What a feature belongs to, for people."""
    if what in ("link", "function", "code", "order", "module links"):
        return "links"
    if what.startswith("part ") or what in ("letters", "spoken"):
        return "parts"
    return {"module net": "network", "module mqtt": "network"}.get(what, "the runtime's modules")


def _table(form: str, name: str, features: Mapping[str, int]) -> Mapping[str, float]:
    """The figures, with those of described chips, which follow from how much each description says."""
    modules = [what.removeprefix("module ") for what in features if what.startswith("module ")]
    known, made = costs(modules)[form][name], [module for module in modules if module.startswith("d_")]
    if not made:
        return known
    from zapato.parts.described import class_name, of_module

    more: dict[str, float] = {}
    for module in made:
        if chip := of_module(module):
            said = described(chip)
            more[f"module {module}"] = sum(count * known[what] for what, count in said.items())
            more[f"part {class_name(chip.name)}"] = known["described part"]
    return {**known, **more}


def described(chip: Description) -> Counter[str]:
    """What the module of a described chip is measured by: that it is one, how much its description says, and whether it begins early."""
    return Counter({"described": 1, "described piece": chip.pieces, "described early": int(chip.early)})


def shares(design: Design) -> list[tuple[str, str, int]]:
    """What takes the heap: (whose, the modules that it brings along, bytes), the largest first; together what `memory` tells."""
    if design.board is None:
        return []
    form = "whole" if design.board.chip.heap >= ROOMY else "short"
    table = _table(form, "heap", features(design))
    owner_shares: list[tuple[str, str, int]] = []
    for owner, mine in owners(design).items():
        size = round(sum(count * table.get(what, 0.0) for what, count in mine.items()))
        modules = [what.removeprefix("module ") for what in mine if what.startswith("module ")]
        owner_shares.append((owner, ", ".join(modules), size))
    return sorted(owner_shares, key=lambda share: -share[2])


def costs(modules: Iterable[str] = ()) -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    """Bytes by form of the build ("short", "whole"), memory ("heap", "flash") and feature: of what belongs to every program, and of these
    modules' bundles; of all bundles where none are named. Extensions bring their own. Raises ZapatoError."""
    owners = {extensions.owner_of(module) for module in modules} or extensions.own_bundles().keys()
    return remembered(_costs_now, (frozenset(owners), extensions.scope()))


def _costs_now(key: tuple[frozenset[str], object]) -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    owners, _ = key
    ours = (extensions.own_bundles()[owner].folder / "cost.json" for owner in sorted(owners - {""}))
    theirs = (bundle.folder / "cost.json" for bundle in extensions.with_file("cost.json"))
    return _together(tuple((path, path.stat().st_mtime_ns) for path in (*ours, *theirs) if path.is_file()))


@lru_cache(maxsize=64)
def _together(brought: tuple[tuple[Path, int], ...]) -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    merged = {
        form: {what: dict(table) for what, table in memories.items()} for form, memories in _common().items()
    }
    for path, stamp in brought:
        more = _of_bundle(path, stamp)
        for form, memories in merged.items():
            for what, table in memories.items():
                table.update(more.get(form, {}).get(what, {}))
    return merged


@cache
def _common() -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    """What belongs to no bundle."""
    return json.loads((Path(__file__).parent / "costs.json").read_text("utf-8"))


@lru_cache(maxsize=256)
def _of_bundle(path: Path, _stamp: int) -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    return extensions.costs(path)
