"""zapato build: from device files to what the boards run."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.each import Workers, each_device, spreading
from zapato.cli.terminal import SHOWN, Meter, styled

if TYPE_CHECKING:
    from zapato.firmware.lock import Entry


@click.command("build")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--out", default="out", type=click.Path(path_type=Path), help="Folder for the results.", show_default=True
)
@click.option(
    "--base",
    type=click.Path(path_type=Path),
    help="The vendor's MicroPython image for the chip: makes the whole flash of a new device, too.",
)
@spreading
@click.option("--anew", is_flag=True, help="Build every device, also one that has not changed since.")
def COMMAND(
    paths: tuple[Path, ...], out: Path, base: Path | None, jobs: int | None, cluster: str | None, anew: bool
) -> int:
    """Build devices: compiled modules, update package, data partition and build.json under OUT/<device>/.

    What holds secrets stands in OUT/<device>/secret/. Refuses while errors stand (exit code 1); the other devices go on. Equal inputs give equal bytes.
    Of a site only what changed is built; zapato.lock beside site.toml says what was built of what.
    """
    from zapato.checks import all_files
    from zapato.cli.report import built_lines
    from zapato.firmware import Build, build
    from zapato.firmware.lock import NAME

    made: dict[Path, list[Entry]] = {}

    def tell(built: Build) -> bool:
        click.echo("\n".join(built_lines(built)))
        if built.entry and built.root:
            made.setdefault(built.root, []).append(built.entry)
        return True

    files = all_files(paths)
    same = {} if anew or base else _unchanged(files, out)
    word = styled("unchanged", fg="green", bold=True)
    if len(same) > SHOWN:
        click.echo(f"{word} {len(same):,} devices")
    else:
        for entry in same.values():
            click.echo(f"{word} {entry.device} {entry.version} for {entry.board}")
    work = partial(build, out=out.absolute(), base=base and base.absolute())
    rest = [path for path in files if path not in same]
    try:
        code = each_device(rest, "built", work, tell, workers=Workers(jobs, cluster)) if rest else 0
    finally:  # what is done is kept, whatever ends the rest
        _keep(paths, files, made)
    if same and len(files) > 1:
        click.echo(f"{len(same):,} of {len(files):,} devices unchanged since {NAME} was written")
    return code


def _unchanged(files: list[Path], out: Path) -> dict[Path, Entry]:
    """The devices whose results are what a build would make anew."""
    from zapato.errors import Unreadable
    from zapato.firmware.build import as_built

    entries: dict[Path, Entry] = {}
    meter = Meter("looking for what changed")
    try:
        for number, path in enumerate(files):
            meter.at(number / len(files), f"{number} of {len(files)}")
            if entry := as_built(path, out):
                entries[path] = entry
    except Unreadable as error:
        click.echo(f"zapato: {error} ({error.fix})", err=True)
        return {}
    finally:
        meter.done()
    return entries


def _keep(paths: tuple[Path, ...], files: list[Path], made: Mapping[Path, list[Entry]]) -> None:
    """Put what was made into the lock file of its site; where whole sites were built, devices that are gone are left out."""
    from zapato.checks import root_of
    from zapato.errors import ZapatoError
    from zapato.firmware.lock import keep

    whole = {root for path in paths if (root := root_of(path))}
    for root in {*made, *whole}:
        try:
            keep(root, made.get(root, []), files if root in whole else None)
        except ZapatoError as error:
            click.echo(f"zapato: {error}" + (f" ({error.fix})" if error.fix else ""), err=True)
