"""What the ports refuse, begin with and take time for: each row as its source has it, and the runtime against it."""

import json
import tomllib
from pathlib import Path

import pytest
from conftest import HEADER, in_the_vm
from support.images import KEY, base_of, built
from support.loader import IMAGE, chip, quick  # noqa: F401
from support.over_air import Place, designs, packed

import zapato
from zapato.boards import board as board_named
from zapato.boards.port import port, port_ids
from zapato.deliver.cable import by_cable
from zapato.deliver.loader import Loader
from zapato.deliver.offer import UpdateOffer
from zapato.deliver.ports import OpenPort
from zapato.errors import NotDelivered
from zapato.firmware.compile import cache_folder, compile_all, runtime_source
from zapato.firmware.first import data_place
from zapato.simulator.clock import Clock
from zapato.simulator.interrupts import Interrupts
from zapato.simulator.sdk import FACTORY_NAME, Remembered
from zapato.simulator.wasi import Fault

BOARDS = {"esp8266": "esp8266-30pin", "esp32": "esp32-38pin", "rp2": "rp2040w-40pin"}
PIN = {"esp8266": 14, "esp32": 14, "rp2": 14}


def bare(
    put,
    tmp_path,
    board: str,
    source: str,
    lasts: str = "10s",
    world: str = "",
    body: str = "[relay.r]\npin = 14\n",
):
    """A rehearsal of one module in place of the program."""
    device = put(
        {
            "device.toml": HEADER.format(board=board) + body,
            "script.toml": f'[rehearsal]\nlasts = "{lasts}"\n{world}',
        }
    )
    app = zapato.build(device, tmp_path / "out").app
    (app / "start.mpy").write_bytes(compile_all({"start": source}, cache_folder())["start"])
    return zapato.rehearse(device, device.parent / "script.toml", app=app)


def printed(result) -> list[str]:
    return [text for _, text in result.log]


TRIED = """
import machine


def run():
    for code in ({codes}):
        try:
            eval_one(code)
            print(code, "taken")
        except Exception as error:
            print(code, type(error).__name__)
    while True:
        pass


def eval_one(code):
    Pin = machine.Pin
    pin = Pin({pin})
    if code == "wdt 8000":
        machine.WDT(timeout=8000)
    elif code == "wdt 5000":
        machine.WDT(timeout=5000)
    elif code == "pull down":
        Pin({pin}, Pin.IN, Pin.PULL_DOWN)
    elif code == "hard":
        pin.irq(print, Pin.IRQ_RISING, hard=True)
    elif code == "console buffer":
        machine.UART(0, baudrate=9600, rxbuf=256)
    elif code == "dac":
        machine.DAC
"""
REFUSES = {
    "esp8266": {
        "wdt 8000": "ValueError", "wdt 5000": "taken", "pull down": "AttributeError", "hard": "ValueError",
        "console buffer": "taken", "dac": "AttributeError",
    },
    "esp32": {
        "wdt 8000": "taken", "wdt 5000": "taken", "pull down": "taken", "hard": "ValueError",
        "console buffer": "ValueError", "dac": "taken",
    },
    "rp2": {
        "wdt 8000": "taken", "wdt 5000": "taken", "pull down": "taken", "hard": "taken",
        "console buffer": "taken", "dac": "AttributeError",
    },
}  # fmt: skip


@pytest.mark.parametrize("name", BOARDS)
def test_a_board_refuses_what_its_port_refuses(put, tmp_path, name):
    codes = "".join(f"{code!r}, " for code in REFUSES[name] if not code.startswith("wdt")) + "".join(
        f"{code!r}, " for code in REFUSES[name] if code.startswith("wdt")
    )
    result = bare(put, tmp_path, BOARDS[name], TRIED.format(codes=codes, pin=PIN[name]), "3s")
    said = dict(text.rsplit(" ", 1) for text in printed(result) if text.rsplit(" ", 1)[0] in REFUSES[name])
    assert said == REFUSES[name]


