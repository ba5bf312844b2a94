"""What every kind of part and every chip of ours says to its pins, buses and broker, each thing where it is said first.

A device does all that can be done to it: gestures and values of a rehearsal, every topic that it hears, a restart. The approved texts
hold modes and first levels of pins, bytes on buses, pauses, and what is said over MQTT and at the console.
"""

import re

import pytest
from conftest import HEADER, NETWORK
from support.approved import approve

import zapato
from zapato.design import Design
from zapato.design.acts import one_act
from zapato.parts.kind import Part
from zapato.simulator.board import NUMBERED, SimulatedBoard

I2C = "[i2c.main]\nsda = 21\nscl = 22\n"
SPI = "[spi.main]\nsck = 18\nmosi = 23\nmiso = 19\n"
UART = "[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\n"


def _on(bus: str, kind: str, name: str, chip: str, more: str = "") -> str:
    return f'[{kind}.{name}]\nchip = "{chip}"\nbus = "{bus}"\n{more}'


def _sensor(chip: str, more: str, name: str = "s") -> str:
    return f'[sensor.{name}]\nchip = "{chip}"\nevery = "5s"\n{more}'


INPUTS = (
    '[button.b]\npin = {0}\npull = "up"\n[contact.c]\npin = {1}\npull = "up"\nwatch = "poll"\n'
    '[motion.m]\npin = {2}\n[relay.r]\npin = {3}\nstart = "last"\nlongest_on = "10s"\n[led.l]\npin = {4}\nshows = "status"\n'
    '[dimmer.d]\npin = {5}\nstart = "last"\n[number.n]\nstart = 4\nlow = 0\nhigh = 9\n[flag.f]\nstart = false\n'
)
EXPANDED = '[relay.pump]\npin = "io.3"\n[contact.door]\npin = "io.6"\npull = "up"\n'

ZONE = '[time]\nzone = "Europe/Vienna"\n'

