"""zapato rehearse: run the built firmware at the desk."""

from __future__ import annotations

from functools import partial
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
@click.option(
    "--cards",
    type=click.Path(path_type=Path),
    help="Put what stands on the device's SD cards afterwards into this folder, a folder a card.",
)
@click.option("--seed", type=int, help="Seed of everything random; the file's own by default.")
@click.option(
    "--live",
    is_flag=True,
    help="In real time with real sockets; type acts such as button.press, Ctrl-C ends.",
)
@click.option(
    "--broker", metavar="HOST[:PORT]", help="With --live: a real broker; an embedded one by default."
)
@click.option(
    "--serial",
    "ports",
    metavar="LINK=PORT",
    multiple=True,
    help="With --live: a real serial port in place of what the stage has at a link, such as line=/dev/ttyUSB0.",
)
@click.option(
    "--jobs",
    type=click.IntRange(1),
    help="Processes that work at a time; by default one, or the machine's cores for many devices.",
)
@click.option("--brief", is_flag=True, help="One line a device, in place of the day's story.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(
    paths: tuple[Path, ...],
    script: Path | None,
    plot: Path | None,
    trace: Path | None,
    cards: Path | None,
    seed: int | None,
    live: bool,
    broker: str | None,
    ports: tuple[str, ...],
    jobs: int | None,
    brief: bool,
    form: str,
) -> int:
    """Run devices' firmware in the real MicroPython VM, in virtual time, against a rehearsal file.

    With --live the same program runs in real time against a real broker: its steps come from --script, or
    from what is typed.

    Exit code 0: every expectation held; 1: one did not, or the firmware crashed; 2: the call was wrong.
    """
    from zapato.checks import all_files
    from zapato.cli.each import each_device
    from zapato.cli.live import play
    from zapato.cli.report import brief_line, rehearsal_lines
    from zapato.cli.terminal import Meter
    from zapato.spread import jobs_for
    from zapato.stage import rehearse

    devices = all_files(paths)
    _together(len(devices) > 1 and bool(script or plot or trace or cards or live), live, broker, ports)
    if plot:
        from zapato.draw import check_name

        check_name(plot)
    results: list[Rehearsal] = []
    several = jobs_for(len(devices), jobs)

    def one(path: Path) -> Rehearsal:
        if live:
            return play(path, script, broker, form == "json", dict(each.split("=", 1) for each in ports))
        meter = Meter(f"rehearsing {path.stem}")
        try:
            return rehearse(path, script, seed=seed, progress=meter.at)
        finally:
            meter.done()

    def tell(result: Rehearsal) -> bool:
        results.append(result)
        if form == "text":
            click.echo(brief_line(result) if brief else "\n".join(rehearsal_lines(result)))
        _files(result, plot, trace, cards)
        return result.passed

    work = partial(rehearse, seed=seed) if several > 1 else one
    code = each_device(devices, "rehearsed without a fault", work, tell, quiet=form == "json", jobs=several)
    if form == "json":
        import json

        click.echo(json.dumps([each.as_dict() for each in results], indent=2, ensure_ascii=False))
    return code


def _together(several: bool, live: bool, broker: str | None, ports: tuple[str, ...]) -> None:
    """Which options go together. Raises ZapatoError."""
    from zapato.errors import ZapatoError

    if several:
        raise ZapatoError("--script, --plot, --trace, --cards and --live go with one device")
    if ports and not live:
        raise ZapatoError("--serial goes with --live: in virtual time no real port can keep up")
    if wrong := next((each for each in ports if "=" not in each), ""):
        raise ZapatoError(f"--serial takes LINK=PORT, not {wrong}", "--serial line=/dev/ttyUSB0")
    if broker and not live:
        raise ZapatoError("--broker goes with --live: in virtual time the broker is the stage's own")


def _files(result: Rehearsal, plot: Path | None, trace: Path | None, cards: Path | None) -> None:
    if cards:
        from zapato.lang.files import write
        from zapato.stage.sdcard import OTHERS

        for card, files in result.cards.items():
            for name, data in files.items():
                if name == OTHERS:
                    continue
                write(cards / card / name, data)
                click.echo(f"card: {cards / card / name}", err=True)
    if trace:
        from zapato.lang.files import write

        write(trace, result.frame.to_csv(index=False))
        click.echo(f"trace: {trace}", err=True)
    if plot:
        from zapato.draw import save, timeline

        save(timeline(result), plot)
        click.echo(f"timeline: {plot}", err=True)
