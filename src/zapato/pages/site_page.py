"""The report of a site: an index with its address plan, and a page for each device."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from zapato import __version__
from zapato.budgets.memory import memory
from zapato.budgets.traffic import SITE, of_site, traffic
from zapato.checks import report as report_of
from zapato.design import Design
from zapato.lang.files import write
from zapato.pages.device import device_page
from zapato.pages.frame import page
from zapato.record import record

if TYPE_CHECKING:
    from zapato.simulator import Rehearsal


@record(frozen=True)
class DeviceRow:
    """One device of the index."""

    design: Design
    errors: int
    warnings: int
    heap: str
    rate: float
    address: str
    page: str
    rehearsal: Rehearsal | None


def site_page(rows: Sequence[DeviceRow]) -> str:
    """The index of a site."""
    designs = [row.design for row in rows]
    site = designs[0].site if designs else None
    return page(
        "site.html",
        site=site,
        rows=rows,
        rate=of_site(designs),
        rate_most=SITE,
        version=__version__,
        lan=site.lan if site else None,
    )


def row_of(design: Design, page: str, rehearsal: Rehearsal | None) -> DeviceRow:
    """What the index says of a device, and the name of its page."""
    counts = report_of([design]).counts
    taken, said = memory(design), traffic(design)
    heap = f"{taken.heap / 1024:.0f} of {taken.heap_has // 1024} KiB" if taken else ""
    address = design.address[0] if design.address else ""
    rate = said.rate if said else 0.0
    return DeviceRow(design, counts["error"], counts["warning"], heap, rate, address, page, rehearsal)


def write_site(
    designs: Sequence[Design], rehearsed: Callable[[Design], Rehearsal | None], folder: Path
) -> Iterator[Path]:
    """Write index.html and a page for each device into a folder, one after the other. Raises Unwritable."""
    rows: list[DeviceRow] = []
    taken = {"index"}
    for design in designs:
        rehearsal = rehearsed(design)
        name = design.name or "device"
        while name in taken:
            name += "-"
        taken.add(name)
        path = folder / f"{name}.html"
        rows.append(row_of(design, path.name, rehearsal))
        write(path, device_page(design, rehearsal).encode())
        yield path
    write(folder / "index.html", site_page(rows).encode())
    yield folder / "index.html"
