"""Serial links: frames as data, parts behind controllers of their own, meters on Modbus, and a slave that is not ours."""

import asyncio
import json
import os
import pty
import select
import threading
import tty
from random import Random

import pytest
from conftest import HEADER, NETWORK, failed, steps
from hypothesis import given
from hypothesis import strategies as st
from support.browser import soon

import zapato
from zapato.lang.fields import Wrong
from zapato.lang.patterns import CHECKS, checksum, crc16, read_pattern
from zapato.parts.registers import blocks, read_registers
from zapato.simulator.live_run import Live
from zapato.simulator.serial import Serial

LINE = "[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\n"
LAMP = """
[frames.lamp]
serial = "line"
hears = ["55 aa 07 {on:bool} {level:u16*10} {sum}", "55 aa 09 {hours:u32le} {sum}"]
says = { level = "55 aa 06 {level:u16*10} {sum}", on = "55 aa 05 {on:bool} {sum}", hours = "55 aa 0a {sum}" }
hello = "55 aa 00 {sum}"
alive = "55 aa 01 {sum}"
every = "5s"
silent = "20s"
[dimmer.hall]
serial = "lamp"
"""
CURTAIN = """
[frames.motor]
serial = "line"
hears = "a5 {position:u8*-1+100} {crc16}"
says = { position = "a5 01 {position:u8*-1+100} {crc16}", open = "a5 02 {crc16}", close = "a5 03 {crc16}", stop = "a5 04 {crc16}" }
[blind.window]
serial = "motor"
"""


def test_a_motor_behind_its_controller_takes_its_time_jams_and_does_not_heed_stop(bench):
    body = (
        LINE
        + """
[frames.motor]
serial = "line"
hears = "a5 41 {position:u8} {sum}"
says = { position = "a5 21 {position:u8} {sum}", stop = "a5 22 {sum}" }
[blind.window]
serial = "motor"
[button.up]
pin = 33
pull = "up"
[button.halt]
pin = 32
pull = "up"
[[link]]
when = "up.pressed"
do = "window.open"
[[link]]
when = "halt.pressed"
do = "window.stop"
"""
    )
    acts = [
        "5s: motor.travel = 10", "+0s: up.press", "+5s? window.position > 40 and window.position < 60", "+0s: halt.press", "=3s? window.position > 40 and window.position < 65",
        "+1s: up.press", "<6s? window.position == 100", "+1s: motor.position = 0", "+1s: motor.ignore_stop", "+1s: up.press",
        "+2s: halt.press", "<10s? window.position == 100", "+1s: motor.heed_stop", "+0s: motor.position = 0", "+1s: up.press",
        "+3s: motor.jam", "=10s? window.position > 20 and window.position < 40", "+0s: motor.free", "+1s: up.press", "<8s? window.position == 100",
    ]  # fmt: skip
    result = bench(body, steps(*acts), lasts="2min")
    assert not failed(result)
    frames = [row["value"] for row in result.records if row["what"] == "frame"]
    assert frames[0] == "hears position: a5 21 64 2a" and "hears stop: a5 22 c7" in frames


def test_a_frame_is_the_bytes_of_its_data_sheet():
    """Worked out by hand, not by the program."""
    level = read_pattern("55 aa 06 {level:u16*10} {sum}")
    assert level.make({"level": 40}).hex() == "55aa06019096" and level.read(
        bytes.fromhex("55aa06019096")
    ) == {"level": 40}
    assert (
        level.read(bytes.fromhex("55aa06019097")) is None
        and level.read(bytes.fromhex("55ab06019097")) is None
    )
    position = read_pattern("a5 {position:u8*-1+100} ??")
    assert position.make({"position": 30})[:2].hex() == "a546" and position.read(b"\xa5\x00\x77") == {
        "position": 100
    }
    assert read_pattern("01 {t:s16le/2}").make({"t": -3}).hex() == "01feff" and read_pattern(
        "01 {t:s16/2}"
    ).read(b"\x01\xff\xfe") == {"t": -4}
    assert crc16(bytes.fromhex("01030000000a")) == 0xCDC5  # Modbus over Serial Line V1.02, appendix B
    assert checksum("negsum", b"\x10\x20") == b"\xd0" and checksum("xor", b"\x10\x30") == b"\x20"
    assert read_pattern("02 {n:u8} {sum}").make({"n": 3}, 1).hex() == "020303"


