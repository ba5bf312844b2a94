"""Readings on an SD card: what stands on it afterwards, read by programs that are not ours; pulled, full, cut."""

import ast
import csv
import io
import os
import shutil
import subprocess
from dataclasses import replace

import pytest
from conftest import HEADER, failed, in_the_vm, steps
from hypothesis import given, settings
from hypothesis import strategies as st
from support.approved import approve

import zapato
from zapato.firmware.compile import runtime_source
from zapato.parts import kinds
from zapato.simulator.fat import BLOCK, EMPTY, Volume, done, fresh
from zapato.simulator.sdcard import BLOCKS
from zapato.simulator.wasi import Fault

FSCK = shutil.which("fsck.fat", path=f"{os.environ['PATH']}:/usr/sbin:/sbin")
LOG = """[spi.slot]
sck = 18
mosi = 23
miso = 19
[sensor.cabinet]
chip = "dht22"
pin = 27
every = "5s"
[number.door]
start = 3
[card.log]
bus = "slot"
select = 17
keeps = ["cabinet.temperature", "door.value"]
every = "10s"
most = 1
"""
WORLD = "[world]\ncabinet.temperature = 20.5\ncabinet.humidity = 50\n"
TIME = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[time]\nzone = "Europe/Zurich"\n'


CSD = {
    "16 GB": "400e00325b59000077ff7f800a40400b",
    "8 GB": "400e00325b5900003b377f800a404055",
    "2 GB": "005e00325f5a83aedefbcfff928040df",
    "64 MB": "005d01325b5a83d5f6dadfff92600091",
}
"""Registers of cards as they answer them (SD Physical Layer Simplified Specification, 5.3.2 and 5.3.3)."""


@pytest.mark.parametrize("register", CSD.values(), ids=CSD)
def test_how_many_blocks_a_card_has(register):
    """Against the standard's own formula, on the register as one number of 128 bits."""
    whole = int(register, 16)

    def bits(high: int, low: int) -> int:
        return whole >> low & (1 << high - low + 1) - 1

    size = (bits(73, 62) + 1 << bits(49, 47) + 2) * (1 << bits(83, 80))
    expected = size // 512 if bits(127, 126) == 0 else (bits(69, 48) + 1) * 1024
    text = (
        "from sdcard import SdCard\nclass Card(SdCard):\n    def __init__(self): pass\n    def get(self, number, given, into):\n"
        f"        assert (number, given) == (9, 0)\n        into[:] = bytes.fromhex('{register}')\nprint(Card().measure())\n"
    )
    assert in_the_vm(text, {"sdcard": runtime_source("sdcard", "esp32")}).strip() == str(expected)


