"""The device's flash with its real file system: LittleFS itself over erasable blocks, cut at any write or erase.

Rehearsals use files in a dictionary instead: quicker, and harsher (a write is cut in its middle).
"""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping
from typing import Any

from littlefs import LittleFS, LittleFSError
from littlefs import lfs as _lfs
from littlefs.context import UserContext

from zapato.boards.board import Chip
from zapato.firmware.image import BLOCK, sizes
from zapato.simulator.files import Disk
from zapato.simulator.wasi import Fault, Opened

logging.getLogger("littlefs").setLevel(logging.WARNING)
lfs: Any = _lfs
IO_ERROR = -5
ERASED = 0xFF
RDONLY, RDWR, CREATE, TRUNCATE, APPEND = 1, 3, 0x100, 0x400, 0x800
"""Flags of lfs_file_open (lfs.h)."""
FOLDER = 2


class Blocks(UserContext):
    """Flash memory: erasing sets every bit, writing only clears bits.

    Attributes:
        steps: how often something was written or erased.
        cut_at: the step in whose middle the power goes, or 0.
        gone: it went.
        erased: how often each block was erased.
        journal: the steps, as address, bytes and whether they were erased before.
    """

    def __init__(self, image: bytes) -> None:
        super().__init__(buffer=bytearray(image))
        self.steps, self.cut_at, self.gone = 0, 0, False
        self.erased: dict[int, int] = {}
        self.journal: list[tuple[int, bytes, bool]] = []

    def _step(self) -> bool:
        """True where the power goes now."""
        self.steps += 1
        self.gone = self.gone or self.steps == self.cut_at
        return self.gone

    def prog(self, cfg: Any, block: int, off: int, data: bytes) -> int:
        if self.gone:
            return IO_ERROR
        cut = self._step()
        self.apply(block * BLOCK + off, data[: len(data) // 2] if cut else data, False)
        return IO_ERROR if cut else 0

    def erase(self, cfg: Any, block: int) -> int:
        if self.gone:
            return IO_ERROR
        cut = self._step()
        self.erased[block] = self.erased.get(block, 0) + 1
        self.apply(block * BLOCK, bytes([ERASED]) * (BLOCK // 2 if cut else BLOCK), True)
        return IO_ERROR if cut else 0

    def apply(self, at: int, data: bytes, erase: bool) -> None:
        """Do one step of the memory itself."""
        self.journal.append((at, data, erase))
        if not erase:
            before = self.buffer[at : at + len(data)]
            data = (int.from_bytes(before, "big") & int.from_bytes(data, "big")).to_bytes(len(data), "big")
        self.buffer[at : at + len(data)] = data


class LittleFlash:
    """A data partition's bytes, mounted as the port mounts them.

    Attributes:
        blocks: the memory.
        cut: what is raised when its power goes.
    """

    def __init__(self, chip: Chip, image: bytes, cut: Callable[[], BaseException]) -> None:
        self.chip, self.blocks, self._cut = chip, Blocks(image), cut
        self.power_on()

    def power_on(self) -> None:
        """Mount what the memory holds. Raises LittleFSError where there is no file system any more."""
        self.blocks.gone, self.blocks.cut_at = False, 0
        self.handles: list[Any] = []
        """Open files: LittleFS knows them by their place in memory, so none may go before it does."""
        count = len(self.blocks.buffer) // BLOCK
        self.system: Any = LittleFS(self.blocks, mount=False, block_count=count, **sizes(self.chip))  # pyright: ignore[reportArgumentType]
        self.system.mount()

    def disk(
        self, folders: Mapping[str, Mapping[str, bytes]], device: Callable[[str], Opened | None]
    ) -> Disk:
        return LittleDisk(folders, self, device)

    def fill(self, files: Mapping[str, bytes], folders: tuple[str, ...]) -> None:
        """It came with its image."""

    def done(self, call: Callable[..., Any], *given: Any) -> Any:
        """A call of LittleFS: its errors are the program's; the power's end is nobody's."""
        try:
            answer = call(self.system.fs, *given)
        except LittleFSError as error:
            if self.blocks.gone:
                raise self._cut() from None
            raise Fault(-int(error.code)) from None
        if self.blocks.gone:
            raise self._cut()
        return answer


class LittleDisk(Disk):
    """What the VM finds under /, its own files in LittleFS."""

    little: LittleFlash

    def __init__(
        self,
        folders: Mapping[str, Mapping[str, bytes]],
        flash: LittleFlash,
        device: Callable[[str], Opened | None],
    ) -> None:
        super().__init__(folders, None, device)  # type: ignore[arg-type]
        self.little = flash

    def open(self, name: str, *, create: bool, truncate: bool, append: bool, writes: bool) -> Opened:
        if (given := self.given(name, writes)) is not None:
            return given
        flags = (RDWR if writes else RDONLY) | CREATE * create | TRUNCATE * truncate | APPEND * append
        return LittleFile(self.little, self.little.done(lfs.file_open, name, flags, "utf-8"))

    def size(self, name: str) -> int | None:
        if name.partition("/")[0] in self.folders:
            return super().size(name)
        if not name:
            return None
        answer = self.little.done(lfs.stat, name, "utf-8")
        return None if answer.type == FOLDER else int(answer.size)

    def names(self, folder: str) -> list[tuple[str, bool]]:
        if folder in self.folders:
            return super().names(folder)

        def listed(_fs: Any) -> list[Any]:
            return list(self.little.system.scandir(folder or "/"))

        return sorted((entry.name, entry.type == FOLDER) for entry in self.little.done(listed))

    def rename(self, old: str, new: str) -> None:
        self.little.done(lfs.rename, old, new, "utf-8")

    def remove(self, name: str) -> None:
        self.little.done(lfs.remove, name, "utf-8")

    def make_folder(self, name: str) -> None:
        self.little.done(lfs.mkdir, name, "utf-8")


class LittleFile:
    """An open file: what was written is there when it is closed, as LittleFS has it."""

    def __init__(self, flash: LittleFlash, handle: Any) -> None:
        self.flash, self.handle = flash, handle
        flash.handles.append(handle)

    def read(self, size: int) -> bytes:
        return self.flash.done(lfs.file_read, self.handle, size)

    def write(self, data: bytes) -> int:
        return self.flash.done(lfs.file_write, self.handle, data)

    def seek(self, offset: int, whence: int) -> int:
        return self.flash.done(lfs.file_seek, self.handle, offset, whence)

    def close(self) -> None:
        self.flash.done(lfs.file_close, self.handle)
        self.flash.handles.remove(self.handle)