@pytest.mark.parametrize(
    "text",
    ["", "5", "gg", "{x}", "{x:u8", "{x:u64}", "?? 01", "{a:u8}", "01 {a:u8} {a:u8}", "01 {sum} {xor}", "01 {a:u8*0}", "01 " * 65, "01 {A:u8}"],
)  # fmt: skip
def test_what_is_no_frame(text):
    with pytest.raises(Wrong):
        read_pattern(text)


@given(
    st.integers(-3000, 3000), st.sampled_from(["u8", "s8", "u16", "s16", "u16le", "s32", "u32le", "s16le"]),
    st.sampled_from(["", "*10", "/10", "*-1+100", "+5"]), st.sampled_from(["", *CHECKS]), st.binary(min_size=1, max_size=5),
)  # fmt: skip
def test_what_is_made_is_read_and_noise_is_not(value, kind, scale, check, noise):
    pattern = read_pattern(f"7e {{v:{kind}{scale}}}" + (f" {{{check}}}" if check else ""))
    made = pattern.make({"v": value})
    found = pattern.read(made)
    assert found is not None and pattern.make(found) == made
    assert pattern.read(noise + made[len(noise) :]) in (None, found) or not check or noise[0] == 0x7E


def test_a_lamp_that_says_level_0_while_it_is_off_can_be_switched_on(bench):
    """Its controller reports off with level 0; where it goes when it is switched on is where it was."""
    on = '[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "hall.on"\n'
    script = steps("2s: lamp.level = 60", "3s: lamp.on = true", "5s? hall.on and hall.level == 60", "6s: lamp.on = false", "7s: lamp.level = 0",
                   "9s? not hall.on", "10s: b.press", "<3s? hall.on and hall.level == 60")  # fmt: skip
    result = bench(LINE + LAMP + on, script, lasts="20s")
    assert not failed(result), failed(result)


def test_a_lamp_behind_a_controller(bench):
    links = '[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "hall.fade(40, \'1s\')"\n'
    result = bench(
        LINE + LAMP + links,
        steps(
            "2s: b.press", "<2s? hall.level == 40 and hall.on", "+1s: lamp.level = 70", "<1s? lamp.level == 70 and hall.level == 70",
            "+1s: lamp.garbage", "+1s: lamp.on = false", "<1s? not hall.on", "+1s: lamp.hours = 100000", "<1s? lamp.hours == 100000",
            "+1s: lamp.fall_silent", "<50s? not known(lamp.level)", "+1s: lamp.answer", "<8s? lamp.level == 70",
        ),
        lasts="2min",
    )  # fmt: skip
    assert not failed(result)
    told = [row["value"] for row in result.records if row["what"] == "print"]
    assert (
        "lamp: 6 bytes not understood" in told
        and "lamp does not answer" in told
        and "lamp answers again" in told
    )


def test_a_curtain_that_stops(bench):
    links = '[flag.f]\n[[link]]\nwhen = "f.on"\ndo = "window.go(30)"\n[[link]]\nwhen = "window.moved"\ndo = "notify(\'at {window.position}\')"\n'
    network = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
    result = bench(
        LINE + CURTAIN + links,
        steps(
            "7s: motor.travel = 0", "8s: motor.position = 55", "<1s? window.position == 55", "<4s? published('notes', 'at 55')", "+1s: message('f/on/set', 'true')",
            "<2s? window.position == 30", "+1s: message('window/do/open', '')", "<2s? window.position == 100",
            "+1s: message('window/position/set', '12')", "<2s? window.position == 12", "+1s: message('window/do/stop', '')", "=2s? window.position == 12",
        ),
        site=network,
    )  # fmt: skip
    assert not failed(result)


METERS = """
[meter.grid]
serial = "line"
every = "2s"
table = "grid.csv"
[meter.grid.registers]
limit = { at = 40, scale = 0.1, unit = "A", writable = true, low = 6, high = 16 }
relay = { at = 3, space = "coil", writable = true }
[meter.sun]
serial = "line"
address = 2
every = "5s"
[meter.sun.registers]
power = { at = 100, type = "s32", order = "little", unit = "W", space = "input" }
alarm = { at = 110, bit = 3, space = "input" }
goal = { at = 200, type = "f32", writable = true }
[flag.f]
[[link]]
when = "f.on"
do = ["grid.limit = 10.5", "grid.relay = true", "sun.goal = 2.5"]
"""
CSV = "name,at,type,space,unit\npower,0x0c,f32,input,W\nvoltage, 0,f32,input,V\n# a remark,,,,\n"


