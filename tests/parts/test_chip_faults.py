"""Bad days of parts on buses: chips that fall silent, lie, lose their power or hang; the program goes on and says so once."""

import json
import struct
from itertools import pairwise

import pytest
from conftest import NETWORK, failed, in_the_vm, steps
from support.approved import approve

from zapato import extensions
from zapato.firmware.compile import runtime_source
from zapato.parts.described.sim import Chip
from zapato.simulator.wasi import Fault

BUS = "[i2c.main]\nsda = 21\nscl = 22\n"
EXPANDER = (
    f'{BUS}[expander.io]\nchip = "mcp23017"\nbus = "main"\n{{more}}'
    '[relay.pump]\npin = "io.3"\n[contact.door]\npin = "io.6"\npull = "up"\n[led.l]\npin = 25\nshows = "door.closed"\n'
)
FELT = "[world]\ns.temperature = 20\ns.humidity = 50\n"


def chip_of(name: str):
    """The class of its stand-in; described chips share one."""
    return extensions.own_bundles()[name].member("sim", "Chip") if name in extensions.own_bundles() else Chip


def sensor(name: str, every: str = "5s") -> str:
    return f'{BUS}[sensor.s]\nchip = "{name}"\nbus = "main"\nevery = "{every}"\n'


def notes(result) -> list[str]:
    return [text for _, text in result.log]


@pytest.mark.parametrize("name", ["sht31", "aht20", "scd41"])
def test_a_wrong_check_sum_is_no_reading(bench, monkeypatch, name):
    """One bit is wrong in every answer: nothing is believed, and it is told once."""
    chip = chip_of(name)
    read = chip.read

    def wrong(self, size):
        data = bytearray(read(self, size))
        if size > 2:
            data[-2] ^= 4
        return bytes(data)

    monkeypatch.setattr(chip, "read", wrong)
    result = bench(sensor(name), steps("40s? not known(s.temperature)"), head=FELT)
    assert not failed(result) and not result.restarts
    assert sum("s does not answer" in text for text in notes(result)) == 1


@pytest.mark.parametrize("name", ["bh1750", "sht31", "bme280", "ina219"])
def test_a_chip_that_falls_silent_and_comes_back_is_set_up_anew(bench, monkeypatch, name):
    """Unknown after three silent readings; known again after its return, though it has forgotten its settings."""
    chip = chip_of(name)
    what = {"bh1750": "illuminance", "ina219": "voltage"}.get(name, "temperature")
    clock = {}
    for word in ("read", "write"):
        whole = getattr(chip, word)

        def silent(self, given, whole=whole):
            now = clock.setdefault(
                "now", self.stimulus
            )  # the simulator's own quantity tells the time: 99 means silence
            if now and self.stimulus(what) == 9:
                if hasattr(self, "power_on"):
                    self.power_on()
                elif hasattr(self, "mode"):
                    self.mode = 0
                raise Fault(19)
            return whole(self, given)

        monkeypatch.setattr(chip, word, silent)
    script = steps(
        f"12s? abs(s.{what} - 20) < 1",
        f"14s: s.{what} = 9",
        f"40s? not known(s.{what})",
        f"41s: s.{what} = 20",
        f"60s? abs(s.{what} - 20) < 1",
    )
    result = bench(sensor(name), script, head=f"[world]\ns.{what} = 20\n", lasts="65s")
    assert not failed(result)
    assert [text for text in notes(result) if text.startswith("s ")] == [
        "s does not answer: [Errno 19] ENODEV",
        "s answers again",
    ]


def test_another_chip_at_the_address_is_told(bench, monkeypatch):
    monkeypatch.setattr(chip_of("bme280"), "identity", 0x58)
    result = bench(sensor("bme280"), steps("40s? not known(s.temperature)"), head=FELT)
    assert not failed(result) and any("another chip answers" in text for text in notes(result))


