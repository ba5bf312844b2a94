"""What the firmware costs its chip, in instructions of the VM: figures that repeat exactly. And a week on the smallest chip.

usage: python benchmarks/effort.py          instructions for 5, 20 and 60 parts
       python benchmarks/effort.py strips   frames of addressable strips against what the wire takes
       python benchmarks/effort.py month    thirty virtual days by the clock on the wall: is anything late?
       python benchmarks/effort.py storm    10,000 random payloads to every topic: does it go on, does its heap grow?
       python benchmarks/effort.py day      24 virtual hours of each demo device: does its heap grow?  (some minutes)
       python benchmarks/effort.py week     seven virtual days of those on an esp8266 (some minutes)
"""

from __future__ import annotations

import json
import re
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from random import Random

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
    script = folder / "long.toml"
    script.write_text('[rehearsal]\nlasts = "660s"\n')
    late = zapato.rehearse(path, script).effort  # from the first minute on: joining and greeting are no rest
    more = {word: (spent[word].effort.turning - rest.turning) // MANY for word in ("press", "message")}
    return (
        (late.turning - rest.turning) // (late.turns - rest.turns),
        spent["press"].effort.reacting,
        more["press"],
        more["message"],
    )


def instructions() -> None:
    print(
        f"{'parts':>5}  {'a turn at rest':>14}  {'press to pin':>12}  {'a press, whole':>14}  {'a message':>10}"
    )
    with tempfile.TemporaryDirectory() as name:
        for parts in (5, 20, 60):
            turn, react, press, message = row(Path(name), parts)
            print(f"{parts:>5}  {turn:>14,}  {react:>12,}  {press:>14,}  {message:>10,}")


def strips() -> None:
    """The time from frame to frame of a moving effect, against 30 us a light of the busiest pin and the gap of 300 us."""
    print(
        f"{'lights':>6}  {'pins':>4}  {'on the wire':>11}  {'frame to frame':>14}  {'ratio':>5}  {'frames/s':>8}"
    )
    with tempfile.TemporaryDirectory() as name:
        for lights in (60, 300, 600):
            for pins in (1, 2, 3):
                wire = 30e-3 * lights / pins + 0.3
                frame = _frame(Path(name), lights, pins)
                print(
                    f"{lights:>6}  {pins:>4}  {wire:>8.1f} ms  {frame:>11.1f} ms  {frame / wire:>5.1f}  {1000 / frame:>8.1f}"
                )


def _frame(folder: Path, lights: int, pins: int) -> float:
    """ms from one frame to the next, on average over half a minute."""
    path, script = folder / "strips.toml", folder / "show.toml"
    each = "".join(
        f'[strip.s{n}]\npin = {gpio}\ncount = {lights // pins}\nchip = "ws2812b"\n'
        f'[[link]]\nwhen = "wall.pressed"\ndo = "s{n}.show(\'flow\')"\n'
        for n, gpio in enumerate((13, 14, 21)[:pins])
    )
    head = (
        'zapato = 1\n[device]\nname = "bench"\nboard = "esp32s3-44pin"\n[button.wall]\npin = 5\npull = "up"\n'
    )
    path.write_text(head + each)
    script.write_text('[rehearsal]\nlasts = "40s"\n[[step]]\nat = "1s"\nact = "wall.press"\n')
    result = zapato.rehearse(path, script)
    moments = [
        r["t"] for r in result.records if r["what"] == "lights" and r["name"] == "GPIO13" and r["t"] > 5000
    ]
    return (moments[-1] - moments[0]) / (len(moments) - 1)


MONTH = """zapato = 1
[device]
name = "month"
board = "esp32-38pin"
[wifi]
name = "hall"
[time]
zone = "Europe/Zurich"
[relay.lamp]
pin = 26
[flag.on]
start = true
[[link]]
at = "06:30"
do = "lamp.pulse('1s')"
[[link]]
every = "7h"
do = "notify('seven')"
[[link]]
when = "on.on"
held = "29d"
do = "notify('held')"
"""


def month() -> None:
    """Thirty days: what is to happen at half past six, every seven hours and after 29 days, and how late it was."""
    with tempfile.TemporaryDirectory() as name:
        path, script = Path(name) / "month.toml", Path(name) / "days.toml"
        path.write_text(MONTH)
        script.write_text('[rehearsal]\nbegins = 2026-03-10T00:00:00\nlasts = "30d"\n')
        result = zapato.rehearse(path, script)
    switched = [r["t"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26" and r["value"]]
    changed = 19 * 86_400_000 + 2 * 3_600_000  # the night of the 29th of March
    due = [
        day * 86_400_000 + 23_400_000 - 3_600_000 * (day * 86_400_000 > changed - 7_200_000)
        for day in range(30)
    ]
    told = {word: [t * 1000 for t, text in result.log if text == word] for word in ("seven", "held")}
    sevens = [n * 25_200_000 for n in range(1, len(told["seven"]) + 1)]
    print(
        f"{len(switched)} of 30 mornings, {len(told['seven'])} of 102 times seven hours, {result.wall:.0f} s"
    )
    print(
        f"at most {max(t - d for t, d in zip(switched, due, strict=True))} ms after half past six (the clock is told to 0.2 s)"
    )
    print(
        f"at most {max(t - d for t, d in zip(told['seven'], sevens, strict=True)):.0f} ms after seven hours each"
    )
    print(
        f"{told['held'][0] - 29 * 86_400_000:.0f} ms after 29 days; heap at most {result.used.peak:,} bytes"
    )


def day() -> None:
    """24 hours of each demo device against the hours of its own rehearsal, in which everything happens that is told once."""
    long("24h", "", lambda design: True)


def week() -> None:
    """Seven days: a fifth of the heap free after collection, pieces of 2 KiB, no growth after the day of its rehearsal."""
    long("168h", "", lambda design: design.board.chip.id == "esp8266")


def long(lasts: str, first: str, wanted: Callable[[zapato.Design], bool]) -> None:
    """Demo devices' own rehearsals made longer, their heap against that of `first`, or of the rehearsal as it is."""
    from zapato.demo.copy import copy_site

    with tempfile.TemporaryDirectory() as name:
        site = Path(name) / "site"
        for _ in copy_site(site):
            pass
        for path in sorted((site / "devices").glob("*.toml")):
            design = zapato.load(path)
            if not design.board or not wanted(design):
                continue
            script = site / "rehearsals" / path.name
            text = script.read_text()
            peaks: list[zapato.Rehearsal] = []
            for each in (first, lasts):
                made = re.sub(r'lasts(\s*)= "\w+"', f'lasts\\1= "{each}"', text, count=1) if each else text
                script.write_text(_until(made, each) if each else made)
                peaks.append(zapato.rehearse(design, script))
            before, result = peaks
            free = 1 - result.used.peak / result.heap
            grown = result.used.peak - before.used.peak
            good = free >= 0.2 and result.used.largest >= 2048 and grown <= 0
            print(
                f"{path.stem}: {free:.1%} of the heap free, largest piece {result.used.largest:,} bytes at its smallest,"
                f" {grown:+} bytes against its first part, {result.wall:.0f} s{'' if good else '  OVER'}"
            )


def _until(text: str, lasts: str) -> str:
    """The script without the steps that come after its end."""
    from zapato.lang.units import quantity

    head, *steps = text.split("[[step]]")
    kept = []
    for step in steps:
        found = re.search(r'^at\s*= "(.+)"', step, re.M)
        if found and quantity(found[1], "time") > quantity(lasts, "time"):
            break
        kept.append(step)
    return "[[step]]".join([head, *kept])


STORM = HEAD.replace("esp32s3-44pin", "esp8266-30pin").replace("pin = 4", "pin = 14").replace(
    "pin = 5", "pin = 12"
) + ('[number.n]\nlow = 0\nhigh = 9\n[flag.f]\n[led.l]\npin = 13\n[group.g]\nof = ["lamp", "l"]\n')
TOPICS = (
    "lamp/on/set",
    "lamp/do/pulse",
    "l/do/blink",
    "n/value/set",
    "n/do/set",
    "f/on/set",
    "g/do/toggle",
    "x/y/set",
    "lamp/do/",
    "n/value",
)


def storm() -> None:
    """Random payloads at random topics, 50 a second, on the smallest chip; at the end it must still obey."""
    random = Random(1)
    pieces = (
        "true",
        "false",
        "null",
        "[]",
        "{}",
        "1e999",
        "-1",
        "3",
        "1.5",
        '"x"',
        "[1,2]",
        "",
        "nan",
        "é",
        '{"a":1}',
        "9" * 40,
    )

    def payload() -> str:
        if random.random() < 0.5:
            return random.choice(pieces)
        return "".join(
            chr(random.choice((random.randrange(32, 127), random.randrange(0xA0, 0x2000))))
            for _ in range(random.randrange(60))
        )

    def rows(count: int) -> str:
        acts = [f"message({random.choice(TOPICS)!r}, {payload()!r})" for _ in range(count)]
        return "".join(
            f'[[step]]\nat = "{10_000 + 20 * n}ms"\nact = {json.dumps(acts[n : n + 5])}\n'
            for n in range(0, count, 5)
        )

    with tempfile.TemporaryDirectory() as name:
        path, script = Path(name) / "storm.toml", Path(name) / "script.toml"
        path.write_text(STORM)
        peaks = []
        for count in (500, 10_000):
            end = 10 + count // 50
            last = f'[[step]]\nat = "{end + 2}s"\nact = "message(\'lamp/do/off\', \'\')"\n[[step]]\nwithin = "1s"\nexpect = "not lamp.on"\n'
            last += '[[step]]\nact = "wall.press"\n[[step]]\nwithin = "1s"\nexpect = "lamp.on"\n'
            script.write_text(f'[rehearsal]\nlasts = "{end + 70}s"\n' + rows(count) + last)
            result = zapato.rehearse(path, script)
            peaks.append(result.used.peak)
            vitals = [
                json.loads(r["value"])
                for r in result.records
                if r["what"] == "mqtt" and r["name"].endswith("vitals")
            ]
            print(
                f"{count:,} messages: {'obeys' if result.passed else 'FAILED'}, heap at most {result.used.peak:,} of {result.heap:,} bytes,"
                f" {vitals[-1]['dropped']} dropped by its own count, {result.wall:.0f} s"
            )
        print(f"{peaks[1] - peaks[0]:+} bytes from 500 to 10,000")


MODES = {"storm": storm, "strips": strips, "month": month, "day": day, "week": week}

if __name__ == "__main__":
    MODES.get((sys.argv[1:] or [""])[0], instructions)()