def test_two_meters_on_a_line_with_a_driver(bench, tmp_path):
    (tmp_path / "grid.csv").write_text(CSV)
    result = bench(
        LINE + "enable = 4\n" + METERS,
        "[world]\ngrid.power = 1234.5\ngrid.voltage = 230.25\nsun.power = -20\n"
        + steps(
            "9s? grid.power == 1234.5 and grid.voltage == 230.25 and sun.power == -20 and not sun.alarm and grid.limit == 0",
            "+1s: message('f/on/set', 'true')", "+1s: sun.power = 70000", "+1s: sun.alarm = true",
            "<8s? grid.limit == 10.5 and grid.relay and sun.power == 70000 and sun.alarm and sun.goal == 2.5",
            "+1s: grid.answer_wrong", "<12s? not known(grid.power) and sun.power == 70000", "+1s: grid.answer", "<5s? grid.power == 1234.5",
            "+1s: grid.refuse", "<12s? not known(grid.power)", "+1s: grid.answer_late", "+10s: grid.fall_silent", "+10s: grid.answer",
            "<9s? grid.power == 1234.5 and sun.power == 70000", "+1s: message('grid/limit/set', '17')", "=5s? grid.limit == 10.5",
        ),
        site='[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n',
        lasts="3min",
    )  # fmt: skip
    assert not failed(result)
    told = [row["value"] for row in result.records if row["what"] == "print"]
    assert [t.partition(", ")[0] for t in told if t.startswith("grid")][:3] == [
        "grid: answers wrongly",
        "grid answers again",
        "grid: it failed (exception 4)",
    ]
    assert any("out of its range" in t for t in told)


def test_registers_of_names_bits_and_texts(bench, tmp_path):
    """A mode by its names, a status word by its bits, a serial number as text; from a table and from the file."""
    (tmp_path / "grid.csv").write_text(
        "name;at;type;names;words\nmode;10;u16;0=off, 1=auto, 7=service;\nmake;20;text;;4\n"
    )
    body = (
        LINE
        + """[meter.grid]
serial = "line"
every = "2s"
table = "grid.csv"
[meter.grid.registers]
state = { at = 11, bits = { 0 = "heating", 9 = "alarm" } }
wish = { at = 12, names = { 1 = "day", 2 = "night" }, writable = true }
[flag.f]
[flag.g]
[[link]]
when = "f.on"
do = "grid.wish = 'night'"
[[link]]
when = "grid.mode == 'service' and grid.alarm"
do = "g.on = true"
"""
    )
    result = bench(
        body,
        "[world]\ngrid.mode = 'auto'\ngrid.make = 'ZA-17'\ngrid.heating = true\n"
        + steps(
            "9s? grid.mode == 'auto' and grid.make == 'ZA-17' and grid.heating and not grid.alarm and grid.wish == 'day' and not g.on",
            "+1s: grid.mode = 'service'", "+0s: grid.alarm = true", "<5s? g.on and grid.heating",
            "+1s: message('f/on/set', 'true')", "<5s? grid.wish == 'night'",
            "+1s: message('grid/wish/set', '\"day\"')", "<5s? grid.wish == 'day'",
            "+1s: message('grid/wish/set', '\"noon\"')", "=5s? grid.wish == 'day'",
        ),
        site='[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n',
        lasts="1min",
    )  # fmt: skip
    assert not failed(result)


def test_a_mistake_in_a_register_is_told_at_its_own_line(put, cli):
    rows = 'power = { at = 1, unit = "Watts" }\nmode = { at = 2, names = { 0 = "off", 1 = "off" } }\nfine = { at = 3 }\n'
    path = put({"t.csv": "name,at,typ\na,1,\nb,2,u64\n", "device.toml": HEADER.format(board="esp32-38pin") + LINE
        + '[meter.m]\nserial = "line"\ntable = "t.csv"\n[meter.m.registers]\n' + rows})  # fmt: skip
    found = [
        (f.place.file.rpartition("/")[2], f.place.line, f.message)
        for f in zapato.check(path).findings
        if f.code == "wrong-type"
    ]
    first = path.read_text().split("\n").index("[meter.m.registers]") + 2
    assert [(file, line) for file, line, _ in found] == [
        ("device.toml", first),
        ("device.toml", first + 1),
        ("t.csv", 3),
    ]
    assert "unit of power" in found[0][2] and "b has typ" in found[2][2]
    assert "b,2,u64" in cli("check", path).out


