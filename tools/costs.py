"""Measures what the firmware's pieces take of a chip's memory, and writes the cost.json of each bundle, and src/zapato/budgets/costs.json for the rest.

Devices are made at random from the kinds' own examples, built in both forms, and run in the VM for a few
minutes of virtual time; the figures of the pieces are those that explain the devices best (least squares,
none below zero).

usage: python tools/costs.py [--check] [--seed N] [--devices N]     --check: measure other devices, and tell how far the table is off
"""

from __future__ import annotations

import argparse
import json
import re
import sys
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from random import Random

import numpy as np
from scipy.optimize import nnls

from zapato import extensions
from zapato.boards.board import SpiEthernet
from zapato.boards.port import port_ids
from zapato.budgets.memory import costs as known_costs
from zapato.budgets.memory import described, features
from zapato.design import Design, resolve
from zapato.firmware.compile import cache_folder, compile_all, runtime_source
from zapato.fitting import fit, write_pins
from zapato.measure import FORMS, ROOM
from zapato.parts import Kind, kinds
from zapato.parts.chip_files import described_names
from zapato.parts.described import class_name, of_module
from zapato.parts.sensors import chip, chip_names
from zapato.simulator.rehearse import weighed

COSTS = Path(__file__).parents[1] / "src" / "zapato" / "budgets" / "costs.json"
BUSY = 12_000
"""Turns from which on links made at random run in a circle; what waits meanwhile is no cost of theirs."""
NETWORK = '[wifi]\nname = "hall"\n'
BROKER = '[mqtt]\nhost = "192.168.4.2"\n'
NAMED = '[mqtt]\nhost = "broker.refuge.example"\n'
REPORTS = '[mqtt]\nhost = "192.168.4.2"\nreport = "senml"\napart = "2s"\n'
TIME = '[time]\nzone = "Europe/Zurich"\n'
SECURED = '[mqtt]\nhost = "192.168.4.2"\ntls = true\nauthority = "ca.pem"\n' + TIME
AUTHORITY = Path(__file__).parents[1] / "tests" / "data" / "tls" / "ca.pem"
FIXED = "# with a fixed address\n"
PLAN = '[site]\nname = "s"\n[lan]\nnetwork = "192.168.4.0/24"\nrouter = "192.168.4.1"\naddresses = { bench = "192.168.4.9" }\n'
EXTRAS = (
    '[dimmer.{n}]\npin = "auto"\nby = "dac"',
    '[dimmer.{n}]\npin = "auto"\nstart = "last"',
    '[dimmer.{n}]\npin = "auto"\nstart = "last"\nby = "dac"',
    '[expander.{n}]\nchip = "mcp23017"\nbus = "{bus}"\naddress = 0x21',
    '[expander.{n}]\nchip = "pcf8575"\nbus = "{bus}"\naddress = 0x22',
    '[converter.{n}]\nchip = "ads1115"\nbus = "{bus}"\naddress = 0x4b',
    '[converter.{n}]\nchip = "ads7828"\nbus = "{bus}"\naddress = 0x4a',
    '[spi.{n}]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\n[converter.{n}c]\nchip = "mcp3008"\nbus = "{n}"\nselect = "auto"',
    '[spi.{n}]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\n[expander.{n}e]\nchip = "mcp23s17"\nbus = "{n}"\nselect = "auto"',
    '[expander.{n}]\nchip = "mcp23008"\nbus = "{bus}"\naddress = 0x23',
    '[multiplexer.{n}]\nchip = "tca9548a"\nbus = "{bus}"\naddress = 0x74\n[channel.{n}c]\nmultiplexer = "{n}"\nnumber = 3',
    '[i2c.{n}]\nsda = "auto"\nscl = "auto"\ncontroller = "hardware"',
    '[spi.{n}]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\ncontroller = "software"',
    '[sensor.{n}]\nchip = "analog"\npin = "auto"\nsmooth = "median 5"\nrepeat = "1min"',
    '[relay.{n}]\npin = "auto"\nstart = "last"',
    '[relay.{n}]\npin = "auto"\nexcludes = ["{n}b"]\n[relay.{n}b]\npin = "auto"',
    '[relay.{n}]\npin = "auto"\nstart = "last"\nexcludes = ["{n}b"]\n[relay.{n}b]\npin = "auto"',
    '[sensor.{n}]\nchip = "analog"\npin = "auto"\n[number.{n}n]\n[[link]]\nwhen = "{n}.voltage > 3"\ndo = "{n}n.set({n}.voltage)"',
    '[flag.{n}]\nstart = "last"',
    '[number.{n}]\nhigh = 9\nstart = "last"',
    '[flag.{n}f]\n[relay.{n}]\npin = "auto"\nfollows = "{n}f.on"',
    '[relay.{n}]\npin = "auto"\nshortest_on = "1min"\nlongest_on = "1h"',
    '[contact.{n}]\npin = "auto"\npull = "none"\nquiet = "5s"',
    '[button.{n}]\npin = "auto"\npull = "none"\n[[link]]\nwhen = "{n}.released"\nif = "{n}.lasted > 3"\ndo = "notify(\'x\')"',
)
EXTRAS += (
    '[flag.{n}]\n[led.{n}l]\npin = "auto"\nshows = "{n}.on"',
    '[flag.{n}]\n[led.{n}l]\npin = "auto"\nshows = "not {n}.on"',
)
TALKING = (
    "uart",
    "frames",
    "meter",
    "display",
    "clock",
    "radio",
    "beacon",
    "receiver",
    "remote",
    "card",
    "sound",
)
"""Kinds that come with what they need, as one of these."""
EXTRA_ADDRESSES = (0x20, 0x21, 0x22, 0x23, 0x3C, 0x3D, 0x48, 0x4A, 0x4B, 0x68)
"""Addresses on a bus that tables of EXTRAS and examples have."""
LINE = '[uart.{n}]\ntx = "auto"\nrx = "auto"\nbaud = 9600\n'
LAMP = (
    LINE
    + '[frames.{n}f]\nserial = "{n}"\nhears = "55 07 {on:bool} {level:u16*10} {sum}"\nsays = { level = "55 06 {level:u16*10} {sum}" }\n'
)
EXTRAS += (
    LAMP,
    LAMP + '[dimmer.{n}d]\nserial = "{n}f"',
    LINE
    + '[frames.{n}f]\nserial = "{n}"\nhears = ["a5 {position:u8} {crc16}", "a6 {x:s32}"]\nsays = { position = "a5 01 {position:u8} {crc16}" }\n'
    '[blind.{n}b]\nserial = "{n}f"',
    LINE
    + '[meter.{n}m]\nserial = "{n}"\nregisters = { power = { at = 12, type = "f32" }, limit = { at = 40, writable = true }, mode = { at = 42, names = { 0 = "off", 1 = "on" } } }',
    LINE
    + '[meter.{n}m]\nserial = "{n}"\n[meter.{n}m.registers]\n'
    + "".join(f"r{k} = {{ at = {k} }}\n" for k in range(12)),
    '[display.{n}]\nchip = "ssd1306"\nbus = "{bus}"\nlines = ["one", "{{{n}.page}}"]',
    '[display.{n}]\nchip = "ssd1306"\nbus = "{bus}"\naddress = 0x3d\nlines = [["a", "b", "c"], ["d", "{{{n}.page}} of {{1 + 1}}"]]',
    '[clock.{n}]\nchip = "ds3231"\nbus = "{bus}"',
    '[radio.{n}]\n[beacon.{n}b]\nradio = "{n}"\naddress = "a4:c1:38:00:00:01"\ndata = "16 1a18 {t:s16le*100}"',
    "[radio.{n}]\npasses = true",
    '[sound.{n}]\npin = "auto"',
    '[sound.{n}]\nsck = "auto"\nws = "auto"\nsd = "auto"',
    '[sound.{n}]\npin = "auto"\n[strip.{n}s]\npin = "auto"\ncount = 30\nchip = "ws2812b"\nsupply = "4.5V"\nfollows = "{n}.level"',
    '[receiver.{n}]\npin = "auto"\nsend = "auto"\n[remote.{n}r]\nreceiver = "{n}"\ncode = "a3f012"\n[remote.{n}q]\nreceiver = "{n}"\ncode = "a3f013"',
    '[receiver.{n}]\npin = "auto"',
    '[spi.{n}]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\ncontroller = "software"\n[card.{n}c]\nbus = "{n}"\nselect = "auto"\nkeeps = ["{n}c.rows"]',
)
OTHER = '[site]\nname = "s"\n'
OTHERS = "# another device is listened to\n"
FAR = (
    '[[link]]\nwhen = "other.lamp{k}.on"\ndo = "notify(\'x\')"',
    '[[link]]\nwhen = "other.level{k}.value > 3"\nif = "other.lamp{k}.on"\ndo = "notify(\'x\')"',
    '[[link]]\nwhen = "other.top{k}.pressed"\ndo = "notify(\'x\')"',
)
"""Links that name another device."""
WATCHERS = (
    '[tally.{n}]\nof = "{one}.on"\ncounts = "time"',
    '[tally.{n}]\nof = "{one}.on"',
    '[derived.{n}]\nof = "{value}.value * 2"',
    '[guard.{n}]\nwhen = "{value}.value > 90"\noff = ["{one}"]\nback = 5',
)
"""Parts with what the examples leave out."""
WORDS = [
    "lamp",
    "hall",
    "gate",
    "cellar",
    "stove",
    "pump",
    "north",
    "attic",
    "porch",
    "drying",
    "window",
    "ladder",
    "bench",
    "wood",
    "snow",
    "ice",
    "bell",
    "lift",
    "well",
    "barn",
]