def test_every_row_of_a_port_has_its_source():
    for name in port_ids():
        data = tomllib.loads((Path(zapato.__file__).parent / f"boards/ports/{name}.toml").read_text())
        tables = {key: row for key, row in data.items() if isinstance(row, dict)}
        assert tables and all(len(row["source"]) > 10 for row in tables.values())
        assert port(name).time.erase_most >= port(name).time.erase and port(name).nesting > 10


HANGS = "import machine\nimport time\n\n\ndef run():\n    dog = machine.WDT(timeout=5000)\n    for _ in range(4):\n        time.sleep_ms({wait})\n        dog.feed()\n    print('lived')\n    while True:\n        time.sleep_ms(500)\n        dog.feed()\n"


@pytest.mark.parametrize(("wait", "lives"), [(1000, True), (1550, True), (1700, False)])
def test_the_esp8266s_watchdog_waits_for_1600_ms_only(put, tmp_path, wait, lives):
    result = bare(put, tmp_path, "esp8266-30pin", HANGS.format(wait=wait))
    assert ("lived" in printed(result)) == lives
    assert any(r["name"] == "watchdog" for r in result.records) != lives


def test_computing_takes_the_chips_time_and_feeds_nobody(put, tmp_path):
    """A loop of some ten million instructions: a third of a second on the slowest chip, and its watchdog looks on."""
    source = "import time\n\n\ndef run():\n    a = time.ticks_ms()\n    for n in range(20000):\n        n * n\n    time.sleep_ms(0)\n    time.sleep_us(1)\n    print('took', time.ticks_diff(time.ticks_ms(), a))\n    while True:\n        time.sleep(1)\n"
    took = {}
    for name in BOARDS:
        said = printed(bare(put, tmp_path, BOARDS[name], source))
        took[name] = next(int(text.split()[1]) for text in said if text.startswith("took"))
    speed = {name: board_named(board).chip.speed for name, board in BOARDS.items()}
    assert took["esp8266"] > took["esp32"] and min(took.values()) > 20
    assert took["esp8266"] / took["esp32"] == pytest.approx(speed["esp32"] / speed["esp8266"], rel=0.5)
    endless = bare(
        put,
        tmp_path,
        "esp8266-30pin",
        "import machine\n\n\ndef run():\n    machine.WDT(timeout=5000)\n    while True:\n        pass\n",
        "20s",
    )
    assert endless.crash is None and len([r for r in endless.records if r["name"] == "watchdog"]) > 3


def test_a_soft_handlers_queue_holds_so_many_while_c_code_runs():
    waiting = Interrupts(Clock(), 4)
    for number in range(6):
        waiting.fire(number, 1)
    assert [each.number for each in waiting.waiting] == [0, 1, 2, 3] and waiting.lost == 2
    waiting.between_instructions(waiting.fire, 9, 1)
    assert waiting.waiting[-1].moment == (0, 0)
    waiting.fire(7, 1, hard=True)
    with waiting.off():
        waiting.fire(8, 1, hard=True)
        waiting.fire(8, 0, hard=True)
    assert [each.number for each in waiting.waiting][-3:] == [9, 7, 8] and waiting.lost == 3


def test_software_modulation_goes_on_until_it_is_ended(put, tmp_path):
    """A program that fails leaves its dimmer at the safe level all through the pause before the restart."""
    pause = "from machine import PWM, Pin\n\n\ndef run():\n    pwm = PWM(Pin(14), freq=500, duty_u16=60000)\n    Pin(14, Pin.OUT, value=0)\n    {end}\n    import time\n    time.sleep(100)\n"
    left = {}
    for end in ("pass", "pwm.deinit(); Pin(14, Pin.OUT, value=0)"):
        result = bare(put, tmp_path, "esp8266-30pin", pause.format(end=end))
        left[end] = [r for r in result.records if r["what"] in ("pin", "duty") and r["name"] == "GPIO14"][-1]
    assert left["pass"]["what"] == "duty"
    assert (
        left["pwm.deinit(); Pin(14, Pin.OUT, value=0)"]["what"],
        left["pwm.deinit(); Pin(14, Pin.OUT, value=0)"]["value"],
    ) == ("pin", 0)


