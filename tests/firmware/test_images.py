"""Images: the data partition read by the vendor's own MicroPython, booted from its bytes; base images of every kind and harm."""

import hashlib
import json
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from support.images import BANNER, base_of, built, program
from support.over_air import Place

import zapato
from zapato.boards import board as board_named
from zapato.errors import Refused, Unreadable
from zapato.firmware.base import read_base, uf2_memory
from zapato.firmware.first import data_place, first_image
from zapato.firmware.image import BLOCK
from zapato.simulator.little import LittleFlash
from zapato.simulator.scenario import PowerCut

MICROPYTHON = Path(sys.executable).parent / "micropython"
BOARDS = ("esp32-38pin", "esp32c3-mini", "esp8266-30pin", "esp8266-8pin", "rp2040w-40pin")
READER = """
import sys, os, vfs, hashlib, binascii
class Blocks:
    def __init__(self, path, count):
        self.file = open(path, "rb")
        self.count = count
    def readblocks(self, n, buf, off=0):
        self.file.seek(n * 4096 + off)
        data = self.file.read(len(buf))
        buf[:] = data + b"\\xff" * (len(buf) - len(data))
    def writeblocks(self, n, buf, off=0):
        raise OSError(30)
    def ioctl(self, op, arg):
        return {4: self.count, 5: 4096}.get(op, 0)
vfs.mount(vfs.VfsLfs2(Blocks(sys.argv[1], int(sys.argv[2])), progsize=int(sys.argv[3])), "/flash")
def walk(folder):
    for name, kind, *_ in os.ilistdir("/flash" + folder):
        path = folder + "/" + name
        if kind == 0x4000:
            print(path + "/")
            walk(path)
        else:
            print(path, binascii.hexlify(hashlib.sha256(open("/flash" + path, "rb").read()).digest()).decode())
walk("")
"""