CLASSES = {f"part {class_name(name)}" for name in described_names()}
"""The parts of described chips."""
A_BYTE, A_PART, WEIGHT = 1.4, 100, 1 / 30_000
"""What is known before: bytes of heap for each byte of a compiled module, and of a part; and how much that counts beside what is measured.
By five-fold cross-validation over 300 devices a form: 2.9 and 3.2 % off (standard deviation), 3.4 and 3.9 % without."""


class Unmeasured(Exception):
    """A device whose program does not run to the end."""


def _plain_device(random: Random) -> str:
    """Numbers and links of one sort, few to many: what a link takes by itself, which any mixture hides."""
    count = random.randrange(2, 70)
    then = random.choice(("lamp.toggle", "lamp.on", "lamp.pulse('2s')", "notify('x')"))
    rows = [
        f'[number.n{n}]\nstart = 0\n[[link]]\nwhen = "n{n}.value > {n}"\ndo = "{then}"' for n in range(count)
    ]
    network = random.choice(("", "", NETWORK, NETWORK + BROKER))
    head = f'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n{network}[relay.lamp]\npin = 14\n'
    return head + "\n".join(rows) + "\n"


def device(random: Random) -> str:
    """A device file made at random: parts from the kinds' examples, links between them."""
    if random.random() < 0.12:
        return _plain_device(random)
    names = [f"{random.choice(WORDS)}{i}" for i in range(120)]
    rows, switched, read = _sensors(random, names), [], []
    for kind, count in _counts(random):
        for _ in range(count):
            name = names.pop()
            rows.append(_table(kind, name, random, switched))
            switched += [name] if kind in ("relay", "led") else []
            read += [name] if kind == "number" else []
    rows += [
        _link(random, switched, read)
        for _ in range(random.randrange(random.choice((8, 14, 70))))
        if switched and read
    ]
    if switched and read:
        for text in random.sample(WATCHERS, random.choice((0, 0, 1, 2))):
            fresh = text.replace("{n}", names.pop())
            rows.insert(
                0, fresh.replace("{one}", random.choice(switched)).replace("{value}", random.choice(read))
            )
    radio = random.choice((NETWORK, NETWORK, NETWORK, FIXED + NETWORK, "[ethernet]\n"))
    network = random.choice(
        ("", radio, radio + BROKER, radio + BROKER, radio + NAMED, radio + REPORTS, radio + SECURED)
    )
    if network and random.random() < 0.3:
        network += "" if TIME in network else TIME
        rows.append('[[link]]\nat = "06:30"\ndays = "mon-fri"\ndo = "notify(\'x\')"')
    if any("[clock." in row for row in rows) and TIME not in network:
        network += TIME
    if network.endswith(BROKER) and random.random() < 0.5:
        network += OTHERS
        rows += [
            random.choice(FAR).replace("{k}", str(random.randrange(9))) for _ in range(random.randrange(1, 9))
        ]
    board = "esp32-poe" if "ethernet" in network else "esp32-38pin"
    return f'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n{network}' + "\n".join(rows) + "\n"


