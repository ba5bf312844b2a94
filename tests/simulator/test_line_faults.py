"""Lines that are shorted, cut and swapped, chips that fall silent or answer nonsense: never taken for a value, and back by themselves."""

from pathlib import Path

import pytest
from conftest import failed, steps

import zapato

BUS = "[i2c.main]\nsda = 21\nscl = 22\n"
ON_BUS = {
    "bme280": ("temperature", 21, "humidity = 40\ns.pressure = 90000"),
    "bmp280": ("temperature", 21, "pressure = 90000"),
    "sht31": ("temperature", 21, "humidity = 40"),
    "aht20": ("temperature", 21, "humidity = 40"),
    "bh1750": ("illuminance", 300, ""),
    "ina219": ("voltage", 12, "current = 0.5"),
    "scd41": ("co2", 800, "temperature = 21\ns.humidity = 40"),
}
OWN_LINE = {"dht22": ("temperature", 21, "humidity = 40"), "ds18b20": ("temperature", 21, "")}


def world(name: str, value: float, rest: str) -> str:
    return f"[world]\ns.{name} = {value}\n" + (f"s.{rest}\n" if rest else "")


def cases():
    for chip, felt in (ON_BUS | OWN_LINE).items():
        for act, back in (("s.fall_silent", "s.answer"), ("s.garbage", "s.answer")):
            yield chip, felt, act, back
        if chip != "dht22":
            line = "main" if chip in ON_BUS else "w"
            yield chip, felt, f"{line}.short", f"{line}.mend"
            yield chip, felt, f"{line}.cut", f"{line}.mend"
        else:
            yield chip, felt, "s.short", "s.mend"
            yield chip, felt, "s.cut", "s.mend"


CHECKED = {"sht31", "aht20", "scd41", "dht22", "ds18b20"}
"""Chips whose bytes carry a check sum, so that nonsense is known as such."""


def device(chip: str) -> str:
    if chip in ON_BUS:
        return BUS + f'[sensor.s]\nchip = "{chip}"\nbus = "main"\nevery = "5s"\n'
    if chip == "ds18b20":
        return '[onewire.w]\npin = 25\npull_up = "4.7kohm"\n[sensor.s]\nchip = "ds18b20"\nbus = "w"\nevery = "5s"\n'
    return f'[sensor.s]\nchip = "{chip}"\npin = 25\nevery = "5s"\n'


@pytest.mark.parametrize("chip", ["sht31", *OWN_LINE])
def test_a_chip_that_is_silent_before_it_felt_anything(bench, chip):
    """Without a [world] no chip hangs on a one-wire line yet."""
    name, value, rest = (ON_BUS | OWN_LINE)[chip]
    felt = [f"20s: s.{name} = {value}", *([f"20s: s.{rest}"] if rest else [])]
    checked = steps(
        "10s: s.fall_silent", *felt, f"40s? not known(s.{name})", "50s: s.answer", f"70s? known(s.{name})"
    )
    result = bench(device(chip), checked, lasts="90s")
    assert result.passed and not failed(result), result.log


@pytest.mark.parametrize(
    ("chip", "felt", "act", "back"), list(cases()), ids=lambda x: x if isinstance(x, str) else ""
)
def test_what_befalls_a_sensor_is_no_value(bench, chip, felt, act, back):
    name, value, rest = felt
    known = f"known(s.{name}) and abs(s.{name} - {value}) <= {value / 50}"
    lost = [f"100s? not known(s.{name})"] if "garbage" not in act or chip in CHECKED else []
    script = world(name, value, rest) + steps(
        "30s? " + known, f"40s: {act}", *lost, f"120s: {back}", "180s? " + known
    )
    result = bench(device(chip), script, lasts="4min")
    assert not failed(result), (failed(result), result.log)
    assert result.passed and not result.restarts
    told = [text for _, text in result.log if text.startswith("fault")]
    assert len(told) <= 3, "told once for each kind of fault"


ANALOG = {"esp32-38pin": 34, "esp32c3-mini": 3, "esp8266-30pin": 17, "rp2040w-40pin": 26}
"""Boards whose analog inputs end at 3.1 V, 2.5 V, 3.2 V and 3.3 V; the first gives 0.142 V for none."""


