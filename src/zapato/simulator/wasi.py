"""The system that the VM runs on: the part of WASI preview 1 that MicroPython calls, over files in memory.

Nothing of this machine is seen from inside: no disk, no clock, no network. So a run depends on nothing
but its inputs, and the device's flash can be made to fail at any write.
Source: WebAssembly System Interface, snapshot preview 1 (witx definitions).
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from functools import partial
from typing import Any, Protocol

from zapato.parts.simulated import Fault as Fault

BADF, INVAL, NOENT, EXIST, AGAIN, ISDIR = 9, 22, 2, 17, 11, 21
"""Errors as MicroPython numbers them (py/mperrno.h)."""

_ROOT = 3
"""The descriptor of the one folder that is open from the beginning."""
_DIRECTORY, _FILE, _DEVICE = 3, 4, 2
_CREATE, _EXCLUSIVE, _TRUNCATE = 1, 4, 8
_APPEND = 1
_WORD = struct.Struct("<I").pack
_PIECE = struct.Struct("<II").unpack
"""Where a piece of a reading goes, and how long it is (WASI, iovec)."""


class Opened(Protocol):
    """An open file as the system sees it. Each call may raise Fault."""

    def read(self, size: int) -> bytes: ...

    def write(self, data: bytes) -> int: ...

    def seek(self, offset: int, whence: int) -> int: ...

    def close(self) -> None: ...


class Files(Protocol):
    """Where names lead to. Each call may raise Fault."""

    def open(self, name: str, *, create: bool, truncate: bool, append: bool, writes: bool) -> Opened: ...

    def size(self, name: str) -> int | None:
        """Bytes of a file; None for a folder."""
        ...

    def names(self, folder: str) -> list[tuple[str, bool]]:
        """What a folder holds: each name, and whether it is a folder."""
        ...

    def rename(self, old: str, new: str) -> None: ...

    def remove(self, name: str) -> None: ...

    def make_folder(self, name: str) -> None: ...

    def sync(self) -> None: ...


Memory = Any
"""What reads and writes the VM's memory: `read(at, size) -> bytes` and `write(at, data)`."""