def test_a_thermometer_whose_line_is_noisy(bench, monkeypatch):
    """A byte that came wrong is noticed by the check byte; the next reading is good again."""
    from zapato.simulator.onewire import WireLine

    read, count = WireLine.read, iter(range(10**6))
    monkeypatch.setattr(WireLine, "read", lambda self: read(self) ^ (1 if next(count) % 18 == 4 else 0))
    body = '[onewire.line]\npin = 27\npull_up = "4.7kohm"\n[sensor.s]\nchip = "ds18b20"\nbus = "line"\nevery = "5s"\n'
    result = bench(
        body,
        steps("3s? not known(s.temperature)", "9s? s.temperature == -3.5", "=40s? s.temperature == -3.5"),
        head="[world]\ns.temperature = -3.5\n",
    )
    assert not failed(result) and not any("does not answer" in text for text in notes(result))


def test_two_thermometers_without_serials_are_told_apart_by_nobody(checked):
    body = '[onewire.line]\npin = 27\npull_up = "4.7kohm"\n' + "".join(
        f'[sensor.s{n}]\nchip = "ds18b20"\nbus = "line"\nevery = "5s"\n' for n in range(2)
    )
    assert [f.code for f in checked(body)] == ["serial-missing"] * 2
    assert [f.code for f in checked(body + 'serial = "28ff641e0f43c451"\n')] == ["serial-missing"]


@pytest.mark.parametrize("serial", ["28ff641e8d3c0c00", "28ff", "zz" * 8, "28-0316a279e1ff"])
def test_a_serial_with_a_typing_mistake_is_found_at_the_desk(checked, serial):
    body = f'[onewire.line]\npin = 27\npull_up = "4.7kohm"\n[sensor.s]\nchip = "ds18b20"\nbus = "line"\nserial = "{serial}"\n'
    assert [f.code for f in checked(body)] == ["wrong-type"]


# --- the expander


def hold(monkeypatch, when):
    """Every chip on the bus is silent while `when(board)`."""
    from zapato.simulator.board import SimulatedBoard

    chip = SimulatedBoard._chip

    def silent(self, sda, address):
        if when(self):
            raise Fault(19)
        return chip(self, sda, address)

    monkeypatch.setattr(SimulatedBoard, "_chip", silent)


def test_an_expander_that_loses_its_power_gets_its_levels_again(bench, monkeypatch):
    """Off the bus for 10 s, and blank when it is back: relay and pull-up are as they were, told once each way."""
    blank = []

    def gone(board):
        away = 10_000 < board.clock.now < 20_000
        if away and not blank:
            blank.append(board.buses[21][0x20].power_on())
        return away

    hold(monkeypatch, gone)
    body = EXPANDER.format(more="")
    script = steps(
        "6s: message('pump/on/set', 'true')",
        "<1s? pump.on",
        "15s? not pump.on",
        "24s? pump.on",
        "25s: door.closed = true",
        "<1s? l.on",
    )
    result = bench(body, script, lasts="30s", site=NETWORK.format(qos=0))
    assert not failed(result)
    assert [t for t in notes(result) if t.startswith("io ")] == [
        "io does not answer: [Errno 19] ENODEV",
        "io answers again",
    ]


def test_a_bus_that_hangs_does_not_take_the_program_with_it(bench, monkeypatch):
    """Each talk to a bus held low takes its 50 ms; a button on the chip's own pin still works at once."""

    def hangs(board):
        if board.clock.now > 5_000:
            board.clock.busy(50_000)
            return True
        return False

    hold(monkeypatch, hangs)
    body = (
        EXPANDER.format(more="")
        + '[button.b]\npin = 33\npull = "up"\n[relay.r]\npin = 26\n[[link]]\nwhen = "b.pressed"\ndo = "r.toggle"\n'
    )
    presses = [f"{20 + 3 * n}s: b.press" for n in range(6)]
    script = steps(
        *(
            each
            for n, press in enumerate(presses)
            for each in (press, f"<250ms? {'not ' if n % 2 else ''}r.on")
        )
    )
    assert not failed(bench(body, script, lasts="45s"))


