"""Outputs that are held: limits, guards, inputs that rest, tallies; and the world's models that close the loop."""

import json
import math
from itertools import pairwise

import pytest
from conftest import NETWORK, failed, steps

import zapato

SITE = NETWORK.format(qos=0)
HEATER = '[relay.heater]\npin = 26\n{more}\n[flag.go]\n[[link]]\nwhen = "go.on"\ndo = "heater.on"\n[[link]]\nwhen = "not go.on"\ndo = "heater.off"\n'
OVEN = (
    '[sensor.oven]\nchip = "dht22"\npin = 27\nevery = "5s"\n[relay.heater]\npin = 26\n[relay.fan]\npin = 25\n'
)
FELT = "[world]\noven.temperature = 20\noven.humidity = 50\n"


def go(moment: str, on: bool = True) -> str:
    return f"{moment}: message('go/on/set', '{str(on).lower()}')"


LIMITS = {
    "shortest off, at power-up too": (
        'shortest_off = "1min"',
        (go("10s"), "59s? not heater.on", "<2s? heater.on", go("70s", False), "<1s? not heater.on", go("75s"), "125s? not heater.on", "<8s? heater.on"),
    ),
    "shortest on, the last wish wins": (
        'shortest_on = "1min"',
        (go("10s"), "11s? heater.on", go("20s", False), "69s? heater.on", "<2s? not heater.on",
         go("80s"), go("85s", False), go("90s"), "=2min? heater.on"),
    ),
    "so many an hour": (
        "most_per_hour = 2",
        (go("10s"), go("20s", False), go("30s"), "31s? heater.on", go("40s", False), go("50s"), "=55min? not heater.on", "<6min? heater.on"),
    ),
    "longest on": (
        'longest_on = "5min"',
        (go("10s"), "5min5s? heater.on", "<10s? not heater.on", "<1s? published('notes', 'heater was on for its longest time')",
         go("6min", False), go("7min"), "11min55s? heater.on", "<10s? not heater.on"),
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", LIMITS)
def test_a_relay_keeps_to_its_limits(name, bench):
    more, rows = LIMITS[name]
    result = bench(HEATER.format(more=more), steps(*rows), lasts="70min", site=SITE)
    assert failed(result) == []


def test_two_that_exclude_each_other_never_meet_even_where_one_must_stay_on(bench):
    body = (
        '[relay.a]\npin = 26\nshortest_on = "30s"\ndead_time = "2s"\nexcludes = ["b"]\n[relay.b]\npin = 25\n'
    )
    rows = steps(
        "5s: message('a/do/on', '')", "6s: message('b/do/on', '')", "34s? a.on and not b.on", "<4s? b.on and not a.on",
    )  # fmt: skip
    result = bench(body, rows, lasts="1min", site=SITE)
    assert failed(result) == []
    moves = [(r["t"], r["name"], r["value"]) for r in result.records if r["what"] == "pin" and r["t"] > 1000]
    opened = next(t for t, name, level in moves if name == "GPIO26" and not level)
    closed = next(t for t, name, level in moves if name == "GPIO25" and level)
    assert closed - opened >= 2000


GUARD = '[guard.hot]\nwhen = "oven.temperature > 60"\nback = 10\noff = {off}\n{more}\n'


def test_nothing_switches_on_what_a_guard_holds_off(bench):
    """Buttons, links, groups, MQTT, pulses, timers and what shows by itself."""
    body = (
        OVEN
        + '[group.both]\nof = ["heater", "fan"]\n[dimmer.glow]\npin = 32\n[led.l]\npin = 33\nshows = "fan.on or not fan.on"\n'
        + GUARD.format(off='["both", "glow", "l"]', more="")
        + '[[link]]\nevery = "1s"\ndo = ["heater.on", "glow.fade(80, \'5s\')"]\n'
    )
    rows = steps(
        "10s? heater.on and glow.on and l.on",
        "11s: message('fan/do/pulse', '60')",
        "12s: oven.temperature = 70",
        "<6s? hot.tripped and not heater.on and not fan.on and not glow.on and not l.on",
        *(f"+1s: {act}" for act in (
            "message('heater/on/set', 'true')", "message('both/do/toggle', '')", "message('glow/level/set', '100')",
            "message('fan/do/pulse', '5')", "message('hot/do/release', '')", "message('heater/do/off', '')",
        )),
        "=2min? hot.tripped and not heater.on and not fan.on and not glow.on and not l.on",
        "+1s: oven.temperature = 45",
        "<8s? not hot.tripped and heater.on",
    )  # fmt: skip
    result = bench(body, FELT + rows, lasts="5min", site=SITE)
    assert failed(result) == []
    said = [text for _, text in result.log]
    assert "hot trips" in said and "hot lets go" in said
    assert any("it holds off" in text for text in said) and any(
        "not while its limit" in text for text in said
    )


def test_a_guard_by_hand_stays_until_somebody_lets_go(bench):
    body = OVEN + GUARD.format(off='"heater"', more='release = "hand"')
    rows = steps(
        "10s: message('heater/on/set', 'true')", "11s? heater.on", "12s: oven.temperature = 61", "<6s? not heater.on",
        "30s: oven.temperature = 20", "=1min? hot.tripped", "+1s: message('hot/do/release', '')", "<1s? not hot.tripped",
        "=10s? not heater.on", "+1s: message('heater/on/set', 'true')", "<1s? heater.on", "+1s: message('hot/do/trip', '')",
        "<1s? not heater.on",
    )  # fmt: skip
    assert failed(bench(body, FELT + rows, lasts="3min", site=SITE)) == []


def test_a_guard_waits_for_no_shortest_time(bench):
    """What a relay keeps to gives way; a link that wants it off has to wait."""
    body = OVEN.replace("pin = 26", 'pin = 26\nshortest_on = "2min"') + GUARD.format(off='"heater"', more="")
    rows = steps(
        "10s: message('heater/on/set', 'true')", "11s? heater.on", "12s: message('heater/on/set', 'false')", "14s? heater.on",
        "15s: oven.temperature = 61", "<6s? hot.tripped and not heater.on",
    )  # fmt: skip
    assert failed(bench(body, FELT + rows, lasts="1min", site=SITE)) == []


def test_a_guard_that_sees_nothing_holds_off_and_lets_go_when_it_sees_again(bench):
    body = OVEN + GUARD.format(off='"heater"', more='unknown_for = "2min"').replace("oven", "probe")
    body = body.replace(
        "[guard", '[onewire.w]\npin = 4\n[sensor.probe]\nchip = "ds18b20"\nbus = "w"\nevery = "5s"\n[guard'
    )
    rows = steps(
        "10s: message('heater/on/set', 'true')", "118s? heater.on and not hot.tripped", "<5s? hot.tripped and not heater.on",
        "+1s: probe.temperature = 30", "<12s? not hot.tripped", "+1s: message('heater/on/set', 'true')", "<1s? heater.on",
    )  # fmt: skip
    assert failed(bench(body, FELT + rows, lasts="4min", site=SITE)) == []


def test_a_kept_relay_comes_back_and_the_guard_takes_it_off_again(bench):
    body = OVEN.replace("pin = 26", 'pin = 26\nstart = "last"') + GUARD.format(off='"heater"', more="")
    rows = steps(
        "10s: message('heater/on/set', 'true')", "20s: power.cut", "<3s? heater.on", "30s: oven.temperature = 80",
        "<6s? not heater.on", "40s: power.cut", "=20s? not heater.on",
    )  # fmt: skip
    assert failed(bench(body, FELT + rows, lasts="2min", site=SITE)) == []


def test_an_input_rests_after_a_change(bench):
    body = '[contact.gate]\npin = 33\npull = "up"\nquiet = "10s"\n'
    rows = steps(
        "5s: gate.closed = true", "<1s? published('gate/closed', 'true')", "+1s: gate.closed = false", "+1s: gate.closed = true",
        "+1s: gate.closed = false", "=4s? not published('gate/closed', 'false')", "<5s? published('gate/closed', 'false')",
    )  # fmt: skip
    assert failed(bench(body, "[world]\ngate.closed = false\n" + rows, lasts="1min", site=SITE)) == []


def test_tallies_count_times_and_growth_and_outlive_a_power_cut(bench):
    body = (
        '[contact.door]\npin = 33\npull = "up"\n[sensor.water]\nchip = "pulse"\npin = 34\npull = "none"\nevery = "5s"\n'
        '[tally.openings]\nof = "not door.closed"\n[tally.litres]\nof = "water.count * 0.5"\ncounts = "growth"\n'
    )
    rows = steps(
        "5s: door.closed = false", "10s: door.closed = true", "15s: door.closed = false", "16s: door.closed = true",
        "20s? openings.total == 2", "30s: water.rate = 2", "61s: water.rate = 0", "70s? litres.total > 25 and litres.total < 36",
        "400s: power.cut", "410s? openings.total == 2", "420s: message('openings/do/clear', '')", "<1s? openings.total == 0",
    )  # fmt: skip
    world = "[world]\ndoor.closed = true\nwater.rate = 0\n"
    assert failed(bench(body, world + rows, lasts="450s", site=SITE)) == []


@pytest.mark.slow
def test_a_room_follows_its_heater_as_the_formula_says(bench):
    """One hour towards 12 + 30 degrees with a time constant of 20 minutes; then a thermostat keeps it at 25."""
    body = (
        OVEN
        + '[flag.auto]\n[[link]]\nwhen = "auto.on and oven.temperature < 24"\ndo = "heater.on"\n[[link]]\nwhen = "oven.temperature > 26"\nif = "auto.on"\ndo = "heater.off"\n'
    )
    model = '[model.air]\ndrives = "oven.temperature"\nlike = "room"\nstart = 12\noutside = 12\nconstant = "20min"\nby = { "heater.on" = 30 }\n'
    warm = 12 + 30 * (1 - math.exp(-59 / 20))
    rows = steps(
        "1min: message('heater/on/set', 'true')", f"1h? abs(oven.temperature - {warm}) < 0.2", "+1s: message('auto/on/set', 'true')",
        "+1s: message('heater/on/set', 'false')", "3h? oven.temperature > 23.4 and oven.temperature < 26.4", "=30min? oven.temperature > 23.4",
    )  # fmt: skip
    result = bench(body, "[world]\noven.humidity = 50\n" + model + rows, lasts="4h", site=SITE)
    assert failed(result) == []


def test_a_tank_fills_and_empties_between_its_ends(bench):
    body = '[sensor.tank]\nchip = "analog"\npin = 34\nrange = "0V-3V"\nevery = "5s"\n[relay.pump]\npin = 26\n[relay.valve]\npin = 25\n'
    model = '[model.tank]\ndrives = "tank.voltage"\nlike = "tank"\nstart = 1\nlow = 0\nhigh = 2\nby = { "pump.on" = 0.5, "valve.on" = -0.25 }\n'
    rows = steps(
        "10s: message('pump/on/set', 'true')", "70s? abs(tank.voltage - 1.45) < 0.06", "5min? abs(tank.voltage - 2) < 0.02",
        "+1s: message('valve/on/set', 'true')", "+1s: message('pump/on/set', 'false')", "20min? tank.voltage < 0.15",
    )  # fmt: skip
    assert failed(bench(body, model + rows, lasts="21min", site=SITE)) == []


@pytest.mark.parametrize(
    ("model", "words"),
    [
        ('drives = "oven.heat"\nlike = "room"\nstart = 1\nby = { "heater.on" = 1 }', "cannot set oven.heat"),
        ('drives = "oven.temperature"\nlike = "lake"\nstart = 1\nby = { "heater.on" = 1 }', "lake"),
        ('drives = "oven.temperature"\nlike = "room"\nstart = 1\nby = { "heatr.on" = 1 }', "heatr"),
        ('drives = "oven.temperature"\nlike = "room"\nstart = 1\nby = 3', "takes what changes it"),
        (
            'drives = "oven.temperature"\nlike = "room"\nstart = 1\nby = { "\'warm\'" = 1 }',
            "must be true or false, or a number",
        ),
        ('drives = "oven.temperature"\nlike = "room"\nstart = 999\nby = { "heater.on" = 1 }', "-40 to 80"),
    ],
)
def test_a_models_mistakes_are_found(model, words, bench):
    from zapato.errors import RehearsalInvalid

    with pytest.raises(RehearsalInvalid) as raised:
        bench(OVEN, f"[model.air]\n{model}\n")
    assert any(words in f.message for f in raised.value.findings), [f.message for f in raised.value.findings]


def test_senml_and_spaced_reports(bench):
    """Values as packs with their units, no more often than said, the newest last; commands and events as ever."""
    site = SITE.replace("qos = 0", 'qos = 0\nreport = "senml"\napart = "10s"')
    rows = steps(
        *(f"{10 + n}s: oven.temperature = {20 + n}" for n in range(30)),
        "45s: message('heater/on/set', 'true')",
        "<1s? heater.on",
    )
    result = bench(OVEN.replace('"5s"', '"2s"'), FELT + rows, lasts="2min", site=site)
    assert failed(result) == []
    said = [
        (r["t"], json.loads(r["value"]))
        for r in result.records
        if r["what"] == "mqtt" and r["name"].endswith("oven/temperature")
    ]
    packs = [(t, pack[0]) for t, pack in said if pack]
    assert all(row["n"] == "refuge/bench/oven/temperature" and row["u"] == "Cel" for _, row in packs)
    assert packs[-1][1]["v"] == 49 and 3 <= len(packs) <= 6
    assert all(later - earlier >= 9_900 for (earlier, _), (later, _) in pairwise(packs[1:]))
    relays = [
        json.loads(r["value"])
        for r in result.records
        if r["what"] == "mqtt" and r["name"].endswith("heater/on")
    ]
    assert relays[-1] == [{"n": "refuge/bench/heater/on", "vb": True}]


LAN = '[site]\nname = "refuge"\n[mqtt]\nhost = "192.168.4.2"\n[wifi]\nname = "hall"\n[lan]\nnetwork = "192.168.4.0/22"\nrouter = "192.168.4.1"\naddresses = { bench = "192.168.5.30" }\n'


@pytest.mark.parametrize(
    ("board", "body", "away", "back"),
    [
        ("esp32-38pin", "", "wifi.down", "wifi.up"),
        ("esp32-poe", "[ethernet]\n", "cable.unplugged", "cable.plugged"),
    ],
)
def test_a_fixed_address_by_radio_and_by_cable(board, body, away, back, bench):
    rows = steps(
        "10s: message('pump/on/set', 'true')", "<1s? published('pump/on', 'true')", f"20s: {away}", f"90s: {back}",
        "150s: message('pump/on/set', 'false')", "<1s? not pump.on",
    )  # fmt: skip
    result = bench(body + "[relay.pump]\npin = 4\n", rows, board=board, lasts="3min", site=LAN)
    assert failed(result) == []
    joined = [text for _, text in result.log if "joined" in text]
    way = "cable" if body else "wifi"
    assert len(joined) == 2 and all(text == f"{way} joined, 192.168.5.30" for text in joined)


def test_the_board_tells_of_itself(bench):
    body = '[sensor.me]\nchip = "board"\nevery = "10s"\n'
    rows = steps(
        "1min? me.uptime >= 50 and me.uptime <= 60 and me.heap > 40000 and me.signal == -58",
        "61s: wifi.down",
        "80s? not known(me.signal)",
    )
    assert failed(bench(body, rows, lasts="90s", site=SITE)) == []


def test_a_derived_number_follows_and_is_treated_like_a_reading(bench):
    body = (
        '[number.a]\nstart = 6\n[number.b]\nstart = 2\n[derived.share]\nof = "a.value / b.value"\nscale = 10\nchange = 1\n'
        '[derived.calm]\nof = "a.value"\nevery = "1s"\nsmooth = "median 5"\n[led.l]\npin = 25\nshows = "share.value > 40"\n'
    )
    rows = steps(
        "5s? share.value == 30 and not l.on and calm.value == 6", "6s: message('a/value/set', '10')", "<1s? share.value == 50 and l.on",
        "=2s? calm.value == 6", "<2s? calm.value == 10", "20s: message('b/value/set', '0')", "<1s? not known(share.value) and not l.on",
        "22s: message('b/value/set', '4')", "<1s? share.value == 25", "+1s: message('a/value/set', '10.2')", "=2s? share.value == 25",
    )  # fmt: skip
    assert failed(bench(body, rows, lasts="40s", site=SITE)) == []


@pytest.mark.parametrize(
    ("board", "pins", "select"),
    [
        ("esp32-38pin", 'sck = 18\nmosi = 23\nmiso = 19\ncontroller = "hardware"', 5),
        ("esp32-38pin", 'sck = 25\nmosi = 26\nmiso = 34\ncontroller = "software"', 27),
        ("rp2040w-40pin", 'sck = 18\nmosi = 19\nmiso = 16\ncontroller = "hardware"', 17),
        ("esp8266-30pin", 'sck = 14\nmosi = 13\nmiso = 12\ncontroller = "hardware"', 5),
    ],
)
def test_chips_on_spi_by_their_select_pins(board, pins, select, bench):
    """Two on one bus, told apart by their select lines; one that is not there is told."""
    chip = '[sensor.{n}]\nchip = "bme280"\nbus = "bus"\nselect = {pin}\nevery = "5s"\n'
    body = f"[spi.bus]\n{pins}\n" + chip.format(n="here", pin=select) + chip.format(n="gone", pin=4)
    world = "[world]\nhere.temperature = 21.5\nhere.humidity = 40\nhere.pressure = 95000\n"
    rows = steps(
        "20s? abs(here.temperature - 21.5) < 0.1 and abs(here.pressure - 95000) < 20 and abs(here.humidity - 40) < 0.5",
        "21s? not known(gone.temperature)",
    )
    result = bench(body, world + rows, board=board, lasts="30s")
    assert failed(result) == []
    assert any("gone does not answer" in text for _, text in result.log)


CONTROLLER = (
    'id = "{id}"\ntitle = "Controller with a W5500"\nchip = "{chip}"\nethernet = "W5500"\n[headers]\nrow = ["A=4", "B=5", "C=6", "D=7", "E=8", "3V3", "GND"]\n'
    '[[fitted]]\nname = "ethernet"\nwhat = "the Ethernet chip"\npins = [12, 13, 11, 10, 14]\ntaken = true\n'
    '[spi_ethernet]\nphy = "{phy}"\nsck = 12\nmosi = 11\nmiso = 13\nselect = 10\ninterrupt = 14\n'
)


def test_an_ethernet_chip_on_spi_of_a_board_of_ones_own(put):
    """It joins over the cable, loses it, has it again; hardware buses for parts are one fewer."""
    files = {
        "site.toml": LAN,
        "boards/own.toml": CONTROLLER.format(id="own-controller", chip="esp32s3", phy="W5500"),
        "devices/bench.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "own-controller"\n[ethernet]\n[relay.pump]\npin = 4\n',
        "script.toml": '[rehearsal]\nlasts = "2min"\n'
        + steps("10s: message('pump/on/set', 'true')", "<1s? pump.on", "20s: cable.unplugged", "60s: cable.plugged", "90s: message('pump/on/set', 'false')", "<1s? not pump.on"),
    }  # fmt: skip
    folder = put(files).parent
    path = folder / "devices" / "bench.toml"
    assert failed(zapato.rehearse(path, folder / "script.toml")) == []
    buses = "".join(f"[spi.{n}]\nsck = {sck}\nmosi = {mosi}\n" for n, sck, mosi in (("a", 4, 5), ("b", 6, 7)))
    path.write_text(path.read_text().replace("[relay.pump]\npin = 4\n", buses))
    assert "spi-exhausted" in {f.code for f in zapato.check(path).findings}


@pytest.mark.parametrize("board", ["esp32-38pin", "esp32c3-mini", "rp2040w-40pin"])
def test_how_warm_the_chip_is(board, bench):
    body = '[sensor.me]\nchip = "die"\nevery = "5s"\n'
    rows = steps(
        "10s? abs(me.temperature - 41) < 0.7",
        "11s: me.temperature = -5",
        "20s? abs(me.temperature + 5) < 0.7",
    )
    assert failed(bench(body, "[world]\nme.temperature = 41\n" + rows, board=board, lasts="30s")) == []
