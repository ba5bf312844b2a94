"""Every kind that drives a pin, in the real VM: what is measured at the pin is what was asked for."""

from types import SimpleNamespace

import pytest
from conftest import NETWORK, failed, steps

from zapato import extensions
from zapato.parts import kinds
from zapato.parts.bus_chip import chip_names
from zapato.simulator.chips import stand_in

DIM = "[dimmer.hall]\npin = 25\n"
KEYS = '[button.b]\npin = 33\npull = "up"\n'


def link(when: str, do: str) -> str:
    return f'[[link]]\nwhen = "{when}"\ndo = "{do}"\n'


def test_a_dimmer_fades_and_comes_back_to_its_level(bench):
    body = DIM + KEYS + link("b.pressed", "hall.fade(80, '4s')") + link("b.held", "hall.toggle")
    script = steps(
        "1s? hall.level == 0 and not hall.on",
        "2s: b.press",
        "4s? 30 < hall.level and hall.level < 50",
        "7s? hall.level == 80",
        "10s: b.hold",
        "20s? not hall.on",
        "21s: message('hall/do/on', '')",
        "<1s? hall.level == 80",
        "25s: message('hall/level/set', '12.5')",
        "<1s? hall.level == 12.5 and published('hall/level', '12.5')",
        "30s: message('hall/do/fade', '[50, 2]')",
        "<3s? hall.level == 50",
        "35s: message('hall/level/set', '120')",
        "37s? hall.level == 50",
    )
    result = bench(body, script, site=NETWORK.format(qos=0), head="")
    assert [f for f in failed(result) if "4s" not in f[0]] == []
    assert any("out of its range" in text for _, text in result.faults)


@pytest.mark.parametrize(
    ("more", "board", "at_half"),
    [
        ("", "esp32-38pin", 50),
        ('active = "low"\n', "esp32-38pin", 50),
        ("gamma = 2\n", "esp32-38pin", None),
        ('by = "dac"\n', "esp32-38pin", 50.2),
        ('rate = "500Hz"\n', "esp8266-30pin", 50),
        ("", "rp2040w-40pin", 50),
    ],
)
def test_a_dimmer_on_every_port(bench, more, board, at_half):
    pin = {"esp32-38pin": 25, "esp8266-30pin": 14, "rp2040w-40pin": 16}[board]
    body = f"[dimmer.hall]\npin = {pin}\n{more}[number.n]\nstart = 0\n" + link(
        "n.value > 0", "hall.level = 50"
    )
    script = steps(
        "1s? not hall.on",
        "9s: message('n/value/set', '1')",
        "<1s? hall.on" + (f" and hall.level == {at_half}" if at_half else ""),
    )
    result = bench(body, script, board=board, site=NETWORK.format(qos=0), lasts="13s")
    assert not failed(result)
    if "gamma" in more:
        duty = [r["value"] for r in result.records if r["what"] == "duty"]
        assert duty[-2] == pytest.approx(0.25, abs=0.001) or duty[-1] == pytest.approx(0.25, abs=0.001)


def test_a_dimmer_comes_back_as_it_was(bench):
    body = '[dimmer.hall]\npin = 25\nstart = "last"\n'
    script = steps(
        "9s: message('hall/level/set', '30')",
        "20s: power.cut",
        "23s? hall.on and hall.level == 30",
        "30s: message('hall/do/off', '')",
        "42s: power.cut",
        "45s? not hall.on",
        "52s: message('hall/do/on', '')",
        "53s? hall.level == 30",
    )
    assert not failed(bench(body, script, site=NETWORK.format(qos=0), lasts="54s"))