ALONE = r"""
import sdcard

now = [0, 1]  # ms, and how many go by at each look at the clock


class Time:
    @staticmethod
    def ticks_ms():
        now[0] += now[1]
        return now[0]

    ticks_add = staticmethod(lambda a, b: a + b)
    ticks_diff = staticmethod(lambda a, b: a - b)
    sleep_ms = staticmethod(lambda ms: said("sleeps %d" % ms))


sdcard.time = Time
rows = []


def said(row):
    if rows and rows[-1][0] == row:
        rows[-1][1] += 1
    else:
        rows.append([row, 1])


class Bus:
    # A line on which each command is answered by bytes that are given beforehand, and then by what an idle line has.
    def __init__(self, answers):
        self.d = self.spi = self
        self.dog = None
        self.answers = answers
        self.line = b""

    def init(self, baudrate):
        said("%d Hz" % baudrate)

    def select(self, gpio):
        return lambda level: said("select %d" % level)

    def write(self, data):
        data = bytes(data)
        if data[0] & 0xC0 == 0x40 and len(data) == 6:
            number = data[0] & 63
            given = self.answers.get(number, b"")
            self.line = bytes(given.pop(0) if isinstance(given, list) and given else given or b"")
        said("writes " + (data.hex() if len(data) < 20 else "%d bytes" % len(data)))
        if len(data) == 512:
            self.line = self.answers["taken"]

    def readinto(self, into, fill):
        for at in range(len(into)):
            into[at] = self.line[0] if self.line else self.answers.get("idle", 255)
            self.line = self.line[1:]
        said("reads %d" % len(into))

    def read(self, size, fill):
        into = bytearray(size)
        self.readinto(into, fill)
        return bytes(into)


def plays(what, answers, call):
    del rows[:]
    card = sdcard.SdCard(Bus(answers), 5, 8000000)
    try:
        end = call(card)
    except OSError as error:
        end = error
    print(what, "->", end, "blocks", card.blocks, "each", card.each)
    for row, count in rows:
        print("   ", row + (" x %d" % count if count > 1 else ""))


REGISTER = bytes.fromhex("400e00325b59000077ff7f800a40400b")
NEW = {0: b"\1", 8: b"\1\0\0\1\xaa", 55: b"\1", 41: [b"\1", b"\0"], 58: b"\0\xc0\0\0\0", 9: b"\0\xff\xfe" + REGISTER}
OLD = {0: b"\1", 8: b"\5", 55: b"\1", 41: b"\0", 16: b"\0", 9: b"\0\xfe" + bytes.fromhex("005e00325f5a83aedefbcfff928040df")}


def with_(row, **more):
    row = dict(row)
    for name, value in more.items():
        row[int(name[1:]) if name[1:].isdigit() else name] = value
    return row


begin = lambda card: card.begin()
plays("a new card", with_(NEW), begin)
plays("an old card", with_(OLD), begin)
plays("no card", {}, begin)
for late in (8, 9, 10, 11):
    plays("an answer after %d bytes" % late, {0: b"\xff" * late + b"\1"}, begin)
now[1] = 499
plays("never ready", with_(OLD, _41=b"\1"), begin)
now[1] = 1
plays("other blocks", with_(OLD, _16=b"\4"), begin)
plays("a block that does not begin", {9: b"\0"}, begin)


def reads(card):
    card.each = 512
    row = bytearray(1024)
    card.readblocks(3, row)
    return row[0], row[512]


def writes(card):
    card.each = 1
    card.writeblocks(70000, bytearray(1024))


plays("two blocks", {17: [b"\0\xfe" + b"a" * 512, b"\0\xff\xfe" + b"b" * 512]}, reads)
plays("a block that is refused", {17: b"\4"}, reads)
plays("none comes", {17: b"\0"}, reads)
plays("written", {24: b"\0", "taken": b"\xff\xff\xe5\0\0"[2:]}, writes)
plays("not taken", {24: b"\0", "taken": b"\x0d"}, writes)
plays("written for ever", {24: b"\0", "taken": b"\5", "idle": 0}, writes)
plays("writing is refused", {24: b"\4"}, writes)
card = sdcard.SdCard(Bus({}), 5, 1)
print([card.ioctl(what, 0) for what in range(7)])
"""


def test_what_is_said_to_a_card():
    """Commands, answers, patience and refusals, each alone with a line whose bytes are given."""
    approve("sdcard", in_the_vm(ALONE, {"sdcard": runtime_source("sdcard", "esp32")}))


def test_how_a_value_stands_in_a_cell():
    tree = ast.parse(source := runtime_source("card", "esp32"))
    shown = next(node for node in tree.body if isinstance(node, ast.FunctionDef) and node.name == "shown")
    values = (None, True, False, 3, 20.5, 1 / 3, -0.0, 'a "b", c', "two\nlines", "plain")
    text = (
        f"{ast.get_source_segment(source, shown)}\nfor value in {values!r}:\n    print(repr(shown(value)))\n"
    )
    cells = [ast.literal_eval(line) for line in in_the_vm(text, {}).splitlines()]
    assert cells[:7] == ["", "true", "false", "3", "20.5", "0.3333333", "-0"]
    assert next(csv.reader(io.StringIO(",".join(cells[7:]), newline=""))) == list(values[7:])


def rows(result) -> list[list[str]]:
    return [
        row
        for name, data in sorted(result.cards["log"].items())
        if name.startswith("LOG")
        for row in csv.reader(io.StringIO(data.decode()))
    ]


def test_rows_with_the_time_and_what_is_not_known_is_empty(bench):
    result = bench(LOG, WORLD, lasts="2min", site=TIME, head="begins = 2026-12-31T23:59:00")
    found = rows(result)
    assert found[0] == ["time", "cabinet.temperature", "door.value"]
    assert found[1][0] in ("+10", "2026-12-31 23:59:09", "2026-12-31 23:59:10") and found[1][1:] == [
        "20.5",
        "3",
    ]
    assert found[-1][0] in ("2027-01-01 00:00:49", "2027-01-01 00:00:50") and len(found) == 12
    unknown = rows(bench(LOG, "", lasts="30s"))
    assert unknown[1][1:] == ["", "3"]


