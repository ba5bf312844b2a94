"""The language server: how long a keystroke takes until its findings are there, against a bare parse of the same text in the same run.

usage: python benchmarks/editor.py [DEVICES]     latencies on a device of thirty parts, and on one of a site of DEVICES (1,000)
       python benchmarks/editor.py fuzz [EDITS]  edits at random (10,000): never an exception, always what the check says

The pause that the server waits for (editor/server.py, PAUSE) is not part of the figures. Exit code 1 where one is over its limit.
"""

from __future__ import annotations

import contextlib
import resource
import statistics
import sys
import tempfile
import time
import tomllib
from pathlib import Path
from random import Random

import zapato
from zapato.demo.copy import copy_site
from zapato.editing.change import path_of
from zapato.editing.cursor import cursor
from zapato.editing.offers import offers
from zapato.editor.desk import Desk

EDITS = 200
LIMITS = {"thirty parts": 0.100, "a site of thousands": 0.250}
"""Seconds from the end of the pause to the findings, 95 of 100."""


def thirty() -> str:
    """A device of thirty parts."""
    pins = (4, 5, 6, 7, 15, 16, 17, 18, 8, 9, 10, 11, 12, 13, 14, 21, 47, 48, 38, 39, 40, 41, 42, 1, 2)
    text = 'zapato = 1\n[device]\nname = "many"\nboard = "esp32s3-44pin"\n'
    for n, pin in enumerate(pins):
        text += f"[led.l{n}]\npin = {pin}\n" if n % 2 else f'[button.b{n}]\npin = {pin}\npull = "up"\n'
    text += "".join(f"[number.n{n}]\nstart = {n}\n" for n in range(30 - len(pins)))
    return text + "".join(
        f'[[link]]\nwhen = "b{n}.pressed"\ndo = "l{n + 1}.toggle"\n' for n in range(0, 22, 2)
    )


def typed(text: str, chance: Random) -> str:
    """A letter more or less, anywhere."""
    at = chance.randrange(len(text))
    return text[:at] + (text[at + 1 :] if chance.random() < 0.5 else chance.choice("x=.[\"'\n") + text[at:])


def measure(name: str, path: Path, text: str) -> bool:
    """Tell the latencies of findings and of completion; True where they are within the limit."""
    desk, chance = Desk(), Random(1)
    desk.put(path, text)
    desk.check(path)  # what is read once
    checks: list[float] = []
    completions: list[float] = []
    parses: list[float] = []
    for _ in range(EDITS):
        now = typed(text, chance)
        begun = time.perf_counter()
        desk.put(path, now)
        desk.check(path)
        checks.append(time.perf_counter() - begun)
        begun = time.perf_counter()
        if design := desk.design(path):
            line = chance.randrange(1, now.count("\n"))
            desk.seen(lambda d=design, n=line, t=now: offers(d, cursor(t, n, 8)))
        completions.append(time.perf_counter() - begun)
        begun = time.perf_counter()
        with contextlib.suppress(tomllib.TOMLDecodeError):
            tomllib.loads(now)
        parses.append(time.perf_counter() - begun)
    bare = statistics.median(parses)
    good = True
    for what, times in (("findings", checks), ("completion", completions)):
        half, most = statistics.median(times), statistics.quantiles(times, n=20)[-1]
        good &= most <= LIMITS[name]
        print(
            f"{name:<20} {what:<11} median {half * 1000:6.1f} ms ({half / bare:5.1f} x a bare parse)   "
            f"95 %: {most * 1000:6.1f} ms of {LIMITS[name] * 1000:.0f}   {'ok' if most <= LIMITS[name] else 'OVER'}",
            flush=True,
        )
    return good


def latencies(count: int) -> bool:
    """Both devices."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(name) / "site"
        for _ in copy_site(root):
            pass
        alone = Path(name) / "many.toml"
        alone.write_text(thirty())
        good = measure("thirty parts", alone, thirty())
        text = (root / "devices" / "porch-light.toml").read_text()
        for n in range(count):
            (root / "devices" / f"d{n}.toml").write_text(text.replace('"porch-light"', f'"d{n}"'))
        path = root / "devices" / "d7.toml"
        good &= measure("a site of thousands", path, path.read_text())
        used = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"memory of this process with the site of {count:,}: {used:.0f} MB")
    return good


def fuzz(count: int) -> bool:
    """Edits at random on a demo device; each tenth text is also checked from the disk."""
    with tempfile.TemporaryDirectory() as name:
        root = Path(name) / "site"
        for _ in copy_site(root):
            pass
        path = root / "devices" / "boot-dryer.toml"
        whole = text = path.read_text()
        chance, desk, differ = Random(3), Desk(), 0
        for n in range(count):
            text = whole if n % 80 == 79 else typed(text, chance)
            desk.put(path, text)
            found = desk.check(path)[path]
            if n % 10 == 0:
                path.write_text(text)
                told = [each for each in zapato.check(path) if path_of(each.place.file) == path]
                differ += sorted(map(str, told)) != sorted(map(str, found))
        print(f"{count:,} edits, {count // 10:,} compared with the check: {differ} differ")
    return not differ


if __name__ == "__main__":
    words = sys.argv[1:]
    if words[:1] == ["fuzz"]:
        sys.exit(0 if fuzz(int(words[1]) if len(words) > 1 else 10_000) else 1)
    sys.exit(0 if latencies(int(words[0]) if words else 1_000) else 1)