@pytest.mark.parametrize(
    ("chip", "board", "sda", "scl"),
    [
        ("mcp23017", "esp8266-30pin", 4, 5),
        ("pcf8574", "esp32-38pin", 21, 22),
        ("mcp23008", "esp32-38pin", 21, 22),
        ("mcp23s17", "esp32-38pin", 0, 0),
        ("mcp23s08", "esp8266-30pin", 0, 0),
    ],
)
def test_no_pin_of_an_expander_is_ever_driven_to_a_level_that_nobody_asked_for(bench, chip, board, sda, scl):
    """From power-up on, and through a restart: a relay that is to stay off never sees its level for on."""
    high = '[relay.high]\npin = "io.2"\n' if chip.startswith("mcp") else ""
    pins = (
        "sck = 14\nmosi = 13\nmiso = 12\n"
        if board.startswith("esp8266")
        else "sck = 18\nmosi = 23\nmiso = 19\n"
    )
    on = f"[i2c.main]\nsda = {sda}\nscl = {scl}\n" if sda else f"[spi.main]\n{pins}"
    select = "" if sda else "select = 5\n"
    body = (
        f'{on}[expander.io]\nchip = "{chip}"\nbus = "main"\n{select}'
        f'[contact.c]\npin = "io.0"\npull = "up"\n[relay.low]\npin = "io.1"\nactive = "low"\n{high}'
        '[relay.lit]\npin = "io.5"\nstart = "on"\nactive = "low"\n'
    )
    script = steps("5s? not low.on and lit.on", "6s: power.cut", "12s? not low.on and lit.on")
    result = bench(body, script, board=board, lasts="13s")
    assert not failed(result)
    powered, seen = False, set()
    for row in result.records:
        if row["what"] == "power":
            powered = bool(row["value"])
        if row["what"] == "pin" and powered and row["name"].startswith("io."):
            seen.add((row["name"], row["value"]))
    assert ("io.1", 0) not in seen and ("io.5", 0) in seen and not (high and ("io.2", 1) in seen)


# --- blinds, pulses, links


BLIND = '[blind.w]\nopen = 25\nclose = 26\ntravel = "20s"\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "w.go(40)"\n'


def test_a_blind_cut_on_its_way_does_not_pretend_to_know(bench):
    """Its first run goes to an end; cut on the way its place is unknown, and the next run finds an end again."""
    script = steps(
        "1s: b.press",
        "45s? abs(w.position - 40) < 1",
        "50s: message('w/position/set', '90')",
        "54s: power.cut",
        "60s? published('w/position', 'null')",
        "62s: b.press",
        "110s? abs(w.position - 40) < 1",
    )
    result = bench(BLIND, script, lasts="2min", site=NETWORK.format(qos=0))
    assert not failed(result)


def test_what_the_program_did_not_know_is_told_beside_a_failure(bench):
    """A blind that never ran has no position: neither a condition on it nor its opposite holds."""
    body = BLIND + '[relay.r]\npin = 27\n[[link]]\nwhen = "b.pressed"\nif = "w.position < 50"\ndo = "r.on"\n'
    body += '[[link]]\nwhen = "b.pressed"\nif = "not (w.position < 50)"\ndo = "r.on"\n'
    for site in ("", NETWORK.format(qos=0)):
        result = bench(
            body.replace('do = "w.go(40)"', "do = \"notify('b')\""),
            steps("1s: b.press", "2s? r.on"),
            lasts="5s",
            site=site,
        )
        (found,) = result.expectations
        assert found.passed is False and found.unknown == {"w.position": (2, 3)}


def test_a_blind_is_held_to_its_range_by_links_and_refused_over_mqtt(bench):
    body = BLIND + '[number.n]\nstart = 0\n[[link]]\nwhen = "n.value > 0"\ndo = "w.position = n.value"\n'
    script = steps(
        "5s: message('w/do/open', '')",
        "35s? w.position == 100",
        "36s: message('w/position/set', '150')",
        "40s? w.position == 100",
        "41s: message('w/do/close', '')",
        "70s? w.position == 0",
        "71s: message('n/value/set', '400')",
        "99s? w.position == 100",
    )
    result = bench(body, script, lasts="100s", site=NETWORK.format(qos=0))
    assert not failed(result) and sum("out of its range" in text for text in notes(result)) >= 1