DIMMER = '[dimmer.hall]\npin = 14\nstart = "on"\n[button.b]\npin = 12\npull = "up"\n[number.n]\nleast = 0\nmost = 9\n'


def test_ctrl_c_leaves_safe_levels(put):
    """Whatever ends the program: a heater is off, a modulated pin too, before the prompt has the board."""
    for board in BOARDS.values():
        heater = '[relay.heater]\npin = 14\n[dimmer.hall]\npin = 12\n[[link]]\nevery = "1s"\ndo = ["heater.on", "hall.on"]\n'
        design = zapato.load(put({"device.toml": HEADER.format(board=board) + heater}))
        place = Place(design, seconds=20)
        place.clock.at(9_000, lambda place=place: setattr(place.board, "ctrl_c", True))
        crash = place.run()
        assert crash and crash.error == "KeyboardInterrupt", (board, crash)
        line, dimmed = place.board.pins.line(14), place.board.pins.line(12)
        assert (line.level, dimmed.level, dimmed.duty) == (0, 0, None), board
        assert any(r["name"] == "GPIO14" and r["value"] == 1 for r in place.trace.rows)


# --- the radio that remembers


def test_the_sdk_keeps_what_it_was_told_and_begins_open():
    sdk = Remembered()
    assert (sdk.mode, sdk.access) == (2, (FACTORY_NAME, ""))
    sdk.switch(2, False)
    sdk.keep(station=("hall", "larch and stone"))
    changes = sdk.changes
    sdk.keep(station=("hall", "larch and stone"))
    assert sdk.changes == changes == 2
    sdk.erase(0)
    sdk.erase(1)
    assert sdk.station[0] == "hall"  # nobody has published which sector holds it
    sdk.erase(2)
    assert (sdk.mode, sdk.station, sdk.access) == (2, ("", ""), (FACTORY_NAME, ""))


def test_an_access_point_that_nobody_asked_for_is_closed_and_forgotten_means_forgotten(put):
    old, _ = designs(put)
    place = Place(old, seconds=60)
    sdk = place.board.sdk
    assert sdk.mode == 2
    place.clock.at(30_000, lambda: place.broker.message("refuge/bench/device/do/forget", ""))
    place.clock.at(31_000, lambda: place.broker.message("refuge/bench/device/do/forget", ""))
    seen = []
    place.clock.at(29_000, lambda: seen.append((sdk.mode, sdk.station[0], place.board.station.access)))
    place.clock.at(32_000, lambda: seen.append((sdk.station, sdk.mode)))
    assert place.run() is None
    opened = [r["value"] for r in place.trace.rows if r["name"] == "access point"]
    assert opened[:2] == [FACTORY_NAME, ""], "open from the factory, and closed by the program"
    assert seen[0] == (1, "hall", None)
    assert seen[1][0] == ("", ""), "name and password are gone from the SDK's sectors, too"
    assert not any("hall" in text for text in map(str, sdk.station))


# --- serial controllers


def test_a_serial_link_with_one_line_takes_the_other_pin_as_well(put, tmp_path, cli):
    body = "[uart.meter]\nrx = 13\nbaud = 9600\n\n[relay.pump]\npin = 0\n"
    report = zapato.check(put({"device.toml": HEADER.format(board="rp2040w-40pin") + body}))
    assert [f.code for f in report.findings if f.severity == "error"] == ["pin-serial"]
    source = "from machine import UART, Pin\n\n\ndef run():\n    Pin(0, Pin.OUT, value=0)\n    UART(0, baudrate=9600, rx=Pin(13))\n    import time\n    time.sleep(100)\n"
    result = bare(put, tmp_path, "rp2040w-40pin", source)
    assert ("GPIO0", 1) in [(r["name"], r["value"]) for r in result.records if r["what"] == "pin"]


