"""What befalls a device in service, many times over: outages, cuts of the power during an update, damaged packages, hostile messages.

usage: python benchmarks/attack.py outages|cuts|packages|messages|descriptions [COUNT] [SEED]

outages       random outages of Wi-Fi and broker, of every length and moment: no output changes that the file does not ask for
cuts          an update cut at each write and erase of the flash, torn at a random byte: each time a whole version starts
packages      update packages with bytes changed, cut or repeated: none is taken
messages      random and hostile messages to a device: no restart, no output changes, the connection stays
descriptions  random and hostile descriptions and values to the hub: the one good device is still there

Prints the counts; exit code 1 where one did not hold.
"""

from __future__ import annotations

import json
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from itertools import pairwise
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from support.over_air import KEY, SITE, Place, designs, imaged, packed, tree

import zapato
from zapato.deliver.offer import UpdateOffer
from zapato.errors import ZapatoError
from zapato.hub import Hub
from zapato.simulator.little import Blocks, LittleFlash
from zapato.simulator.scenario import PowerCut

BOARDS = {
    "esp8266-30pin": ('"D1"', '"D2"', '"D5"', '"D6"'),
    "esp32-38pin": (26, 25, 33, 27),
    "rp2040w-40pin": (2, 3, 4, 5),
}
IN_SERVICE = """zapato = 1
[device]
name = "bench"
board = "{board}"
[relay.stays]
pin = {0}
start = "on"
[relay.swings]
pin = {1}
[button.bell]
pin = {2}
pull = "up"
[sensor.room]
chip = "dht22"
pin = {3}
every = "20s"
[number.count]
[[link]]
every = "37s"
do = ["swings.toggle", "count.value = count.value + 1"]
[[link]]
when = "bell.pressed"
for = "5s"
do = "swings.on"
[[link]]
when = "room.temperature > 30"
back = 2
do = "stays.on"
"""
MINUTES = 40


def _folder(files: dict[str, str]) -> Path:
    """A new folder with these files; the path of the device among them."""
    root = Path(tempfile.mkdtemp())
    for name, text in files.items():
        (root / name).write_text(text)
    return root / "device.toml"


def outages(count: int, random: Random) -> bool:
    """Runs of forty minutes with about ten outages each, compared edge by edge with a run that has none."""
    done, wrong = 0, 0
    while done < count:
        board, pins = random.choice(list(BOARDS.items()))
        device = _folder({"device.toml": IN_SERVICE.format(*pins, board=board), "site.toml": SITE})
        presses = sorted(random.randrange(20, MINUTES * 60 - 60) for _ in range(5))
        plan = [(at, "bell.press") for at in presses]
        away = _outages(random)
        quiet = _edges(device, plan)
        stormy = _edges(device, sorted([*plan, *away]))
        done += len(away) // 2
        if not _alike(quiet, stormy):
            wrong += 1
            print(f"{board}: {len(quiet)} and {len(stormy)} changes; outages {away}")
    print(
        f"{done} outages on {', '.join(BOARDS)}: {wrong} runs in which an output changed that the file does not ask for"
    )
    return not wrong


def _alike(quiet: list[tuple[str, str, int]], stormy: list[tuple[str, str, int]]) -> bool:
    """The same changes in the same order, each as long after the one before it, to 0.4 s."""
    if [edge[:2] for edge in quiet] != [edge[:2] for edge in stormy]:
        return False
    gaps = zip(
        pairwise([0, *(edge[2] for edge in quiet)]), pairwise([0, *(edge[2] for edge in stormy)]), strict=True
    )
    return all(abs((b - a) - (d - c)) <= 400 for (a, b), (c, d) in gaps)


def _outages(random: Random) -> list[tuple[float, str]]:
    """Outages that follow each other, from a tenth of a second to twenty minutes."""
    found: list[tuple[float, str]] = []
    at = random.uniform(0, 240)
    while at < MINUTES * 60 - 30:
        length = 10 ** random.uniform(-1, 3.08)
        kind = random.choice(("wifi", "broker"))
        found += [(at, f"{kind}.down"), (min(at + length, MINUTES * 60 - 1), f"{kind}.up")]
        at += length + 10 ** random.uniform(0, 2.3)
    return found