def test_pulses_are_counted_while_the_program_waits_on(bench):
    """As the ports do (extmod/modselect.c): a handler that ran makes nothing ready by itself, so poll() goes on waiting.

    A button's handler does make something ready, and is heard at once.
    """
    body = '[sensor.meter]\nchip = "pulse"\npin = 32\nevery = "10s"\n[button.b]\npin = 33\npull = "up"\n[relay.r]\npin = 26\n'
    link = '[[link]]\nwhen = "b.pressed"\ndo = "r.toggle"\n'
    result = bench(
        body + link,
        steps("1s: meter.rate = 40", "30s: b.press", "30100ms? r.on", "59s? abs(meter.rate - 40) < 1"),
        lasts="60s",
    )
    assert not failed(result)
    assert result.effort.turns < 80, "some turns a second, whatever the pulses do"


def test_one_link_cannot_fill_the_memory_with_what_waits(bench):
    """It comes every second and waits ten minutes to act: eight wait, the others are counted."""
    body = '[relay.r]\npin = 26\n[[link]]\nevery = "1s"\nafter = "10min"\ndo = "r.toggle"\n'
    result = bench(body, steps("9min? not r.on", "=30s? not r.on"), lasts="10min", site=NETWORK.format(qos=0))
    assert not failed(result)
    vitals = [r["value"] for r in result.records if r["what"] == "mqtt" and r["name"].endswith("/vitals")]
    assert json.loads(vitals[-1])["dropped"] > 400
    free = [json.loads(each)["heap"] for each in vitals]
    assert min(free[1:]) > free[0] - 6000


# --- the way to names, byte by byte


NAMES = """
import names

class Clock:
    def after(self, ms, call): self.call = call

class Net:
    def radio(self, call): return call()
    class wlan:
        @staticmethod
        def ifconfig(): return ("1", "2", "3", "9.9.9.9")

class Sock:
    said = []
    def __init__(self, *rest): pass
    def setblocking(self, flag): pass
    def sendto(self, data, place): Sock.said.append((bytes(data), place))
    def recv(self, size):
        if not Sock.answers: raise OSError(11)
        return Sock.answers.pop(0)
    def close(self): pass

names.socket.socket = Sock
d = Clock()
d.net = Net()
got = []
n = names.Names(d)
Sock.answers = []
n.ask("broker.refuge", got.append)
question, place = Sock.said[0]
print(place, question[2:] == b"\\1\\0\\0\\1\\0\\0\\0\\0\\0\\0\\6broker\\6refuge\\0\\0\\1\\0\\1")
head = lambda count, flags=b"\\x81\\x80": question[:2] + flags + b"\\0\\1" + bytes((0, count)) + b"\\0\\0\\0\\0" + question[12:]
address = b"\\xc0\\x0c\\0\\1\\0\\1\\0\\0\\0\\x3c\\0\\4" + bytes((10, 1, 2, 3))
other = b"\\xc0\\x0c\\0\\5\\0\\1\\0\\0\\0\\x3c\\0\\6\\4host\\0"
for bad in (b"x", b"\\0\\0" + head(1)[2:] + address, head(1, b"\\1\\0") + address, head(9) + other, question[:2] + b"\\xff" * 40, head(1) + b"\\xc0\\x0c\\0\\1\\0\\1\\0\\0\\0\\x3c\\xff\\xff"):
    Sock.answers = [bad]
    d.call()
    print(got)
Sock.answers = [head(3) + other + b"\\4host\\6refuge\\0\\0\\x1c\\0\\1\\0\\0\\0\\x3c\\0\\x10" + bytes(16) + address]
d.call()
print(got)
n.ask("nobody", got.append)
question = Sock.said[-1][0]
Sock.answers = [question[:2] + b"\\x81\\x83\\0\\1\\0\\0\\0\\0\\0\\0" + question[12:]]
d.call()
print(got[1:])
sent = len(Sock.said)
n.ask("silence", got.append)
for _ in range(120): d.call()
print(got[2:], len(Sock.said) - sent)
"""


