"""How much of the chip's memory the firmware takes, known without running it.

The figures come from costs.json: what each runtime module, each part and each link took in the VM, by
the method of least squares over devices made at random (tools/costs makes it; tools/costs --check tells
how far it is off).
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from zapato.boards.port import port
from zapato.design.links import Link
from zapato.design.model import Design, once
from zapato.design.program import drivers, follows, runtime_modules, timed
from zapato.design.sun import WEEKS

STARTS, STARTS_LONG, LONG = 0.92, 0.88, 32
"""Shares of a small chip's heap from which on programs were seen to run out of memory; the second from so many parts and links on."""
ROOMY = 64 * 1024
"""Bytes of heap from which on the program keeps line numbers and its own names; below, they would take kilobytes it needs."""


@dataclass(frozen=True)
class Memory:
    """What the firmware takes, in bytes.

    Attributes:
        heap: at its highest, after a collection; heap_has: what the chip leaves a program.
        flash: of the compiled modules.
        pieces: bytes of heap by what was measured.
        starts: bytes of heap up to which a program starts and gets through an outage: loading wants room of its own, more
            of it where the plan comes in more than two pieces (benchmarks/edge.py).
    """

    heap: int
    heap_has: int
    flash: int
    pieces: Mapping[str, float]
    starts: int

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
    table = costs()["whole" if has >= ROOMY else "short"]
    found = features(design)
    of_heap, of_flash = table["heap"], table["flash"]
    heap = {what: count * of_heap.get(what, 0.0) for what, count in found.items()}
    if (design.mqtt or {}).get("tls"):
        heap["TLS buffers"] = float(sum(port(design.board.chip.port).tls.pieces))
    flash = sum([count * of_flash.get(what, 0.0) for what, count in found.items()])
    share = 1.0 if has >= ROOMY else STARTS if len(design.parts) + len(design.links) <= LONG else STARTS_LONG
    return Memory(round(sum(heap.values())), has, round(flash), heap, round(share * has))


def features(design: Design) -> Counter[str]:
    """What the figures are measured for, and how often this design has it."""
    found: Counter[str] = Counter({"always": 1})
    for module in runtime_modules(design):
        found[f"module {module}"] = 1
    for name, driver in drivers(design).items():
        found[f"part {driver.cls}"] += 1
        found["spoken"] += design.mqtt is not None  # a mark in each part of what of it waits to be published
        found["letters"] += len(name)
        found["data"] += driver.data
        for cls, _ in driver.wraps:
            found[f"part {cls}"] += 1
        if driver.watches:
            found["function"] += 2
            found["code"] += len(design.parts[name].get(driver.watches, ""))
        if driver.tells:
            lines = [line for page in design.parts[name].pages(driver.tells) for line in page]
            found["function"] += len(lines)
            found["code"] += sum(map(len, lines))
    for heard in design.heard.values():
        found["part Far"] += 1
        found["heard"] += len({*heard.properties, *heard.events})
        found["letters"] += len(heard.name) + 2 * len(heard.design.topic)
    if any(sunny for _, sunny in timed(design)):
        found["data"] += 4 * WEEKS
    for part in design.parts.values():
        if follows(part):
            found["link"] += 1
            found["function"] += 1
            found["code"] += len(follows(part))
    for link in design.links:
        found["link"] += 1
        codes = [*_codes(link)]
        found["function"] += len(codes)
        found["code"] += sum(len(code) for code in codes)
        found["order"] += sum(not command.code for command in link.commands)
    return found


def _codes(link: Link) -> Iterable[str]:
    """The expressions of a link that become functions on the device."""
    yield from (each.code for each in (link.when, link.condition) if each)
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


@cache
def costs() -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    """Bytes by form of the build ("short", "whole"), memory ("heap", "flash") and feature."""
    return json.loads((Path(__file__).parent / "costs.json").read_text("utf-8"))