def _edges(device: Path, acts: list[tuple[float, str]]) -> list[tuple[str, str, int]]:
    """Each change of an output: pin, level, ms. A restart counts as one."""
    steps = "".join(f'[[step]]\nat = "{at:.3f}s"\nact = "{act}"\n' for at, act in acts)
    script = device.with_name("script.toml")
    script.write_text(
        f'[rehearsal]\nlasts = "{MINUTES}min"\n[world]\nroom.temperature = 20\nroom.humidity = 50\n{steps}'
    )
    result = zapato.rehearse(device, script)
    wanted = [
        r for r in result.records if r["what"] in ("pin", "power") and not str(r["name"]).startswith("in")
    ]
    inputs = {use.pin.name for use in zapato.load(device).uses if use.need.use == "input"}
    return [(r["name"], str(r["value"]), r["t"]) for r in wanted if r["name"] not in inputs]


def cuts(count: int, random: Random) -> bool:
    """An update cut at each step of the flash, at a random byte of it, until so many cuts are made."""
    old, new = designs(_folder)
    folder = Path(tempfile.mkdtemp())
    flash = imaged(old)
    image = bytes(flash.blocks.buffer)
    place, offer = Place(old, flash), UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, folder))
    place.serve(offer)
    place.run()
    steps = flash.blocks.journal
    seen: dict[frozenset[tuple[str, bytes]], tuple[int, LittleFlash]] = {}
    made = 0
    while made < count:
        memory = Blocks(image)
        for number, (at, data, erase) in enumerate(steps, 1):
            torn = Blocks(bytes(memory.buffer))
            torn.apply(at, data[: random.randrange(len(data) + 1)], erase)
            memory.apply(at, data, erase)
            left = LittleFlash(old.board.chip, bytes(torn.buffer), lambda: PowerCut(500))
            seen.setdefault(frozenset(tree(left).items()), (number, left))
            made += 1
    dead = 0
    for number, left in seen.values():
        place = Place(old, left, seconds=12)
        if place.run() is not None or "broker reached" not in place.log:
            dead += 1
            print(f"step {number}: {place.log[-3:]}")
    print(
        f"{made} cuts, {len(seen)} different states of the flash, each started: {dead} without a whole version"
    )
    return not dead


def _harmed(data: bytes, random: Random) -> bytes:
    """The bytes with something wrong in them."""
    made = bytearray(data)
    at = random.randrange(len(made))
    way = random.randrange(5)
    if way == 0:
        made[at] ^= 1 << random.randrange(8)
    elif way == 1:
        del made[at:]
    elif way == 2:
        made[at:at] = made[at : at + random.randrange(1, 600)]
    elif way == 3:
        made[at : at + 40] = random.randbytes(min(40, len(made) - at))
    else:
        other = random.randrange(len(made))
        made[at : at + 512], made[other : other + 512] = made[other : other + 512], made[at : at + 512]
    return bytes(made)


def packages(count: int, random: Random) -> bool:
    """Damaged packages, unpacked at the desk; the gzip frame is made anew for half of them, so that the damage is inside."""
    import gzip

    old, new = designs(_folder)
    good = packed(new, Path(tempfile.mkdtemp()))
    inner = gzip.decompress(good)
    same, taken, refused = 0, 0, 0
    for _ in range(count):
        inside = random.random() < 0.5
        data = gzip.compress(_harmed(inner, random), 1) if inside else _harmed(good, random)
        try:
            offer = UpdateOffer(old.topic, bytes.fromhex(KEY), data)
        except ZapatoError:
            refused += 1
            continue
        whole = UpdateOffer(old.topic, bytes.fromhex(KEY), good)
        if offer.about == whole.about and offer.size == whole.size:
            same += 1  # padding or a header's unused byte: what would be installed is what was signed
        else:
            taken += 1
    print(
        f"{count} damaged packages: {refused} refused, {same} with the signed content unchanged, {taken} taken with other content"
    )
    return not taken


WORDS = (
    "bench",
    "lamp",
    "device",
    "do",
    "set",
    "on",
    "off",
    "toggle",
    "tell",
    "restart",
    "settings",
    "forget",
    "update",
    "piece",
    "want",
    "",
    "+",
    "#",
    "é",
    "x" * 200,
)


def _payload(random: Random) -> bytes:
    """Something that somebody might send."""
    way = random.randrange(8)
    if way == 0:
        return random.randbytes(random.randrange(400))
    if way == 1:
        return b"[" * random.randrange(1, 900)
    if way == 2:
        return json.dumps(
            random.choice([None, True, -1, 1e308, "x" * 300, [[]], {"a": {}}, {"on": 1}])
        ).encode()
    if way == 3:
        return b"1e999"
    if way == 4:
        return b'{"' + b"a" * random.randrange(300)
    if way == 5:
        return "ẞ😀\x00\x1b[2J".encode() * random.randrange(1, 20)
    return random.choice([b"", b"true", b"NaN", b"-0", b"1_000", b"0x10", b'"off"', b"false "])