@pytest.mark.skipif(not MICROPYTHON.exists(), reason="the vendor's MicroPython is not installed")
@pytest.mark.parametrize("name", BOARDS)
def test_the_vendors_micropython_reads_the_partition(put, name):
    """File by file what the build has, with the folders of both slots, at the full size of the partition."""
    made, path = built(put, name)
    board = board_named(name)
    count = board.partition[1] // BLOCK
    script = path.parent / "read.py"
    script.write_text(READER)
    unit = "256" if board.chip.port == "rp2" else "32"
    done = subprocess.run(
        [MICROPYTHON, script, made.data, str(count), unit], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout + done.stderr
    rows = dict(line.split(" ") if " " in line else (line, "") for line in done.stdout.split("\n") if line)
    assert {"/a/", "/a/safe/", "/b/", "/b/safe/"} <= rows.keys() and {
        "/main.py",
        "/boot_slot.mpy",
        "/settings.json",
    } <= rows.keys()
    app = {p.relative_to(made.app).as_posix(): p.read_bytes() for p in made.app.rglob("*.mpy")}
    assert {n: rows[f"/a/{n}"] for n in app} == {
        n: hashlib.sha256(data).hexdigest() for n, data in app.items()
    }
    assert made.data.stat().st_mode & 0o777 == 0o600 and b"larch and stone" in made.data.read_bytes()
    assert not any(
        b"larch and stone" in p.read_bytes()
        for p in made.folder.rglob("*")
        if p.is_file() and p.parent.name != "secret"
    )


@pytest.mark.parametrize("name", BOARDS)
def test_the_board_boots_from_exactly_these_bytes(put, name):
    """The first image of each chip: the partition stands where the base says, and the VM boots from it."""
    made, path = built(put, name, base_of(name))
    board = board_named(name)
    raw = made.first.read_bytes()
    flash = uf2_memory(raw) if made.first.suffix == ".uf2" else raw
    assert (
        made.first.suffix == (".uf2" if "rp2040" in name else ".bin")
        and made.first.stat().st_mode & 0o777 == 0o600
    )
    base = read_base(path.parent / "base.img", board)
    at, size = data_place(board, base)
    assert (at, size) == ((0x12C000, 0xD4000) if "rp2040" in name else board.partition)
    there = flash[base.at : base.at + len(base.data)]
    if board.chip.id == "esp8266":  # starts with the flash that its header says: 4 MiB on two lines, 1 MiB
        assert there[2:4] == (b"\x02\x40" if board.flash > 1 << 20 else b"\x02\x20")
        there = there[:2] + base.data[2:4] + there[4:]
    assert there == base.data
    data = flash[at:] + b"\xff" * (size - len(flash[at:]))
    place = Place(zapato.load(path), LittleFlash(board.chip, data, lambda: PowerCut(1)), seconds=30)
    place.air.known = ("hall", "larch and stone")
    assert place.run() is None and "broker reached" in place.log
    with pytest.raises(Refused, match="already"):
        read_base(_put(path, raw), board)


def _put(path: Path, data: bytes) -> Path:
    made = path.parent / "other.img"
    made.write_bytes(data)
    return made


ESP32 = base_of("esp32-38pin")
WRONG = {
    "an update package": ("esp32-38pin", b"\x1f\x8b" + bytes(99), "update package"),
    "nothing": ("esp32-38pin", b"", "neither"),
    "a text": ("esp32-38pin", b"hello " * 999, "neither"),
    "another chip's": ("esp32-38pin", base_of("esp32c3-mini"), "it is for the esp32c3"),
    "the ESP8266's": ("esp32-38pin", base_of("esp8266-30pin"), "it is for the esp8266"),
    "a UF2": ("esp8266-30pin", base_of("rp2040w-40pin"), "it is for the rp2040"),
    "too old": ("esp32-38pin", base_of("esp32-38pin", banner=b"MicroPython v1.19.1 on"), "1.19.1"),
    "too new": ("rp2040w-40pin", base_of("rp2040w-40pin", banner=b"MicroPython v2.0 on"), "2.0.0"),
    "something else": ("esp32c3-mini", base_of("esp32c3-mini", banner=b"another program"), "no MicroPython"),
    "cut short": ("esp32-38pin", ESP32[:-3000], "cut short"),
    "a bit turned": ("esp32-38pin", ESP32[:-4000] + bytes([ESP32[-4000] ^ 1]) + ESP32[-3999:], "checksum"),
    "a UF2 without its end": ("rp2040w-40pin", base_of("rp2040w-40pin")[:-512], "of"),
    "a torn UF2": ("rp2040w-40pin", base_of("rp2040w-40pin")[:-100], "cut short"),
    "the program alone": ("esp32-38pin", program(BANNER, 0), "no partition table|cut short"),
    "partitions beyond the flash": (
        "esp32-38pin",
        base_of("esp32-38pin", rows=((0, 0x10000, 0x1F0000, b"factory"), (1, 0x200000, 0x600000, b"vfs"))),
        "the board has 4 MiB",
    ),
    "for more flash": ("esp8266-8pin", base_of("esp8266-8pin").ljust(800_000, b"\0"), "more flash"),
}


@pytest.mark.parametrize("case", WRONG)
def test_a_wrong_base_is_refused_by_what_it_is(put, case):
    board, data, words = WRONG[case]
    with pytest.raises(Refused, match=words) as told:
        read_base(_put(put({}), data), board_named(board))
    assert "\n" not in str(told.value) and ">=1.25" in told.value.fix


def test_a_small_partition_and_a_missing_file(put):
    rows = ((0, 0x10000, 0x1F0000, b"factory"), (1, 0x200000, 0x10000, b"vfs"))
    with pytest.raises(Refused, match="64 KiB of the data partition"):
        built(put, "esp32-38pin", base_of("esp32-38pin", rows=rows))
    with pytest.raises(Unreadable, match="no such file"):
        read_base(put({}).parent / "gone.bin", board_named("esp32-38pin"))
    base = read_base(_put(put({}), ESP32), board_named("esp32-38pin"))
    with pytest.raises(Refused, match="leaves"):
        first_image(board_named("esp32-38pin"), base, bytes(3 << 20))


@given(st.sampled_from(BOARDS), st.integers(0, 70_000), st.binary(max_size=9))
def test_harmed_bases_end_in_one_line(tmp_path_factory, name, at, harm):
    """Whatever is wrong with an image, it is refused with a line, or it is still the whole one."""
    good = base_of(name)
    path = tmp_path_factory.mktemp("base") / "b.img"
    path.write_bytes(good[:at] + harm + good[at + len(harm) :])
    try:
        read_base(path, board_named(name))
    except Refused as error:
        assert "\n" not in str(error)


def test_the_command_tells_what_it_made(put, cli):
    made, path = built(put, "esp32-38pin", ESP32)
    called = cli("build", path, "--base", path.parent / "base.img", "--out", path.parent / "out")
    assert called.code == 0 and "bench-first.bin" in called.out and "the whole flash" in called.out
    called = cli("build", path, "--base", path, "--out", path.parent / "out")
    assert (
        called.code == 1
        and "no base image" in called.err
        and json.loads((made.folder / "build.json").read_text())
    )