ROWS = {
    "a row twice": ("name,at\na,1\n b ,2\na,3\n", "line 4: a stands here a second time"),
    "a row without a name": ("name,at\na,1\n,2\n", "line 3: a row without a name"),
    "more cells than columns": ("name,at\na,1,7\n", "line 2: more cells than columns"),
    "more rows than a part can have": (
        "name,at\n" + "".join(f"r{n},{n}\n" for n in range(501)),
        "line 502: 500 rows are the most",
    ),
    "nothing but remarks": ("name,at\n#a,1\n,,\n", "line 3: no row with a name and values"),
    "a quote that never ends": ('name,at\na,"1\nb,2\n', "a quote is not closed"),
}


@pytest.mark.parametrize("what", ROWS)
def test_a_table_of_registers_that_cannot_be_is_told_at_its_line(what, put):
    text, words = ROWS[what]
    body = LINE + '[meter.m]\nserial = "line"\ntable = "t.csv"\n'
    path = put({"t.csv": text, "device.toml": HEADER.format(board="esp32-38pin") + body})
    assert any(words in f.message and "t.csv" in f.message for f in zapato.check(path).findings)


TOGETHER = {
    "names and a scale": ({"at": 1, "names": {"0": "off"}, "scale": 0.1}, "names for its values"),
    "names and bits": ({"at": 1, "names": {"0": "off"}, "bits": {"0": "on"}}, "names for its values"),
    "names of a real number": ({"at": 1, "names": {"0": "off"}, "type": "f32"}, "names for its values"),
    "bits of two words": ({"at": 1, "bits": {"0": "on"}, "type": "u32"}, "names for its bits"),
    "a text without words": ({"at": 1, "type": "text"}, "no words"),
    "words without a text": ({"at": 1, "words": 4}, "is no text"),
    "a text that is written": (
        {"at": 1, "type": "text", "words": 2, "writable": True},
        "a text can only be read",
    ),
    "names of one bit": ({"at": 1, "bit": 3, "names": {"0": "off"}}, "is one bit"),
    "a bit beyond the word": ({"at": 1, "bits": {"16": "on"}}, "numbers up to 15"),
    "one name twice": ({"at": 1, "names": "0=off, 1=off"}, "each name once"),
    "a name that the driver has": ({"at": 1, "bits": {"0": "patience"}}, "uses for itself"),
    "no name at all": ({"at": 1, "names": {}}, 'takes { 0 = "off"'),
    "a name of a bit that is a register": ({"at": 1, "bits": {"0": "other"}}, "stands twice"),
}


@pytest.mark.parametrize("what", TOGETHER)
def test_registers_that_cannot_be_are_refused(what):
    keys, words = TOGETHER[what]
    with pytest.raises(Wrong) as raised:
        read_registers({"one": keys, "other": {"at": 9}})
    assert words in raised.value.message and raised.value.at[0] in ("one", "other"), raised.value.message


def test_near_registers_are_read_together():
    at = {"a": 0, "b": 2, "far": 40, "wide": 5}
    rows = read_registers(
        {n: {"at": a, "type": "f32"} for n, a in at.items()}
        | {"c": {"at": 1, "space": "coil"}, "slow": {"at": 4, "every": "1min"}}
    )
    found = [(b.space, b.at, b.count, b.every, [r.name for r in b.registers]) for b in blocks(rows, 1000)]
    assert found == [
        ("coil", 1, 1, 1000, ["c"]),
        ("holding", 0, 7, 1000, ["a", "b", "wide"]),
        ("holding", 40, 2, 1000, ["far"]),
        ("holding", 4, 1, 60000, ["slow"]),
    ]