@pytest.mark.parametrize("side", ["ground", "supply"])
@pytest.mark.parametrize("board", ANALOG)
def test_a_thermistor_whose_wire_is_open_or_shorted_has_no_temperature(bench, board, side):
    """An open one would read as deep frost where the input does not reach its supply, and heat a room."""
    body = f'[sensor.s]\nchip = "ntc"\npin = {ANALOG[board]}\nevery = "2s"\nside = "{side}"\n'
    known = "known(s.temperature) and abs(s.temperature - 21) < 1.5"
    script = [f"10s? {known}"]
    for at, word in ((20, "short"), (60, "cut")):
        script += [
            f"{at}s: s.{word}",
            f"{at + 10}s? not known(s.temperature)",
            f"{at + 20}s: s.mend",
            f"{at + 30}s? {known}",
        ]
    result = bench(body, world("temperature", 21, "") + steps(*script), board=board, lasts="100s")
    assert result.passed and not failed(result), result.log


def test_an_analog_line_that_is_shorted_or_cut(bench):
    body = '[sensor.a]\nchip = "analog"\npin = 34\nevery = "1s"\n[sensor.b]\nchip = "analog"\npin = 35\nevery = "1s"\ndivider = ["10kohm", "10kohm"]\n'
    script = steps(
        "5s? abs(a.voltage - 2) < 0.01 and abs(b.voltage - 4) < 0.01", "6s: a.short", "7s: b.cut",
        "10s? a.voltage < 0.15 and b.voltage < 0.3", "11s: a.mend", "12s: b.mend", "15s? abs(a.voltage - 2) < 0.01 and abs(b.voltage - 4) < 0.01",
    )  # fmt: skip
    assert not failed(bench(body, "[world]\na.voltage = 2\nb.voltage = 4\n" + script, lasts="20s"))


def test_an_expander_on_a_shorted_bus_presses_no_button(bench):
    """A line that is held low reads as zeros, and a zero is a pressed button."""
    body = (
        BUS
        + '[expander.io]\nchip = "mcp23017"\nbus = "main"\n[button.bell]\npin = "io.3"\npull = "up"\n[relay.r]\npin = 26\n'
    )
    body += '[[link]]\nwhen = "bell.pressed"\ndo = "r.on"\n'
    script = steps("5s: main.short", "20s? not r.on", "30s: main.mend", "40s: bell.press", "<2s? r.on")
    result = bench(body, script, lasts="1min")
    assert not failed(result), result.log
    assert any("io does not answer" in text for _, text in result.log)
    assert any("io answers again" in text for _, text in result.log)


def test_a_line_that_falls_in_the_middle_of_a_reading_presses_no_button(bench):
    """The bus is looked at before and after: between, it may fall at any moment."""
    body = (
        BUS
        + '[expander.io]\nchip = "pcf8574"\nbus = "main"\n[button.bell]\npin = "io.3"\npull = "up"\n[relay.r]\npin = 26\n'
    )
    body += '[[link]]\nwhen = "bell.pressed"\ndo = "r.on"\n'
    falls = [
        row
        for n in range(20)
        for row in (f"{5000 + 2001 * n}ms: main.short", f"{5900 + 2001 * n}ms: main.mend")
    ]
    assert not failed(bench(body, steps(*falls, "50s? not r.on"), lasts="55s"))


@pytest.mark.parametrize("chip", ["ads1115", "ads7828"])
def test_a_converter_on_a_bus_that_is_held_low_measures_nothing(bench, chip):
    """Zeros are volts."""
    body = (
        BUS
        + f'[converter.c]\nchip = "{chip}"\nbus = "main"\n[sensor.a]\nchip = "analog"\npin = "c.1"\nevery = "1s"\n'
    )
    script = steps(
        "5s? known(a.voltage)",
        "6s: main.short",
        "20s? not known(a.voltage)",
        "21s: main.mend",
        "<5s? a.voltage > 1.9",
    )
    assert not failed(bench(body, "[world]\na.voltage = 2\n" + script, lasts="40s"))


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin"])
@pytest.mark.parametrize("act", ["line.short", "main.short", "main.short_clock"])
def test_a_line_that_is_held_low_from_the_beginning_ends_nothing(bench, board, act):
    """A search on such a one-wire line finds 255 numbers, a scan of such an I2C bus waits 5.6 s: more than the watchdog and 36 KiB bear."""
    pins = (14, 4, 5) if board.startswith("esp8266") else (25, 21, 22)
    body = '[onewire.line]\npin = {}\npull_up = "4.7kohm"\n[i2c.main]\nsda = {}\nscl = {}\n'.format(*pins)
    body += '[sensor.s]\nchip = "ds18b20"\nbus = "line"\nevery = "5s"\n[sensor.t]\nchip = "sht31"\nbus = "main"\nevery = "5s"\n'
    world = "[world]\ns.temperature = 20\nt.temperature = 21\nt.humidity = 40\n"
    back = {"line.short": "line.mend", "main.short": "main.mend", "main.short_clock": "main.free_clock"}[act]
    lost = "s" if act == "line.short" else "t"
    script = world + steps(
        f"0s: {act}",
        f"40s? not known({lost}.temperature)",
        f"60s: {back}",
        "100s? known(s.temperature) and known(t.temperature)",
    )
    result = bench(body, script, board=board, lasts="2min")
    assert not failed(result), result.log
    assert result.passed and not any(r["name"] == "watchdog" for r in result.records)
    assert not any("MemoryError" in text for _, text in result.log)