DEVICES = {
    "pins-esp32": ("esp32-38pin", INPUTS.format(33, 32, 14, 26, 25, 27)),
    "pins-esp8266": ("esp8266-30pin", INPUTS.format('"D1"', '"D2"', '"D5"', '"D6"', '"D4"', '"D7"')),
    "pins-rp2040": ("rp2040w-40pin", INPUTS.format(2, 3, 4, 5, 6, 7)),
    "outputs": (
        "esp32-38pin",
        '[dimmer.a]\npin = 25\nby = "dac"\n[dimmer.p]\npin = 26\nby = "dac"\nstart = "last"\n[dimmer.q]\npin = 27\nactive = "low"\ngamma = 2\n'
        '[blind.w]\nopen = 14\nclose = 16\ntravel = "5s"\n[relay.left]\npin = 17\n[relay.right]\npin = 18\nexcludes = ["left"]\n[group.g]\nof = ["left", "q"]\n'
        '[tally.t]\nof = "left.on"\ncounts = "time"\n[guard.hot]\nwhen = "x.value > 7"\nback = 1\noff = ["left"]\n[number.x]\nstart = 0\n'
        '[derived.v]\nof = "x.value * 2"\nevery = "1s"\nsmooth = "mean 3"\n[touch.k]\npin = 4\n[rocker.s]\npin = 32\npull = "up"\n',
    ),
    "strips": (
        "esp32-38pin",
        '[strip.a]\npin = 13\ncount = 6\nchip = "sk6812"\norder = "grbw"\n[strip.b]\npin = 14\ncount = 4\nchip = "ws2812b"\nlimit = 40\n',
    ),
    "sensors-i2c": (
        "esp32-38pin",
        f'{I2C}controller = "hardware"\n'
        + "".join(_on("main", "sensor", chip, chip, 'every = "5s"\n' + more) for chip, more in (("aht20", ""), ("bme280", ""), ("bmp280", "address = 0x77\n"), ("scd41", "")))
        + _on("main", "clock", "wall", "ds3231", "address = 0x68\n") + _on("main", "display", "panel", "ssd1306", 'lines = ["Boot room", "{1 + 1} pairs"]\n'),
    ),
    "sensors-rp2040": (
        "rp2040w-40pin",
        '[i2c.main]\nsda = 4\nscl = 5\ncontroller = "hardware"\n[spi.panel]\nsck = 18\nmosi = 19\nmiso = 16\ncontroller = "hardware"\n'
        + _on("main", "sensor", "fresh", "sht31", 'every = "5s"\n') + _on("panel", "converter", "adc", "mcp3208", "select = 17\n") + _sensor("analog", 'pin = "adc.3"\n')
        + _sensor("die", "", "chip") + "[sound.hall]\nsck = 10\nws = 11\nsd = 12\n[receiver.air]\npin = 13\n[remote.r]\nreceiver = \"air\"\ncode = \"a3f012\"\n[uart.line]\ntx = 8\nrx = 9\nbaud = 9600\n"
        '[frames.lamp]\nserial = "line"\nhears = "55 aa 07 {on:bool} {level:u16*10} {sum}"\nsays = { level = "55 aa 06 {level:u16*10} {sum}", on = "55 aa 05 {on:bool} {sum}" }\n',
    ),
    "sensors-esp8266": (
        "esp8266-30pin",
        _sensor("dht11", 'pin = "D1"\n') + _sensor("ntc", 'pin = "A0"\n', "ntc") + '[spi.panel]\nsck = "D5"\nmosi = "D7"\nmiso = "D6"\n'
        + _on("panel", "converter", "adc", "mcp3004", 'select = "D2"\n') + _sensor("analog", 'pin = "adc.1"\n', "volts")
        + '[uart.line]\ntx = "D4"\nbaud = 9600\n',
    ),
    "sensors-pins": (
        "esp32-38pin",
        _sensor("dht22", "pin = 27\n", "dht") + _sensor("echo", "trigger = 25\npin = 26\n", "echo") + _sensor("hx711", "clock = 14\npin = 13\n", "load")
        + _sensor("ntc", "pin = 34\n", "ntc") + _sensor("analog", 'pin = 35\nrange = "0V-3V"\n', "volts") + _sensor("pulse", "pin = 33\n", "flow") + _sensor("board", "", "own")
        + "[sound.hall]\npin = 36\n[onewire.outlet]\npin = 16\npull_up = \"4.7kohm\"\n" + _sensor("ds18b20", 'bus = "outlet"\n', "out") + "[receiver.air]\npin = 17\n[remote.r]\nreceiver = \"air\"\ncode = \"a3f012\"\n",
    ),
    "die-esp32": ("esp32s3-44pin", _sensor("die", "", "chip") + "[sound.hall]\nsck = 10\nws = 11\nsd = 12\n"),
    "expanders": (
        "esp32-38pin",
        I2C + _on("main", "expander", "io", "mcp23017") + EXPANDED + _on("main", "expander", "jo", "pcf8574", "address = 0x21\n") + '[relay.fan]\npin = "jo.3"\nactive = "low"\n'
        + _on("main", "multiplexer", "hall", "tca9548a", "reset = 19\n") + '[channel.north]\nmultiplexer = "hall"\nnumber = 2\n' + _on("north", "expander", "ko", "pcf8575", "address = 0x22\n") + '[contact.k]\npin = "ko.9"\npull = "up"\n',
    ),
    "converters": (
        "esp32-38pin",
        I2C + SPI.replace("main", "panel") + _on("main", "converter", "a", "ads1115") + _on("main", "converter", "b", "ads7828", "address = 0x4a\n") + _on("main", "converter", "e", "ads1015", "address = 0x49\n") + _on("panel", "converter", "c", "mcp3008", "select = 5\n")
        + _on("panel", "expander", "io", "mcp23s17", "select = 4\n") + EXPANDED
        + "".join(_sensor("analog", f'pin = "{name}.2"\nrange = "0V-3V"\n', f"s_{name}") for name in "abce"),
    ),
    "serial": (
        "esp32-38pin",
        UART + 'enable = 4\n[meter.grid]\nserial = "line"\npatience = "200ms"\nevery = "5s"\n[meter.grid.registers]\n'
        'power = { at = 12, type = "f32", unit = "W", space = "input" }\nenergy = { at = 14, type = "u32", order = "little", scale = 0.01, space = "input", every = "20s" }\n'
        'limit = { at = 40, scale = 0.1, shift = 2, unit = "A", writable = true, low = 6, high = 16 }\nslope = { at = 41, type = "s16", writable = true, low = -9, high = 9 }\n'
        'target = { at = 42, type = "f32", order = "little", writable = true, low = 1, high = 30 }\nwide = { at = 44, type = "s32", writable = true, low = -100000, high = 100000 }\n'
        'mode = { at = 60, names = { 0 = "away", 1 = "auto", 7 = "service" }, writable = true }\nstate = { at = 61, bits = { 0 = "heating", 9 = "alarm" } }\n'
        'make = { at = 70, type = "text", words = 3 }\nlow = { at = 80, bit = 3 }\nvalve = { at = 3, space = "coil", writable = true }\nlid = { at = 17, space = "discrete" }\n'
        '[meter.roof]\nserial = "line"\naddress = 2\n[meter.roof.registers]\nsun = { at = 9 }\n',
    ),
    "frames": (
        "esp32-38pin",
        UART + '[frames.lamp]\nserial = "line"\nhears = ["55 aa 07 {on:bool} {level:u16*10} {sum}", "55 aa 08 {warm:s16le*10} {xor}"]\nalive = "55 aa 00 ff"\nevery = "2s"\n'
        'hello = ["01 02", "03"]\nsilent = "6s"\nsays = { level = "55 aa 06 {level:u16*10} {sum}", on = "55 aa 05 {on:bool} {sum}", stop = "55 aa 0a {sum}" }\n',
    ),
    "framed": (
        "esp32-38pin",
        UART + '[frames.lamp]\nserial = "line"\nhears = "55 07 {on:bool} {level:u16*10} {sum}"\n'
        'says = { level = "55 06 {level:u16*10} {sum}", on = "55 05 {on:bool} {sum}" }\n[dimmer.d]\nserial = "lamp"\n'
        '[uart.two]\ntx = 25\nrx = 26\nbaud = 9600\n[frames.plain]\nserial = "two"\nsays = { on = "66 01 {on:bool}", off = "66 00" }\n[dimmer.e]\nserial = "plain"\n',
    ),
    "framed-blind": (
        "esp8266-30pin",
        '[uart.motor]\ntx = "D8"\nrx = "D7"\nbaud = 9600\n[frames.mcu]\nserial = "motor"\nhears = "a5 41 {position:u8*-1+100} {sum}"\n'
        'says = { position = "a5 21 {position:u8*-1+100} {sum}", stop = "a5 22 00 {sum}" }\nalive = "a5 10 {sum}"\nevery = "10s"\nsilent = "30s"\n'
        '[blind.window]\nserial = "mcu"\n[uart.two]\ntx = "D4"\nbaud = 9600\n[frames.plain]\nserial = "two"\n'
        'says = { open = "66 01", close = "66 02", position = "66 03 {position:u8}" }\n[blind.door]\nserial = "plain"\n',
    ),
    "ethernet": ("esp32-poe", "[ethernet]\n[flag.f]\nstart = false\n"),
    "remotes": (
        "esp32-38pin",
        '[receiver.air]\npin = 27\nsend = 26\n[remote.a]\nreceiver = "air"\ncode = "a3f012"\n[remote.b]\nreceiver = "air"\ncode = "000001"\n'
        '[[link]]\nwhen = "a.pressed"\ndo = "b.send"\n',
    ),
    "card": (
        "esp32-38pin",
        SPI + '[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = "10s"\n[card.log]\nbus = "main"\nselect = 5\nkeeps = ["cabinet.temperature"]\n',
    ),
    "radio": (
        "esp32-38pin",
        '[radio.air]\nweakest = -85\n[beacon.fridge]\nradio = "air"\naddress = "a4:c1:38:00:00:01"\ndata = "16 1a18 {temperature:s16le*100} {humidity:u16le*100}"\n',
    ),
}  # fmt: skip
UNHEARD = frozenset(
    [
        "absent",
        "busy",
        "code",
        "cause",
        "collect_at",
        "here",
        "interrupt",
        "loaded",
        "modules",
        "names",
        "port",
        "ran",
        "ready",
        "seen",
        "wait",
        "watch",
    ]
)
"""Calls of the simulator's own business, and those that say nothing of parts or depend on the chip's pace."""