WRONG = {
    "no serial link": ('[meter.m]\nserial = "nobody"\nregisters = { a = { at = 1 } }', ["bus-missing"]),
    "a lamp on a bare link": (LINE + '[dimmer.d]\nserial = "line"', ["bus-missing"]),
    "no table": (LINE + '[meter.m]\nserial = "line"', ["missing-key"]),
    "no file": (LINE + '[meter.m]\nserial = "line"\ntable = "none.csv"\nregisters = { a = { at = 1 } }', ["file-unreadable"]),
    "a wrong type": (LINE + '[meter.m]\nserial = "line"\nregisters = { a = { at = 1, type = "u64" } }', ["wrong-type"]),
    "a wrong unit": (LINE + '[meter.m]\nserial = "line"\nregisters = { a = { at = 1, unit = "Watts" } }', ["wrong-type"]),
    "no address": (LINE + '[meter.m]\nserial = "line"\nregisters = { a = { type = "u16" } }', ["wrong-type"]),
    "a reading that is set": (LINE + '[meter.m]\nserial = "line"\nregisters = { a = { at = 1, space = "input", writable = true } }', ["wrong-type"]),
    "a frame of nothing": (LINE + '[frames.f]\nserial = "line"\nhears = "{a:u8}"', ["wrong-type"]),
    "a word that is none": (LINE + '[frames.f]\nserial = "line"\nsays = { "a b" = "01" }', ["wrong-type"]),
    "a link on what is not there": (LINE + LAMP + '[flag.f]\n[[link]]\nwhen = "lamp.volume > 3"\ndo = "f.on = true"', ["link-unknown"]),
}  # fmt: skip


@pytest.mark.parametrize(("body", "codes"), WRONG.values(), ids=WRONG)
def test_what_cannot_be(checked, body, codes):
    assert [f.code for f in checked(body) if f.severity == "error"] == codes


@pytest.mark.parametrize("board", ["esp8266-30pin", "rp2040w-40pin", "esp32c3-mini"])
def test_on_other_chips(bench, board):
    pins = {"esp8266-30pin": (15, 13), "rp2040w-40pin": (4, 5), "esp32c3-mini": (4, 5)}[board]
    line = f"[uart.line]\ntx = {pins[0]}\nrx = {pins[1]}\nbaud = 9600\n"
    result = bench(
        line + LAMP, steps("3s: lamp.level = 30", "<1s? lamp.level == 30"), board=board, lasts="10s"
    )
    assert not failed(result)


class Wire:
    """Two pseudo-terminals joined; `spoil` is the share of bytes that change on the way."""

    def __init__(self, spoil: float) -> None:
        self.ends, names = zip(*(pty.openpty() for _ in range(2)), strict=True)
        for each in (*self.ends, *names):
            tty.setraw(each)
        self.paths = [os.ttyname(each) for each in names]
        self.spoil, self.random, self.spoilt = spoil, Random(5), 0
        threading.Thread(target=self._carry, daemon=True).start()

    def _carry(self) -> None:
        while True:
            for end in select.select(self.ends, [], [])[0]:
                data = bytearray(os.read(end, 4096))
                for at in range(len(data)):
                    if self.random.random() < self.spoil:
                        data[at] ^= 1 << self.random.randrange(8)
                        self.spoilt += 1
                os.write(self.ends[1 - self.ends.index(end)], data)


COUNT = 50


def slave(path: str, asked: list[int]) -> None:
    """A slave of pymodbus: register k of the n-th request is n * 50 + k, so no two requests answer alike."""
    from pymodbus.server import ModbusSerialServer
    from pymodbus.simulator import DataType, SimData, SimDevice

    async def counting(function, start, address, count, registers, values):
        asked.append(count)
        for k in range(count):
            registers[address - start + k] = (len(asked) * COUNT + k) & 0xFFFF

    async def serve() -> None:
        device = SimDevice(1, [SimData(0, count=200, values=0, datatype=DataType.REGISTERS)], action=counting)
        await ModbusSerialServer(device, port=path, baudrate=115200).serve_forever()

    threading.Thread(target=lambda: asyncio.run(serve()), daemon=True).start()