@pytest.mark.parametrize("board", ["esp32-38pin", "rp2040w-40pin", "esp32s3-44pin"])
def test_on_every_port_that_carries_it(bench, board):
    lines = {"rp2040w-40pin": ("18", "19", "16"), "esp32s3-44pin": ("12", "11", "13")}.get(
        board, ("18", "23", "19")
    )
    body = LOG
    for old, new in zip(("sck = 18", "mosi = 23", "miso = 19"), lines, strict=True):
        body = body.replace(old, f"{old.split()[0]} = {new}")
    result = bench(body.replace("pin = 27", "pin = 6").replace("= 6", "= 27") if board.startswith("esp32-") else body.replace("pin = 27", "pin = 5"), WORLD, lasts="1min", board=board)  # fmt: skip
    assert len(rows(result)) == 6 and not result.faults


def test_pulled_out_and_put_back_and_the_power_cut(bench):
    result = bench(
        LOG,
        WORLD
        + steps(
            "30s? log.ready and log.rows == 2", "+1s: log.inserted = false", "<30s? not log.ready", "3min: log.inserted = true",
            "<25s? log.ready", "4min: power.cut over 5s", "+30s? log.ready and log.rows >= 2",
        ),
        lasts="6min",
    )  # fmt: skip
    assert not failed(result), failed(result)
    told = [str(row["value"]) for row in result.records if row["what"] == "print"]
    assert "log: a row was not written ([Errno 19] ENODEV)" in told and "log has a card again" in told
    found = rows(result)
    assert all(len(row) == 3 for row in found) and [row[0] for row in found].count("time") == 1
    seconds = [int(row[0]) for row in found[1:]]
    assert {"+100", "+110"} <= {row[0] for row in found}, "the last rows wait for the card"
    assert seconds.index(10) == 0 and seconds.count(10) == 2, "after the cut it counts anew"


WIDE = (
    LOG.replace('every = "10s"', 'every = "1s"')
    .replace("start = 3", "start = 3.14159265")
    .replace("keeps = [", "keeps = [" + '"door.value", ' * 14)
)


@pytest.mark.slow
def test_a_full_card_loses_its_oldest_rows_and_not_what_is_not_ours(bench):
    result = bench(
        WIDE, WORLD + "log.room = 20\n" + steps("5min? log.ready and log.rows > 280"), lasts="6min"
    )
    assert not failed(result)
    files = result.cards["log"]
    assert "PICTURES.ZIP" in files and "LOG00001.CSV" not in files and len(files) == 2
    assert int(rows(result)[-1][0]) >= 358


@pytest.mark.parametrize(("room", "files", "least"), [(0, 16, 100_000), (60, 5, 40_000)])
@pytest.mark.slow(15)
def test_it_never_takes_more_than_it_may(bench, monkeypatch, room, files, least):
    """A ninth of a MiB in place of one: sixteen files of 7 KiB, the oldest of which go."""
    kind = next(each for each in kinds() if each.name == "card")
    usual = kind.driver

    def little(part):
        made = usual(part)
        return replace(
            made, arguments=tuple(112 << 10 if each == 1 << 20 else each for each in made.arguments)
        )

    monkeypatch.setattr(kind, "driver", little)
    world = WORLD + (f"log.room = {room}\n" if room else "")
    result = bench(WIDE, world, lasts="16min" if not room else "12min")
    kept = {name: data for name, data in result.cards["log"].items() if name.startswith("LOG")}
    assert files <= len(kept) <= 16 and least < sum(map(len, kept.values())) < 112 * 1024 + 2000
    assert "LOG00001.CSV" not in kept and not result.log[1:]
    assert int(rows(result)[-1][0]) in (958, 959, 960, 718, 719, 720)


def test_findings(checked):
    assert "card-unfit" in {f.code for f in checked(LOG.replace("pin = 27", "pin = 5"), "esp8266-30pin")}
    assert [f.code for f in checked(LOG.replace('"door.value"', '"door.valu"'))] == ["link-unknown"]
    assert [f.code for f in checked(LOG.replace('"door.value"', '"door"'))] == ["wrong-type"]
    assert "pin-taken" in {f.code for f in checked(LOG + "[relay.r]\npin = 19\n")}