def _values(part: Part, name: str) -> tuple[str, ...]:
    """What a rehearsal can make of a property, or of what else reaches the part."""
    known = part.properties.get(name)
    if known is None:
        return ("3",)
    if known.type == "boolean":
        return ("true", "false")
    low = known.low if known.low is not None else -20
    high = known.high if known.high is not None else low + 60
    return tuple(f"{low + (high - low) * share:g}" for share in (0.3, 0.8)) if known.type == "number" else ()


def _acts(design: Design):
    """All that can be done to the device."""
    for part in design.parts.values():
        simulation = part.simulation
        yield from (
            f"{part.name}.{name} = {value}" for name in simulation.stimuli for value in _values(part, name)
        )
        yield from (f"{part.name}.{name}" for name in simulation.gestures)
    for topic in zapato.list_topics(design):
        if topic.way == "to" and topic.what not in ("restart", "update"):
            place = topic.name.removeprefix(design.topic + "/")
            yield f"message('{place}', '{topic.example}')"


def _script(design: Design, folder) -> str:
    """Acts two seconds apart, those that the device can take, then a power cut."""
    able = [act for act in _acts(design) if one_act(design, act, 0, folder)[1] is None]
    rows = [*able, "power.cut"]
    steps = "".join(f'[[step]]\nat = "{10 + 2 * at}s"\nact = """{act}"""\n' for at, act in enumerate(rows))
    return f'[rehearsal]\nlasts = "{2 * len(rows) + 25}s"\n{steps}'