@pytest.mark.parametrize("spoil", [0.0, 0.01], ids=["clean", "one byte of a hundred garbled"])
@pytest.mark.slow
def test_ten_thousand_reads_of_a_slave_that_is_not_ours(put, spoil):
    rows = "".join(f"r{k} = {{ at = {k} }}\n" for k in range(COUNT))
    body = f'[uart.line]\ntx = 17\nrx = 16\nbaud = 115200\n[meter.m]\nserial = "line"\nevery = "20ms"\npatience = "40ms"\n[meter.m.registers]\n{rows}'
    wire, asked = Wire(spoil), []
    slave(wire.paths[0], asked)
    live = Live(put(HEADER.format(board="esp32-38pin") + body), serial={"line": wire.paths[1]})
    board, seen, wrong = live.board.board, set(), []
    wanted = tuple(("m", f"r{k}") for k in range(COUNT))
    tell = board.on_seen

    def on_seen(data: bytes) -> None:
        tell(data)
        values = json.loads(data)[1:] if data else []
        if values and values[0] is not None:
            seen.add(values[0])
            if [(values[0] + k) & 0xFFFF for k in range(COUNT)] != values or values[0] % COUNT:
                wrong.append(values)

    board.on_seen = on_seen
    live.start()
    live.board.clock.post(lambda: board.look(wanted))
    try:
        soon(lambda: len(seen) * COUNT >= 10_000, 90)
    finally:
        made = live.stop()
    assert not wrong and made.crash is None and bool(wire.spoilt) == bool(spoil)
    assert len(seen) <= len(asked)


def test_a_gap_that_the_meter_does_not_have(bench):
    """Near registers in one request, which it refuses: one by one from then on, and every value is there."""
    body = (
        LINE
        + '[meter.mains]\nserial = "line"\n[meter.mains.registers]\na = { at = 1 }\nb = { at = 4 }\nc = { at = 6 }\n'
    )
    rows = steps(
        "5s? mains.a == 11 and mains.b == 22 and mains.c == 33", "+1s: mains.b = 44", "<30s? mains.b == 44"
    )
    world = "[world]\nmains.a = 11\nmains.b = 22\nmains.c = 33\n"
    assert not failed(bench(body, world + rows, lasts="1min"))
    refused = steps(
        "500ms: mains.refuse_gaps",
        "40s? mains.a == 11 and mains.b == 22 and mains.c == 33",
        "+1s: mains.c = 55",
        "<30s? mains.c == 55",
    )
    result = bench(body, world + refused, lasts="2min")
    assert not failed(result) and not result.faults


def test_a_lamp_that_only_hears(bench, checked):
    only = "[uart.line]\ntx = 17\nbaud = 9600\n"
    lamp = '[frames.lamp]\nserial = "line"\nsays = { level = "55 06 {level:u8} {sum}", on = "55 05 {on:bool} {sum}" }\n'
    body = (
        only + lamp + '[dimmer.hall]\nserial = "lamp"\nlongest_on = "5s"\n[button.b]\npin = 33\npull = "up"\n'
    )
    body += '[[link]]\nwhen = "b.pressed"\ndo = "hall.fade(40, \'1s\')"\n'
    assert not [f for f in checked(body) if f.severity == "error"]
    result = bench(
        body,
        steps("2s: b.press", "<2s? hall.on and hall.level == 40", "=2s? hall.on", "<4s? not hall.on"),
        lasts="20s",
    )
    assert not failed(result) and not result.faults


@pytest.mark.parametrize(
    "text",
    ["", "name\n", "name,at\nx,\n", "name,at\nx,70000\n", "name,at\n,1\n", "name,at,type\nx,1,f128\n", "name,at\nx,1\nx,2\n",
     "name,at,more\nx,1,2\n", 'name,at\n"x,1\n', "name,at\nx,1,2,3\n", "\x00\x01", "name,at\nX y,1\n", "at\n5\n", "name,at,scale\nx,1,0\n"],
)  # fmt: skip
def test_a_table_that_is_none_is_a_finding(text, put):
    device = put(
        {
            "device.toml": HEADER.format(board="esp32-38pin")
            + LINE
            + '[meter.m]\nserial = "line"\ntable = "t.csv"\n',
            "t.csv": text,
        }
    )
    found = [f for f in zapato.check(device) if f.severity == "error"]
    assert found and all(f.message and "Traceback" not in f.message for f in found)


TABLES = st.text(st.sampled_from("ab=[]\"'#\n .{}1-,é"), max_size=120)


