"""zapato build: from device files to what the boards run."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import click


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
@click.option(
    "--jobs",
    type=click.IntRange(1),
    help="Processes that work at a time; by default one, or the machine's cores for many devices.",
)
def COMMAND(paths: tuple[Path, ...], out: Path, base: Path | None, jobs: int | None) -> int:
    """Build devices: compiled modules, update package, data partition and build.json under OUT/<device>/.

    What holds secrets stands in OUT/<device>/secret/. Refuses while errors stand (exit code 1); the other devices go on. Equal inputs give equal bytes.
    """
    from zapato.checks import all_files
    from zapato.cli.each import each_device
    from zapato.cli.report import built_lines
    from zapato.firmware import Build, build
    from zapato.spread import jobs_for

    def tell(built: Build) -> bool:
        click.echo("\n".join(built_lines(built)))
        return True

    files = all_files(paths)
    work = partial(build, out=out, base=base)
    return each_device(files, "built", work, tell, jobs=jobs_for(len(files), jobs))