def test_answers_of_a_name_server_good_bad_and_hostile():
    said = in_the_vm(NAMES, {"names": runtime_source("names", "esp32")}).split("\n")
    assert said[0] == "('9.9.9.9', 53) True"
    assert said[1:7] == ["[]"] * 6
    assert said[7] == "['10.1.2.3']" and said[8] == "[None]"
    assert said[9] == "[None] 4"


# --- what a change elsewhere would break without a sound


def frames(result) -> list[tuple[int, str]]:
    return [(r["value"], r["first"]) for r in result.records if r["what"] == "lights"]


@pytest.mark.parametrize(
    ("chip", "wire"), [("ws2812b", "804000"), ("sk6812", "804000"), ("ws2811", "408000")]
)
def test_the_bytes_of_a_strip_in_its_chips_order_and_within_its_limit(bench, chip, wire):
    """#80ff00 at half its level under a limit of 100 %, then of what is left; the order is that of the datasheet."""
    body = f'[strip.s]\npin = 13\ncount = 10\nchip = "{chip}"\nlimit = 50\n'
    acts = ["message('s/color/set', '\"#80ff00\"')", "message('s/on/set', 'true')"]
    script = steps(
        f"6s: {acts[0]}", f"7s: {acts[1]}", "8s: message('s/level/set', '20')", "9s: message('s/do/off', '')"
    )
    shown = frames(bench(body, script, lasts="10s", site=NETWORK.format(qos=0)))
    assert shown == [
        (0, "000000"),
        (10, wire),
        (10, "1a0d00" if wire == "804000" else "0d1a00"),
        (0, "000000"),
    ]


def test_a_strip_with_white_and_an_order_of_its_own(bench):
    """#80ff40 at half is 64, 128, 32; what all three have is white, in place of them (SK6812RGBW: 32 bits, white last)."""
    body = '[strip.s]\npin = 13\ncount = 3\nchip = "sk6812"\norder = "{}"\nlimit = 50\n'
    script = steps("6s: message('s/color/set', '\"#80ff40\"')", "7s: message('s/do/on', '')")
    for order, wire in (("grbw", "60200020"), ("bgr", "208040"), ("rgbw", "20600020")):
        result = bench(body.format(order), script, lasts="8s", site=NETWORK.format(qos=0))
        assert frames(result)[-1] == (3, wire)


def test_effects_keep_their_pace_and_their_limit(bench):
    body = '[strip.s]\npin = 13\ncount = 40\nchip = "ws2812b"\nlimit = 10\n'
    for effect in ("breathe", "flow", "sparkle"):
        script = steps(
            f"6s: message('s/do/show', '\"{effect}\"')", "10s: message('s/effect/set', '\"still\"')"
        )
        result = bench(body, script, lasts="12s", site=NETWORK.format(qos=0))
        moments = [r["t"] for r in result.records if r["what"] == "lights" and 6_100 < r["t"] < 10_000]
        assert len({first for _, first in frames(result)}) > 2 and len(moments) > 60, effect
        # 40 ms from one beginning to the next; a collection of the memory may lengthen one of them
        assert all(after - before >= 30 for before, after in pairwise(moments))
        brightest = max(int(first[at : at + 2], 16) for _, first in frames(result) for at in (0, 2, 4))
        assert brightest <= 26 and frames(result)[-1] == (40, "1a1a1a"), effect


def test_a_touch_pad_follows_the_weather(bench, monkeypatch):
    """Its reading drifts by a third within ten minutes: no finger; a finger afterwards is one."""
    from zapato.simulator.board import SimulatedBoard

    read = SimulatedBoard.do_touch
    drift = lambda board: 1 - 0.35 * min(1, board.clock.now / 600_000)  # noqa: E731
    monkeypatch.setattr(
        SimulatedBoard, "do_touch", lambda self, *given: round(read(self, *given) * drift(self))
    )
    body = '[touch.rail]\npin = 4\n[relay.r]\npin = 26\n[[link]]\nwhen = "rail.pressed"\ndo = "r.toggle"\n'
    result = bench(
        body, steps("10s? not r.on", "=11min? not r.on", "12min: rail.press", "<1s? r.on"), lasts="13min"
    )
    assert not failed(result)