@given(TABLES, st.sampled_from(["\n", "\r\n"]), st.booleans())
def test_a_table_put_into_a_file_changes_nothing_else(tmp_path_factory, text, newline, marked):
    """Whatever the file: its values and its comments stay, or it is told that it cannot be."""
    import tomllib

    from zapato.errors import Unreadable, Unwritable
    from zapato.lang.edit import add_table
    from zapato.lang.source import Source

    path = tmp_path_factory.mktemp("edit") / "x.toml"
    whole = f"[i2c.main]\nsda = 21 # here\n{text}\n# end\n".replace("\n", newline)
    path.write_bytes((b"\xef\xbb\xbf" if marked else b"") + whole.encode())
    try:
        before = tomllib.loads(whole)
    except tomllib.TOMLDecodeError:
        return
    try:
        source = Source.read(path)
        add_table(source, '[sensor.x]\nchip = "bme280"\n', "[i2c.main]")
    except (Unwritable, Unreadable):
        assert path.read_bytes().endswith(whole.encode())
        return
    after = path.read_bytes().decode("utf-8-sig")
    assert tomllib.loads(after) == {**before, "sensor": {**before.get("sensor", {}), "x": {"chip": "bme280"}}}
    assert all(line.rstrip("\r") in after for line in whole.split("\n") if line.startswith("#"))


def test_a_word_is_sent_by_a_link_and_one_it_has_no_frame_for_is_refused(bench, checked):
    links = '[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "lamp.send(\'{}\')"\n'
    (wrong,) = checked(LINE + LAMP + links.format("hors")).findings
    assert wrong.message == 'word has no "hors"' and wrong.fixes == ('did you mean "hours"?',)
    result = bench(
        LINE + LAMP + links.format("hours"),
        steps("5s: b.press", "9s: b.double", "12s: b.press", "15s: message('lamp/do/send', '\"nothing\"')"),
        lasts="20s",
        site=NETWORK.format(qos=0),
    )
    heard = [
        row["value"] for row in result.records if row["what"] == "frame" and "hours" in str(row["value"])
    ]
    assert len(heard) == 4, heard  # each press of the double is one, too
    assert any("no frame of this word" in text for _, text in result.log), result.log


# --- sensors that speak in frames, as they come with Zapato

SHIPPED_SENSORS = [
    ("dust-pms5003", "dust", {"pm1": 4, "pm25": 35, "pm10": 51}, "42 4d 00 1c 00 00 00 00 00 00 00 04 00 23 00 33 00 00 00 00 00 00 00 00 00 00 00 00 00 00 01 05"),
    ("dust-sds011", "dust", {"pm25": 12.5, "pm10": 300.1}, "aa c0 7d 00 b9 0b 00 00 41 ab"),
    ("co2-mhz19", "air", {"co2": 608}, "ff 86 02 60 00 00 00 00 18"),
    ("distance-a02", "echo", {"distance": 1.953}, "ff 07 a1 a7"),
    ("presence-ld2410", "person", {"state": 2, "moving": 0.81, "moving_energy": 0, "still": 0, "still_energy": 59, "distance": 0}, "f4 f3 f2 f1 0d 00 02 aa 02 51 00 00 00 00 3b 00 00 55 00 f8 f7 f6 f5"),
]  # fmt: skip
"""The piece, its part, values and the frame that has them, its check sum worked out by hand from the data sheet's rule."""


@pytest.mark.parametrize(("piece", "part", "values", "frame"), SHIPPED_SENSORS)
def test_a_sensor_that_comes_as_a_piece(piece, part, values, frame, put):
    way = f"{piece.partition('-')[0]}_serial"
    top = f'use = ["{piece}"]\nwith = {{ {way} = "line" }}\n'
    body = "[uart.line]\nrx = 16\ntx = 17\nbaud = 9600\n"
    path = put({"device.toml": top + HEADER.format(board="esp32-38pin") + body, "script.toml": ""})
    assert zapato.check(path).ok, [str(f) for f in zapato.check(path)]
    known = zapato.load(path).parts[part]
    skip, hears = known.get("skip", 0), known.get("hears", ())[0]
    assert (
        hears.make(values, skip) == bytes.fromhex(frame) and hears.read(bytes.fromhex(frame), skip) == values
    )
    damaged = bytearray.fromhex(frame)
    damaged[min(4, len(damaged) - 1)] ^= 1
    assert hears.read(bytes(damaged), skip) is None
    sets = "".join(
        f'[[step]]\nat = "{n + 1}s"\nact = "{part}.{key} = {value}"\n'
        for n, (key, value) in enumerate(values.items())
    )
    seen = " and ".join(f"{part}.{key} == {value}" for key, value in values.items())
    (path.parent / "script.toml").write_text(
        f'[rehearsal]\nlasts = "30s"\n{sets}[[step]]\nat = "25s"\nexpect = "{seen}"\n'
    )
    result = zapato.rehearse(path, path.parent / "script.toml")
    assert result.passed, (result.log, result.expectations)