def test_a_strip_is_dark_at_power_up_and_shows_what_it_is_told(bench):
    body = '[strip.rack]\npin = 13\ncount = 30\nchip = "ws2812b"\nlimit = 50\n'
    script = steps(
        "1s? not rack.on",
        "6s: message('rack/on/set', 'true')",
        "<500ms? rack.on",
        "7s: message('rack/color/set', '\"#FF8000\"')",
        "8s: message('rack/do/show', '\"breathe\"')",
        "<1s? rack.effect == 'breathe'",
        "12s: power.cut",
        "14500ms? not rack.on",
        "18s: message('rack/color/set', '\"red\"')",
        "20s: message('rack/effect/set', '\"sparkle\"')",
        "22s: message('rack/do/show', '\"flow\"')",
        "<1s? rack.on",
        "25s: message('rack/do/off', '')",
        "<1s? not rack.on",
    )
    result = bench(body, script, site=NETWORK.format(qos=0), lasts="30s")
    assert not failed(result)
    assert any("takes a colour" in text for _, text in result.faults)
    frames = [r["t"] for r in result.records if r["what"] == "lights" and 8_000 < r["t"] < 12_000]
    assert 40 < len(frames) <= 100


def test_a_touch_pad_knows_a_finger_from_the_weather(bench):
    body = "[touch.rail]\npin = 4\n[relay.r]\npin = 26\n" + link("rail.pressed", "r.toggle")
    assert not failed(
        bench(
            body,
            steps(
                "10s? not r.on",
                "20s: rail.press",
                "<1s? r.on",
                "22s? not rail.down",
                "40s: rail.down = true",
                "<1s? not r.on and rail.down",
            ),
        )
    )


def test_a_blind_knows_where_it_is(bench):
    body = (
        '[blind.w]\nopen = 25\nclose = 26\ntravel = "20s"\n'
        + KEYS
        + link("b.pressed", "w.open")
        + link("b.held", "w.go(50)")
        + link("b.doubled", "w.stop")
    )
    script = steps(
        "1s: b.press",
        "30s? w.position == 100",
        "40s: b.hold",
        "60s? abs(w.position - 50) < 1",
        "70s: b.press",
        "75s: b.double",
        "78s: power.cut",
        "90s? w.position > 60 and w.position < 100",
    )
    result = bench(body, script, lasts="3min")
    assert not failed(result)
    both = {"GPIO25": 0, "GPIO26": 0}
    changed = {"GPIO25": -9999, "GPIO26": -9999}
    for row in result.records:
        if row["what"] == "pin" and row["name"] in both:
            both[row["name"]] = row["value"]
            other = "GPIO26" if row["name"] == "GPIO25" else "GPIO25"
            assert sum(both.values()) < 2, "both directions at once"
            if row["value"]:
                assert row["t"] - changed[other] >= 500
            changed[row["name"]] = row["t"]


BUS = '[i2c.main]\nsda = 21\nscl = 22\nspeed = "100kHz"\n'
ON_SPI = "[spi.main]\nsck = 18\nmosi = 23\nmiso = 19\n"


def placed(table: str, chip: str, address: int | None = None) -> str:
    """The table of a chip on the bus that it is made for."""
    spi = extensions.bundle(chip, "chip.py").member("chip", "CHIP").on_spi
    own = "select = 5\n" if spi else f"address = {address}\n" if address else ""
    return f'{ON_SPI if spi else BUS}[{table}]\nchip = "{chip}"\nbus = "main"\n{own}'


@pytest.mark.parametrize("interrupt", ["", "interrupt = 27\n"])
@pytest.mark.parametrize("chip", chip_names("expander"))
def test_an_expander_s_pins_are_used_like_the_chip_s_own(bench, chip, interrupt):
    body = (
        f'{placed("expander.io", chip)}{interrupt}[relay.pump]\npin = "io.3"\nactive = "low"\n'
        '[contact.door]\npin = "io.6"\npull = "up"\n[button.b]\npin = "io.0"\npull = "up"\n[led.l]\npin = "io.7"\nactive = "low"\nshows = "door.closed"\n'
        + link("b.pressed", "pump.toggle")
    )
    script = steps(
        "1s? not pump.on and not door.closed",
        "2s: b.press",
        "<200ms? pump.on",
        "4s: door.closed = true",
        "<200ms? door.closed and l.on",
        "6s: b.press",
        "<200ms? not pump.on",
        "8s: door.closed = false",
        "<200ms? not door.closed and not l.on",
        "10s: b.press",
        "12s: power.cut",
        "15s? not pump.on and not door.closed",
        "16s: b.press",
        "<200ms? pump.on",
    )
    result = bench(body, script, lasts="20s", board="esp32-38pin")
    assert not failed(result) and not result.faults


