"""zapato report: one page about a device, or a site with an index."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.each import Workers, each_device, spreading

if TYPE_CHECKING:
    from zapato.design import Design
    from zapato.pages import DeviceReport, DeviceRow
    from zapato.simulator import Rehearsal


@click.command("report")
@click.argument("path", type=click.Path(path_type=Path))
@click.option(
    "--out",
    required=True,
    type=click.Path(path_type=Path),
    help="The .html file; of a site or a family, the folder for index.html and a page a device.",
)
@click.option("--no-rehearsal", is_flag=True, help="Leave the rehearsal out, which takes a few seconds.")
@spreading
def COMMAND(path: Path, out: Path, no_rehearsal: bool, jobs: int | None, cluster: str | None) -> int:
    """Write a report that needs no network: verdict, pin map, wiring, budgets, links, topics and the rehearsal's day.

    It prints well on A4. Nothing secret is in it. Exit code 1 where a device cannot work as it stands.
    """
    from zapato.checks import device_files
    from zapato.errors import ZapatoError

    page, files = out.suffix.lower() in (".html", ".htm"), device_files(path)
    if path.is_dir() or len(files) > 1:  # a site, or a family
        if page:
            raise ZapatoError(f"{out}: the report of several devices is a folder", f"--out {out.stem}")
        return _site(path, files, out, partial(_rehearsed, not no_rehearsal), Workers(jobs, cluster))
    if not page:
        raise ZapatoError(f"{out}: the report of a device ends in .html", f"--out {out.name}.html")
    return _device(files[0], out, not no_rehearsal)


def _device(path: Path, out: Path, rehearses: bool) -> int:
    from zapato.cli.terminal import Meter
    from zapato.lang.files import write
    from zapato.pages import device_report

    rehearsing, drawing = Meter(f"rehearsing {path.stem}"), Meter(f"drawing {path.stem}")

    def rehearsed(design: Design) -> tuple[Rehearsal | None, str]:
        try:
            return _rehearsed(rehearses, design, rehearsing.at)
        finally:
            rehearsing.done()

    made = device_report(rehearsed, path, drawing.at)
    drawing.done()
    _tell_unrehearsed(made)
    write(out, made.text.encode())
    click.echo(f"{out}: {made.row.label}, {len(made.text) / 1024:.0f} KiB")
    return int(made.row.errors > 0)


def _site(
    path: Path,
    files: Sequence[Path],
    out: Path,
    rehearsed: Callable[[Design], tuple[Rehearsal | None, str]],
    workers: Workers,
) -> int:
    """A page for each device, as they are done, and then the index of all that could be read."""
    from zapato.checks import report
    from zapato.design import resolve_all
    from zapato.lang.files import write
    from zapato.lang.site import site_of
    from zapato.pages import device_report, site_page

    rows: list[tuple[str, DeviceRow]] = []
    taken = {"index"}

    def tell(made: DeviceReport) -> bool:
        name = made.row.name or "device"
        while name in taken:
            name += "-"
        taken.add(name)
        rows.append((f"{name}.html", made.row))
        write(out / f"{name}.html", made.text.encode())
        _tell_unrehearsed(made)
        click.echo(f"{out / name}.html: {made.row.label}, {_verdict(made.row)}")
        return True

    code = each_device(files, "written", partial(device_report, rehearsed), tell, workers=workers)
    write(out / "index.html", site_page(rows, site_of(path)).encode())
    click.echo(f"{out / 'index.html'}: {len(rows)} device{'s' * (len(rows) != 1)}")
    return code or int(not report(resolve_all(files)).ok)


def _verdict(row: DeviceRow) -> str:
    wrong = [
        f"{count} {what}{'s' * (count != 1)}"
        for count, what in ((row.errors, "error"), (row.warnings, "warning"))
        if count
    ]
    rehearsed = {None: [], True: ["rehearsal passed"], False: ["rehearsal failed"]}[row.passed]
    return ", ".join([*(wrong or ["fine"]), *rehearsed])


def _tell_unrehearsed(made: DeviceReport) -> None:
    if made.unrehearsed:
        click.echo(f"{made.row.label} is not rehearsed: {made.unrehearsed}", err=True)


def _rehearsed(
    rehearses: bool, design: Design, progress: Callable[[float], None] = lambda share: None
) -> tuple[Rehearsal | None, str]:
    """The device's rehearsal where it is wanted and can be run; else None, and why."""
    from zapato.errors import ZapatoError
    from zapato.simulator import rehearse

    if not rehearses:
        return None, ""
    try:
        return rehearse(design, progress=progress), ""
    except ZapatoError as error:
        return None, str(error)