SHIPPED_METERS = {
    "meter-pzem004t": ({"voltage": 231.4, "current": 12.345, "power": 2856.6, "energy": 70_001, "frequency": 49.9, "factor": 0.98},
        "09 0a 30 39 00 00 6f 96 00 00 11 71 00 01 01 f3 00 62"),
    "meter-sdm120": ({"voltage": 230.25, "current": -4.5, "power": -1036.125, "frequency": 50.0, "energy": 1234.5},
        "43 66 40 00"),
}  # fmt: skip
"""The values, and the registers from 0 on that have them, as the makers' tables of registers say."""


@pytest.mark.parametrize("piece", SHIPPED_METERS)
def test_a_meter_that_comes_as_a_piece(piece, put, monkeypatch):
    values, registers = SHIPPED_METERS[piece]
    top = f'use = ["{piece}"]\nwith = {{ meter_serial = "line" }}\n'
    body = "[uart.line]\nrx = 16\ntx = 17\nbaud = 9600\n[meter.mains]\naddress = 7\nevery = '2s'\n"
    path = put({"device.toml": top + HEADER.format(board="esp32-38pin") + body})
    assert zapato.check(path).ok, [str(f) for f in zapato.check(path)]
    world = "".join(f"mains.{key} = {value}\n" for key, value in values.items())
    seen = " and ".join(f"abs(mains.{key} - {value}) < 0.001" for key, value in values.items())
    put({"script.toml": f'[rehearsal]\nlasts = "10s"\n[world]\n{world}' + steps(f"9s? {seen}")})
    answers = []
    send = Serial.answer
    monkeypatch.setattr(
        Serial, "answer", lambda self, data, after=0: (answers.append(bytes(data)), send(self, data, after))
    )
    result = zapato.rehearse(path, path.parent / "script.toml")
    assert failed(result) == []
    assert all(answer[0] == 7 and answer[1] == 4 for answer in answers)
    assert any(bytes.fromhex(registers) in answer for answer in answers), answers[:3]


@pytest.mark.parametrize(
    ("mood", "why"),
    [
        ("refuse", "it failed (exception 4)"),
        ("answer_wrong", "answers wrongly"),
        ("fall_silent", "does not answer"),
    ],
)
def test_a_value_that_a_meter_does_not_take_is_told(mood, why, bench):
    body = (
        LINE
        + '[meter.grid]\nserial = "line"\n[meter.grid.registers]\nlimit = { at = 40, writable = true, low = 6, high = 16 }\n'
    )
    rows = steps(
        "15s: message('grid/limit/set', '9')",
        "<4s? grid.limit == 9",
        f"25s: grid.{mood}",
        "26s: message('grid/limit/set', '12')",
    )
    result = bench(body, rows, lasts="32s", site=NETWORK.format(qos=0))
    assert not failed(result) and [text for _, text in result.log if "was not set" in text] == [
        f"grid was not set: {why}"
    ]


@pytest.mark.parametrize(
    ("says", "part", "do", "needs"),
    [
        ('{ on = "66 01 {on:bool}" }', "dimmer", "x.fade(80, '4s')", "a frame for level in says"),
        ('{ on = "66 01 {on:bool}" }', "dimmer", "x.on", None),
        ('{ stop = "66 00" }', "blind", "x.go(50)", "a frame for position in says"),
        ('{ stop = "66 00" }', "blind", "x.open", "a frame for open or position in says"),
        ('{ open = "66 01" }', "blind", "x.open", None),
        ('{ open = "66 01" }', "blind", "x.close", "a frame for close or position in says"),
        ('{ position = "66 {position:u8}" }', "blind", "x.stop", "a frame for stop in says"),
        ('{ position = "66 {position:u8}" }', "blind", "x.close", None),
    ],
)
def test_what_a_controller_has_no_frame_for_is_told_at_the_desk(says, part, do, needs, checked):
    body = f'[frames.way]\nserial = "line"\nsays = {says}\n[{part}.x]\nserial = "way"\n[button.b]\npin = 33\npull = "up"\n'
    uart = "[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\n"
    found = checked(f'{uart}{body}[[link]]\nwhen = "b.pressed"\ndo = "{do}"\n').findings
    assert [f.fixes for f in found if f.severity == "error"] == (
        [] if needs is None else [(f"it needs {needs}",)]
    )
