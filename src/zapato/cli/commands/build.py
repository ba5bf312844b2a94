"""zapato build: from device files to what the boards run."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("build")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--out", default="out", type=click.Path(path_type=Path), help="Folder for the results.", show_default=True
)
def COMMAND(paths: tuple[Path, ...], out: Path) -> int:
    """Build devices: compiled modules, update package and build.json under OUT/<device>/.

    Refuses while errors stand (exit code 1). Equal inputs give equal bytes.
    """
    from zapato.checks import device_files
    from zapato.cli.report import built_lines
    from zapato.cli.terminal import progress
    from zapato.firmware import build

    files = [each for given in paths for each in device_files(given)]
    for path in progress(files, "building"):
        click.echo("\n".join(built_lines(build(path, out))))
    return 0