def _counts(random: Random) -> list[tuple[str, int]]:
    """Kinds, and how many of each, what others need first."""
    loose = [
        "flag",
        "number",
        "group",
        "tally",
        "guard",
        "derived",
        "i2c",
        "onewire",
        "sensor",
        "expander",
        "converter",
        "multiplexer",
        "channel",
        *TALKING,
    ]
    pinned = [kind.name for kind in kinds() if kind.name not in loose and _alone(kind)]
    found = [
        (kind, random.choice((1, 1, 2, 6)))  # many of one kind tell what a part takes beside its module
        for kind in random.sample(pinned, random.randrange(min(7, len(pinned))))
    ]
    found += [("flag", random.choice((0, 1, 2, 20))), ("number", random.choice((0, 1, 1, 3, 40)))]
    order = {"group": 9}
    return sorted([*found, ("group", random.randrange(2))], key=lambda row: order.get(row[0], 5))


def _alone(kind: Kind) -> bool:
    """Whether the kind can stand by itself in a device and be built."""
    text = f'zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n{kind.example}\n'
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.toml"
        path.write_text(text)
        return not resolve(path).findings


def _table(kind: str, name: str, random: Random, switched: list[str]) -> str:
    if kind == "group" and not switched:
        return ""
    if kind == "group":
        return f"[group.{name}]\nof = {json.dumps(random.sample(switched, min(len(switched), 3)))}"
    text = next(each.example for each in kinds() if each.name == kind)
    text = _loose(re.sub(r"^\[\w+\.\w+\]", f"[{kind}.{name}]", text, count=1))
    return text.replace('start = "off"', f'start = "{random.choice(("off", "off", "last"))}"')


