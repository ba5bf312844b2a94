"""zapato deliver: put devices' programs onto their boards."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.deliver.air import Updated
    from zapato.deliver.cable import WriteResult
    from zapato.design import Design
    from zapato.firmware import Build


@click.command("deliver")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--port", help="By cable: the serial port of the board, or the drive that an RP2040 shows.")
@click.option(
    "--base",
    type=click.Path(path_type=Path),
    help="By cable: the vendor's MicroPython image, for a board that has none yet.",
)
@click.option(
    "--settings",
    "only_settings",
    is_flag=True,
    help="By cable: the network's settings alone, to a device that has its program.",
)
@click.option(
    "--page-password",
    is_flag=True,
    help="Print the password of the page of a device's own access point; write nothing.",
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
    only_settings: bool,
    page_password: bool,
    rate: int,
    air: bool,
    broker: str | None,
    again: bool,
    patience: int,
    failures: int,
    out: Path,
) -> int:
    """Build devices and put their programs onto their boards.

    With --port and --base the whole flash is written through the loader of the chip. Without --base MicroPython is
    there already, and files go through its prompt; where none answers the loader writes the data partition
    alone. What was kept on the board is gone afterwards. With --settings its settings alone are written.

    With --air a device fetches what changed, tries the new version, and goes back by itself where that
    does not reach the broker. Of several devices one goes first, then a quarter, then the others; who has its version
    is passed over, so after Ctrl-C or a stop the same call goes on.

    Once a device has secrets, the page of its own access point asks for a password. It is told at a delivery by cable,
    and by --page-password at any time.

    Exit code 0: every device runs its version; 1: one does not; 2: the call was wrong.
    """
    from zapato.checks import all_files
    from zapato.cli.live import broker_of

    files = all_files(paths)
    if page_password:
        click.echo("\n".join(_page_password(path) for path in files))
        return 0
    if air == bool(port or base):
        raise click.UsageError("deliver needs --port PORT (by cable) or --air (over the network)")
    if not air:
        if len(files) > 1:
            raise click.UsageError("a cable leads to one board: name one device")
        if only_settings and (base or not port):
            raise click.UsageError("--settings goes with --port alone")
        click.echo("\n".join(_by_cable(files[0], out, port, base, rate, only_settings)))
        click.echo(f"  {_page_password(files[0])}")
        return 0
    return _all_by_air(files, out, broker_of(broker), again, patience, failures)


def _page_password(path: Path) -> str:
    """What a device's page asks for, in a sentence."""
    from zapato.design import resolve
    from zapato.firmware.plan import settings

    design = resolve(path)
    key = design.site.update_keys.get(design.name)
    if not key:
        return f"{design.name} has no update key yet, so its page has no password: zapato build makes both"
    page = settings(design, key).get("page")
    return f"the page of {design.name} asks for {page or 'no password'}" + (
        ", once the device has secrets" if page else ""
    )


def _all_by_air(
    files: Sequence[Path],
    out: Path,
    there: tuple[str, int] | None,
    again: bool,
    patience: float,
    failures: int,
) -> int:
    """One device, or a site wave by wave; gives the exit code."""
    from zapato.cli.rollout import Rollout
    from zapato.deliver.rollout import roll_out, waves
    from zapato.errors import AlreadyThere

    if len(files) == 1:
        from zapato.cli.terminal import Meter

        meter = Meter(files[0].stem)
        try:
            done = _by_air(files[0], out, there, again, patience, lambda what, share: meter.at(share, what))
            meter.done()
            click.echo(f"{done.device}: {_line(done)}")
        except AlreadyThere as error:
            click.echo(f"{files[0].stem}: {error} ({error.fix})")
        finally:
            meter.done()
        return 0
    paths = {path.stem: path for path in files}
    turns = waves(list(paths))
    shown = Rollout(turns)

    def deliver(name: str, tell: Callable[[str, float], None], goes_on: Callable[[], bool]) -> str:
        return _line(_by_air(paths[name], out, there, again, patience, tell, goes_on))

    with shown.shown():
        roll_out(turns, deliver, failures=failures, changed=shown.changed)
    count = {
        state: sum(turn.state == state for turn in turns) for state in ("done", "there", "failed", "left")
    }
    words = ("updated", "had their version", "failed", "unchanged; run the same command again to continue")
    click.echo(", ".join(f"{n} {word}" for n, word in zip(count.values(), words, strict=True) if n))
    return 1 if count["failed"] or count["left"] else 0