COARSE = {
    "ads1115": 0.001,
    "ads1015": 0.005,
    "ads7828": 0.002,
    "ads7830": 0.03,
    "mcp3204": 0.002,
    "mcp3208": 0.002,
    "mcp3004": 0.007,
    "mcp3008": 0.007,
}
"""What a converter may be off, V: its step, and what is rounded."""


@pytest.mark.parametrize(("chip", "error"), [(name, COARSE[name]) for name in chip_names("converter")])
def test_a_converter_measures_for_sensors(bench, chip, error):
    body = placed("converter.adc", chip, 0x49) + "".join(
        f'[sensor.t{n}]\nchip = "analog"\npin = "adc.{n}"\nevery = "1s"\n' for n in range(3)
    )
    body += 'divider = ["30kohm", "10kohm"]\n'
    head = "[world]\nt0.voltage = 0.5\nt1.voltage = 3.1\nt2.voltage = 9.6\n"
    script = steps(
        f"5s? abs(t0.voltage - 0.5) < {error} and abs(t1.voltage - 3.1) < {error} and abs(t2.voltage - 9.6) < {4 * error}"
    )
    assert not failed(bench(body, script, head=head, lasts="8s"))


def test_a_converter_on_spi_answers_a_frame_of_three_bytes():
    """As the datasheets draw it for a microcontroller (figures 6-1): the result is right-aligned in the last bytes."""
    for name, bits in (("mcp3008", 10), ("mcp3208", 12)):
        made = stand_in(name, lambda what: None)
        made.join(SimpleNamespace(applied=lambda kind, gpio: {105: 2.0}.get(gpio)), {5: 105}, None)
        frame = (
            0b1_1_101 << bits + 2
        )  # start, one input, number 5; then a clock to sample, the null bit, the result
        heard = int.from_bytes(made.move(frame.to_bytes(3, "big")), "big")
        assert heard & ((1 << bits + 1) - 1) == int(2.0 / 3.3 * (1 << bits)), "the null bit, and the result"
        assert heard >> bits + 1 & 1, "nobody drives the line before the null bit"


def test_an_expander_on_spi_hears_only_its_own_opcode():
    made = stand_in("mcp23s17", lambda what: None)
    made.join(SimpleNamespace(offered_line=lambda gpio: None), {}, None)

    def spoken(*data: int) -> bytes:
        made.end()
        return made.move(bytes(data))

    spoken(0x40, 0x14, 0x81, 0x7E)
    assert spoken(0x41, 0x14, 0, 0) == b"\xff\xff\x81\x7e"
    spoken(0x42, 0x14, 0, 0)  # the next address
    assert spoken(0x41, 0x14, 0, 0)[2:] == b"\x81\x7e"


@pytest.mark.parametrize(("board", "pins"), [("esp8266-30pin", ('"D6"', '"D5"')), ("esp32-38pin", (32, 33))])
def test_a_scale_is_read_bit_by_bit(bench, board, pins):
    """Both ends of its range are no reading; a silence, nonsense and a cut of the power are survived."""
    body = (
        f'[sensor.hive]\nchip = "hx711"\npin = {pins[0]}\nclock = {pins[1]}\nevery = "2s"\n'
        'points = [[-84000, -4], [504000, 20]]\nunit = "kg"\ngives = "weight"\n'
    )
    script = steps(
        "9s? abs(hive.weight - 10) < 0.1",
        "10s: hive.load = -42000",
        "15s? abs(hive.weight + 2.286) < 0.01",
        "16s: hive.load = 8388607",
        "29s? not known(hive.weight)",
        "30s: hive.load = -8388608",
        "45s? not known(hive.weight)",
        "46s: hive.load = 504000",
        "51s? abs(hive.weight - 20) < 0.01",
        "52s: hive.fall_silent",
        "70s? not known(hive.weight)",
        "71s: hive.answer",
        "76s? abs(hive.weight - 20) < 0.01",
        "77s: power.cut",
        "90s? abs(hive.weight - 20) < 0.01",
    )
    result = bench(body, script, board=board, head="[world]\nhive.load = 259000\n", lasts="95s")
    assert not failed(result)
    assert len(result.records) < 200, "the edges of its clock are not told one by one"


