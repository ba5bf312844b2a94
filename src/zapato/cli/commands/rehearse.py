"""zapato rehearse: run the built firmware at the desk."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.stage import Rehearsal


@click.command("rehearse")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--script",
    type=click.Path(path_type=Path),
    help="The rehearsal file; by default rehearsals/<device>.toml of the site.",
)
@click.option("--plot", type=click.Path(path_type=Path), help="Draw the timeline into this PNG or SVG.")
@click.option(
    "--trace", type=click.Path(path_type=Path), help="Write everything that happened into this CSV."
)
@click.option("--seed", type=int, help="Seed of everything random; the file's own by default.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(
    paths: tuple[Path, ...],
    script: Path | None,
    plot: Path | None,
    trace: Path | None,
    seed: int | None,
    form: str,
) -> int:
    """Run devices' firmware in the real MicroPython VM, in virtual time, against a rehearsal file.

    Exit code 0: every expectation held; 1: one did not, or the firmware crashed; 2: the call was wrong.
    """
    from zapato.checks import all_files
    from zapato.cli.each import each_device
    from zapato.cli.report import rehearsal_lines
    from zapato.cli.terminal import Meter
    from zapato.errors import ZapatoError
    from zapato.stage import rehearse

    devices = all_files(paths)
    if len(devices) > 1 and (script or plot or trace):
        raise ZapatoError("--script, --plot and --trace go with one device")
    if plot:
        from zapato.draw import check_name

        check_name(plot)
    results: list[Rehearsal] = []

    def one(path: Path) -> bool:
        meter = Meter(f"rehearsing {path.stem}")
        try:
            result = rehearse(path, script, seed=seed, progress=meter.at)
        finally:
            meter.done()
        results.append(result)
        if form == "text":
            click.echo("\n".join(rehearsal_lines(result)))
        _files(result, plot, trace)
        return result.passed

    code = each_device(devices, "rehearsed without a fault", one, quiet=form == "json")
    if form == "json":
        import json

        click.echo(json.dumps([each.as_dict() for each in results], indent=2, ensure_ascii=False))
    return code


def _files(result: Rehearsal, plot: Path | None, trace: Path | None) -> None:
    if trace:
        from zapato.lang.files import write

        write(trace, result.frame.to_csv(index=False))
        click.echo(f"trace: {trace}", err=True)
    if plot:
        from zapato.draw import save, timeline

        save(timeline(result), plot)
        click.echo(f"timeline: {plot}", err=True)
