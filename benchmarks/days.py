"""Long days in virtual time: is the heap flat, and does what counts in ms hold beyond every wrap of the counter?

usage: python benchmarks/days.py [DEVICE ...]

Each device of the demo goes through its own rehearsal, and then on to 24 virtual hours; the heap of the first hour is its yardstick.
`wraps` runs a device for 13 days, which cross the wrap of a counter of 2^30 ms and half of it. Exit code 1 where one is not flat.
"""

from __future__ import annotations

import re
import sys
import tempfile
import time
from pathlib import Path

import zapato
from zapato.demo.copy import copy_site

BEYOND = 1.02
"""Times the yardstick that the peak may be: what a reconnection at another moment takes."""
WRAPS = """zapato = 1
[device]
name = "wraps"
board = "esp32-38pin"
[button.b]
pin = 33
pull = "up"
[relay.r]
pin = 26
[[link]]
when = "b.doubled"
do = "notify('double')"
[[link]]
when = "b.held"
do = "r.on"
for = "10d"
"""
PRESSES = f"""[rehearsal]
lasts = "13d"
[[step]]
at = "1min"
act = "b.press"
[[step]]
at = "2min"
act = "b.hold"
[[step]]
at = "9d"
expect = "r.on"
[[step]]
at = "241h"
expect = "not r.on"
[[step]]
at = "{60_000 + (1 << 30) + 300}ms"
act = "b.press"
"""


def day(site: Path, name: str) -> bool:
    """Run a device's day twice, for as long as it is written and for 24 h; tell both peaks."""
    device, script = site / "devices" / f"{name}.toml", site / "rehearsals" / f"{name}.toml"
    own = zapato.rehearse(device)
    longer = site / "day.toml"
    longer.write_text(re.sub(r'lasts\s*= "[^"]+"', 'lasts = "24h"', script.read_text(), count=1))
    begun = time.perf_counter()
    found = zapato.rehearse(device, longer)
    took = time.perf_counter() - begun
    flat = found.passed and not found.crash and found.used.peak <= own.used.peak * BEYOND
    print(
        f"{name:<12} {own.lasts / 3600:>5.2f} h {own.used.peak:>7,} B   {found.lasts / 3600:>4.0f} h {found.used.peak:>7,} B"
        f"   smallest largest piece {found.used.largest:>7,} B   {took:>5.1f} s   {'flat' if flat else 'NOT FLAT'}",
        flush=True,
    )
    return flat


def wraps(folder: Path) -> bool:
    """Two presses exactly one round of the counter apart are no double; a time longer than half a round is kept."""
    (folder / "wraps.toml").write_text(WRAPS)
    (folder / "presses.toml").write_text(PRESSES)
    found = zapato.rehearse(folder / "wraps.toml", folder / "presses.toml")
    good = found.passed and not any("double" in text for _, text in found.log)
    print(f"wraps        13 days: {'as it should' if good else 'WRONG'}", flush=True)
    return good


def main(names: list[str]) -> int:
    with tempfile.TemporaryDirectory() as made:
        site = Path(made)
        for _ in copy_site(site):
            pass
        every = [*sorted(path.stem for path in (site / "devices").glob("*.toml")), "wraps"]
        good = [wraps(site) if name == "wraps" else day(site, name) for name in names or every]
    return 0 if all(good) else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