AIR = {
    "temperature": 21.37,
    "humidity": 48.6,
    "pressure": 84210.0,
    "co2": 812,
    "voltage": 11.94,
    "current": -0.4321,
}
EXACT = {"temperature": 0.02, "humidity": 0.11, "pressure": 12, "co2": 1, "voltage": 0.004, "current": 0.0002}


@pytest.mark.parametrize("name", ["bme280", "bmp280", "sht31", "aht20", "scd41", "ina219"])
def test_a_sensor_on_i2c_reads_what_the_air_has(bench, name):
    """Over its registers, with its own compensation and check sums; silence and a return are survived."""
    from zapato.parts.sensors import chip

    felt = [each for each in chip(name).properties if each in AIR]
    body = f'{BUS}[sensor.s]\nchip = "{name}"\nbus = "main"\nevery = "10s"\n'
    head = "[world]\n" + "".join(f"s.{each} = {AIR[each]}\n" for each in felt)
    near = " and ".join(f"abs(s.{each} - {AIR[each]}) <= {EXACT[each]}" for each in felt)
    moved = "temperature" if "temperature" in felt else "voltage"
    script = steps(
        f"17s? {near}",
        f"20s: s.{moved} = 3",
        f"38s? abs(s.{moved} - 3) < 0.05",
        "40s: power.cut",
        f"60s? abs(s.{moved} - 3) < 0.05",
    )
    result = bench(body, script, head=head, lasts="70s")
    assert not failed(result) and not result.faults


def test_the_compensation_of_the_datasheet():
    """BMP280 datasheet, 3.12: raw 519888 and 415148 are 25.08 degrees and 100653 Pa."""
    from zapato.parts.sensors.bme280.sim import fine, pascal

    assert fine(519888) / 5120 == pytest.approx(25.08, abs=0.005)
    assert pascal(415148, fine(519888)) == pytest.approx(100653.27, abs=0.5)


def test_thermometers_on_one_line(bench):
    body = (
        '[onewire.line]\npin = 27\npull_up = "4.7kohm"\n'
        '[sensor.out]\nchip = "ds18b20"\nbus = "line"\nserial = "28ff641e8d3c0cda"\nevery = "5s"\n'
        '[sensor.tank]\nchip = "ds18b20"\nbus = "line"\nserial = "28aa0102030405a7"\nevery = "5s"\n'
    )
    head = "[world]\nout.temperature = -12.5\ntank.temperature = 61.0625\n"
    script = steps(
        "10s? out.temperature == -12.5 and tank.temperature == 61.06",
        "11s: out.temperature = 85",
        "27s? out.temperature == 85",
        "28s: power.cut",
        "38s? out.temperature == 85",
    )
    result = bench(body, script, head=head, lasts="40s")
    assert not failed(result) and any("28aa0102030405a7" in text for _, text in result.log)
    alone = '[onewire.line]\npin = 27\npull_up = "4.7kohm"\n[sensor.one]\nchip = "ds18b20"\nbus = "line"\nevery = "5s"\n'
    assert not failed(
        bench(alone, steps("10s? one.temperature == 3.5"), head="[world]\none.temperature = 3.5\n")
    )
    silent = bench(alone, steps("10s? not known(one.temperature)", "30s? not known(one.temperature)"))
    assert any("does not answer" in text for _, text in silent.log)


