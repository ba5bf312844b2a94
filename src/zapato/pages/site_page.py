"""The report of a site: an index with its address plan, and a page for each device."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zapato import __version__
from zapato.budgets.memory import memory
from zapato.budgets.traffic import SITE, traffic
from zapato.checks import report as report_of
from zapato.design import Design, resolve
from zapato.lang.site import Site
from zapato.pages.device import device_page
from zapato.pages.frame import page
from zapato.record import record

if TYPE_CHECKING:
    from zapato.simulator import Rehearsal


@record(frozen=True)
class DeviceRow:
    """One device of the index, as plain data: a page takes megabytes to make, and another process may make it.

    Attributes:
        heap: what it takes of what its chip has, in words.
        rate: values that it says, 1/s.
        address: where it has a fixed one.
        network: "cable", "Wi-Fi" or "no network".
        topic: the beginning of its topics, "" without a broker.
        passed: whether its rehearsal did; None without one.
    """

    name: str
    label: str
    room: str
    board: str
    version: str
    errors: int
    warnings: int
    heap: str
    rate: float
    address: str
    network: str
    topic: str
    passed: bool | None


@record(frozen=True)
class DeviceReport:
    """A device's row of the index, its page, and why its rehearsal is missing from it."""

    row: DeviceRow
    text: str
    unrehearsed: str


def site_page(rows: Sequence[tuple[str, DeviceRow]], site: Site | None = None) -> str:
    """The index of a site: each device with its page's name."""
    return page(
        "site.html",
        site=site,
        rows=rows,
        rate=sum(row.rate for _, row in rows),
        rate_most=SITE,
        version=__version__,
        lan=site.lan if site else None,
    )


def row_of(design: Design, rehearsal: Rehearsal | None) -> DeviceRow:
    """What the index says of a device."""
    counts = report_of([design]).counts
    taken, said = memory(design), traffic(design)
    wired, radio = design.ethernet is not None, design.wifi is not None
    return DeviceRow(
        name=design.name,
        label=design.label or design.name or "a device without a name",
        room=design.room,
        board=design.board.id if design.board else "",
        version=design.version,
        errors=counts["error"],
        warnings=counts["warning"],
        heap=f"{taken.heap / 1024:.0f} of {taken.heap_has // 1024} KiB" if taken else "",
        rate=said.rate if said else 0.0,
        address=design.address[0] if design.address else "",
        network="cable" if wired else "Wi-Fi" if radio else "no network",
        topic=design.topic if design.mqtt is not None else "",
        passed=rehearsal.passed if rehearsal else None,
    )


def device_report(
    rehearsed: Callable[[Design], tuple[Rehearsal | None, str]],
    path: Path,
    progress: Callable[[float], None] = lambda share: None,
) -> DeviceReport:
    """A device's page and its row; `rehearsed` gives its rehearsal, or None and why there is none. Raises Unreadable."""
    design = resolve(path)
    rehearsal, why = rehearsed(design)
    return DeviceReport(row_of(design, rehearsal), device_page(design, rehearsal, progress=progress), why)