NAMES = st.sampled_from(["LOG00001.CSV", "LOG00002.CSV", "A.B", "NOTES"])


@settings(max_examples=25, deadline=None)
@given(st.lists(st.tuples(NAMES, st.one_of(st.none(), st.binary(max_size=9000))), max_size=14))
def test_files_are_what_other_programs_take_them_for(tmp_path_factory, work):
    """A model of plain bytes beside it, and, at the end, the checker and the reader of Debian's own packages."""
    blocks, model, volume = fresh(BLOCKS // 4), dict[str, bytes](), Volume()
    done(volume.mount(), blocks)
    for name, data in work:
        if data is None:
            if name in model:
                done(volume.remove(name), blocks)
                del model[name]
            else:
                with pytest.raises(Fault):
                    done(volume.remove(name), blocks)
        else:
            done(volume.append(name, data), blocks)
            model[name] = model.get(name, b"") + data
    assert dict(done(volume.names(), blocks)) == {name: len(data) for name, data in model.items()}
    assert {name: done(volume.read(name), blocks) for name in model} == model
    if FSCK is None or shutil.which("mtype") is None:
        return
    image = tmp_path_factory.mktemp("card") / "part.img"
    image.write_bytes(b"".join(blocks.get(n, EMPTY) for n in range(64, BLOCKS // 4)))
    checked = subprocess.run([FSCK, "-n", image], capture_output=True, text=True)
    assert checked.returncode == 0, checked.stdout
    for name, data in model.items():
        assert subprocess.run(["mtype", "-i", image, f"::{name}"], capture_output=True).stdout == data


def test_a_cut_after_any_block_leaves_the_files_readable(tmp_path):
    """A row is appended again and again, and the power goes after each single block that is written on the way."""
    text = b"+10,20.5,3\n" * 60
    blocks = fresh(BLOCKS // 4)
    volume = Volume()
    done(volume.mount(), blocks)
    done(volume.append("LOG00001.CSV", text), blocks)
    writes = 0
    for cut in range(40):
        torn, left = dict(blocks), [cut]
        again = Volume()
        done(again.mount(), torn)
        try:
            done(again.append("LOG00001.CSV", text * 5), Cut(torn, left))
        except PowerError:
            pass
        else:
            writes = writes or cut
        check = Volume()
        done(check.mount(), torn)
        found = done(check.read("LOG00001.CSV"), torn)
        assert found in (text, text * 6) and found.startswith(text)
    assert 4 < writes < 20


class PowerError(Exception):
    pass


class Cut(dict):
    """Blocks that take so many writes, and no more."""

    def __init__(self, blocks, left):
        self.blocks, self.left = blocks, left

    def get(self, number, default):
        return self.blocks.get(number, default)

    def __setitem__(self, number, data):
        if not self.left[0]:
            raise PowerError
        self.left[0] -= 1
        assert len(data) == BLOCK
        self.blocks[number] = data


def test_the_cards_of_a_rehearsal_from_the_command_line(put, cli, tmp_path):
    device = put(
        {
            "device.toml": HEADER.format(board="esp32-38pin") + LOG,
            "s.toml": '[rehearsal]\nlasts = "1min"\n' + WORLD,
        }
    )
    called = cli("rehearse", device, "--script", device.parent / "s.toml", "--cards", tmp_path / "cards")
    assert called.code == 0 and (tmp_path / "cards" / "log" / "LOG00001.CSV").read_text().count("\n") == 6
    assert zapato.check(device).ok


@pytest.mark.parametrize(
    ("world", "words"),
    [
        ("log.room = -5", "must be 0 to 60000"),
        ('log.inserted = "no"', "is a boolean"),
        ("log.rows = 5", "cannot set log.rows"),
        ("log.room = true", "is a number"),
    ],
)
def test_a_world_that_cannot_be(put, world, words):
    device = put(
        {
            "device.toml": HEADER.format(board="esp32-38pin") + LOG,
            "s.toml": f'[rehearsal]\nlasts = "1min"\n[world]\n{world}\n',
        }
    )
    with pytest.raises(zapato.errors.RehearsalInvalid) as wrong:
        zapato.rehearse(device, device.parent / "s.toml")
    assert words in wrong.value.findings[0].message


def wide(name: str, select: int) -> str:
    return f'[card.{name}]\nbus = "slot"\nselect = {select}\nkeeps = ["door.value"]\nevery = "10s"\n'


def test_an_old_card_counts_bytes(bench):
    result = bench(LOG, WORLD + "log.old = true\n", lasts="1min")
    assert len(rows(result)) == 6 and not result.faults and not result.log[1:]


def test_two_cards_on_one_bus(bench):
    result = bench(LOG + wide("spare", 16), WORLD, lasts="1min")
    assert [len(result.cards[name]["LOG00001.CSV"].splitlines()) for name in ("log", "spare")] == [6, 6]
    assert not result.log[1:]


@pytest.mark.parametrize(
    ("files", "number"),
    [
        ({"LOG00007.CSV": b"time,another.thing\n+10,5\n"}, 8),  # another program's: its columns are not ours
        ({"LOG00007.CSV": b"time,cabinet.temperature,door.value\n+10,20.5,3\n+20,2"}, 7),
        ({"LOG00007.CSV": b""}, 8),
        ({"LOG00001.CSV": b"x\n", "LOG04711.CSV": b"x\n", "LOGBOOK.CSV": b"mine", "LOG1.CSV": b"mine"}, 4712),
        ({f"LOG{n:05d}.CSV": b"old\n" for n in range(1, 60)}, 60),
    ],
)
def test_a_card_that_has_files_already(bench, monkeypatch, files, number):
    """It goes on in the newest of its own, behind a row that was cut; all others stay as they are."""
    volume, blocks = Volume(), fresh(BLOCKS)
    done(volume.mount(), blocks)
    for name, data in files.items():
        done(volume.append(name, data), blocks)
    monkeypatch.setattr("zapato.simulator.sdcard.fresh", lambda size: dict(blocks))
    result = bench(LOG, WORLD, lasts="1min")
    found = result.cards["log"]
    ours = found[f"LOG{number:05d}.CSV"].decode().splitlines()
    assert (
        ours[0] == "time,cabinet.temperature,door.value"
        and ours[-1].endswith("50,20.5,3")
        and not result.faults
    )
    assert "+20,2" not in files.get("LOG00007.CSV", b"").decode() or "+20,2" in ours
    gone = {name for name in files if name not in found}
    assert gone == ({"LOG00001.CSV"} if len(files) == 59 else set())
    assert all(
        found[name] == data
        for name, data in files.items()
        if name not in gone and name != f"LOG{number:05d}.CSV"
    )


def test_numbers_at_their_end_are_told_once_and_the_device_goes_on(bench, monkeypatch):
    volume, blocks = Volume(), fresh(BLOCKS)
    done(volume.mount(), blocks)
    done(volume.append("LOG99999.CSV", b"whoever\n"), blocks)
    monkeypatch.setattr("zapato.simulator.sdcard.fresh", lambda size: dict(blocks))
    result = bench(LOG, WORLD + steps("2min? not log.ready and log.rows == 0"), lasts="3min")
    assert not failed(result) and not result.faults
    assert [text for _, text in result.log[1:]] == [
        "log: a row was not written (its numbers are at their end)"
    ]


@settings(max_examples=8, deadline=None)
@given(st.integers(10_000, 10_400), st.booleans())
def test_out_at_any_moment_of_a_row_and_nothing_is_lost_that_was_there(put_once, moment, power):
    """Pulled out, or without power, while a row is written: what was written before stands, and later rows follow."""
    act = "power.cut" if power else "log.inserted = false"
    script = WORLD + steps(f"{20_000 + moment % 1000}ms: {act}", "40s: log.inserted = true")
    result = put_once(LOG, script)
    found = rows(result)
    assert found[1][0] == "+10" and all(len(row) in (1, 2, 3) for row in found) and len(found) >= 5
    assert sum(len(row) != 3 for row in found) <= 1 and not result.faults


@pytest.fixture(scope="module")
def put_once(tmp_path_factory):
    folder = tmp_path_factory.mktemp("out")
    (folder / "device.toml").write_text(HEADER.format(board="esp32-38pin") + LOG)

    def run(body, script):
        (folder / "s.toml").write_text('[rehearsal]\nlasts = "90s"\n' + script)
        return zapato.rehearse(folder / "device.toml", folder / "s.toml")

    return run