def test_sensors_on_a_pin_of_their_own(bench):
    body = (
        '[sensor.bath]\nchip = "dht11"\npin = 27\nevery = "5s"\n'
        '[sensor.stove]\nchip = "ntc"\npin = 34\nevery = "2s"\n'
        '[sensor.pipe]\nchip = "ntc"\npin = 35\nevery = "2s"\nside = "supply"\nnominal = "47kohm"\nbeta = 4000\nseries = "22kohm"\n'
        '[sensor.level]\nchip = "echo"\npin = 32\ntrigger = 33\nevery = "1s"\n'
        '[sensor.flow]\nchip = "pulse"\npin = 25\nevery = "10s"\n'
    )
    head = "[world]\nbath.temperature = 23.6\nbath.humidity = 61\nstove.temperature = 71\npipe.temperature = 8\nlevel.distance = 1.234\nflow.rate = 20\n"
    script = steps(
        "15s? bath.temperature == 23 and bath.humidity == 61",
        "16s? abs(stove.temperature - 71) < 0.2 and abs(pipe.temperature - 8) < 0.2",
        "17s? abs(level.distance - 1.234) < 0.003",
        "35s? abs(flow.rate - 20) < 0.3 and flow.count >= 580",
        "36s: flow.rate = 0",
        "6min: power.cut",
        "6min20s? flow.count >= 600 and flow.rate == 0",
    )
    result = bench(body, script, head=head, lasts="7min")
    assert not failed(result)
    far = bench(
        body,
        steps("20s? not known(level.distance)"),
        head=head.replace("level.distance = 1.234\n", ""),
        lasts="30s",
    )
    assert not failed(far)


@pytest.mark.parametrize(("board", "sda", "scl"), [("esp32-38pin", 21, 22), ("rp2040w-40pin", 6, 7)])
def test_a_bus_on_a_controller_of_the_chip(bench, board, sda, scl):
    body = f'[i2c.main]\nsda = {sda}\nscl = {scl}\ncontroller = "hardware"\n[sensor.s]\nchip = "sht31"\nbus = "main"\nevery = "2s"\n'
    head = "[world]\ns.temperature = 7.5\ns.humidity = 33\n"
    assert not failed(
        bench(body, steps("5s? abs(s.temperature - 7.5) < 0.02"), head=head, board=board, lasts="6s")
    )


def test_wall_switches_of_all_three_wirings(bench):
    """A push button toggles, a rocker is followed, and of two rockers every move changes the light."""
    body = (
        '[button.b]\npin = 33\npull = "up"\n[rocker.one]\npin = 32\npull = "up"\n[rocker.two]\npin = 18\npull = "up"\n[rocker.hall]\npin = 19\npull = "up"\n'
        "[relay.lamp]\npin = 26\n[relay.stairs]\npin = 25\n[relay.porch]\npin = 27\n"
        + link("b.pressed", "porch.toggle")
        + link("hall.on", "lamp.on")
        + link("not hall.on", "lamp.off")
        + link("one.changed", "stairs.toggle")
        + link("two.changed", "stairs.toggle")
    )
    script = steps(
        "1s: b.press",
        "<1s? porch.on",
        "3s: hall.on = true",
        "<1s? lamp.on",
        "5s: hall.on = false",
        "<1s? not lamp.on",
        "7s: one.on = true",
        "<1s? stairs.on",
        "9s: two.on = true",
        "<1s? not stairs.on",
        "11s: one.on = false",
        "<1s? stairs.on",
    )
    assert not failed(bench(body, script, lasts="15s"))