def _loose(text: str) -> str:
    return re.sub(
        r'^(pin|open|close|sda|scl|sck|mosi|miso) = (?:\d+|"[^"]+")', r'\1 = "auto"', text, flags=re.M
    )


def _sensors(random: Random, names: list[str]) -> list[str]:
    """Sensors of some chips, with the bus they need."""
    rows: list[str] = []
    buses: dict[str, str] = {}
    by_table, used = described_names(), set(EXTRA_ADDRESSES)
    for known in ([name for name in chip_names() if name not in by_table], sorted(by_table)):
        for name in random.sample(known, random.randrange(4)):
            text = _sensor(name, names.pop(), buses, names, used)
            rows += [text] * (text != "")
    often = random.choice((0, 0, 0.03, 0.06, 0.15))
    for text in EXTRAS:
        for _ in range(random.choice((1, 1, 2, 4)) * (random.random() < often)):
            if "{bus}" in text:
                _sensor("bh1750", names.pop(), buses, names, used)
            bus = re.search(r"\.(\w+)\]", buses.get("i2c", ""))
            rows.append(
                text.replace("{{{n}.page}}", "{{n}.page}")
                .replace("{{1 + 1}}", "{1 + 1}")
                .replace("{n}", names.pop())
                .replace("{bus}", bus[1] if bus else "")
            )
    return [*buses.values(), *rows]


def _sensor(name: str, called: str, buses: dict[str, str], names: list[str], used: set[int]) -> str:
    found = chip(name)
    if found.driver is None:
        return ""
    free = [address for address in found.addresses if address not in used]
    if found.addresses and not free:
        return ""
    head = f'[sensor.{called}]\nchip = "{name}"\nevery = "30s"\n'
    if free:
        used.add(free[0])
        head += f"address = {free[0]}\n"
    if not found.bus and found.need is None:
        return head
    if not found.bus:
        return head + "\n".join(f'{key} = "auto"' for key in ("pin", *found.requires))
    if found.bus not in buses:
        kind = next(each for each in kinds() if each.name == found.bus)
        buses[found.bus] = _loose(
            re.sub(r"^\[\w+\.\w+\]", f"[{kind.name}.{names.pop()}]", kind.example, count=1)
        )
    bus = re.search(r"\.(\w+)\]", buses[found.bus])
    more = [f'{key} = "auto"' for key in found.requires] + ['module = "3.3V-5V"', 'fed_from = "5V"']
    return head + "\n".join([f'bus = "{bus[1] if bus else ""}"', *more])


def _link(random: Random, switched: list[str], read: list[str]) -> str:
    one, two, value = random.choice(switched), random.choice(switched), random.choice(read)
    when = random.choice(
        (
            f"{one}.on",
            f"{value}.value > {random.randrange(99)}",
            f"{one}.on and not {two}.on and {value}.value * 2 + 1 > 7",
        )
    )
    do = random.choice(
        (
            f'"{one}.toggle"',
            f'["{one}.on", "{two}.off"]',
            f'"{value}.set({value}.value + 1)"',
            f"\"notify('{value} is {{{value}.value}}')\"",
        )
    )
    more = random.choice(
        ("", "", 'every = "20s"\ntimes = 3', 'held = "10s"', 'after = "2s"', f'if = "{value}.value < 50"')
    )
    return f'[[link]]\nwhen = "{when}"\ndo = {do}\n{more}'