@pytest.mark.parametrize("act", ["short", "cut", "swap"])
def test_a_serial_line_that_is_wired_wrongly_is_silent(bench, act):
    body = "[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\n"
    body += '[meter.m]\nserial = "line"\nevery = "2s"\n[meter.m.registers]\npower = { at = 0 }\n'
    script = "[world]\nm.power = 100\n" + steps(
        "10s? m.power == 100",
        f"12s: line.{act}",
        "40s? not known(m.power)",
        "50s: line.mend",
        "70s? m.power == 100",
    )
    result = bench(body, script, lasts="80s")
    assert not failed(result), result.log


@pytest.mark.parametrize("board", ["esp32-38pin", "esp8266-30pin", "rp2040w-40pin"])
def test_parity_and_stop_bits_lengthen_each_byte(bench, board):
    """Eleven or twelve bits a byte: the driver of an RS-485 line stays on until the last is out."""
    pins = {"esp32-38pin": (17, 16, 4), "esp8266-30pin": (15, 13, 4), "rp2040w-40pin": (4, 5, 6)}[board]
    lengths = {}
    for form in ("", 'parity = "even"\n', 'parity = "odd"\nstop = 2\n'):
        body = "[uart.line]\ntx = {}\nrx = {}\nenable = {}\nbaud = 600\n".format(*pins) + form
        body += '[meter.m]\nserial = "line"\nevery = "2s"\n[meter.m.registers]\npower = { at = 0 }\n'
        result = bench(
            body, "[world]\nm.power = 100\n" + steps("20s? m.power == 100"), board=board, lasts="30s"
        )
        assert not failed(result), result.log
        rows = [r for r in result.records if r["what"] == "pin" and r["name"] == f"GPIO{pins[2]}"]
        on = next(i for i, r in enumerate(rows) if r["value"] == 1)
        lengths[form] = rows[on + 1]["t"] - rows[on]["t"]
    eight, even, odd = lengths.values()
    assert even - eight in range(11, 17) and odd - even in range(11, 17), lengths  # 8 bytes of 1.67 ms a bit


DEMO = sorted((Path(zapato.__file__).parent / "demo" / "site" / "devices").glob("*.toml"))


@pytest.mark.parametrize("device", DEMO, ids=lambda path: path.stem)
def test_what_befalls_the_lines_of_the_demo_ends_no_program(site, tmp_path, device):
    """Every line and chip of every device, one after the other: told, no value, and back by itself."""
    design = zapato.load(site / "devices" / device.name)
    back = {
        "short": "mend",
        "cut": "mend",
        "swap": "mend",
        "short_clock": "free_clock",
        "fall_silent": "answer",
        "garbage": "answer",
    }
    acts = [
        (name, word)
        for name, part in design.parts.items()
        for word in part.simulation.gestures
        if word in back
    ]
    moments = [(10 + 60 * n, f"{name}.{word}", f"{name}.{back[word]}") for n, (name, word) in enumerate(acts)]
    script = f'[rehearsal]\nlasts = "{60 * len(acts) + 60}s"\n'
    for at, act, mended in moments:
        script += f'[[step]]\nat = "{at}s"\nact = "{act}"\n[[step]]\nat = "{at + 40}s"\nact = "{mended}"\n'
    (tmp_path / "script.toml").write_text(script)
    result = zapato.rehearse(site / "devices" / device.name, tmp_path / "script.toml")
    assert result.passed and not result.restarts and result.crash is None, result.log