def messages(count: int, random: Random) -> bool:
    """Messages to a running device on the smallest and on a roomy chip; none of them is a command that it knows."""
    fine = True
    for board in ("esp8266-30pin", "esp32-38pin"):
        old, _ = designs(_folder, board)
        each = 40  # ms from one to the next
        place = Place(old, seconds=20 + count * each / 1000)
        sent: Counter[str] = Counter()

        def send(place: Place = place, old: zapato.Design = old, sent: Counter[str] = sent) -> None:
            levels = [random.choice(WORDS) for _ in range(random.randrange(1, 5))]
            topic = "/".join((old.topic, *levels)).replace("+", "p").replace("#", "h")
            known = topic.endswith(
                (
                    "lamp/on/set",
                    "lamp/do/on",
                    "lamp/do/off",
                    "lamp/do/toggle",
                    "device/do/restart",
                    "device/do/settings",
                    "device/do/forget",
                )
            )
            if not known:
                place.broker.message(topic, _payload(random))
                sent["messages"] += 1

        for number in range(count):
            place.clock.at(15_000 + number * each, send)
        crash = place.run()
        power = [r for r in place.trace.rows if r["what"] == "power" and r["name"] != "on"]
        pins = [r for r in place.trace.rows if r["what"] == "pin" and r["t"] > 14_000]
        sessions = [r for r in place.trace.rows if r["what"] == "net" and r["name"] == "session"]
        print(
            f"{board}: {sent['messages']} messages: crash {crash}, {len(power)} restarts, {len(pins)} changes of an output, {len(sessions)} sessions"
        )
        fine = fine and crash is None and not power and not pins and len(sessions) == 1
    return fine


ODD = (None, 7, [], {}, "\ud800", [None], [[{}]], [{"href": 7}], {"x": None}, "x" * 500)


def _described(good: dict[str, object], random: Random) -> Iterator[tuple[str, bytes]]:
    """A good device's description under another name with one or two things in it exchanged, and values for it."""
    name = f"d{random.randrange(40)}"
    text = json.dumps(good).replace("refuge/bench", f"refuge/{name}").replace('"bench"', f'"{name}"')
    about = json.loads(text)
    for _ in range(random.choice((0, 1, 1, 2))):
        place = about
        while isinstance(place, dict) and place:
            key = random.choice([*place])
            if random.random() < 0.4 or not isinstance(place[key], dict | list):
                place[key] = random.choice(ODD)
                break
            place = place[key]
    if random.random() < 0.3:
        yield f"refuge/{name}/about", random.choice([_payload(random), json.dumps(about).encode()])
    else:
        yield f"refuge/{name}/about", json.dumps(about).encode()
    for what in ("lamp/on", "state", "vitals", "notes"):
        yield f"refuge/{name}/{what}", _payload(random)


def descriptions(count: int, random: Random) -> bool:
    """Through the hub's own door for messages."""
    old, _ = designs(_folder)
    hub = Hub()
    from zapato.descriptions.thing import thing

    good = thing(old)
    hub.hear(f"{old.topic}/about", json.dumps(good).encode(), at=0.0)
    sent = 0
    while sent < count:
        for topic, payload in _described(good, random):
            sent += 1
            with suppress(ZapatoError):
                hub.hear(topic, payload, at=float(sent))
    hub.page()
    json.dumps(hub.table())
    there = any(each.name == old.name for each in hub.things.values())
    print(
        f"{sent} descriptions and values: the good device is {'still there' if there else 'GONE'}, {len(hub.things)} devices"
    )
    return there


ATTACKS = {
    "outages": (outages, 1000),
    "cuts": (cuts, 2700),
    "packages": (packages, 12_000),
    "messages": (messages, 20_000),
    "descriptions": (descriptions, 20_000),
}


def main(words: list[str]) -> int:
    if not words or words[0] not in ATTACKS:
        print(__doc__)
        return 2
    attack, usual = ATTACKS[words[0]]
    count, seed = int(words[1]) if words[1:] else usual, int(words[2]) if words[2:] else 1
    with tempfile.TemporaryDirectory() as tempfile.tempdir:  # what the attacks write goes with it
        held = attack(count, Random(seed))
    return 0 if held else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