@pytest.mark.parametrize(
    ("board", "body", "codes"),
    [
        ("esp32-38pin", "[uart.u]\ntx = 1\nrx = 3\nbaud = 9600\n", ["pin-console", "pin-console"]),
        ("esp8266-30pin", "[uart.u]\ntx = 1\nrx = 3\nbaud = 9600\n", []),
        ("esp32-38pin", "[uart.a]\ntx = 18\nbaud = 9600\n[uart.b]\ntx = 19\nbaud = 9600\n", ["pin-serial"]),
        ("esp32-38pin", "[uart.a]\ntx = 18\nbaud = 9600\n[relay.r]\npin = 16\n", ["pin-serial"]),
        ("esp32c6-30pin", "[uart.a]\ntx = 18\nrx = 19\nbaud = 9600\n[uart.b]\ntx = 20\nrx = 21\nbaud = 9600\n", ["uart-exhausted"]),
        ("esp8266-30pin", "[uart.a]\ntx = 15\nrx = 13\nbaud = 9600\n[uart.b]\ntx = 2\nbaud = 9600\n", []),
    ],
)  # fmt: skip
def test_serial_links_are_held_against_the_port(put, board, body, codes):
    report = zapato.check(put({"device.toml": HEADER.format(board=board) + body}))
    assert [f.code for f in report.findings if f.severity == "error"] == codes


def test_a_second_controller_leaves_the_first_on_its_pins(put):
    """Making the ESP8266's controller 1 would swap controller 0 back to the console's pins."""
    body = "[uart.a]\ntx = 15\nrx = 13\nbaud = 9600\n[uart.b]\ntx = 2\nbaud = 9600\n"
    design = zapato.load(put({"device.toml": HEADER.format(board="esp8266-30pin") + body}))
    place = Place(design, seconds=5)
    seen = []
    place.clock.at(4_000, lambda: seen.extend((place.board.uart_keys.get(0), place.board.serial(13).hears)))
    assert place.run() is None and seen == [13, True]


# --- floats of the chip's width


def test_a_tally_grows_where_a_float_of_32_bits_would_not():
    """Ten thousand steps of a thousandth beyond 65,536, where the last digit of the chip's float is 1/128."""
    modules = {name: runtime_source(name, "esp32") for name in ("tally", "store", "loop", "values")}
    said = in_the_vm(
        "from tally import Tally\nclass Store:\n    kept = {}\n    def put(self, key, value):\n        self.kept[key] = value\n"
        "class Device:\n    store = Store()\n    clock = None\n    starts = []\n    def listen(self, key, call): pass\n"
        "    def changed(self, part, name): pass\n    def every(self, *given): pass\n    def after(self, *given): pass\n    def cancel(self, timer): pass\n"
        "d = Device()\nd.store.kept['t'] = [65536000, 0, None, 1000]\nt = Tally(d, 't', 2, False)\n"
        "value = [0.0]\nt.read = lambda: value[0]\nt.weigh()\n"
        "for n in range(10000):\n    value[0] = (n + 1) / 1000\n    t.weigh()\nprint(t.sums[0], t.total)\n",
        modules,
    )
    assert said.split()[0] == "65546000" and float(said.split()[1]) == pytest.approx(65546, abs=0.01)


# --- onto the board


