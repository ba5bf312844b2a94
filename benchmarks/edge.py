"""Where a small chip's memory ends: what `check` lets pass must start, and what it refuses must not.

usage: python benchmarks/edge.py [SEED] [COUNT]

Devices are made at random so that the estimate of their heap lies between 80 and 100 % of an ESP8266's. Each is rehearsed for four minutes
in the chip's own heap, with an outage of the broker and one of the Wi-Fi. The limits are named in zapato.budgets.memory. Prints, for
what passes and what is refused, how many died (a restart), ran out of memory once and went on, or lived; exit code 1 where one passes and dies.
"""

from __future__ import annotations

import sys
import tempfile
from collections import Counter
from importlib import import_module
from pathlib import Path
from random import Random

import zapato
from zapato.budgets.memory import memory
from zapato.design.script import read_script
from zapato.firmware.program import compile_device

HEAD = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp8266-30pin"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "{host}"\nqos = {qos}\n'
ON_PIN = (
    "[relay.{n}]\npin = {p}\n", '[relay.{n}]\npin = {p}\nstart = "last"\n', '[button.{n}]\npin = {p}\npull = "up"\n', "[motion.{n}]\npin = {p}\n",
    "[led.{n}]\npin = {p}\n", "[dimmer.{n}]\npin = {p}\n", '[sensor.{n}]\nchip = "dht22"\npin = {p}\n', '[rocker.{n}]\npin = {p}\npull = "up"\n',
    '[strip.{n}]\npin = {p}\ncount = 30\nchip = "ws2812b"\nlevel = "5V"\n',
)  # fmt: skip
ON_BUS = (
    *(
        f'[sensor.{chip}]\nchip = "{chip}"\nbus = "main"\n'
        for chip in ("bh1750", "bme280", "sht31", "ina219")
    ),
    '[display.screen]\nchip = "ssd1306"\nbus = "main"\nlines = ["a"]\n',
    '[expander.io]\nchip = "mcp23017"\nbus = "main"\n',
)
LINKS = (
    "",
    '[[link]]\nwhen = "v{i}.value > {i}"\ndo = "lamp.set(true)"\n',
    '[[link]]\nwhen = "v{i}.value > {i}"\nif = "lamp.on"\ndo = ["lamp.set(false)", "notify(\'x{i}\')"]\nafter = "3s"\n',
    '[[link]]\nwhen = "v{i}.value > 3"\nback = 1\nheld = "5s"\ndo = "v{i}.set(2)"\n',
)
SCRIPT = '[rehearsal]\nlasts = "4min"\n' + "".join(
    f'[[step]]\nat = "{at}s"\nact = "{act}"\n'
    for at, act in (
        (60, "broker.down"),
        (90, "broker.up"),
        (150, "message('device/do/tell', '')"),
        (170, "wifi.down"),
        (190, "wifi.up"),
    )
)


def device(random: Random, folder: Path) -> zapato.Design:
    """One whose estimate lies where it is wanted."""
    host = random.choice(("192.168.4.2", "192.168.4.2", "broker.refuge.example"))
    text, pins = HEAD.format(host=host, qos=random.randrange(2)) + "[flag.lamp]\n", [12, 13, 14]
    if random.random() < 0.3:
        text += '[time]\nzone = "Europe/Vienna"\n'
    if random.random() < 0.7:
        text += "[i2c.main]\nsda = 4\nscl = 5\n" + "".join(random.sample(ON_BUS, random.randrange(1, 3)))
    else:
        pins += [4, 5]
    for pin in random.sample(pins, random.randrange(1, len(pins) + 1)):
        text += random.choice(ON_PIN).format(n=f"p{pin}", p=pin)
    wanted, count = random.uniform(0.8, 1.0), 0
    while True:
        (folder / "bench.toml").write_text(text)
        design = zapato.load(folder / "bench.toml")
        found = memory(design)
        assert found
        share = found.heap / found.heap_has
        if share >= wanted:
            return design
        for _ in range(max(1, int((wanted - share) * 120))):
            text += f"[number.v{count}]\n" + random.choice(LINKS).format(i=count)
            count += 1


def main() -> int:
    seed, count = (*map(int, sys.argv[1:3]), *(1, 70)[len(sys.argv) - 1 :])
    random, run = (
        Random(seed),
        import_module("zapato.simulator.rehearse")._run,
    )  # rehearse() refuses what check does
    found: Counter[tuple[str, str]] = Counter()
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        (folder / "script.toml").write_text(SCRIPT)
        while found.total() < count:
            design = device(random, folder)
            known = memory(design)
            if (
                not known
                or known.heap > known.heap_has
                or any(f.severity == "error" and f.code != "memory-heap" for f in zapato.check(design))
            ):
                continue
            result = run(design, read_script(folder / "script.toml", design), compile_device(design), 1)
            died = bool(result.restarts) or result.crash is not None
            short = any("fault in memory" in text for _, text in result.log)
            found[
                "passes" if known.heap <= known.starts else "refused",
                "died" if died else "ran short" if short else "lived",
            ] += 1
    for judged in ("passes", "refused"):
        print(
            f"{judged}: " + ", ".join(f"{found[judged, how]} {how}" for how in ("died", "ran short", "lived"))
        )
    return int(found["passes", "died"] > 0)


if __name__ == "__main__":
    sys.exit(main())