def test_readings_are_scaled_smoothed_and_repeated(bench):
    """A tank by its voltage: points make it litres; a spike is left out; it is said again though nothing changed."""
    body = (
        '[sensor.tank]\nchip = "analog"\npin = 34\nevery = "1s"\npoints = [[0.5, 0], [1.5, 200], [2.5, 1000]]\nunit = "l"\ngives = "volume"\nsmooth = "median 3"\nrepeat = "20s"\n'
        '[sensor.air]\nchip = "dht22"\npin = 27\nevery = "5s"\noffset = { temperature = -0.7 }\nscale = { humidity = 0.5 }\n'
        '[sensor.slow]\nchip = "analog"\npin = 35\nevery = "1s"\nsmooth = "lowpass 10"\n'
        "[relay.r]\npin = 26\n" + link("tank.volume > 900", "r.on")
    )
    head = "[world]\ntank.voltage = 1.0\nair.temperature = 20\nair.humidity = 60\nslow.voltage = 1\n"
    script = steps(
        "8s? abs(tank.volume - 100) < 1 and air.temperature == 19.3 and air.humidity == 30",
        "10s: slow.voltage = 2",
        "15s? 1.2 < slow.voltage and slow.voltage < 1.6",
        "16s: tank.voltage = 2.5",
        "16900ms: tank.voltage = 1.0",
        "=6s? tank.volume < 110 and not r.on",
        "25s: tank.voltage = 0.1",
        "30s? tank.volume == 0",
        "31s: tank.voltage = 2.45",
        "=1s? not r.on",
        "35s? r.on",
        "60s? slow.voltage > 1.95",
    )
    result = bench(body, script, head=head, lasts="75s", site=NETWORK.format(qos=0))
    assert not failed(result)
    said = [
        r["t"]
        for r in result.records
        if r["what"] == "mqtt" and r["name"].endswith("tank/volume") and r["t"] > 36_000
    ]
    assert len(said) >= 2


@pytest.mark.parametrize(
    ("keys", "says"),
    [
        ("points = [[1, 2]]", "takes pairs"),
        ("points = [[2, 0], [1, 5]]", "do not rise"),
        ('smooth = "median 1"', "how many readings"),
        ('unit = "litres"', "SenML"),
        ("scale = true", "takes a number"),
        ("offset = { speed = 1 }", "the chip measures voltage"),
        ('gives = "Level!"', "a word of"),
    ],
)
def test_treatments_that_do_not_go(checked, keys, says):
    report = checked(f'[sensor.s]\nchip = "analog"\npin = 34\n{keys}\n')
    assert any(says in f.message for f in report), [f.message for f in report]


def test_again_and_again(bench):
    body = '[relay.pump]\npin = 26\n[flag.summer]\nstart = true\n[[link]]\nevery = "10min"\nif = "summer.on"\ndo = "pump.on"\nfor = "20s"\n'
    script = steps(
        "9min? not pump.on",
        "10min1s? pump.on",
        "10min25s? not pump.on",
        "20min1s? pump.on",
        "25min: message('summer/on/set', 'false')",
        "=20min? not pump.on",
    )
    assert not failed(bench(body, script, lasts="50min", site=NETWORK.format(qos=0)))


@pytest.mark.parametrize(
    ("keys", "says"),
    [
        ("", "needs when"),
        ('when = "r.on"\nat = "06:30"\n', "one beginning"),
        ('every = "2s"\nheld = "5s"\n', "goes with a condition"),
        ('every = "10ms"\n', "at least"),
    ],
)
def test_a_link_has_one_beginning(checked, keys, says):
    report = checked(f'[relay.r]\npin = 26\n[[link]]\n{keys}do = "r.off"\n')
    assert any(says in f.message or says in " ".join(f.fixes) for f in report), [
        (f.code, f.message, f.fixes) for f in report
    ]


@pytest.mark.parametrize("name", [each.name for each in kinds() if each.name != "uart"])
def test_every_kinds_example_starts_and_stays(name, bench):
    """Alone in a device, as the reference shows it: nothing restarts, nothing is told as a fault."""
    example = next(each.example for each in kinds() if each.name == name)
    result = bench(example, "", lasts="10s")
    assert not result.crash and not result.faults
    assert not any(r["name"] == "reset" for r in result.records if r["what"] == "power")