@pytest.mark.parametrize(("board", "there", "goes"), [
    ("esp8266-30pin", 1 << 20, False), ("esp8266-30pin", 1 << 24, True), ("esp8266-8pin", 1 << 22, True),
    ("esp32-38pin", 1 << 24, False), ("esp32-38pin", 1 << 21, False), ("esp32-38pin", 1 << 22, True),
])  # fmt: skip
def test_another_flash_than_the_boards_is_told_before_anything_is_written(chip, board, there, goes):  # noqa: F811
    facts = board_named(board)
    made = chip(board, flash_bytes=there)
    before = bytes(made.flash)
    if goes:
        assert by_cable(facts, IMAGE, made.name, wait=3).size
        return
    with pytest.raises(NotDelivered, match=r"the flash on .* has .* MiB, and") as told:
        by_cable(facts, IMAGE, made.name, wait=3)
    assert f"flash = {there}" in told.value.fix and bytes(made.flash) == before


def test_a_line_that_is_too_fast_falls_back(chip):  # noqa: F811
    made = chip(slowest=115_200)
    assert by_cable(made.board, IMAGE[:9000], made.name, wait=5).verified and made.rate == 115_200


def test_the_watchdogs_of_the_loader_are_stilled(chip):  # noqa: F811
    made = chip("esp32c3-mini")
    line = OpenPort(made.name)
    loader = Loader(line)
    assert any(loader.greet() for _ in range(5)) and loader.identify() == "esp32c3"
    loader.still()
    assert made.registers[0x60008090] == 0 and made.registers[0x600080AC] == 1 << 31
    line.close()


def test_an_esp8266_finds_its_files_by_the_header(put, chip):  # noqa: F811
    """The image as the vendor ships it says 512 KiB or 4 MiB, whatever is there: only what we wrote in it makes the board start."""
    made, _ = built(put, "esp8266-30pin", base_of("esp8266-30pin"))
    board, seen = board_named("esp8266-30pin"), []
    there = chip("esp8266-30pin", boot=lambda flash: seen.append(len(flash)) or ["bench 1.0.0"])
    by_cable(board, made.first.read_bytes(), there.name, wait=3)
    plain = chip("esp8266-30pin", boot=lambda flash: seen.append(len(flash)) or [""])
    by_cable(board, base_of("esp8266-30pin"), plain.name, wait=3)
    at, _ = data_place(board)
    assert seen[0] == 1 << 22 and seen[1] <= at


# --- pads and radios


def test_a_pad_that_reads_nothing_yet_is_no_finger(put):
    touch = '[touch.pad]\npin = 4\n[led.l]\npin = 5\nshows = "pad.down"\n'
    design = zapato.load(put({"device.toml": HEADER.format(board="esp32s3-44pin") + touch}))
    place = Place(design, seconds=6)
    place.clock.at(4_000, lambda: place.board.quantities["touch", 4].set(True))
    assert place.run() is None
    lit = [r["t"] for r in place.trace.rows if r["name"] == "GPIO5" and r["value"] == 1]
    assert lit and lit[0] > 4_000


# --- the devices of two sites, on the chip that starts none of them by kindness

TRIALS = Path(__file__).parents[1] / "data" / "trials"
SMALL = [
    path for path in sorted(TRIALS.glob("*/devices/*.toml"))
    if "esp8266" in path.read_text() or "meter-plug" in path.read_text()
]  # fmt: skip