def test_a_converter_on_five_volts_measures_up_to_them(bench):
    body = f'{BUS}[converter.adc]\nchip = "ads1115"\nbus = "main"\nsupply = "5V"\nfed_from = "5V"\nshifted = true\n[sensor.t]\nchip = "analog"\npin = "adc.2"\nevery = "1s"\n'
    result = bench(
        body, steps("5s? abs(t.voltage - 4.8) < 0.001"), head="[world]\nt.voltage = 4.8\n", lasts="6s"
    )
    assert not failed(result)


def test_smoothing_forgets_what_was_before_a_silence(bench, monkeypatch):
    """The mean of ten readings after a gap is that of the new ones."""
    hold(monkeypatch, lambda board: 10_000 < board.clock.now < 20_000)
    body = sensor("bh1750", "1s") + 'smooth = "mean 10"\ngives = "light"\n'
    script = steps("9s? abs(s.light - 1000) < 1", "15s: s.illuminance = 10", "24s? abs(s.light - 10) < 1")
    assert not failed(bench(body, script, head="[world]\ns.illuminance = 1000\n", lasts="25s"))


def test_an_end_of_a_blind_is_reached_whatever_the_clock_says(bench):
    """A run to an end goes on for a tenth of the travel: 22 s of driving for 20 s of travel."""
    result = bench(
        BLIND,
        steps("5s: message('w/do/open', '')", "60s? w.position == 100"),
        lasts="61s",
        site=NETWORK.format(qos=0),
    )
    moves = [
        (r["t"], r["value"])
        for r in result.records
        if r["what"] == "pin" and r["name"] == "GPIO25" and r["t"]
    ]
    (begun, _), (ended, _) = moves[-2:]
    assert not failed(result) and 21_900 <= ended - begun <= 22_200


def test_free_pins_of_a_modulated_part_leave_out_those_that_share_its_neighbours_output(checked):
    """RP2040: output n belongs to GPIO n and n + 16."""
    report = checked("[dimmer.a]\npin = 16\n[dimmer.b]\npin = 23\n", "rp2040w-40pin")
    offered = " ".join(fix for f in report if f.part == "dimmer.b" for fix in f.fixes)
    assert "free pins" in offered and not {"0", "0,"} & set(offered.split())


def test_a_plan_in_pieces_runs_as_one(bench):
    """Sixty numbers and sixty links: more than one module; the last link works like the first, on both forms of the build."""
    body = "[relay.lamp]\npin = 14\n" + "".join(
        f'[number.n{i}]\nstart = 0\n[[link]]\nwhen = "n{i}.value > {i}"\ndo = "lamp.toggle"\n'
        for i in range(40)
    )
    script = steps(
        "6s: message('n0/value/set', '5')",
        "<1s? lamp.on",
        "8s: message('n39/value/set', '99')",
        "<1s? not lamp.on",
    )
    for board in ("esp32-38pin", "esp8266-30pin"):
        few = body if board == "esp32-38pin" else body.split("[number.n20]")[0]
        moves = script if board == "esp32-38pin" else script.replace("n39", "n19")
        result = bench(few, moves, board=board, lasts="10s", site=NETWORK.format(qos=0))
        assert not failed(result), board


