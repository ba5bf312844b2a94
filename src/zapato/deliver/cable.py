"""By cable: a new device's flash through the loader of its chip, or onto the drive that an RP2040 shows."""

from __future__ import annotations

import contextlib
import itertools
import os
import time
from collections.abc import Callable
from pathlib import Path

from zapato.boards.board import Board
from zapato.deliver.loader import FIRST_RATE, Failed, Loader, Silence, md5
from zapato.deliver.ports import OpenPort
from zapato.errors import NotDelivered
from zapato.record import record

WAIT = 60.0
"""Seconds to bring the board into its loader."""
RATE = 460_800
SECTOR = 4096
GAP = 16 * SECTOR
"""Erased flash between two pieces from which on it is not written."""
LISTEN = 4.0
"""Seconds to hear what the device says after its restart."""
RETURNS = 6.0
"""Seconds in which a port of the chip's own USB comes back after a restart."""
TRIES = 3
"""Times that a region is written before it is told as failed."""
DRIVE_NOTE = "INFO_UF2.TXT"
"""The file by which an RP2040's drive is known (UF2 specification)."""

Tell = Callable[[str, float], None]


@record(frozen=True)
class WriteResult:
    """What went over the cable.

    Attributes:
        chip: what answered.
        size: bytes of flash written.
        seconds: that writing took.
        verified: by the loader's own digest; the ESP8266's has none, there each block has its checksum.
        said: the first lines of the device after its restart.
        by_hand: somebody brought the board into its loader, so somebody may have to press RST, too.
    """

    chip: str
    size: int
    seconds: float
    verified: bool
    said: tuple[str, ...]
    by_hand: bool = False


def pieces(image: bytes) -> list[tuple[int, bytes]]:
    """The parts of an image that are not erased flash, each with its place; from sector to sector."""
    pieces: list[tuple[int, bytes]] = []
    blank = b"\xff" * SECTOR
    for at in range(0, len(image), SECTOR):
        sector = image[at : at + SECTOR]
        if sector == blank[: len(sector)]:
            continue
        if pieces and at - (pieces[-1][0] + len(pieces[-1][1])) < GAP:
            start, before = pieces[-1]
            pieces[-1] = (start, before + image[start + len(before) : at + SECTOR])
        else:
            pieces.append((at, sector))
    return pieces


