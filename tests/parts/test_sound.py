"""Microphones, analog and on I2S: tones and recordings; strips that follow; and the radio of 433 MHz switches."""

import math
import struct
import wave
from itertools import pairwise

import pytest
from conftest import HEADER, failed, in_the_vm, steps
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.firmware.compile import runtime_source

ANALOG = "[sound.hall]\npin = {}\n"
DIGITAL = "[sound.hall]\nsck = {}\nws = {}\nsd = {}\nquiet = -60\n"


def recording(path, samples, rate=8000, width=2, channels=1):
    with wave.open(str(path), "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(width)
        file.setframerate(rate)
        file.writeframes(b"".join(struct.pack("<h", int(each)) * channels for each in samples))


@pytest.mark.parametrize(
    ("board", "body", "quiet"),
    [
        ("esp32-38pin", ANALOG.format(34), -40),
        ("esp8266-30pin", ANALOG.format('"A0"'), -40),
        ("rp2040w-40pin", ANALOG.format(26), -40),
        ("esp32-38pin", DIGITAL.format(26, 25, 33), -60),
        ("esp32c3-mini", DIGITAL.format(4, 5, 6), -60),
        ("rp2040w-40pin", DIGITAL.format(10, 11, 13), -60),
    ],
)
def test_loudness_on_every_port(bench, board, body, quiet):
    rows = []
    for n, loud in enumerate((-3.0, -20.0, -30.0)):
        level = 100 * (1 - loud / quiet)
        rows += [
            f"{5 * n + 2}s: hall.loudness = {loud}",
            f"<1s? abs(hall.loudness - {loud}) < 1.5 and abs(hall.level - {level}) < 4",
        ]
    result = bench(
        body, "[world]\nhall.loudness = -90\n" + steps("1900ms? hall.level < 30", *rows), board=board
    )
    assert not failed(result) and not result.faults


def test_a_recording_is_heard_and_then_it_is_still(put):
    body = HEADER.format(board="esp32-38pin") + ANALOG.format(34)
    body += '[strip.rack]\npin = 13\ncount = 4\nchip = "ws2812b"\nsupply = "4.5V"\nfollows = "hall.level"\n[[link]]\nwhen = "b.down"\ndo = "rack.on"\n[button.b]\npin = 25\npull = "up"\n'
    rows = steps(
        "1500ms: b.press", '2s: hall.plays = "bell.wav"', "<1s? hall.level > 75", "<3s? hall.level < 20",
    )  # fmt: skip
    device = put(
        {"device.toml": body, "s.toml": '[rehearsal]\nlasts = "8s"\n[world]\nhall.loudness = -90\n' + rows}
    )
    recording(device.parent / "bell.wav", [16384 * math.sin(n / 3) for n in range(8000)])
    result = zapato.rehearse(device, device.parent / "s.toml")
    assert not failed(result)
    lit = [bytes.fromhex(r["first"])[0] for r in result.records if r["what"] == "lights"]
    assert max(lit) > 150 and lit[-1] < 60, "the strip is bright while it sounds, and dark again"
    for broken, words in ((b"RIFF", "no WAV"), (None, "cannot be read")):
        if broken is None:
            (device.parent / "bell.wav").unlink()
        else:
            (device.parent / "bell.wav").write_bytes(broken)
        with pytest.raises(zapato.errors.RehearsalInvalid) as wrong:
            zapato.rehearse(device, device.parent / "s.toml")
        assert words in wrong.value.findings[0].message
    recording(device.parent / "bell.wav", [0] * 10, width=1)
    with pytest.raises(zapato.errors.RehearsalInvalid, match="cannot be rehearsed"):
        zapato.rehearse(device, device.parent / "s.toml")


@pytest.mark.parametrize(
    ("body", "board", "codes"),
    [
        (DIGITAL.format(14, 12, 13), "esp8266-30pin", ["i2s-exhausted"]),
        (DIGITAL.format(10, 12, 13), "rp2040w-40pin", ["i2s-order"]),
        (ANALOG.format(25), "esp32-38pin", ["pin-analog-radio"]),
        ("[sound.hall]\nsck = 26\n", "esp32-38pin", ["missing-key", "missing-key"]),
        ("[sound.hall]\n", "esp32-38pin", ["missing-key"]),
    ],
)
def test_findings(checked, body, board, codes):
    network = '[wifi]\nname = "hall"\n' if "radio" in codes[0] else ""
    assert [f.code for f in checked(body + network, board) if f.severity == "error"] == codes


AIR = """[receiver.air]
pin = {pin}
send = {send}
[remote.hall]
receiver = "air"
code = "a3f012"
[remote.plug]
receiver = "air"
code = "0f0f01"
[relay.lamp]
pin = {lamp}
[[link]]
when = "hall.pressed"
do = "lamp.toggle"
[[link]]
when = "lamp.on"
do = "plug.send"
"""


@pytest.mark.parametrize(
    ("board", "pins"),
    [("esp32-38pin", (27, 26, 25)), ("rp2040w-40pin", (14, 12, 5))],
)
def test_codes_come_and_go(bench, board, pins):
    body = AIR.format(pin=pins[0], send=pins[1], lamp=pins[2])
    rows = steps(
        "3s: hall.press", "<500ms? lamp.on and hall.down", "<1s? not hall.down", "<2s? air.sent == '0f0f01'",
        "8s: air.noise = 500", "9s: air.code = 'b00b1e'", "<2s? air.code == 'b00b1e' and air.found == 'a3f012 b00b1e'",
        "12s: air.noise = 7500", "=3s? lamp.on and not hall.down", "16s: air.noise = 0", "18s: hall.press", "<500ms? not lamp.on",
        "19s: message('air/do/send', '[\"123456\"]')", "<1s? air.sent == '123456'", "+1s: message('air/do/send', '[\"zz\"]')",
        "=1s? air.sent == '123456'",
    )  # fmt: skip
    result = bench(
        body,
        rows,
        board=board,
        lasts="24s",
        site='[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n',
    )
    assert not failed(result), failed(result)
    assert [text for _, text in result.log if "noise" in text] == ["fault in air: hears nothing but noise"]
    sent = [r["value"] for r in result.records if r["what"] == "sent"]
    assert sent == ["0f0f01", "123456"]


@given(
    st.integers(0, (1 << 24) - 1), st.integers(120, 800), st.lists(st.floats(-0.25, 0.25), min_size=48, max_size=48)
)  # fmt: skip
def test_a_frame_is_read_whatever_its_clock(code, pulse, off):
    """The decoder itself, of which the device runs the same text."""
    bits = f"{code:024b}"
    widths = [n * pulse for bit in bits for n in ((3, 1) if bit == "1" else (1, 3))] + [pulse]
    row = [round(width + pulse * each) for width, each in zip(widths, [*off, 0.0], strict=True)]
    assert _decoder(row) == code
    assert _decoder([*row[:10], row[10] * 9, *row[11:]]) is None


def _decoder(row):
    text = runtime_source("receiver", "esp32")
    names = {"_BITS": 24}
    exec(text[text.index("def code_in") :], names)
    return names["code_in"](row)


def test_learned_into_the_file(put, checked):
    assert [
        f.code for f in checked('[receiver.air]\npin = 27\n[remote.r]\nreceiver = "air"\ncode = "12345"\n')
    ] == ["wrong-type"]
    assert [f.code for f in checked("[receiver.air]\n") if f.severity == "error"] == ["missing-key"]
    assert "pin-too-slow" in {
        f.code
        for f in checked(
            '[i2c.m]\nsda = 21\nscl = 22\n[expander.io]\nchip = "mcp23017"\nbus = "m"\n[receiver.air]\npin = "io.2"\n'
        )
    }
    from zapato.heard import heard, scanners

    design = zapato.load(put(HEADER.format(board="esp32-38pin") + AIR.format(pin=27, send=26, lamp=25)))
    assert [part.name for part in scanners(design)] == ["air"]
    found = {each.address: each.used_by for each in heard(design, {"air": "a3f012 777777"})}
    assert found["a3f012"] == "remote.hall" and not found["777777"]


def test_the_slowest_chip_hears_most_presses_and_sends_what_it_should(bench):
    """A handler of some hundred us for edges of 350: what comes while the collector works is lost, and the remote's next frame counts."""
    body = AIR.format(pin=14, send=12, lamp=5)
    result = bench(
        body, steps(*(f"{3 * n + 3}s: hall.press" for n in range(9))), board="esp8266-30pin", lasts="32s"
    )
    lamp = [r["value"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO5"]
    assert len(lamp) - 1 >= 6 and not result.faults
    assert {r["value"] for r in result.records if r["what"] == "sent"} == {"0f0f01"}


def test_the_power_of_a_burst_is_what_it_is():
    told = in_the_vm(
        "from sound import Sound\nclass D:\n    def every(self, *given): pass\n"
        "s = Sound(D(), 'x', 100, 0, -40, 2000)\nprint(s.told(2048 * 2048 / 2, 2048), s.told(0, 2048), s.told(2048 * 2048 / 200, 2048))\n",
        {name: runtime_source(name, "esp32") for name in ("sound", "sensor", "loop")},
    )
    assert told.strip() == "(100, 0.0) (0, -99.0) (50, -20.0)"


def test_what_it_sends_itself_is_no_press(bench):
    """A receiver beside its transmitter hears it: a link that answers a code with the same code would never end."""
    body = AIR.format(pin=27, send=26, lamp=25)
    body += '[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "plug.send"\n'
    rows = steps(
        "500ms: hall.flick", "700ms: hall.flick", "=200ms? not hall.down and not known(air.code)", "1s: b.press", "<1s? air.sent == '0f0f01'", "=1s? not plug.down and not known(air.code)",
        "5s: plug.press", "<500ms? plug.down",
    )  # fmt: skip
    result = bench(body, rows, lasts="10s")
    assert not failed(result), failed(result)


TWICE = {
    "a code": ('[remote.a]\nreceiver = "air"\ncode = "a3f012"\n[remote.b]\nreceiver = "{}"\ncode = "A3F012"\n', "[receiver.air]\npin = 27\n[receiver.far]\npin = 26\n", "air", "far"),
    "a beacon": ('[beacon.a]\nradio = "air"\naddress = "a4:c1:38:00:00:01"\n[beacon.b]\nradio = "{}"\naddress = "A4-C1-38-00-00-01"\n', "[radio.air]\n", "air", None),
    "a meter": ('[meter.a]\nserial = "l"\nregisters = { v = { at = 1 } }\n[meter.b]\nserial = "{}"\nregisters = { v = { at = 1 } }\n', "[uart.l]\ntx = 17\nrx = 16\nbaud = 9600\n[uart.k]\ntx = 25\nrx = 26\nbaud = 9600\n", "l", "k"),
    "a serial number": ('[sensor.a]\nchip = "ds18b20"\nbus = "w"\nserial = "28ff641e0300008f"\n[sensor.b]\nchip = "ds18b20"\nbus = "{}"\nserial = "28ff641e0300008f"\n', "[onewire.w]\npin = 27\npull_up = \"4.7kohm\"\n[onewire.v]\npin = 26\npull_up = \"4.7kohm\"\n", "w", "v"),
}  # fmt: skip


@pytest.mark.parametrize("name", TWICE)
def test_one_thing_has_one_part(checked, name):
    body, buses, same, other = TWICE[name]
    codes = [f.code for f in checked(buses + body.replace("{}", same)) if f.severity == "error"]
    assert codes == ["heard-twice"]
    if other:
        assert "heard-twice" not in {f.code for f in checked(buses + body.replace("{}", other))}


def test_a_recording_of_two_channels_is_its_first(tmp_path):
    from zapato.lang.fields import Wrong
    from zapato.parts.sound.part import read_wave

    with wave.open(str(tmp_path / "two.wav"), "wb") as file:
        file.setparams((2, 2, 8000, 0, "NONE", ""))
        file.writeframes(struct.pack("<6h", 1, -9, 2, -9, -32768, -9))
    found = read_wave(tmp_path, "two.wav")
    assert found.rate == 8000 and list(found.samples) == [1, 2, -32768]
    with pytest.raises(Wrong, match="no file"):
        read_wave(tmp_path, ".")
    with wave.open(str(tmp_path / "long.wav"), "wb") as file:
        file.setparams((1, 2, 8000, 0, "NONE", ""))
        for _ in range(5):
            file.writeframes(bytes(14 << 20))
    with pytest.raises(Wrong, match="more than 64 MiB"):
        read_wave(tmp_path, "long.wav")


def test_a_voltage_comes_back_after_a_power_cut(bench):
    body = '[dimmer.hall]\npin = 25\nby = "dac"\nstart = "last"\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "hall.level = 40"\n[[link]]\nwhen = "b.released"\ndo = "hall.on"\n'
    result = bench(body, steps("1s: b.press", "<1s? hall.on and hall.level > 39.5 and hall.level < 40.5", "15s: power.cut", "+2s? hall.on and hall.level > 39.5"), lasts="20s")  # fmt: skip
    assert not failed(result)


def test_others_hear_of_the_sound_every_now_and_then(bench):
    """A noisy minute: links follow it five times a second, the broker every other one, and has the last word."""
    body = ANALOG.format(34) + '[tally.beats]\nof = "hall.level > 50"\n'
    loud = [f"{2000 + 400 * n}ms: hall.loudness = {-5 if n % 2 else -38}" for n in range(100)]
    result = bench(body, "[world]\nhall.loudness = -38\n" + steps(*loud, "50s? beats.total > 40"), lasts="1min", site='[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n')  # fmt: skip
    assert not failed(result)
    said = [r for r in result.records if r["what"] == "mqtt" and r["name"].endswith("hall/loudness")]
    assert 15 <= len(said) <= 32
    assert min(after["t"] - before["t"] for before, after in pairwise(said[1:])) > 1.5
    assert abs(float(said[-1]["value"]) + 5) < 1.5