@pytest.mark.parametrize(
    ("call", "shown"),
    [
        ("PWM(Pin(25), freq=0x7fffffff, duty_u16=0)", "ValueError"),
        ("PWM(Pin(34), freq=1000, duty_u16=0)", "ValueError"),
        ("DAC(Pin(33))", "ValueError"),
        ("TouchPad(Pin(25))", "ValueError"),
        ("I2C(5, scl=Pin(22), sda=Pin(21))", "ValueError"),
        ("I2C(1, scl=Pin(22), sda=Pin(21)).scan()", "[]"),
        ("time_pulse_us(Pin(32, Pin.IN), 1, 30000)", "-2"),
    ],
)
def test_the_shims_refuse_what_the_chip_cannot_do(put, tmp_path, call, shown):
    """As the ports do: a pin that cannot, a rate or a controller that is not there."""
    import zapato
    from zapato.firmware.compile import cache_folder, compile_all

    device = put(
        {
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[led.l]\npin = 4\n',
            "script.toml": '[rehearsal]\nlasts = "3s"\n',
        }
    )
    app = zapato.build(device, tmp_path / "out").app
    source = f"def run():\n    from machine import DAC, I2C, PWM, Pin, TouchPad, time_pulse_us\n    import time\n    try:\n        print('FOUND', {call})\n    except Exception as error:\n        print('FOUND', type(error).__name__)\n    time.sleep(9)\n"
    (app / "start.mpy").write_bytes(compile_all({"start": source}, cache_folder())["start"])
    result = zapato.rehearse(device, device.parent / "script.toml", app=app)
    assert f"FOUND {shown}" in notes(result) or any(
        t.startswith("FOUND <") and shown == "[]" for t in notes(result)
    )


def test_each_port_has_its_own_error_numbers():
    """The ESP32's are its C library's: a connection on its way is 119 there, 115 elsewhere."""
    from zapato.simulator.rehearse import machine_modules

    assert (
        machine_modules("esp32")["errno.mpy"]
        != machine_modules("esp8266")["errno.mpy"]
        == machine_modules("rp2")["errno.mpy"]
    )
    assert not any(
        name.endswith(("_esp32.mpy", "_rp2.mpy", "_esp8266.mpy")) for name in machine_modules("esp32")
    )


BOSCH = """
from s_bme280 import Bme280

class Chip(Bme280):
    def __init__(self, memory):
        self.memory = memory
        self.at = 0

    def send(self, *data):
        self.at = data[0]

    def get(self, size):
        return self.memory[self.at : self.at + size]

for number, memory in enumerate(MEMORIES):
    chip = Chip(memory)
    chip.begin()
    for raw in range(300000, 700000, 57001):
        fine = chip.warm(raw)
        print(number, raw, fine, chip.press(raw - 90000, fine), chip.damp(raw >> 4, fine), chip.damp(raw // 20, fine))
"""


def test_the_compensation_to_its_last_digit():
    """Two calibrations, one with every sign the other way where it can be; against the formula as the stand-in has it, and as approved."""
    from zapato.parts.sensors.bme280 import sim

    memories = []
    for turn, wet in (
        (sim.P, sim.H),
        ((36000, 9800, -2500, -2700, 150, 9, 9900, 14000, -4300), (60, 340, 5, 310, -40, -20)),
    ):
        memory = bytearray(sim.Chip(lambda name: 0).memory)
        memory[0x8E:0xA0] = struct.pack("<Hhhhhhhhh", *turn)
        memory[0xA1] = wet[0]
        memory[0xE1:0xE8] = struct.pack("<hB", wet[1], wet[2]) + bytes(
            (wet[3] >> 4 & 255, wet[3] & 15 | (wet[4] & 15) << 4, wet[4] >> 4 & 255, wet[5] & 255)
        )  # fmt: skip
        memories.append(bytes(memory))
    modules = {name: runtime_source(name, "esp32") for name in ("s_bme280", "i2c_sensor", "sensor", "loop")}
    said = in_the_vm(f"MEMORIES = {memories!r}\n{BOSCH}", modules)
    for row in said.splitlines():
        number, raw, fine, pressure, damp, _ = (float(word) for word in row.split())
        assert fine == pytest.approx(sim.fine(int(raw)), rel=1e-4)
        if not number:
            assert pressure == pytest.approx(sim.pascal(int(raw) - 90000, fine), rel=1e-4)
            assert damp == pytest.approx(min(100, max(0, sim.damp(int(raw) >> 4, fine))), abs=0.01)
    approve("bme280", said)