def measure(text: str, form: str) -> tuple[Counter[str], int, int] | None:
    """Features, bytes of heap at the peak, bytes of flash; None where this device cannot be made."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bench.toml"
        path.write_text(text)
        (Path(folder) / "ca.pem").write_bytes(AUTHORITY.read_bytes())
        if FIXED in text or OTHERS in text:
            (Path(folder) / "site.toml").write_text(PLAN if FIXED in text else OTHER)
        if OTHERS in text:
            _other(Path(folder))
        design = resolve(path)
        if any(f.severity == "error" for f in design.findings):
            raise SystemExit("\n".join(f.message for f in design.findings) + text)
        if any(part.autos for part in design.parts.values()):
            found = fit(design)
            if not found.ok:
                return None
            write_pins(found)
            design = resolve(path)
        try:
            return run(design, form, Path(folder))
        except Unmeasured:
            return None


def general(found: Counter[str]) -> Counter[str]:
    """The features with those of described chips in place of each chip's own."""
    made: Counter[str] = Counter()
    for what, count in found.items():
        if chip := of_module(what.removeprefix("module ")):
            made += described(chip)
        elif what in CLASSES:
            made["described part"] += count
        else:
            made[what] += count
    return made


def _other(folder: Path) -> None:
    """The device that is listened to."""
    parts = [
        f"[flag.lamp{k}]\n[number.level{k}]\nstart = 1\n[button.top{k}]\npin = {13 + k}\npull = 'up'"
        for k in range(9)
    ]
    (folder / "devices").mkdir()
    text = f'zapato = 1\n[device]\nname = "other"\nboard = "esp32-38pin"\n{NETWORK}{BROKER}' + "\n".join(
        parts
    )
    (folder / "devices" / "other.toml").write_text(text)


ON_SPI = SpiEthernet("W5500", 14, 13, 35, 15, 36)


def run(design: Design, form: str, folder: Path, lasts: str = "3min") -> tuple[Counter[str], int, int]:
    """Build this design in one form and run it with room enough."""
    assert design.board
    if design.ethernet is not None and len(design.parts) % 2:  # the same with a controller on SPI
        design = replace(design, board=replace(design.board, rmii=None, spi_ethernet=ON_SPI))
    found = general(features(design))
    script = folder / "script.toml"
    world = [
        f"{p.name}.{n} = 20"
        for p in design.parts.values()
        for n in p.simulation.stimuli
        if n in p.properties and p.properties[n].type == "number"
    ]
    world += [
        f"{h.name}.{n} = {'true' if n == 'on' else 5}" for h in design.heard.values() for n in h.properties
    ]
    script.write_text("\n".join([f'[rehearsal]\nlasts = "{lasts}"', "[world]", *world]) + "\n")
    result, flash = weighed(design, script, FORMS[form], ROOM)
    if any(row["what"] == "power" and row["name"] == "reset" for row in result.records):
        if any("invalid pin" in text for _, text in result.log):
            raise Unmeasured("more controllers than the chip has: check tells, which is not asked here")
        raise SystemExit(
            f"this device restarts itself: {[text for _, text in result.log]}\n{design.document.source.text}"
        )
    if result.crash or result.effort.turns > BUSY:
        raise Unmeasured("links made at random run in a circle")
    return found, result.used.peak, flash


def sample(seed: int, count: int, workers: int = 2) -> list[tuple[str, tuple[Counter[str], int, int]]]:
    """Measured devices: form and figures."""
    random = Random(seed)
    jobs = [(form, device(random)) for _ in range(count) for form in FORMS]
    if workers == 1:
        measured = [measure(text, form) for form, text in jobs]
    else:
        with ProcessPoolExecutor(workers) as pool:
            measured = list(pool.map(measure, [text for _, text in jobs], [form for form, _ in jobs]))
    return [(form, each) for (form, _), each in zip(jobs, measured, strict=True) if each]


