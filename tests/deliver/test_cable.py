"""By cable: a chip in its loader on a pseudo-terminal, every way a line can fail, and the whole path from file to device."""

import errno
import json
import os
import struct
import zlib
from pathlib import Path
from types import SimpleNamespace

import pytest
import serial
from hypothesis import given
from hypothesis import strategies as st
from support.approved import approve
from support.images import KEY, base_of, built
from support.loader import IMAGE
from support.over_air import Place, designs, packed

import zapato
from zapato.boards import board as board_named
from zapato.deliver import cable
from zapato.deliver.cable import by_cable, by_drive, gaps, pieces, the_drive
from zapato.deliver.loader import AGAIN, TRIES, Failed, Frames, Loader, framed
from zapato.deliver.offer import UpdateOffer
from zapato.deliver.ports import ports
from zapato.deliver.registers import SPI, identification, stilled
from zapato.errors import NotDelivered
from zapato.firmware.base import uf2_memory
from zapato.firmware.first import _uf2, data_place
from zapato.simulator.little import LittleFlash
from zapato.simulator.loader_chip import Faults, LoaderChip
from zapato.simulator.scenario import PowerCut


@pytest.mark.parametrize("board", ["esp32-38pin", "esp8266-30pin", "esp32c3-mini", "esp32s3-44pin"])
def test_an_image_gets_into_the_flash_and_starts(chip, board):
    there = chip(board, boot=lambda flash: ["", "bench 1.0.0", "wifi joined"])
    steps = []
    done = by_cable(
        there.board,
        IMAGE,
        there.name,
        until=1 << 19,
        wait=3,
        tell=lambda what, share: steps.append((what, share)),
    )
    assert there.flash[: len(IMAGE)] == IMAGE and there.flash[len(IMAGE) : 1 << 19].strip(b"\xff") == b""
    assert done.chip == there.board.chip.id and done.said == ("bench 1.0.0", "wifi joined") and there.started
    assert done.verified == (board != "esp8266-30pin") and done.size < 60_000
    assert steps[0][0] == "; ".join(there.board.boot_mode) and steps[-1][0] == "starting"
    shares = [share for what, share in steps if what == "writing"]
    assert shares == sorted(shares) and shares[-1] == 1


@pytest.mark.parametrize("slowest", [115_200, 230_400])
def test_a_line_that_is_too_bad_for_the_rate_goes_on_at_the_first_one(slowest, chip):
    there, steps = chip(slowest=slowest), []
    done = by_cable(
        there.board, IMAGE, there.name, rate=460_800, wait=3, tell=lambda what, share: steps.append(what)
    )
    assert done.verified and there.flash[: len(IMAGE)] == IMAGE and there.rate == 115_200
    assert "nothing is heard at 460800 baud; going on at 115200" in steps


class _Lines:
    """Notes what the lines say, and how long they stay so."""

    def __init__(self, monkeypatch):
        self.said = []
        monkeypatch.setattr(cable.time, "sleep", lambda seconds: self.said.append(seconds))

    def lines(self, reset, boot):
        self.said.append("reset " * reset + "boot " * boot)


def test_the_lines_pull_reset_and_the_boot_pin_in_order(monkeypatch):
    """100 ms each is more than any reset's capacitor; a chip's own USB unit never sees both lines off in the middle."""
    for call, wanted in (
        (cable.reset, ["reset ", 0.1, ""]),
        (lambda line: cable._into_loader(line, 0.4), ["reset ", 0.1, "boot ", 0.4, ""]),
        (cable._into_loader_by_usb, ["", 0.1, "boot ", 0.1, "reset boot ", "reset ", 0.1, ""]),
    ):
        line = _Lines(monkeypatch)
        call(line)
        assert line.said == wanted


def stored(data: bytes, level: int) -> bytes:
    """A zlib stream that is the same with every version of zlib: nothing is made smaller (RFC 1950, RFC 1951 section 3.2.4)."""
    assert level == 9
    parts = [data[at : at + 65_535] for at in range(0, len(data), 65_535)]
    rows = (struct.pack("<BHH", part is parts[-1], len(part), len(part) ^ 0xFFFF) + part for part in parts)
    return b"\x78\x01" + b"".join(rows) + struct.pack(">I", zlib.adler32(data))


