"""zapato demo: the demo site, copied out, checked, built and rehearsed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.simulator import SiteRehearsal
from zapato.cli.each import show_failed


@click.command("demo")
@click.option(
    "--out",
    default="zapato-demo",
    type=click.Path(path_type=Path),
    help="Folder for the site.",
    show_default=True,
)
@click.option("--force", is_flag=True, help="Overwrite demo files that you changed.")
def COMMAND(out: Path, force: bool) -> int:
    """Copy the demo site out, check it, build every device and rehearse it. Needs no board and no network."""
    from zapato.checks import check, device_files
    from zapato.cli.report import summary, text_of
    from zapato.cli.terminal import styled, table
    from zapato.demo.copy import copy_site
    from zapato.errors import ZapatoError

    left_alone = [path for path, what in copy_site(out, force) if what == "kept"]
    click.echo(f"the demo site is in {out}/")
    for path in left_alone:
        click.echo(f"kept {path}: you changed it (--force puts the demo's own back)")
    missing = _no_vm()
    rows: list[dict[str, object]] = []
    for path in device_files(out):
        report = check([path])
        click.echo(f"\n{styled(path.stem, bold=True)} {'-' * (70 - len(path.stem))}")
        click.echo(text_of(report) + f"checked {summary(report)}")
        row: dict[str, object] = {
            "device": path.stem,
            "findings": summary(report).partition(": ")[2] or "none",
        }
        if report.ok:
            row |= _build_and_rehearse(path, out, not missing)
        rows.append(row)
    try:
        evening = bool(missing) or _together(out)
    except ZapatoError as error:
        show_failed(out, error, False)
        evening = False
    good = sum(bool(row.pop("good", False)) for row in rows)
    names = ("device", "findings", "flash", "heap", "expectations", "took")
    click.echo(f"\n{table([{name: row.get(name, '-') for name in names} for row in rows])}")
    done = "checked and built" if missing else "checked, built and rehearsed"
    alone = "" if evening else "; the site's rehearsal failed, see above"
    click.echo(f"\n{good} of {len(rows)} devices {done} without a fault{alone}")
    if missing:
        click.echo(f"not rehearsed: {missing}")
    return 0 if good == len(rows) and evening else 1


def _no_vm() -> str:
    """Why nothing can be rehearsed on this machine; empty where it can."""
    from zapato.errors import ToolMissing
    from zapato.simulator import vm

    try:
        vm.ready()
    except ToolMissing as error:
        return str(error)
    return ""


def _together(out: Path) -> bool:
    """Rehearse the site as one and draw it; True where every expectation held."""
    from zapato.checks import device_files
    from zapato.cli.report import site_lines
    from zapato.cli.terminal import Meter, styled
    from zapato.design import resolve_all
    from zapato.simulator import rehearse_site

    click.echo(f"\n{styled('all together', bold=True)} {'-' * 58}")
    meter = Meter("rehearsing the site together")
    try:
        result = rehearse_site(resolve_all(device_files(out)), progress=meter.at)
    finally:
        meter.done()
    click.echo("\n".join(site_lines(result)))
    click.echo(_drawn(result, out / "out" / "evening.png"))
    return result.passed


def _drawn(result: SiteRehearsal, path: Path) -> str:
    """Draw the evening, where pictures are installed."""
    try:
        from zapato.draw import save, site_timeline

        save(site_timeline(result), path)
    except ModuleNotFoundError:
        return "not drawn: pip install 'zapato[pictures]'"
    return f"drawn: {path}"


def _build_and_rehearse(path: Path, out: Path, stage: bool) -> dict[str, object]:
    """Build and rehearse one device; gives its row of the table, `good` where nothing was wrong."""
    from zapato.cli.report import built_lines, kib, rehearsal_lines
    from zapato.firmware import build
    from zapato.simulator import rehearse

    built = build(path, out / "out")
    click.echo("\n".join(built_lines(built)))
    row: dict[str, object] = {"good": True, "flash": f"{built.size / 1024:.1f} KiB"}
    if not stage:
        return row
    result = rehearse(path)
    click.echo("\n".join(rehearsal_lines(result)))
    held = sum(expectation.passed is True for expectation in result.expectations)
    return row | {
        "good": result.passed,
        "heap": f"{result.heap_peak / 1024:.1f} of {kib(result.heap)}",
        "expectations": f"{held} of {len(result.expectations)} held",
        "took": f"{result.wall:.1f} s",
    }
