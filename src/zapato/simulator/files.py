"""The files that the VM sees: the program, the machine modules, and the device's flash, which can fail or be cut."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zapato.simulator.wasi import EXIST, ISDIR, NOENT, Fault, Opened

READ_ONLY = 30
NO_DEVICE = 5
RANDOM = bytes(range(256))
"""What /dev/random gives: the program's randomness comes from the rehearsal's seed."""


class Flash:
    """The device's own files; they outlive its power.

    Attributes:
        files: path -> bytes.
        folders: those that are there, with files in them or not.
        writes: how often something was written, renamed or removed.
        before_write: called before each of these; it may raise Fault (the flash fails) or end the run (a cut).
        torn: raised once in the middle of the next writing, when half of it has arrived.
    """

    def __init__(self) -> None:
        self.files: dict[str, bytes] = {}
        self.folders: set[str] = set()
        self.writes = 0
        self.before_write: Callable[[str], None] = lambda name: None
        self.torn: BaseException | None = None

    def fill(self, files: Mapping[str, bytes], folders: tuple[str, ...]) -> None:
        """What it is delivered with, where nothing is on it yet."""
        if not self.files:
            self.files.update(files)
            self.folders.update(folders)

    def power_on(self) -> None:
        """The program starts anew: nothing that was open is."""

    def disk(
        self, folders: Mapping[str, Mapping[str, bytes]], device: Callable[[str], Opened | None]
    ) -> Disk:
        """All that the VM finds under /, these files among them."""
        return Disk(folders, self, device)

    def change(self, name: str, data: bytes | None) -> None:
        """Write or remove one file."""
        self.before_write(name)
        self.writes += 1
        if data and self.torn:
            torn, self.torn = self.torn, None
            self.files[name] = data[: len(data) // 2]
            raise torn
        if data is None:
            self.files.pop(name, None)
        else:
            self.files[name] = data

    def rename(self, old: str, new: str) -> None:
        """Rename, replacing what is there: one step, as LittleFS does it."""
        if old not in self.files:
            raise Fault(NOENT)
        self.before_write(new)
        self.writes += 1
        self.files[new] = self.files.pop(old)


class Disk:
    """All that the VM finds under /: read-only folders, devices, and the flash for every other name."""

    def __init__(
        self, folders: Mapping[str, Mapping[str, bytes]], flash: Flash, device: Callable[[str], Opened | None]
    ) -> None:
        self.folders, self.flash, self.device = folders, flash, device

    def _given(self, name: str) -> tuple[Mapping[str, bytes] | None, str]:
        folder, _, rest = name.partition("/")
        return self.folders.get(folder), rest

    def given(self, name: str, writes: bool) -> Opened | None:
        """A device, or a file of the read-only folders; None for a name of the flash."""
        if name == "dev/random":
            return MemoryFile(RANDOM)
        if device := self.device(name):
            return device
        given, rest = self._given(name)
        if given is None:
            return None
        if rest not in given:
            raise Fault(NOENT)
        if writes:
            raise Fault(READ_ONLY)
        return MemoryFile(given[rest])

    def open(self, name: str, *, create: bool, truncate: bool, append: bool, writes: bool) -> Opened:
        if (given := self.given(name, writes)) is not None:
            return given
        if name not in self.flash.files:
            if not create:
                raise Fault(NOENT)
            self.flash.change(name, b"")
        elif truncate:
            self.flash.change(name, b"")
        return FlashFile(self.flash, name, append)

    def size(self, name: str) -> int | None:
        given, rest = self._given(name)
        if given is not None:
            if not rest:
                return None
            if rest in given:
                return len(given[rest])
        elif name in self.flash.files:
            return len(self.flash.files[name])
        elif self._holds(name):
            return None
        raise Fault(NOENT)

    def _holds(self, folder: str) -> bool:
        known = self.flash.folders
        return not folder or folder in known or any(n.startswith(f"{folder}/") for n in self.flash.files)

    def names(self, folder: str) -> list[tuple[str, bool]]:
        if folder in self.folders:
            return [(name, False) for name in self.folders[folder]]
        if not self._holds(folder):
            raise Fault(NOENT)
        start = f"{folder}/" if folder else ""
        names = (*self.flash.files, *(f"{folder}/" for folder in self.flash.folders))
        below = [name[len(start) :].split("/") for name in names if name.startswith(start)]
        return sorted({(parts[0], len(parts) > 1) for parts in below if parts[0]})

    def rename(self, old: str, new: str) -> None:
        self.flash.rename(old, new)

    def remove(self, name: str) -> None:
        if name not in self.flash.files:
            raise Fault(ISDIR if self._holds(name) else NOENT)
        self.flash.change(name, None)

    def make_folder(self, name: str) -> None:
        raise Fault(EXIST if self._holds(name) else READ_ONLY)

    def sync(self) -> None:
        pass


class MemoryFile:
    """A file that only is read."""

    def __init__(self, data: bytes) -> None:
        self.data, self.place = data, 0

    def read(self, size: int) -> bytes:
        data = self.data[self.place : self.place + size]
        self.place += len(data)
        return data

    def write(self, data: bytes) -> int:
        raise Fault(READ_ONLY)

    def seek(self, offset: int, whence: int) -> int:
        self.place = max(0, offset + (0, self.place, len(self.data))[whence])
        return self.place

    def close(self) -> None:
        pass


class FlashFile(MemoryFile):
    """A file of the flash: every write goes there at once, as a cut at that moment would find it."""

    def __init__(self, flash: Flash, name: str, append: bool) -> None:
        super().__init__(flash.files[name])
        self.flash, self.name, self.append = flash, name, append

    def write(self, data: bytes) -> int:
        held = self.data
        at = len(held) if self.append else self.place
        held = held[:at].ljust(at, b"\0") + data + held[at + len(data) :]
        self.flash.change(self.name, held)
        self.data, self.place = held, at + len(data)
        return len(data)


class NoDevice:
    """A device that cannot seek; what networks and buses build on."""

    def read(self, size: int) -> bytes:
        raise Fault(NO_DEVICE)

    def write(self, data: bytes) -> int:
        raise Fault(NO_DEVICE)

    def seek(self, offset: int, whence: int) -> int:
        raise Fault(NO_DEVICE)

    def close(self) -> None:
        pass