def _sizes(rows: list[tuple[str, tuple[Counter[str], int, int]]]) -> dict[str, float]:
    """What each module would take by its size alone."""
    modules = {what for _, (found, _, _) in rows for what in found if what.startswith("module ")}
    sources = {what: runtime_source(what.removeprefix("module "), "esp32") for what in sorted(modules)}
    compiled = compile_all(
        {what.removeprefix("module "): text for what, text in sources.items()}, cache_folder()
    )
    return {f"module {name}": A_BYTE * len(data) for name, data in compiled.items()}


def table(rows: list[tuple[str, tuple[Counter[str], int, int]]]) -> dict[str, dict[str, dict[str, float]]]:
    """The figures that explain these rows best."""
    made: dict[str, dict[str, dict[str, float]]] = {}
    sizes = _sizes(rows)
    for form in FORMS:
        mine = [row for f, row in rows if f == form]
        names = sorted({name for found, _, _ in mine for name in found} - {"data"})
        matrix = np.array([[found[name] for name in names] for found, _, _ in mine], float)
        made[form] = {}
        for place, what in ((1, "heap"), (2, "flash")):
            data = np.array([row[0]["data"] if what == "heap" else 0 for row in mine], float)
            goal = np.array([row[place] for row in mine], float)
            # figures of what always comes together are held to what each of them is by its size
            prior = np.array([sizes.get(name, A_PART * name.startswith("part ")) for name in names])
            share, held = 1 / goal[:, None], np.eye(len(names)) * WEIGHT
            given = np.concatenate([(goal - data) / goal, held @ prior])
            figures, _ = nnls(np.vstack([matrix * share, held]), given)
            made[form][what] = {
                name: round(float(value), 1) for name, value in zip(names, figures, strict=True)
            }
            made[form][what]["data"] = 1.0 if what == "heap" else 0.0
    return made


def write(costs: dict[str, dict[str, dict[str, float]]]) -> None:
    """Each bundle's own figures into its cost.json, the rest into costs.json."""
    owners = _owners()
    found: dict[Path, dict[str, dict[str, dict[str, float]]]] = {}
    for form, memories in costs.items():
        for what, figures in memories.items():
            for name, size in figures.items():
                owner = owners.get(name, "")
                file = extensions.own_bundles()[owner].folder / "cost.json" if owner else COSTS
                found.setdefault(file, {}).setdefault(form, {}).setdefault(what, {})[name] = size
    for (
        each
    ) in extensions.own_bundles().values():  # a figure of an earlier run would hide that one is missing
        (each.folder / "cost.json").unlink(missing_ok=True)
    for file, table in found.items():
        file.write_text(json.dumps(table, indent=1, sort_keys=True) + "\n")


def _owners() -> dict[str, str]:
    """The bundle of each module and each class of a part, by its feature."""
    found: dict[str, str] = {}
    for name, file in extensions.device_files().items():
        owner = extensions.owner_of(name)
        found |= {f"module {each}": owner for each in (name, re.sub(f"_({'|'.join(port_ids())})$", "", name))}
        found |= {f"part {cls}": owner for cls in re.findall(r"^class (\w+)", file.read_text(), re.M)}
    return found


def errors(
    rows: list[tuple[str, tuple[Counter[str], int, int]]], costs: dict[str, dict[str, dict[str, float]]]
) -> list[float]:
    """How far each row's heap is from the table's, as a share of what was measured."""
    return [
        sum(count * costs[form]["heap"].get(name, 0) for name, count in found.items()) / peak - 1
        for form, (found, peak, _) in rows
    ]


def main() -> int:
    ask = argparse.ArgumentParser()
    ask.add_argument("--check", action="store_true")
    ask.add_argument("--seed", type=int, default=1)
    ask.add_argument("--devices", type=int, default=420)
    given = ask.parse_args()
    rows = sample(given.seed + (1000 if given.check else 0), 30 if given.check else given.devices)
    if given.check:
        costs = known_costs()
    else:
        costs = table(rows)
        write(costs)
    off = errors(rows, costs)
    worst = max(range(len(off)), key=lambda at: abs(off[at]))
    print(f"the worst: {rows[worst][0]}, {rows[worst][1][1]} bytes, {dict(rows[worst][1][0])}")
    print(
        f"{len(rows)} devices: off by {np.mean(np.abs(off)):.1%} on average, {min(off):+.1%} to {max(off):+.1%}"
    )
    return int(max(map(abs, off)) > 0.1)


if __name__ == "__main__":
    sys.exit(main())
