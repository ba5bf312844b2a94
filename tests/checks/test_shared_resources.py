"""Limits that parts share, pins that are not the chip's own, and board facts by what they mean for a device."""

import pytest

from zapato.boards import board
from zapato.checks import check

BUS = "[i2c.main]\nsda = 21\nscl = 22\n"


def io(chip: str, more: str = "") -> str:
    return f'{BUS}[expander.io]\nchip = "{chip}"\nbus = "main"\n{more}'


def spi(*rows: tuple[str, int, int, int, str]) -> str:
    return "".join(
        f"[spi.{n}]\nsck = {sck}\nmosi = {mosi}\nmiso = {miso}\n{more}" for n, sck, mosi, miso, more in rows
    )


# What a builder writes, the board, and the codes that must (or must not) come of it.
CASES = {
    "a relay on an expander": (io("mcp23017", '[relay.r]\npin = "io.3"\n'), "esp32-38pin", []),
    "a timed line on an expander": (io("mcp23017", '[sensor.s]\nchip = "dht22"\npin = "io.3"\n'), "esp32-38pin", ["pin-too-slow"]),
    "a bus on an expander": (io("mcp23017", '[onewire.w]\npin = "io.3"\npull_up = "4.7kohm"\n'), "esp32-38pin", ["pin-too-slow"]),
    "a strip on an expander": (io("mcp23017", '[strip.s]\npin = "io.3"\ncount = 5\nchip = "ws2812b"\nlevel = "5V"\n'), "esp32-38pin", ["pin-too-slow"]),
    "a serial link on an expander": (io("mcp23017", '[uart.u]\ntx = "io.3"\nbaud = 9600\n'), "esp32-38pin", ["pin-too-slow"]),
    "five volts on an expander at 3.3 V": (io("mcp23017", '[motion.m]\npin = "io.3"\nlevel = "5V"\n'), "esp32-38pin", ["volt-logic"]),
    "a display on 12 V": ('[supply.brick]\nvoltage = "12V"\n' + BUS + '[display.d]\nchip = "ssd1306"\nbus = "main"\nlines = ["x"]\nfed_from = "brick"\n', "esp32-38pin", ["volt-supply"]),
    "pulses on a pin without an interrupt": ('[sensor.p]\nchip = "pulse"\npin = 16\npull = "none"\n', "esp8266-30pin", ["pin-no-interrupt"]),
    "two relays of a carrier as a blind": ("[blind.b]\nopen = 12\nclose = 5\n", "esp8266-2relay", []),
    "its switch inputs as a rocker and a contact": ('[rocker.r]\npin = 4\npull = "up"\n[contact.c]\npin = 13\npull = "up"\n', "esp8266-2relay", []),
    "a board's own pixel": ('[strip.p]\npin = 8\ncount = 1\nchip = "ws2812b"\n', "esp32c6-30pin", []),
    "the same strip on a wire": ('[strip.p]\npin = 10\ncount = 1\nchip = "ws2812b"\n', "esp32c6-30pin", ["strip-level-shift"]),
    "an optocoupler on a pin that is pulled down": ('[relay.r]\npin = 4\nactive = "low"\n', "esp32-38pin", []),
    "a relay of a carrier on a pin that is high at power-up": ("[relay.r]\npin = 16\n", "esp8266-8relay", ["pin-boot-glitch"]),
    "both directions of a motor on pins that are high": ("[blind.b]\nopen = 14\nclose = 15\n", "esp32-38pin", ["pair-at-reset", "pin-boot-glitch", "pin-boot-glitch"]),
    "a button on a bare module's boot pin": ('[button.b]\npin = 15\npull = "up"\n', "esp8266-22pad", ["board-wants", "pin-pull-fought"]),
    "five volts on an expander at 5 V": (io("mcp23017", 'supply = "5V"\nfed_from = "5V"\nshifted = true\n[motion.m]\npin = "io.3"\nlevel = "5V"\n'), "esp32-38pin", []),
    "active high on weak pins": (io("pcf8574", '[relay.r]\npin = "io.3"\n'), "esp32-38pin", ["pin-boot-glitch", "pin-weak-high"]),
    "active low on weak pins": (io("pcf8574a", '[relay.r]\npin = "io.3"\nactive = "low"\n'), "esp32-38pin", []),
    "an address of the other variant": (io("pcf8574a", "address = 0x20\n"), "esp32-38pin", ["address-unsupported"]),
    "too much for a converter": (
        f'{BUS}[converter.adc]\nchip = "ads1115"\nbus = "main"\n[sensor.t]\nchip = "analog"\npin = "adc.0"\nrange = "0V-5V"\n',
        "esp32-38pin",
        ["volt-analog"],
    ),
    "a bus faster than its slowest chip": (io("pcf8574", "").replace("scl = 22\n", 'scl = 22\nspeed = "400kHz"\n'), "esp32-38pin", ["bus-too-fast"]),
    "two rates on one timer": ('[dimmer.a]\npin = "D1"\n[dimmer.b]\npin = "D2"\nrate = "500Hz"\n', "esp8266-30pin", ["pwm-rate"]),
    "a rate the chip does not make": ('[dimmer.a]\npin = "D1"\nrate = "5kHz"\n', "esp8266-30pin", ["pwm-rate"]),
    "neighbours on one slice": ('[dimmer.a]\npin = 2\n[dimmer.b]\npin = 3\nrate = "500Hz"\n', "rp2040w-40pin", ["pwm-rate"]),
    "two slices": ('[dimmer.a]\npin = 2\n[dimmer.b]\npin = 4\nrate = "500Hz"\n', "rp2040w-40pin", []),
    "five rates on four timers": (
        "".join(f'[dimmer.d{n}]\npin = {n + 3}\nrate = "{n + 1}kHz"\n' for n in range(5)), "esp32c3-mini", ["pwm-rate"],
    ),
    "two buses on one controller": (
        '[i2c.a]\nsda = 4\nscl = 5\ncontroller = "hardware"\n[i2c.b]\nsda = 8\nscl = 9\ncontroller = "hardware"\n', "rp2040w-40pin", ["i2c-exhausted"],
    ),
    "two buses on two controllers": (
        '[i2c.a]\nsda = 4\nscl = 5\ncontroller = "hardware"\n[i2c.b]\nsda = 6\nscl = 7\ncontroller = "hardware"\n', "rp2040w-40pin", [],
    ),
    "no I2C controller at all": ('[i2c.a]\nsda = "D2"\nscl = "D1"\ncontroller = "hardware"\n', "esp8266-30pin", ["i2c-exhausted"]),
    "both of a swapped pair": ('[uart.u]\ntx = "D8"\nrx = "D7"\nbaud = 9600\n', "esp8266-30pin", []),
    "half of a swapped pair": ('[uart.u]\ntx = "D8"\nrx = 3\nbaud = 9600\n', "esp8266-30pin", ["pin-routing"]),
    "hardware SPI twice": (spi(("a", 4, 5, 10, ""), ("b", 6, 7, 3, "")), "esp32c3-mini", ["spi-exhausted"]),
    "hardware and software SPI": (spi(("a", 4, 5, 10, ""), ("b", 6, 7, 3, 'controller = "software"\n')), "esp32c3-mini", []),
    "a link that only receives": ("[uart.u]\nrx = 16\nbaud = 9600\n", "esp32-38pin", []),
    "1.8 V is no high level": ('[motion.m]\npin = 27\nlevel = "1.8V"\n', "esp32-38pin", ["volt-logic"]),
    "a door closed at rest on a boot pin": ('[contact.c]\npin = 0\npull = "up"\n', "esp32-38pin", ["pin-boot-level", "pin-fitted"]),
    "wired on a board without": ('[ethernet]\naddress = "192.168.4.9"\n', "esp32-38pin", ["ethernet-missing"]),
    "and then the radio takes its inputs": (
        '[ethernet]\naddress = "192.168.4.9"\n[sensor.t]\nchip = "analog"\npin = 25\n',
        "esp32-38pin",
        ["ethernet-missing", "pin-analog-radio"],
    ),
    "a bare module": ("[relay.r]\npin = 5\n", "esp8266-22pad", ["board-wants"]),
    "the board's own RS-485": ("[uart.m]\ntx = 13\nrx = 16\nbaud = 9600\n", "esp32s3-16in16out", []),
    "the carrier's relay on a boot pin": ('[relay.six]\npin = "relay6"\n', "esp8266-8relay", []),
    "the camera's lamp": ('[led.l]\npin = "lamp"\n', "esp32-camera", ["fitted-unreached"]),
    "octal memory": ("[relay.r]\npin = 36\n", "esp32s3-octal-44pin", ["pin-fitted"]),
    "the same pin without it": ("[relay.r]\npin = 36\n", "esp32s3-44pin", []),
    "a part on the first serial pin, console on USB": ("[led.l]\npin = 21\n", "esp32c3-mini", ["pin-console"]),
    "a chip on the wrong kind of line": (f'{BUS}[sensor.s]\nchip = "dht22"\npin = 27\nbus = "main"\n', "esp32-38pin", ["unknown-key"]),
    "a dimmer on a relay's pin, which takes no output of the modulation": ("[relay.r]\npin = 2\n[dimmer.d]\npin = 2\n", "rp2040w-40pin", ["pin-taken"]),
    "two dimmers on one pin, and a third on its output": ("[dimmer.a]\npin = 2\n[dimmer.b]\npin = 2\n[dimmer.c]\npin = 18\n", "rp2040w-40pin", ["pin-taken", "pwm-exhausted"]),
    "more LEDs than outputs of the modulation": ("".join(f"[led.l{pin}]\npin = {pin}\n" for pin in (0, 1, 3, 4, 5, 6, 7)), "esp32c3-mini", []),
    "more dimmers than outputs": ("".join(f"[dimmer.d{pin}]\npin = {pin}\n" for pin in (0, 1, 3, 4, 5, 6, 7)), "esp32c3-mini", ["pwm-exhausted"]),
    "a rate beyond the chip's, on the pin of number 0": ('[dimmer.d]\npin = "D3"\nrate = "2kHz"\n', "esp8266-30pin", ["pin-boot-glitch", "pin-boot-level", "pin-fitted", "pwm-rate"]),
    "a pin for a chip that is on its bus": (f'{BUS}[sensor.s]\nchip = "sht31"\nbus = "main"\npin = 27\n', "esp32-38pin", ["unknown-key"]),
    "a pin in place of its bus": (f'{BUS}[sensor.s]\nchip = "sht31"\npin = 27\n', "esp32-38pin", ["missing-key", "unknown-key"]),
    "a bus in place of its pin": (f'{BUS}[sensor.s]\nchip = "dht22"\nbus = "main"\n', "esp32-38pin", ["missing-key", "unknown-key"]),
    "a select pin for a chip that has none": ('[sensor.s]\nchip = "dht22"\npin = 27\nselect = 5\n', "esp32-38pin", ["unknown-key"]),
    "an address for a chip that has none": ('[sensor.s]\nchip = "dht22"\npin = 27\naddress = 0x48\n', "esp32-38pin", ["unknown-key"]),
    "an address on a bus without": (spi(("s", 18, 23, 19, '[converter.c]\nchip = "mcp3008"\nbus = "s"\nselect = 5\naddress = 0x48\n')), "esp32-38pin", ["unknown-key"]),
    "an unknown chip on a bus": (f'{BUS}[sensor.s]\nchip = "bme820"\nbus = "main"\n', "esp32-38pin", ["wrong-type"]),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_what_comes_of_it(name, checked):
    body, on, codes = CASES[name]
    report = checked(body, on)
    assert sorted(f.code for f in report) == codes, [(f.severity, f.code, f.message) for f in report]
    assert all(f.severity == "note" for f in report if f.code in ("pin-console", "board-wants"))


def test_a_warning_that_no_pin_is_free_of_is_told_once(checked):
    """The eight-pin module has four pins, all of them with something to mind: that is its nature, not a mistake."""
    found = [
        f
        for f in checked("[relay.a]\npin = 1\n[relay.b]\npin = 3\n", "esp8266-8pin")
        if f.severity == "warning"
    ]
    everywhere = [
        f
        for f in checked("[relay.a]\npin = 1\n[relay.b]\npin = 3\n", "esp8266-8pin")
        if "every pin of" in f.message
    ]
    assert len(everywhere) <= 2 and not {f.code for f in found} & {f.code for f in everywhere}


# Facts by function: board, pin, and what it is for a device.
FACTS = [
    ("esp8266-30pin", lambda b: b.analog.high == 3.2, "A0 behind the divider reads 3.2 V at full scale"),
    ("esp8266-22pad", lambda b: b.analog.high == 1.0, "the bare chip reads 1 V"),
    ("esp32c3-mini", lambda b: b.analog.high == 2.5, "attenuation 3 of the C3"),
    ("esp32c6-30pin", lambda b: b.analog.high == 3.3, "attenuation 3 of the C6"),
    ("esp32s2-mini", lambda b: b.analog.high == 2.5, "attenuation 3 of the S2"),
    ("esp32s3-44pin", lambda b: b.analog.high == 3.1, "attenuation 3 of the S3"),
    (
        "esp32-poe",
        lambda b: "user button" in b.fitted_on[34].what,
        "GPIO34 is no boot button: it cannot be, it decides nothing at reset",
    ),
    ("esp8266-30pin", lambda b: b.chip.resources.i2c == 0, "the ESP8266 has no I2C controller"),
    (
        "rp2040w-40pin",
        lambda b: "PDE" in b.chip.sources["reset"],
        "the pull-downs at reset stand in the pads' registers",
    ),
]


@pytest.mark.parametrize(("name", "holds", "why"), FACTS)
def test_facts(name, holds, why):
    assert holds(board(name)), why


@pytest.mark.parametrize("number", [200, 2000])
def test_long_chains_of_links_and_groups(number, put):
    """Linear or near it: ten times as long a chain is checked in the same test, within its patience."""
    head = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n'
    flags = "".join(f"[flag.f{n}]\n" for n in range(number))
    links = "".join(
        f'[[link]]\nwhen = "f{n}.on"\ndo = "f{(n + 1) % number}.on = true"\n' for n in range(number)
    )
    groups = "[group.g0]\nof = ['f0']\n" + "".join(
        f"[group.g{n}]\nof = ['g{n - 1}']\n" for n in range(1, number)
    )
    assert not [
        f
        for f in check(put(head + flags + links + groups))
        if f.severity == "error" and not f.code.startswith("memory-")
    ]


def test_a_group_that_leads_back_to_itself_through_many(checked):
    body = "".join(f"[group.g{n}]\nof = ['g{(n + 1) % 300}']\n" for n in range(300))
    assert {f.code for f in checked(body)} - {"memory-heap"} == {"group-member"}
