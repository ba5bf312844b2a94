"""What the firmware costs its chip, in instructions of the VM: figures that repeat exactly. And a week on the smallest chip.

usage: python benchmarks/effort.py          instructions for 5, 20 and 60 parts
       python benchmarks/effort.py week     seven virtual days of each demo device on an esp8266 (some minutes)
"""

from __future__ import annotations

import re
import sys
import tempfile
from pathlib import Path

import zapato

HEAD = """zapato = 1
[device]
name = "bench"
board = "esp32s3-44pin"
[wifi]
name = "hall"
[mqtt]
host = "192.168.4.2"
[relay.lamp]
pin = 4
[button.wall]
pin = 5
pull = "up"
[[link]]
when = "wall.pressed"
do = "lamp.toggle"
"""
MANY = 20
"""Presses, messages."""


def device(parts: int) -> str:
    """A lamp with its button, and other parts with a link each that does not listen to them."""
    rows = (
        f'[number.n{i}]\nstart = 0\n[[link]]\nwhen = "n{i}.value > 5"\ndo = "n{i}.set(0)"\n'
        for i in range(parts - 2)
    )
    return HEAD + "".join(rows)


def _steps(act: str) -> str:
    if not act:
        return ""
    return "".join(f'[[step]]\nat = "{10 + i}s"\nact = "{act}"\n' for i in range(MANY))


def row(folder: Path, parts: int) -> tuple[int, int, int, int]:
    """Instructions: a turn at rest, from a press to the relay's pin at the most, a press whole, a message."""
    path = folder / "bench.toml"
    path.write_text(device(parts))
    spent: dict[str, zapato.Rehearsal] = {}
    for word, act in (("rest", ""), ("press", "wall.press"), ("message", "message('lamp/do/toggle', '')")):
        script = folder / f"{word}.toml"
        script.write_text(f'[rehearsal]\nlasts = "60s"\n{_steps(act)}')
        spent[word] = zapato.rehearse(path, script)
        again = zapato.rehearse(path, script)
        assert again.effort == spent[word].effort, "the figures do not repeat"
    rest = spent["rest"].effort
    more = {word: (spent[word].effort.turning - rest.turning) // MANY for word in ("press", "message")}
    return rest.turning // rest.turns, spent["press"].effort.reacting, more["press"], more["message"]


def instructions() -> None:
    print(
        f"{'parts':>5}  {'a turn at rest':>14}  {'press to pin':>12}  {'a press, whole':>14}  {'a message':>10}"
    )
    with tempfile.TemporaryDirectory() as name:
        for parts in (5, 20, 60):
            turn, react, press, message = row(Path(name), parts)
            print(f"{parts:>5}  {turn:>14,}  {react:>12,}  {press:>14,}  {message:>10,}")


def week() -> None:
    """Seven days: a quarter of the heap free after collection, pieces of 2 KiB, no growth after the first hour."""
    from zapato.demo.copy import copy_site

    with tempfile.TemporaryDirectory() as name:
        site = Path(name) / "site"
        for _ in copy_site(site):
            pass
        for path in sorted((site / "devices").glob("*.toml")):
            design = zapato.load(path)
            if not design.board or design.board.chip.id != "esp8266":
                continue
            script = site / "rehearsals" / path.name
            text = script.read_text()
            day = zapato.rehearse(design, script)
            script.write_text(re.sub(r'lasts\s*= "\w+"', 'lasts = "168h"', text, count=1))
            result = zapato.rehearse(design, script)
            free = 1 - result.used.peak / result.heap
            good = free >= 0.25 and result.used.largest >= 2048 and result.used.peak <= day.used.peak
            print(
                f"{path.stem}: {free:.1%} of the heap free, largest piece {result.used.largest:,} bytes at its smallest,"
                f" {result.used.peak - day.used.peak:+} bytes against its day, {result.wall:.0f} s{'' if good else '  OVER'}"
            )


if __name__ == "__main__":
    week() if sys.argv[1:] == ["week"] else instructions()