def _by_cable(
    path: Path, out: Path, port: str | None, base: Path | None, rate: int, only_settings: bool
) -> list[str]:
    """Put one device's program onto its board; gives what there is to say of it."""
    from zapato.cli.terminal import Meter
    from zapato.design import resolve
    from zapato.firmware import build

    design = resolve(path)
    built = build(design, out, base=base)
    meter = Meter(design.name)

    def tell(what: str, share: float) -> None:
        if share == 0 and what:
            click.echo(f"{design.name}: {what}", err=True)
        meter.at(share, what)

    try:
        if (
            port
            and not base
            and not Path(port).is_dir()
            and (done := _at_prompt(design, port, only_settings, tell))
        ):
            return done
        return _by_loader(design, built, port, base, rate, tell)
    finally:
        meter.done()


def _at_prompt(
    design: Design, port: str, only_settings: bool, tell: Callable[[str, float], None]
) -> list[str] | None:
    """Through the prompt of the MicroPython that is there; None where none answers and another way may help."""
    from zapato.deliver.prompt import by_prompt
    from zapato.errors import NotDelivered
    from zapato.firmware.build import update_key
    from zapato.firmware.layout import FOLDERS, SETTINGS, delivered
    from zapato.firmware.plan import settings
    from zapato.firmware.program import compile_device

    assert design.board is not None
    files = delivered(design, compile_device(design), settings(design, update_key(design)[0]))
    if only_settings:
        files = {SETTINGS: files[SETTINGS]}
    done = by_prompt(design.board.chip, files, FOLDERS, port, only=only_settings, tell=tell)
    if done is None and only_settings:
        raise NotDelivered(
            f"nothing on {port} answers with MicroPython's prompt",
            "without --settings the whole device is written",
        )
    if done is None:
        return None
    what = "its settings" if only_settings else f"{done.size / 1024:.0f} KiB"
    return _result_lines(
        f"{design.name}: {what} written through the prompt on {port} in {done.seconds:.1f} s, each file by its digest",
        done,
    )


def _by_loader(
    design: Design,
    built: Build,
    port: str | None,
    base: Path | None,
    rate: int,
    tell: Callable[[str, float], None],
) -> list[str]:
    """Through the loader of the chip, or onto the drive that an RP2040 shows."""
    from zapato.deliver.cable import by_cable, by_drive, the_drive
    from zapato.errors import NotDelivered
    from zapato.firmware.base import read_base
    from zapato.firmware.first import data_place

    board = design.board
    assert board is not None
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
    proof = "verified by the chip's own digest" if done.verified else "each block by its checksum"
    return _result_lines(
        f"{design.name}: {done.size / 1024:.0f} KiB written to the {done.chip} on {port} in {done.seconds:.1f} s, {proof}",
        done,
    )


def _result_lines(head: str, done: WriteResult) -> list[str]:
    silent = (
        "press RST on the board: it was brought into its loader by hand"
        if done.by_hand
        else "it says nothing yet"
    )
    return [head, *([f"  {row}" for row in done.said] or [f"  {silent}"])]


def _by_air(
    path: Path,
    out: Path,
    there: tuple[str, int] | None,
    again: bool,
    patience: float,
    tell: Callable[[str, float], None],
    goes_on: Callable[[], bool] = lambda: True,
) -> Updated:
    from zapato.deliver.air import over_the_air
    from zapato.deliver.broker import connected, describe
    from zapato.deliver.offer import UpdateOffer
    from zapato.design import resolve
    from zapato.firmware import build
    from zapato.firmware.build import update_key

    design = resolve(path)
    built = build(design, out)
    key = bytes.fromhex(update_key(design)[0])
    offer = UpdateOffer(design.topic, key, built.update.read_bytes())
    names = ("update/want", "update/number", "update/runs", "update/status", "vitals", "notes")
    with connected(design, there, [f"{design.topic}/{name}" for name in names]) as link:
        done = over_the_air(offer, link, again=again, patience=patience, tell=tell, goes_on=goes_on)
        describe(design, link)
        return done


def _line(done: Updated) -> str:
    return (
        f"{done.before} -> {done.version}, {done.sent / 1024:.1f} of {done.size / 1024:.1f} KiB"
        f" sent, {done.seconds:.0f} s"
    )