def gaps(regions: list[tuple[int, bytes]], first: int, last: int) -> list[tuple[int, int]]:
    """What of the flash from `first` to `last` no region covers: where each begins, and its bytes."""
    gaps: list[tuple[int, int]] = []
    for place, data in [*regions, (last, b"")]:
        if place > first:
            gaps.append((first, place - first))
        first = max(first, -(-(place + len(data)) // SECTOR) * SECTOR)
    return gaps


def by_cable(
    board: Board,
    image: bytes,
    port: str,
    *,
    at: int = 0,
    until: int = 0,
    rate: int = RATE,
    wait: float = WAIT,
    tell: Tell = lambda what, share: None,
) -> WriteResult:
    """Write an image (its bytes, from `at` on) into the flash of the board on this port, and start it.

    What the image leaves free is erased, up to `until`: no settings of before stay there.
    Raises NotDelivered: nothing half-written counts as done, and the same command repairs it.
    """
    line = OpenPort(port)
    try:
        loader = Loader(line)
        by_hand = _meet(loader, line, board, wait, tell)
        identity = loader.identify()
        if identity != board.chip.id:
            raise NotDelivered(
                f"the chip on {port} is an {identity}, and {board.id} has an {board.chip.id}",
                "another port, or another board in the device file",
            )
        if line.own_usb:
            loader.still()
        elif not loader.faster(rate):
            line.set_rate(FIRST_RATE)
            tell(f"nothing is heard at {rate} baud; going on at {FIRST_RATE}", 0.0)
            _meet(loader, line, board, wait, tell)
        loader.attach(board.flash)
        _hold_against(board, loader.flash_size(), port)
        begun = time.monotonic()
        regions = [(at + place, data) for place, data in pieces(image)]
        for place, size in gaps(regions, at, until):
            tell("erasing", 0.0)
            loader.erase(place, size)
        verified = _write(loader, regions, tell)
        took = time.monotonic() - begun
        tell("starting", 1.0)
        with contextlib.suppress(NotDelivered):  # its own USB may be gone with the restart
            loader.restart()
            line.set_rate(FIRST_RATE)
        reset(line)
        first = said(line, loader.heard)
        return WriteResult(identity, sum(len(data) for _, data in regions), took, verified, first, by_hand)
    except Silence as silence:
        raise NotDelivered(
            f"the chip on {port} stopped answering ({silence.what})",
            "use a shorter cable or a lower --rate, or check its supply; then run the command again",
        ) from None
    except Failed as failed:
        raise NotDelivered(
            f"the chip on {port} refused: {failed}", "run the command again; it begins with erasing"
        ) from None
    finally:
        line.close()


def _write(loader: Loader, regions: list[tuple[int, bytes]], tell: Tell) -> bool:
    """Write and verify region by region; True where the chip's own digests say so."""
    total, done, verified = sum(len(data) for _, data in regions), 0, True
    for place, data in regions:

        def share(part: float, done: int = done, data: bytes = data) -> None:
            tell("writing", (done + part * len(data)) / total)

        verified &= _region(loader, place, data, share)
        done += len(data)
    return verified


def _hold_against(board: Board, there: int, port: str) -> None:
    """The flash that is there must be the board's: the file system does not mount on another number of blocks, or one is made anew over it.

    The ESP8266 goes by the size in the image's header, so more than that does no harm there. Raises NotDelivered.
    """
    enough = there >= board.flash if board.chip.port == "esp8266" else there == board.flash
    if not there or enough:
        return
    raise NotDelivered(
        f"the flash on {port} has {_size(there)}, and {board.id} has {_size(board.flash)}",
        f"another board in the device file, or a file boards/NAME.toml of the site with flash = {there}",
    )


def _size(count: int) -> str:
    return f"{count / 1048576:g} MiB"


def _meet(loader: Loader, line: OpenPort, board: Board, wait: float, tell: Tell) -> bool:
    """Bring the chip into its loader by the port's lines, or wait for a hand to do it; True where a hand did.

    A port of the chip's own USB goes away when somebody presses RST, and comes back.
    """
    until = time.monotonic() + wait
    tell("; ".join(board.boot_mode), 0.0)
    for number in itertools.count():
        try:
            if line.own_usb:
                _into_loader_by_usb(line)
            else:
                _into_loader(line, HOLDS[number % len(HOLDS)])
            for _ in range(5):
                if loader.greet():
                    return number >= len(HOLDS)
        except NotDelivered:
            left = until - time.monotonic()
            if left <= 0 or not line.reopen(left):
                raise
        if time.monotonic() > until:
            break
    raise NotDelivered(
        f"nothing on {line.name} answers as a loader", f"by hand: {'; '.join(board.boot_mode)}"
    )


HOLDS = (0.05, 0.55)
"""Seconds that the boot pin stays low after reset is let go: a slow supply wants the longer one."""


def _into_loader(line: OpenPort, hold: float) -> None:
    """Reset with the boot pin low: RTS pulls reset, DTR the boot pin, on boards that are wired so."""
    line.lines(reset=True, boot=False)
    time.sleep(0.1)
    line.lines(reset=False, boot=True)
    time.sleep(hold)
    line.lines(reset=False, boot=False)


def _into_loader_by_usb(line: OpenPort) -> None:
    """The same through the chip's own USB unit, which reads the order of the lines: both off in the middle would end it."""
    line.lines(reset=False, boot=False)
    time.sleep(0.1)
    line.lines(reset=False, boot=True)
    time.sleep(0.1)
    line.lines(reset=True, boot=True)
    line.lines(reset=True, boot=False)
    time.sleep(0.1)
    line.lines(reset=False, boot=False)


def reset(line: OpenPort) -> None:
    """Start the board anew, where its reset hangs on the port's lines."""
    line.lines(reset=True, boot=False)
    time.sleep(0.1)
    line.lines(reset=False, boot=False)


def _region(loader: Loader, at: int, data: bytes, tell: Callable[[float], None]) -> bool:
    """Write one region and hold it against the chip's own digest; True where there is one."""
    for left in range(TRIES, 0, -1):
        try:
            loader.write(at, data, tell)
            digest = loader.digest(at, len(data))
            if not digest or digest == md5(data):
                return bool(digest)
        except (Silence, Failed):
            if left == 1 or not any(loader.greet() for _ in range(5)):
                raise
    raise NotDelivered(
        f"the flash at {at:#x} does not hold what was written",
        "run the command again; if the error stays, the flash is worn out",
    )


def said(line: OpenPort, heard: bytes) -> tuple[str, ...]:
    """The first lines that the device says, `heard` being the first of them. Its port may go away with the restart, and come back."""
    until = time.monotonic() + LISTEN
    while time.monotonic() < until and heard.count(b"\n") < 12:
        try:
            line.patience(0.2)
            heard += line.read(1 << 12)
        except NotDelivered:
            if not line.reopen(RETURNS):
                break
            until = time.monotonic() + LISTEN
    text = heard.decode("utf-8", "replace").replace("\r", "")
    return tuple(row for row in text.split("\n") if row.strip() and row.isprintable())


def by_drive(board: Board, image: Path, drive: Path, *, tell: Tell = lambda what, share: None) -> int:
    """Copy a UF2 file onto the drive that the chip's loader shows; gives its bytes. Raises NotDelivered."""
    note = drive / DRIVE_NOTE
    if not note.is_file():
        raise NotDelivered(
            f"{drive} is no drive of a loader: {DRIVE_NOTE} is not there", "; ".join(board.boot_mode)
        )
    data = image.read_bytes()
    try:
        with open(drive / image.name, "wb") as file:
            for at in range(0, len(data), 1 << 16):
                file.write(data[at : at + (1 << 16)])
                tell("writing", min(1.0, (at + (1 << 16)) / len(data)))
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise NotDelivered(
            f"the file cannot be written to {drive}: {(error.strerror or str(error)).lower()}",
            "repeat the call",
        ) from None
    return len(data)


def drives() -> list[Path]:
    """The drives of loaders that are mounted here."""
    places = [*Path("/media").glob("*/*"), *Path("/run/media").glob("*/*"), *Path("/Volumes").glob("*")]
    places += [Path(f"{letter}:/") for letter in "DEFGHIJKLMNOPQRSTUVWXYZ"] if os.name == "nt" else []
    return [place for place in places if (place / DRIVE_NOTE).is_file()]


def the_drive(board: Board, wait: float = WAIT, tell: Tell = lambda what, share: None) -> Path:
    """The drive of the one loader that is mounted, or will be soon. Raises NotDelivered."""
    until = time.monotonic() + wait
    tell("; ".join(board.boot_mode), 0.0)
    while not (drives_found := drives()):
        if time.monotonic() > until:
            raise NotDelivered(
                "no drive of a loader is mounted", f"by hand: {'; '.join(board.boot_mode)}; or --port FOLDER"
            )
        time.sleep(0.3)
    if len(drives_found) > 1:
        raise NotDelivered(
            f"several loaders' drives are mounted: {', '.join(map(str, drives_found))}",
            "--port FOLDER names one",
        )
    return drives_found[0]
