"""zapato deliver: put devices' programs onto their boards."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.deliver.air import Updated
    from zapato.firmware import Build


@click.command("deliver")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--port", help="By cable: the serial port of the board, or the drive that an RP2040 shows.")
@click.option(
    "--base",
    type=click.Path(path_type=Path),
    help="By cable: the vendor's MicroPython image, for a board that has none yet.",
)
@click.option("--rate", default=460_800, show_default=True, help="By cable: baud.")
@click.option("--air", is_flag=True, help="Over the air: through the broker, to a device that runs.")
@click.option("--broker", metavar="HOST[:PORT]", help="With --air: another broker than the site's.")
@click.option("--again", is_flag=True, help="With --air: the version that runs there already, once more.")
@click.option(
    "--patience",
    default=300,
    show_default=True,
    metavar="SECONDS",
    help="How long a device may be silent.",
)
@click.option(
    "--failures", default=1, show_default=True, help="Of several devices: stop when so many have failed."
)
@click.option(
    "--out", default="out", type=click.Path(path_type=Path), help="Folder for the builds.", show_default=True
)
def COMMAND(
    paths: tuple[Path, ...],
    port: str | None,
    base: Path | None,
    rate: int,
    air: bool,
    broker: str | None,
    again: bool,
    patience: int,
    failures: int,
    out: Path,
) -> int:
    """Build devices and put their programs onto their boards.

    With --port the board's flash is written through the loader of its chip: with --base whole, without it the
    data partition alone, under the MicroPython that is there. What was kept on it is gone afterwards.

    With --air a device fetches what changed, tries the new version, and goes back by itself where that
    does not reach the broker. Of several devices one goes first, then the others; the call can be repeated.

    Exit code 0: every device runs its version; 1: one does not; 2: the call was wrong.
    """
    from zapato.checks import all_files
    from zapato.cli.live import broker_of

    files = all_files(paths)
    if air == bool(port or base):
        raise click.UsageError("one way is wanted: --port PORT, by cable, or --air")
    if not air:
        if len(files) > 1:
            raise click.UsageError("a cable leads to one board: name one device")
        click.echo("\n".join(_by_cable(files[0], out, port, base, rate)))
        return 0
    return _all_by_air(files, out, broker_of(broker), again, patience, failures)


def _all_by_air(
    files: Sequence[Path],
    out: Path,
    there: tuple[str, int] | None,
    again: bool,
    patience: float,
    failures: int,
) -> int:
    """One device after the other; gives the exit code."""
    from zapato.errors import NotOffered, ZapatoError

    failed: list[str] = []
    for number, path in enumerate(files):
        if len(failed) >= failures:
            click.echo(f"stopped after {len(failed)} of {len(files)}: {', '.join(failed)} failed")
            break
        try:
            click.echo(_line(_by_air(path, out, there, again, patience), number, len(files)))
        except NotOffered as error:
            if "runs there already" not in str(error):
                raise
            click.echo(f"{path.stem}: {error} ({error.fix})")
        except ZapatoError as error:
            if len(files) == 1:
                raise
            failed.append(path.stem)
            click.echo(f"{path.stem}: {error}", err=True)
    return 1 if failed else 0


def _by_cable(path: Path, out: Path, port: str | None, base: Path | None, rate: int) -> list[str]:
    from zapato.cli.terminal import Meter
    from zapato.deliver.cable import by_cable, by_drive, the_drive
    from zapato.design import resolve
    from zapato.errors import NotDelivered
    from zapato.firmware import build
    from zapato.firmware.base import read_base
    from zapato.firmware.first import data_place

    design = resolve(path)
    built = build(design, out, base=base)
    board = design.board
    assert board is not None
    meter = Meter(design.name)

    def tell(what: str, share: float) -> None:
        if share == 0 and what:
            click.echo(f"{design.name}: {what}", err=True)
        meter.at(share, what)

    try:
        if board.chip.port == "rp2":
            if not built.first:
                raise NotDelivered("an RP2040 takes whole images", "--base FILE, the vendor's MicroPython")
            drive = Path(port) if port else the_drive(board, tell=tell)
            size = by_drive(board, built.first, drive, tell=tell)
            return [f"{design.name}: {size / 1024:.0f} KiB copied onto {drive}; the board starts by itself"]
        if not port:
            raise click.UsageError("--port PORT is missing; zapato ports lists them")
        at, room = data_place(board, read_base(base, board) if base else None)
        image = (built.first or built.data).read_bytes()
        start = 0 if built.first else at
        done = by_cable(board, image, port, at=start, until=at + room, rate=rate, tell=tell)
    finally:
        meter.done()
    proof = "verified by the chip's own digest" if done.verified else "each block by its checksum"
    head = f"{design.name}: {done.size / 1024:.0f} KiB written to the {done.chip} on {port} in {done.seconds:.1f} s, {proof}"
    said = [f"  {row}" for row in done.said] or ["  it says nothing yet"]
    return [head, *said]


def _by_air(path: Path, out: Path, there: tuple[str, int] | None, again: bool, patience: float) -> Updated:
    from zapato.cli.terminal import Meter
    from zapato.deliver.air import over_the_air
    from zapato.deliver.broker import connected
    from zapato.deliver.offer import Offer
    from zapato.design import resolve
    from zapato.firmware import build
    from zapato.firmware.build import update_key

    design = resolve(path)
    built: Build = build(design, out)
    key = bytes.fromhex(update_key(design)[0])
    offer = Offer(design.topic, key, built.update.read_bytes())
    meter = Meter(design.name)
    names = ("update/want", "vitals", "notes")
    try:
        with connected(design, there, [f"{design.topic}/{name}" for name in names]) as way:
            return over_the_air(
                offer, way, again=again, patience=patience, tell=lambda what, share: meter.at(share, what)
            )
    finally:
        meter.done()


def _line(done: Updated, number: int, count: int) -> str:
    of = f"{number + 1} of {count}  " if count > 1 else ""
    return (
        f"{of}{done.device}: {done.before} -> {done.version}, {done.sent / 1024:.1f} of {done.size / 1024:.1f} KiB"
        f" sent, {done.seconds:.0f} s"
    )
