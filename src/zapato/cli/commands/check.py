"""zapato check: every mistake of a device file, at its place, with the way out."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.each import Workers, spreading

if TYPE_CHECKING:
    from zapato.findings import Report

PAYS = 400
"""Devices from which on processes of their own pay: one is checked in some milliseconds, starting a process takes half a second."""


@click.command("check")
@click.argument("paths", nargs=-1, type=click.Path(path_type=Path))
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "json", "sarif"]),
    default="text",
    help="How to print the findings.",
)
@click.option("--only", multiple=True, metavar="CODE", help="Show findings of this code alone.")
@click.option("--device", "devices", multiple=True, metavar="NAME", help="Show this device's findings alone.")
@click.option("--brief", is_flag=True, help="One line a finding.")
@click.option(
    "--watch",
    "watching",
    is_flag=True,
    help="Check again when a file is saved; print new and resolved findings.",
)
@spreading
@click.option(
    "--anew",
    is_flag=True,
    help="Look at every device again, also at those of a large site that did not change.",
)
@click.option(
    "--changed",
    metavar="[REVISION]",
    is_flag=False,
    flag_value="",
    help="Only the devices changed since this git revision; without one, since they were built (zapato.lock).",
)
def COMMAND(
    paths: tuple[Path, ...],
    form: str,
    only: tuple[str, ...],
    devices: tuple[str, ...],
    brief: bool,
    watching: bool,
    anew: bool,
    changed: str | None,
    jobs: int | None,
    cluster: str | None,
) -> int:
    """Check device files, or the folders of sites, against their boards; "-" reads standard input.

    Exit code 0: no errors; 1: errors found; 2: the call itself was wrong.
    """
    from zapato.checks import all_files, rule
    from zapato.errors import UnknownName

    if changed and not paths and Path(changed).exists():  # zapato check --changed SITE
        paths, changed = (Path(changed),), ""
    if not paths:
        raise click.MissingParameter(param_type="argument", param_hint="PATHS")
    for code in only:
        rule(code)
    if watching:
        from zapato.cli.follow import follow

        if form != "text" or changed is not None or "-" in map(str, paths):
            raise click.UsageError("--watch works with files and --format text only")
        return follow(paths, only, devices)
    files = all_files(paths)
    if changed is not None:
        files = _changed(files, changed)
        paths = tuple(path for path in paths if not path.is_dir())
    whole = _checked(paths, files, Workers(jobs, cluster), anew)
    if unknown := [name for name in devices if name not in whole.devices]:
        raise UnknownName(f"no device is called {unknown[0]}", f"there are: {', '.join(whole.devices[:8])}")
    report = whole.only(only, devices)
    if form != "text":
        click.echo(_data(report, form))
    else:
        from zapato.cli.report import brief_text, summary, text_of, totals

        text = brief_text(report) if brief else text_of(report)
        named = ", ".join(path.name for path in paths if path.is_file()) or "no device"
        click.echo(text + totals(report) + summary(report, named))
        if used := _extensions(paths or tuple(files)):
            click.echo(f"with the extensions {', '.join(used)}")
    return 0 if report.ok else 1


def _checked(paths: Sequence[Path], files: Sequence[Path], workers: Workers, anew: bool) -> Report:
    """The report, with how far it is told meanwhile; of a large site only what changed is looked at again."""
    from zapato.checks import check_files
    from zapato.cli.terminal import Meter

    meter = Meter("checking")

    def tell(done: int) -> None:
        meter.at(done / len(files), f"{done} of {len(files)}")

    index = None
    if not anew and len(files) >= PAYS:
        from zapato.checks.index import index_of

        index = index_of(paths, files)
    try:
        count = index.unknown(files) if index else len(files)
        with workers.executor(count, PAYS) as executor:
            return check_files(paths, files, executor, tell, index)
    finally:
        meter.done()


def _extensions(paths: tuple[Path, ...]) -> list[str]:
    """The extensions whose code took part, each with where it is from."""
    from zapato.extensions import bundles
    from zapato.lang.site import site_of

    sources: dict[str, str] = {}
    for path in paths[:20]:
        site_of(path)
        sources |= {
            bundle.name: "this site" if bundle.site else bundle.package for bundle in bundles().values()
        }
    return [f"{name} ({where})" for name, where in sources.items()]


def _changed(files: list[Path], revision: str) -> list[Path]:
    """Those of these that changed since a revision of git, or since they were built."""
    if revision:
        from zapato.cli.git import changed_files

        return changed_files(files, revision)
    from zapato.firmware.lock import changed

    return changed(files)


def _data(report: Report, form: str) -> str:
    import json

    if form == "sarif":
        from zapato.cli.sarif import sarif

        return json.dumps(sarif(report), indent=2, ensure_ascii=False)
    return json.dumps(report.as_dict(), indent=2, ensure_ascii=False)