@pytest.fixture
def crossings(monkeypatch):
    """What programs said to their boards, each thing once, in order."""
    said: dict[str, None] = {}
    call, number = SimulatedBoard._call, SimulatedBoard._number

    def heard(self, name, data):
        if name not in UNHEARD:
            head, _, body = data.partition(b"\n")
            said.setdefault(f"{name} {head.decode('latin-1')} {body.hex()}".rstrip())
        return call(self, name, data)

    def counted(self, what, a, b, c, d):
        if NUMBERED[what] not in UNHEARD:
            said.setdefault(f"{NUMBERED[what]} {a} {b} {c} {d}".removesuffix(" 0").removesuffix(" 0"))
        return number(self, what, a, b, c, d)

    monkeypatch.setattr(SimulatedBoard, "_call", heard)
    monkeypatch.setattr(SimulatedBoard, "_number", counted)
    return said


@pytest.mark.parametrize("name", DEVICES)
def test_what_is_said_first(name, put, crossings):
    board, body = DEVICES[name]
    files = {
        "device.toml": HEADER.format(board=board) + body,
        "site.toml": NETWORK.format(qos=0) + ZONE,
    }
    device = put(files)
    assert [f.message for f in zapato.check(device) if f.severity == "error"] == []
    design = zapato.load(device)
    put({"script.toml": _script(design, device.parent)})
    result = zapato.rehearse(design, device.parent / "script.toml")
    assert not result.crash
    told: dict[str, None] = {}
    for row in result.records:
        if row["what"] in ("mqtt", "print") and not re.search("vitals|update/", row["name"]):
            told.setdefault(re.sub(r"line \d+", "line …", f"{row['what']} {row['name']} {row['value']}"))
    approve(f"says-{name}", "\n".join([*crossings, "", *told]) + "\n")


@pytest.mark.parametrize("name", DEVICES)
def test_whatever_the_world_is_the_stand_ins_bear_it(name, put):
    """Values beyond everything that a chip measures end no rehearsal and no program."""
    board, body = DEVICES[name]
    design = zapato.load(
        put({"device.toml": HEADER.format(board=board) + body, "site.toml": NETWORK.format(qos=0) + ZONE})
    )
    acts = [
        f"{part.name}.{key} = {value}"
        for part in design.parts.values()
        for key in part.simulation.stimuli
        for value in ("-1e12", "1e12", "1e300", "-0.0001")
    ]
    able = [act for act in acts if one_act(design, act, 0, put({}).parent)[1] is None]
    rows = "".join(f'[[step]]\nat = "{3 + at}s"\nact = "{act}"\n' for at, act in enumerate(able))
    script = put({"script.toml": f'[rehearsal]\nlasts = "{len(able) + 15}s"\n{rows}'}).with_name(
        "script.toml"
    )
    result = zapato.rehearse(design, script)
    assert not result.crash and not result.restarts