@pytest.mark.parametrize(
    "board",
    ["esp32-38pin", "esp8266-30pin", "esp32s2-mini", "esp32s3-44pin", "esp32c3-mini", "esp32c6-30pin"],
)
def test_what_is_said_to_the_loader(chip, board, monkeypatch):
    """Every command of a delivery with its words: operation, size, check sum of data, then 32-bit numbers."""
    said: list[str] = []
    packet = LoaderChip._packet

    def heard(self, raw):
        frame = raw.replace(b"\xdb\xdc", b"\xc0").replace(b"\xdb\xdd", b"\xdb")
        _, op, size, check = struct.unpack("<BBHI", frame[:8])
        body = frame[8:24] if size > 64 else frame[8:]
        words = " ".join(f"{word:x}" for (word,) in struct.iter_unpack("<I", body[: len(body) // 4 * 4]))
        said.append(f"{op:02x} {size} {check:x}: {words}")
        packet(self, raw)

    monkeypatch.setattr(LoaderChip, "_packet", heard)
    monkeypatch.setattr(zlib, "compress", stored)
    there = chip(board)
    shares: list[str] = []
    by_cable(
        there.board,
        IMAGE,
        there.name,
        until=1 << 19,
        wait=3,
        tell=lambda what, share: shares.append(f"{what} {share:.3f}"),
    )
    hellos = next(at for at, row in enumerate(said) if not row.startswith("08 "))
    approve(f"loader-{board}", "\n".join([said[0], *said[hellos:], *dict.fromkeys(shares)]) + "\n")


def test_only_what_is_not_erased_is_written():
    assert [(at, len(data)) for at, data in pieces(IMAGE)] == [(0, 28672), (225280, 9320)]
    assert pieces(b"\xff" * 9999) == [] and pieces(b"") == []


@pytest.mark.parametrize(
    ("board", "faults"),
    [
        ("esp32-38pin", {"garble": 9}),
        ("esp32-38pin", {"every": 7}),
        ("esp8266-30pin", {"every": 7}),  # gives the reason of a refusal in two bytes, and reads nothing back
        ("esp32-38pin", {"drop": 11}),
        ("esp32-38pin", {"late": 12, "delay": 0.3}),
        ("esp32-38pin", {"reset": 13}),
        ("esp32-38pin", {"rot": True}),
    ],
    ids=str,
)
def test_a_bad_line_is_tried_again(chip, board, faults, monkeypatch):
    monkeypatch.setattr("zapato.deliver.loader.ANSWER", 0.25)
    there = chip(board, faults=Faults(**faults))
    done = by_cable(there.board, IMAGE, there.name, wait=3)
    assert done.verified == (board == "esp32-38pin") and all(
        there.flash[at : at + len(data)] == data for at, data in pieces(IMAGE)
    )


@pytest.mark.parametrize(
    ("faults", "words"),
    [({"unplug": 15}, "was disconnected"), ({"every": 1}, "answers as a loader|refused|chip that is not known"), ({"drop": 6, "late": 7, "delay": 0.1}, "")],
    ids=str,
)  # fmt: skip
def test_what_cannot_be_helped_is_one_line_and_repeating_it_mends(chip, faults, words, monkeypatch):
    monkeypatch.setattr("zapato.deliver.loader.ANSWER", 0.25)
    there = chip(faults=Faults(**faults))
    if not words:
        assert by_cable(there.board, IMAGE, there.name, wait=3).verified
        return
    with pytest.raises(NotDelivered, match=words) as told:
        by_cable(there.board, IMAGE, there.name, wait=0.5)
    assert "\n" not in str(told.value) and told.value.fix and not there.started
    again = chip()
    again.flash[:] = there.flash
    assert by_cable(again.board, IMAGE, again.name, wait=3).verified


def test_the_wrong_chip_nobody_there_and_no_port(chip, tmp_path):
    there = chip("esp32c3-mini")
    before = bytes(there.flash)
    with pytest.raises(NotDelivered, match="is an esp32c3, and esp32-38pin has an esp32"):
        by_cable(board_named("esp32-38pin"), IMAGE, there.name, wait=3)
    assert bytes(there.flash) == before
    with pytest.raises(NotDelivered, match="answers as a loader") as told:
        by_cable(board_named("esp32-38pin"), IMAGE, chip(silent=True).name, wait=0.2)
    assert "by hand" in told.value.fix
    with pytest.raises(NotDelivered, match="there is no port"):
        by_cable(there.board, IMAGE, "/dev/ttyNONE")
    taken = chip()
    with serial.Serial(taken.name, exclusive=True), pytest.raises(NotDelivered, match="another program has"):
        by_cable(taken.board, IMAGE, taken.name)
    with pytest.raises(NotDelivered, match=r"cannot be opened|no port"):
        by_cable(there.board, IMAGE, str(tmp_path))


REFUSALS = {
    errno.EACCES: ("may not be opened by this user", "dialout"),
    errno.EBUSY: ("another program has", "close it"),
    errno.EAGAIN: ("another program has", "close it"),
    errno.ENOENT: ("there is no port", "zapato ports"),
    errno.EIO: ("cannot be opened", ""),
}


@pytest.mark.parametrize("number", REFUSALS)
def test_a_port_that_is_refused_says_why_and_what_helps(chip, monkeypatch, number):
    there = chip()

    def refuses(*given, **more):
        raise serial.SerialException(number, os.strerror(number))

    monkeypatch.setattr(serial, "Serial", refuses)
    words, fix = REFUSALS[number]
    with pytest.raises(NotDelivered, match=words) as told:
        by_cable(there.board, IMAGE, there.name, wait=0.2)
    assert fix in told.value.fix


@given(st.lists(st.binary(min_size=1, max_size=60), max_size=6), st.binary(max_size=20))
def test_frames_come_back_out_of_any_noise(packets, noise):
    noise = noise.replace(b"\xc0", b"")
    reader, stream = Frames(), noise + b"".join(framed(each) for each in packets)
    found = [frame for at in range(0, len(stream), 7) for frame in reader.feed(stream[at : at + 7])]
    assert found == packets


FLASH_CONTROLLERS = {
    "esp8266": (0x6000_0220, 0x6000_021C, 0x6000_0224, 0x6000_0240, 0x6000_0200),
    "esp32": (0x3FF4_202C, 0x3FF4_201C, 0x3FF4_2024, 0x3FF4_2080, 0x3FF4_2000),
    "esp32s2": (0x3F40_2028, 0x3F40_2018, 0x3F40_2020, 0x3F40_2058, 0x3F40_2000),
    "esp32s3": (0x6000_2028, 0x6000_2018, 0x6000_2020, 0x6000_2058, 0x6000_2000),
    "esp32c3": (0x6000_2028, 0x6000_2018, 0x6000_2020, 0x6000_2058, 0x6000_2000),
    "esp32c6": (0x6000_3028, 0x6000_3018, 0x6000_3020, 0x6000_3058, 0x6000_3000),
}
"""The registers by their whole addresses, entered a second time: length (of the esp8266 in USER1), USER, USER2, W0, CMD."""


@pytest.mark.parametrize("name", FLASH_CONTROLLERS)
def test_the_flash_is_asked_who_it_is_at_the_registers_of_its_chip(name):
    writes, done, answer = identification(name)
    length, user, user2, word, command = FLASH_CONTROLLERS[name]
    assert [address for address, _ in writes] == [length, user, user2, word, command]
    assert (done, answer) == (command, word) and SPI.keys() == FLASH_CONTROLLERS.keys()


class Register:
    """A loader whose chip answers every question for a register with the next of these numbers."""

    def __init__(self, *answers: int) -> None:
        self.answers, self.loader = list(answers), Loader.__new__(Loader)
        self.loader.chip, self.loader.put = "esp32", lambda address, value: None
        self.loader.ask = lambda op, data: (
            self.answers.pop(0) if len(self.answers) > 1 else self.answers[0],
            b"",
        )


@pytest.mark.parametrize(
    ("answers", "size"),
    [
        ((1,), 0),  # the controller never ends
        ((0, 0x16_40_C8, 0, 0x16_40_C8), 4 << 20),
        ((1, 1, 0, 0x16_40_C8, 1, 0, 0x16_40_C8), 4 << 20),
        ((0, 0xFFFFFF, 0, 0x16_40_C8, 0, 0x16_40_C8), 4 << 20),  # the first answer was harmed
        ((0, 0x15_40_C8, 0, 0x16_40_C8, 0, 0x17_40_C8, 0, 0x18_40_C8, 0, 0x15_40_C8, 0, 0x16_40_C8, 0, 0x17_40_C8, 0, 0x18_40_C8, 0, 0x15_40_C8), 0),
    ],
)  # fmt: skip
def test_the_flash_says_its_size_twice_alike_or_none_counts(answers, size):
    assert Register(*answers).loader.flash_size() == size


@pytest.mark.parametrize(("code", "times"), [(next(iter(AGAIN)), TRIES), (0x77, 1)])
def test_how_often_a_block_is_sent_again(code, times):
    asked = []

    def refuse(op, data, check, seconds, tries):
        asked.append((op, data[16:], tries))
        raise Failed(op, code)

    loader = Loader.__new__(Loader)
    loader.ask = refuse
    with pytest.raises(Failed):
        loader._block(3, 7, b"data")
    assert asked == [(3, b"data", 1)] * times


STILLED = {
    "esp32c3": (0x6000_8000, 0x90, 0xA8, 0xAC, 0xB0, 31, 0x8F1D_312A),
    "esp32s3": (0x6000_8000, 0x98, 0xB0, 0xB4, 0xB8, 31, 0x8F1D_312A),
    "esp32c6": (0x600B_1C00, 0x00, 0x18, 0x1C, 0x20, 18, 0x50D8_3AA1),
}
"""The watchdogs' block, and in it the settings, their lock, the second one's settings and lock; its bit that feeds itself, its key: a second time."""


@pytest.mark.parametrize("name", STILLED)
def test_no_watchdog_restarts_a_chip_that_is_written(name):
    """Each is unlocked with its key, set, and locked again; chips whose loader has none running are left alone."""
    block, config, lock, super_config, super_lock, bit, key = STILLED[name]
    first, second = (block + lock, 0x50D8_3AA1), (block + super_lock, key)
    assert stilled(name) == [
        first, (block + config, 0), (block + lock, 0), second, (block + super_config, 2**bit), (block + super_lock, 0),
    ]  # fmt: skip
    assert stilled("esp32") == stilled("esp8266") == []


def test_a_drive_takes_a_uf2_file(put, tmp_path):
    board = board_named("rp2040w-40pin")
    made, _ = built(put, "rp2040w-40pin", base_of("rp2040w-40pin"))
    drive = tmp_path / "drive"
    drive.mkdir()
    with pytest.raises(NotDelivered, match="no drive of a loader"):
        by_drive(board, made.first, drive)
    (drive / "INFO_UF2.TXT").write_text("UF2 Bootloader v2.0\n")
    shares = []
    assert by_drive(board, made.first, drive, tell=lambda what, share: shares.append((what, share))) == (
        made.first.stat().st_size
    )
    assert {what for what, _ in shares} == {"writing"} and shares == sorted(shares) and shares[-1][1] == 1.0
    assert len(shares) == -(-made.first.stat().st_size // (1 << 16))
    assert (drive / made.first.name).read_bytes() == made.first.read_bytes()


def test_from_file_to_a_device_that_lives(put, chip, tmp_path, monkeypatch):
    """check, build, first image, cable, start, broker, a new version over the air, the power cut in its middle, alive."""
    monkeypatch.setattr(cable, "LISTEN", 60)
    new = designs(put, "esp32-38pin")[1]
    made, path = built(put, "esp32-38pin", base_of("esp32-38pin"))
    assert zapato.check(path).ok
    board = board_named("esp32-38pin")
    at, size = data_place(board)
    place = None

    def boot(flash: bytes) -> list[str]:
        nonlocal place
        place = Place(
            zapato.load(path),
            LittleFlash(board.chip, flash[at : at + size], lambda: PowerCut(700)),
            seconds=240,
        )
        place.air.known = ("hall", "larch and stone")
        offer = UpdateOffer("refuge/bench", bytes.fromhex(KEY), packed(new, tmp_path))
        place.serve(offer)
        blocks = place.board.flash.blocks
        place.broker.listeners.append(
            lambda topic, payload: (
                topic.endswith("/want") and blocks.steps < 99 and setattr(blocks, "cut_at", 99)
            )
        )
        assert place.run() is None
        return place.log

    done = by_cable(board, made.first.read_bytes(), chip("esp32-38pin", boot=boot).name, wait=3)
    assert done.verified and done.said[0] == "bench 1.0.0" and "broker reached" in done.said
    assert any(r["what"] == "power" and r["value"] is False for r in place.trace.rows)
    assert place.versions[-1] == "1.1.0" and "version 1.1.0 runs" in place.notes


def test_the_ports_are_listed(monkeypatch, chip, cli):
    class Found:
        def __init__(self, device, vid, product):
            self.device, self.vid, self.product = device, vid, product

    there = chip()
    rows = [Found(there.name, 0x10C4, "UART bridge"), Found("/dev/ttyNONE", None, None)]
    monkeypatch.setattr("serial.tools.list_ports.comports", lambda: rows)
    found = {each.name: each for each in ports()}
    assert found[there.name].trouble == "" and "serial bridge" in found[there.name].what
    assert "no port" in found["/dev/ttyNONE"].trouble
    called = cli("ports")
    assert called.code == 0 and there.name in called.out
    assert json.loads(cli("ports", "--format", "json").out)[0]["name"] == min(found)
    monkeypatch.setattr("serial.tools.list_ports.comports", list)
    assert "no serial port" in cli("ports").out and os.path.exists(there.name)


SECTORS = st.lists(
    st.sampled_from([b"\xff" * 4096, b"\x00" * 4096, b"ab" * 2048, b"\xff" * 4095 + b"\0"]), max_size=60
)


@given(SECTORS, st.binary(max_size=50), st.integers(0, 3), st.integers(0, 40))
def test_pieces_and_gaps_make_the_whole_flash(sectors, end, first, more):
    """Whatever the image: what is written and what is erased cover it once, sector by sector, and nothing else."""
    image, at = b"".join(sectors) + end, first * 4096
    until = at + len(image) + more * 4096
    regions = [(at + place, data) for place, data in pieces(image)]
    flash = bytearray(b"\xa5" * (until + 8192))
    for place, size in gaps(regions, at, until):
        assert place % 4096 == 0 and size > 0
        flash[place : place + size] = b"\xff" * size
    for place, data in regions:
        assert place % 4096 == 0
        last = -(-(place + len(data)) // 4096) * 4096
        flash[place:last] = b"\xff" * (last - place)
        flash[place : place + len(data)] = data
    assert flash[at : at + len(image)] == image and not flash[at + len(image) : until].strip(b"\xff")
    assert set(flash[:at]) <= {0xA5} and set(flash[-(-until // 4096) * 4096 :]) <= {0xA5}


@given(st.lists(st.tuples(st.integers(0, 40), st.binary(min_size=1, max_size=700)), max_size=4))
def test_a_uf2_file_writes_what_it_was_made_of(rows):
    rows = sorted(dict(rows).items())
    placed = [(place * 4096, data) for place, data in rows]
    memory = uf2_memory(_uf2(placed))
    assert all(memory[at : at + len(data)] == data for at, data in placed)
    assert len(memory) == (placed[-1][0] + -(-len(placed[-1][1]) // 256) * 256 if placed else 0)


@pytest.mark.parametrize(
    ("words", "line"),
    [
        (("--port", "/dev/ttyNONE"), "there is no port"),
        (("--air", "--port", "x"), "deliver needs --port"),
        ((), "deliver needs --port"),
        (("--base", "gone.bin"), "cannot read"),
        (("--port", "x", "--base", "."), "cannot read"),
        (("--air", "--broker", "nonsense:port"), "--broker takes HOST:PORT"),
        (("--air",), "no broker answers"),
        (("--air", "--rate", "fast"), "rate"),
    ],
)
def test_calls_that_cannot_work_end_in_one_line(put, cli, words, line):
    _, path = built(put, "esp32-38pin")
    site = path.parent / "site.toml"
    site.write_text(site.read_text().replace("192.168.4.2", "127.0.0.1") + "port = 9\n")
    called = cli("deliver", path, "--out", path.parent / "out", *words)
    assert (
        called.code in (1, 2)
        and line in called.err
        and called.err.count("\n") <= 2
        and "Traceback" not in called.err
    )


def test_a_device_without_mqtt_and_an_rp2040_without_a_base(put, cli):
    alone = put('zapato = 1\n[device]\nname = "bench"\nboard = "rp2040w-40pin"\n[relay.r]\npin = 4\n')
    assert "has no [mqtt]" in cli("deliver", alone, "--air", "--out", alone.parent / "out").err
    called = cli("deliver", alone, "--port", alone.parent, "--out", alone.parent / "out")
    assert "an RP2040 takes whole images" in called.err
    assert "speaks MQTT" in cli("fleet", alone).err


@pytest.mark.parametrize(("system", "found"), [("nt", [Path("E:/")]), ("posix", [])])
def test_where_a_loaders_drive_may_be(system, found, tmp_path, monkeypatch):
    """Letters are drives on Windows alone; elsewhere they would be folders of whoever calls."""
    for name in ("D:", "E:"):
        (tmp_path / name).mkdir()
    (tmp_path / "E:" / cable.DRIVE_NOTE).write_text("Board-ID: RPI-RP2")
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(cable, "os", SimpleNamespace(name=system))
    assert cable.drives() == found


def test_the_loaders_drive_is_found_or_asked_for(tmp_path, monkeypatch):
    board = board_named("rp2040w-40pin")
    monkeypatch.setattr(cable, "drives", list)
    with pytest.raises(NotDelivered, match="no drive of a loader") as told:
        the_drive(board, wait=0)
    assert "BOOTSEL" in told.value.fix
    monkeypatch.setattr(cable, "drives", lambda: [tmp_path])
    assert the_drive(board, wait=0) == tmp_path
    monkeypatch.setattr(cable, "drives", lambda: [tmp_path, tmp_path / "b"])
    with pytest.raises(NotDelivered, match="several"):
        the_drive(board, wait=0)


@pytest.mark.parametrize(
    ("chip", "answer", "left", "code"),
    [
        ("esp32", b"data\0\0\0\0", b"data", None),
        ("esp8266", b"\0\0", b"", None),
        ("esp8266", b"", b"", None),
        ("esp8266", b"\1", b"", 0),
        ("esp8266", b"\1\7", b"", 7),
        ("esp32", b"data\1\7\0\0", b"", 7),
    ],
)
def test_the_status_at_the_end_of_an_answer(chip, answer, left, code):
    loader = Loader.__new__(Loader)
    loader.chip = chip
    if code is None:
        assert loader._checked(8, 3, answer) == (3, left)
        return
    with pytest.raises(Failed) as told:
        loader._checked(8, 3, answer)
    assert told.value.code == code


def test_an_answer_without_data_is_one():
    """Direction, command, a length of nothing, a value: eight bytes."""

    class Line:
        said = [framed(struct.pack("<BBHI", 1, 8, 0, 5))]
        patience = write = lambda self, *given: None

        def read(self, size):
            return self.said.pop(0) if self.said else b""

    assert Loader(Line())._answer(8, 0.2) == (5, b"")
