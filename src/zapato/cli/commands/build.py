"""zapato build: from device files to what the boards run."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import click

from zapato.cli.each import Workers, each_device, spreading


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
def COMMAND(
    paths: tuple[Path, ...], out: Path, base: Path | None, jobs: int | None, cluster: str | None
) -> int:
    """Build devices: compiled modules, update package, data partition and build.json under OUT/<device>/.

    What holds secrets stands in OUT/<device>/secret/. Refuses while errors stand (exit code 1); the other devices go on. Equal inputs give equal bytes.
    """
    from zapato.checks import all_files
    from zapato.cli.report import built_lines
    from zapato.firmware import Build, build

    def tell(built: Build) -> bool:
        click.echo("\n".join(built_lines(built)))
        return True

    files = all_files(paths)
    work = partial(build, out=out.absolute(), base=base and base.absolute())
    return each_device(files, "built", work, tell, workers=Workers(jobs, cluster))