@pytest.mark.parametrize("path", SMALL, ids=lambda path: path.stem)
@pytest.mark.slow
def test_a_small_device_lives_through_a_restart_an_update_and_being_forgotten(path, tmp_path):
    import shutil

    site = shutil.copytree(path.parent.parent, tmp_path / "site")
    text = (site / "devices" / path.name).read_text()
    (site / "secrets.toml").write_text(
        (site / "secrets.toml").read_text() + f'\n[update_keys]\n{path.stem} = "{KEY}"\n'
    )
    old = zapato.load(site / "devices" / path.name)
    (site / "devices" / path.name).write_text(text.replace("[device]\n", '[device]\nversion = "9.0.0"\n', 1))
    new = zapato.load(site / "devices" / path.name)
    assert (old.version, new.version) != (new.version, old.version)
    place = Place(old, seconds=900)
    place.air.known = ((old.wifi or {}).get("name") or "hall", (old.wifi or {}).get("password") or "")
    topic = old.topic
    place.clock.at(60_000, lambda: place.broker.message(f"{topic}/device/do/restart", ""))
    offer = UpdateOffer(topic, bytes.fromhex(KEY), packed(new, tmp_path))
    place.clock.at(120_000, lambda: place.serve(offer))
    for when in (860_000, 865_000):
        place.clock.at(when, lambda: place.broker.message(f"{topic}/device/do/forget", ""))
    crash = place.run()
    assert crash is None, crash
    assert not [r for r in place.trace.rows if r["name"] == "watchdog"], "\n".join(place.log)
    assert place.versions[-1] == "9.0.0", "\n".join(place.log)
    assert "name" not in json.loads(place.board.flash.files["settings.json"]).get("wifi", {})
    assert place.board.sdk.station == ("", "")
    full = any(f.code == "memory-heap" for f in zapato.check(path))  # who was warned may need a second start
    assert not any("recursion" in text or ("MemoryError" in text and not full) for text in place.log)


# --- what the simulated board gives back


READS = """
import bluetooth
import machine


def run():
    ble = bluetooth.BLE()
    ble.active(True)
    ble.irq(heard)
    ble.gap_scan(0, 100000, 100000, False)
    i2c = machine.SoftI2C(sda=machine.Pin(21), scl=machine.Pin(22), freq=100000)
    wrong = 0
    for n in range(30000):
        i2c.writeto(0x20, b"\\0")
        if i2c.readfrom(0x20, 2) != b"\\xff\\xff":
            wrong += 1
    print("wrong", wrong, "heard", count > 9)
    while True:
        pass


count = 0


def heard(event, data):
    global count
    count += 1
"""


@pytest.mark.slow
def test_a_handler_never_takes_the_bytes_of_a_bus(put, tmp_path):
    """An expander's registers are read over and over while advertisements come: each answer is whole."""
    body = '[radio.air]\npasses = true\n[i2c.main]\nsda = 21\nscl = 22\n[expander.io]\nchip = "mcp23017"\nbus = "main"\naddress = 0x20\n'
    said = printed(bare(put, tmp_path, "esp32-38pin", READS, "5min", body=body))
    assert "wrong 0 heard True" in said, said


def test_a_manifest_that_cannot_be_read_is_given_up(put, tmp_path):
    """Damage that comes again each time ends in the program before it, not in a device that asks for ever."""
    old, new = designs(put)
    place, offer = Place(old, seconds=300), UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))

    def hear(topic, payload):
        if topic.endswith("/update/want"):
            at = json.loads(payload)[2]
            place.broker.message(
                f"{old.topic}/update/piece/set",
                b"manifest.json %d\n" % at + bytes(200 - at).replace(b"\0", b"\xff"),
            )
        if topic.endswith("/vitals"):
            place.offer(offer, "1.0.0")

    place.broker.listeners.append(hear)
    place.clock.at(180_000, lambda: place.broker.listeners.remove(hear))
    assert place.run() is None
    assert any("its manifest cannot be read" in note for note in place.notes), place.notes
    assert place.versions[-1] == "1.0.0"


def test_a_sector_that_cannot_be_erased_does_not_keep_the_device_from_beginning_anew(put, monkeypatch):
    old, _ = designs(put)
    place = Place(old, seconds=60)

    def refuses(sector):
        raise Fault(5)

    monkeypatch.setattr(place.board.sdk, "erase", refuses)
    for when in (30_000, 31_000):
        place.clock.at(when, lambda: place.broker.message("refuge/bench/device/do/forget", ""))
    assert place.run() is None
    assert next(r["t"] // 1000 for r in place.trace.rows if r["name"] == "reset") == 31
    assert "name" not in json.loads(place.board.flash.files["settings.json"]).get("wifi", {})