class System:
    """The calls, bound to one VM: each takes integers and gives an error number, 0 where it worked."""

    def __init__(
        self,
        memory: Memory,
        arguments: list[str],
        variables: list[str],
        files: Files,
        say: Callable[[bytes], None],
    ) -> None:
        self.memory, self.files, self.say = memory, files, say
        self.lists = {
            "args": [a.encode() + b"\0" for a in arguments],
            "environ": [v.encode() + b"\0" for v in variables],
        }
        self.opened: dict[int, tuple[str, Opened]] = {}
        self.folders: dict[int, str] = {_ROOT: ""}
        self.next = _ROOT + 1

    def calls(self) -> dict[str, Callable[..., int]]:
        """Every call that MicroPython imports, by its name."""
        return {
            "args_get": partial(self._get, "args"),
            "args_sizes_get": partial(self._sizes, "args"),
            "environ_get": partial(self._get, "environ"),
            "environ_sizes_get": partial(self._sizes, "environ"),
            "clock_time_get": self._time,
            "fd_close": self._close,
            "fd_fdstat_get": self._about_fd,
            "fd_prestat_get": self._preopened,
            "fd_prestat_dir_name": self._preopened_name,
            "fd_read": self._read,
            "fd_readdir": self._list,
            "fd_seek": self._seek,
            "fd_sync": self._sync,
            "fd_write": self._write,
            "path_create_directory": self._make_folder,
            "path_filestat_get": self._about_path,
            "path_open": self._open,
            "path_readlink": self._refuse,
            "path_remove_directory": self._remove,
            "path_rename": self._rename,
            "path_unlink_file": self._remove,
            "poll_oneoff": self._refuse,
            "sched_yield": lambda: 0,
        }  # fmt: skip

    # --- words of the command line and the environment

    def _get(self, which: str, pointers: int, buffer: int) -> int:
        for text in self.lists[which]:
            self._number(pointers, buffer)
            self.memory.write(buffer, text)
            pointers, buffer = pointers + 4, buffer + len(text)
        return 0

    def _sizes(self, which: str, count: int, size: int) -> int:
        self._number(count, len(self.lists[which]))
        return self._number(size, sum(map(len, self.lists[which])))

    def _time(self, clock: int, precision: int, at: int) -> int:
        self.memory.write(at, bytes(8))  # time is the simulator's: the machine modules ask for it
        return 0

    # --- descriptors

    def _number(self, at: int, value: int) -> int:
        self.memory.write(at, _WORD(value))
        return 0

    def _path(self, fd: int, at: int, size: int) -> str:
        name = bytes(self.memory.read(at, size)).decode("utf-8", "replace")
        parts = [p for p in f"{self.folders.get(fd, '')}/{name}".split("/") if p not in ("", ".")]
        return "/".join(parts)

    def _preopened(self, fd: int, at: int) -> int:
        if fd != _ROOT:
            return 8  # WASI's own "bad descriptor": the C library looks for it to end its list
        self.memory.write(at, struct.pack("<II", 0, 1))
        return 0

    def _preopened_name(self, fd: int, at: int, size: int) -> int:
        self.memory.write(at, b"/")
        return 0

    def _about_fd(self, fd: int, at: int) -> int:
        kind = _DEVICE if fd < _ROOT else _DIRECTORY if fd in self.folders else _FILE
        self.memory.write(at, struct.pack("<BxHxxxxQQ", kind, 0, (1 << 64) - 1, (1 << 64) - 1))
        return 0

    def _about_path(self, fd: int, flags: int, at: int, size: int, result: int) -> int:
        file_size = self.files.size(self._path(fd, at, size))
        kind = _DIRECTORY if file_size is None else _FILE
        self.memory.write(result, struct.pack("<QQBxxxxxxxQQQQQ", 1, 1, kind, 1, file_size or 0, 0, 0, 0))
        return 0

    def _open(
        self,
        fd: int,
        flags: int,
        at: int,
        size: int,
        how: int,
        rights: int,
        more: int,
        mode: int,
        result: int,
    ) -> int:
        name = self._path(fd, at, size)
        number, self.next = self.next, self.next + 1
        if how & 2:
            self.files.names(name)
            self.folders[number] = name
        else:
            create, truncate = bool(how & _CREATE), bool(how & _TRUNCATE)
            opened = self.files.open(
                name, create=create, truncate=truncate, append=bool(mode & _APPEND), writes=bool(rights & 64)
            )
            self.opened[number] = name, opened
        return self._number(result, number)

    def _close(self, fd: int) -> int:
        self.folders.pop(fd, None)
        if fd in self.opened:
            self.opened.pop(fd)[1].close()
        return 0

    def _pieces(self, at: int, count: int) -> list[tuple[int, int]]:
        flat = struct.unpack(f"<{2 * count}I", self.memory.read(at, 8 * count))
        return list(zip(flat[::2], flat[1::2], strict=True))

    def _read(self, fd: int, at: int, count: int, result: int) -> int:
        if (
            count == 1 and fd in self.opened
        ):  # nearly always: modules are loaded in a thousand pieces of twenty bytes
            start, size = _PIECE(self.memory.read(at, 8))
            data = self.opened[fd][1].read(size)
            self.memory.write(start, data)
            return self._number(result, len(data))
        total = 0
        for start, size in self._pieces(at, count):
            data = self.opened[fd][1].read(size) if fd in self.opened and size else b""
            self.memory.write(start, data)
            total += len(data)
            if len(data) < size:
                break
        return self._number(result, total)

    def _write(self, fd: int, at: int, count: int, result: int) -> int:
        total = 0
        for start, size in self._pieces(at, count):
            data = bytes(self.memory.read(start, size))
            if fd < _ROOT:
                self.say(data)
                total += size
                continue
            if fd not in self.opened:
                return BADF
            done = self.opened[fd][1].write(data) if data else 0
            total += done
            if done < size:
                break
        return self._number(result, total)

    def _seek(self, fd: int, offset: int, whence: int, result: int) -> int:
        if fd not in self.opened:
            return 70  # WASI's "cannot seek": standard output is no file
        self.memory.write(result, struct.pack("<Q", self.opened[fd][1].seek(offset, whence)))
        return 0

    def _sync(self, fd: int) -> int:
        self.files.sync()
        return 0

    def _list(self, fd: int, at: int, size: int, cookie: int, result: int) -> int:
        made = b""
        for number, (name, folder) in enumerate(self.files.names(self.folders[fd])):
            if number >= cookie:
                data = name.encode()
                made += (
                    struct.pack("<QQIBxxx", number + 1, 1, len(data), _DIRECTORY if folder else _FILE) + data
                )
        made = made[:size]
        self.memory.write(at, made)
        return self._number(result, len(made))

    def _make_folder(self, fd: int, at: int, size: int) -> int:
        self.files.make_folder(self._path(fd, at, size))
        return 0

    def _remove(self, fd: int, at: int, size: int) -> int:
        self.files.remove(self._path(fd, at, size))
        return 0

    def _refuse(self, *given: int) -> int:
        return INVAL

    def _rename(self, fd: int, at: int, size: int, to: int, name: int, length: int) -> int:
        self.files.rename(self._path(fd, at, size), self._path(to, name, length))
        return 0
