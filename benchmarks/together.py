"""A site in one time: twenty devices, an hour; against the same programs one after the other.

usage: python benchmarks/together.py [DEVICES [MINUTES]]
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from many import site_of

from zapato.firmware.program import compile_device
from zapato.simulator import rehearse, rehearse_site

LIMIT = 20.0
"""Seconds for twenty devices and an hour."""


def main(words: list[str]) -> int:
    count, minutes = int(words[0]) if words else 20, float(words[1]) if words[1:] else 60
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        designs = site_of(folder, count, 1883)
        programs = {each.name: compile_device(each) for each in designs}
        script = folder / "rehearsals" / "site.toml"
        names = ", ".join(f'"{each.name}"' for each in designs)
        script.write_text(f'[rehearsal]\nlasts = "{minutes:g}min"\ndevices = [{names}]\n')
        found = rehearse_site(designs, script, programs=programs)
        again = rehearse_site(designs, script, programs=programs)
        alone = 0.0
        for each in designs:
            own = folder / "alone.toml"
            own.write_text(f'[rehearsal]\nlasts = "{minutes:g}min"\n')
            begun = time.perf_counter()
            rehearse(each, own)
            alone += time.perf_counter() - begun
    same = found.records == again.records
    print(
        f"{count} devices, {minutes:g} min together: {found.wall:.1f} s and {again.wall:.1f} s, traces {'the same' if same else 'DIFFER'}"
    )
    print(
        f"one after the other: {alone:.1f} s; together takes {min(found.wall, again.wall) / alone:.2f} times that"
    )
    held = min(found.wall, again.wall) < LIMIT * count * minutes / 1200 and same
    print(f"limit {LIMIT * count * minutes / 1200:.0f} s: {'held' if held else 'OVER'}")
    return 0 if held else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
