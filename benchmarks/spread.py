"""Thousands of devices: check, build and rehearse on one core, on two processes, and on a cluster's two workers.

usage: python benchmarks/spread.py check|build|rehearse [DEVICES]
"""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
import time
import tomllib
from pathlib import Path

KINDS = ("kettle-plug", "porch-light")
USUAL = {"check": 10_000, "build": 1_000, "rehearse": 300}
LIMITS = {"check": 1.7, "build": 1.0, "rehearse": 1.8}
"""How much faster two processes must be than one."""
CLUSTER = 1.2
"""Times as long as two processes that two workers may take."""
TOML = 6.0
"""Times as long as tomllib alone that a check of the same files on one core may take."""


def site(folder: Path, count: int, lasts: str = "20min") -> Path:
    """So many devices, copies of two of the demo's; how long each rehearsal is."""
    from zapato.demo.copy import copy_site

    demo, home = folder / "demo", folder / "site"
    for _ in copy_site(demo):
        pass
    for name in ("devices", "rehearsals"):
        (home / name).mkdir(parents=True)
    for name in ("site.toml", "secrets.toml"):
        shutil.copy(demo / name, home / name)
    for number in range(count):
        kind = KINDS[number % 2]
        text = (demo / "devices" / f"{kind}.toml").read_text()
        (home / "devices" / f"d{number}.toml").write_text(text.replace(f'"{kind}"', f'"d{number}"'))
        head = (demo / "rehearsals" / f"{kind}.toml").read_text().partition("[[step]]")[0]
        script = "\n".join(
            f'lasts = "{lasts}"' if line.startswith("lasts") else line for line in head.splitlines()
        )
        (home / "rehearsals" / f"d{number}.toml").write_text(script + "\n")
    return home


def run(words: list[str], home: Path) -> float:
    """Seconds of one call of the command line, from nothing built."""
    shutil.rmtree(home / "out", ignore_errors=True)
    (home / "zapato.lock").unlink(missing_ok=True)
    begun = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "zapato", *words], cwd=home, capture_output=True, text=True, check=False
    )
    if done.returncode:
        sys.exit(done.stdout[-2000:] + done.stderr[-2000:])
    return time.perf_counter() - begun


def alone(home: Path) -> float:
    """tomllib on the same files, and nothing else."""
    files = sorted((home / "devices").glob("*.toml"))
    begun = time.perf_counter()
    for path in files:
        tomllib.loads(path.read_text("utf-8"))
    return time.perf_counter() - begun


def main(words: list[str]) -> int:
    what = words[0] if words and words[0] in USUAL else "check"
    count = int(words[1]) if words[1:] else USUAL[what]
    with tempfile.TemporaryDirectory() as name:
        home = site(Path(name), count)
        more = {"check": [], "build": [], "rehearse": ["--brief"]}[what]
        run([what, ".", *more, "--jobs", "2"], home)  # every file was read once, every module compiled
        yardstick = min(alone(home) for _ in range(3))
        one = min(run([what, ".", *more, "--jobs", "1"], home) for _ in range(2))
        two = min(run([what, ".", *more, "--jobs", "2"], home) for _ in range(2))
        with workers() as address:
            run([what, ".", *more, "--cluster", address], home)
            there = min(run([what, ".", *more, "--cluster", address], home) for _ in range(2))
    good = one / two >= LIMITS[what] and there / two <= CLUSTER
    print(f"{what} {count:,} devices: one {one:.1f} s, two processes {two:.1f} s, two workers {there:.1f} s")
    print(
        f"two processes are {one / two:.2f} times as fast as one (limit {LIMITS[what]:g}); two workers take {there / two:.2f} times as long as they (limit {CLUSTER:g})"
    )
    if what == "check":
        print(
            f"one core: {one / yardstick:.2f} times tomllib alone, {yardstick:.1f} s (limit {TOML:g}; the command's own start included)"
        )
        good = good and one / yardstick <= TOML
    print("held" if good else "OVER")
    return 0 if good else 1


class workers:
    """A scheduler with two workers, as the tests have it."""

    def __enter__(self) -> str:
        script = Path(__file__).parents[1] / "tests" / "cluster.py"
        self.process = subprocess.Popen(
            [sys.executable, str(script)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert self.process.stdout
        return self.process.stdout.readline().split()[0]

    def __exit__(self, *_: object) -> None:
        self.process.kill()
        self.process.wait()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
