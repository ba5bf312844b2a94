"""Rehearsals: the built firmware in the real VM, its verdicts, its crashes, its heap."""

import importlib
import json
import sys
from pathlib import Path

import pytest
from conftest import HEADER, NETWORK, failed, steps
from support.approved import approve

import zapato
from zapato.errors import Refused, RehearsalInvalid
from zapato.firmware.compile import cache_folder, compile_all
from zapato.simulator import default_script, vm
from zapato.simulator.result import said_of

DEVICES = ("boot-dryer", "porch-light", "kettle-plug")


def _device(site: Path, name: str) -> Path:
    return site / "devices" / f"{name}.toml"


@pytest.mark.parametrize("name", DEVICES)
@pytest.mark.slow
def test_the_demos_day(name: str, demo_day):
    design, result = demo_day(name)
    assert result.passed, [(e.text, e.seen) for e in result.expectations if not e.passed]
    assert 0 < result.heap_peak < result.heap == design.board.chip.heap
    state = [p for p in result.messages.itertuples() if p.topic.endswith("/state")]
    assert "offline" in {p.payload for p in state}, "the will is published when the power goes"


@pytest.mark.slow
def test_the_same_seed_gives_the_same_trace(site: Path):
    one, two = (zapato.rehearse(_device(site, "kettle-plug")) for _ in range(2))
    other = zapato.rehearse(_device(site, "kettle-plug"), seed=7)
    assert one.records == two.records and one.records != other.records and other.passed


# A fault put into the device file, and the expectation that must catch it.
FAULTS = {
    "the door does not stop the heat": (
        'when = "door.opened"',
        'when = "door.closed"',
        "not heater.on and not vent.on",
    ),
    "the wrong relay": (
        'off         = ["heater"]',
        'off         = ["vent"]',
        "hot.tripped and not heater.on",
    ),
    "both at once": ('excludes = ["vent"]', "", "vent.on and not heater.on"),
    "upside down": ("pin      = 26", 'active = "low"\npin = 26', "heater.on"),
}


@pytest.mark.parametrize("fault", FAULTS)
@pytest.mark.slow
def test_a_fault_is_caught(fault: str, site: Path):
    old, new, caught = FAULTS[fault]
    path = _device(site, "boot-dryer")
    assert old in path.read_text()
    path.write_text(path.read_text().replace(old, new))
    result = zapato.rehearse(path)
    if fault == "upside down":  # consistently upside down on both sides: the truth is measured at the pin
        levels = [r["value"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26"]
        assert levels[:2] == [0, 1] and result.passed
    else:
        assert caught in [e.text for e in result.expectations if e.passed is False]


BUTTON = '[button.b]\npin = 33\npull = "up"\nhold = "1s"\n[relay.r]\npin = 26\n'


def test_bounce_is_one_press_and_gestures_are_told_apart(bench):
    body = BUTTON + "".join(
        f'[[link]]\nwhen = "b.{event}"\ndo = "notify(\'{event}\')"\n'
        for event in ("pressed", "held", "doubled", "released")
    )
    steps = "".join(
        f'[[step]]\nat = "{t}s"\nact = "b.{act}"\n' for t, act in ((5, "press"), (10, "double"), (20, "hold"))
    )
    told = [text for t, text in bench(body, steps).log if t > 4]
    assert told == [
        "pressed",
        "released",
        "pressed",
        "released",
        "pressed",
        "doubled",
        "released",
        "pressed",
        "held",
        "released",
    ]


def test_presses_that_are_not_counted_are_told(bench):
    body = '[button.b]\npin = 33\npull = "up"\n[button.q]\npin = 32\npull = "up"\nquiet = "2s"\n[number.n]\n'
    body += '[[link]]\nwhen = "b.pressed"\ndo = "n.value = n.value + 1"\n[[link]]\nwhen = "q.pressed"\ndo = "n.value = n.value + 1"\n'
    acts = ["5s: b.press", "5.05s: b.press", "10s: b.down = true", "10.01s: b.down = false"]
    acts += ["20s: q.press", "20.5s: q.press", "30s: q.press", "40s? n.value == 3"]
    result = bench(body, steps(*acts), lasts="1min")
    assert not failed(result)
    told = [(m.t, m.text) for m in result.story if m.what == "contact"]
    levels = [
        row["value"]
        for row in result.records
        if row["what"] == "pin" and row["name"] == "GPIO33" and 9 < row["t"] / 1000 < 12
    ]
    assert levels[-1] == 1, "a contact that is let go while it still bounces stays let go"
    assert [(t, text[:1]) for t, text in told] == [(5.05, "b"), (10.01, "b"), (20.5, "q")]
    assert "one press" in told[0][1] and "10 ms" in told[1][1] and "quiet of 2000 ms" in told[2][1]


def test_around_a_failure_stands_what_led_to_it(bench):
    """From before the verdict, that of its own parts first; and what the device says where its pin is otherwise."""
    body = "[relay.r]\npin = 26\n[led.other]\npin = 25\n"
    body += '[strip.s]\npin = 27\ncount = 3\nchip = "ws2812b"\n[[link]]\nevery = "1s"\ndo = "other.toggle"\n'
    site = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
    acts = ["20s: message('r/on/set', 'true')", "30s? not r.on", "31s: message('r/on/set', 'false')"]
    acts += ["32s: message('s/color/set', '\"#000000\"')", "33s: message('s/on/set', 'true')", "<2s? s.on"]
    result = bench(body, steps(*acts), site=site, lasts="1min")
    relay, strip = (m for m in result.story if m.of)
    assert all(t <= 30 for t, _ in relay.around) and any("r/on true" in text for _, text in relay.around)
    assert relay.of.said == {} and relay.of.seen == {"r.on": True}
    assert strip.of.said == {"s.on": "true"} and strip.of.seen == {"s.on": False}


def test_what_is_said_is_told_where_it_differs_from_what_is_measured():
    rows = [{"what": "mqtt", "name": f"refuge/d/{name}", "value": value} for name, value in (
        ("l/level", "40"), ("l/level", "70"), ("r/on", "true"), ("s/mode", '"auto"'), ("x/on", "null"), ("n/value", "{"),
    )]  # fmt: skip
    seen = {"l.level": 68, "r.on": False, "s.mode": "off", "n.value": 3, "gone.on": True}
    assert said_of(rows, seen) == {"l.level": "70", "r.on": "true"}
    assert said_of(rows, {"l.level": 69.5, "r.on": True}) == {}


def test_a_pin_without_interrupt_is_polled(bench):
    body = '[button.b]\npin = "D0"\npull = "none"\nactive = "high"\n[relay.r]\npin = "D5"\n[[link]]\nwhen = "b.pressed"\ndo = "r.on"\n'
    steps = '[[step]]\nat = "5s"\nact = "b.press"\n[[step]]\nwithin = "100ms"\nexpect = "r.on"\n'
    assert bench(body, steps, board="esp8266-30pin", lasts="10s").passed


TIMING = BUTTON + (
    '[led.l]\npin = 25\n[led.f]\npin = 17\nshows = "r.on and not l.on"\n'
    '[[link]]\nwhen = "b.pressed"\nafter = "2s"\ndo = "r.on"\nfor = "3s"\n'
    '[[link]]\nwhen = "r.on"\nheld = "2s"\ndo = "l.on"\n'
)


def test_after_for_held_and_follow(bench):
    steps = (
        '[[step]]\nat = "5s"\nact = "b.press"\n'
        '[[step]]\nat = "6900ms"\nexpect = "not r.on"\n[[step]]\nat = "7100ms"\nexpect = "r.on and f.on and not l.on"\n'
        '[[step]]\nat = "9100ms"\nexpect = "l.on and not f.on"\n[[step]]\nat = "9900ms"\nexpect = "r.on"\n'
        '[[step]]\nat = "10100ms"\nexpect = "not r.on"\n'
    )
    result = bench(TIMING, steps)
    assert result.passed, [(e.text, e.at, e.seen) for e in result.expectations if not e.passed]


def test_hysteresis_and_a_sensor_that_stops_answering(bench):
    body = '[sensor.s]\nchip = "dht22"\npin = 27\nevery = "5s"\n[[link]]\nwhen = "s.temperature > 60"\nback = 3\ndo = "notify(\'hot\')"\n'
    moves = [(10, 61), (20, 58), (30, 61), (40, 56), (50, 61)]
    steps = "".join(f'[[step]]\nat = "{t}s"\nact = "s.temperature = {v}"\n' for t, v in moves)
    result = bench(body, steps, lasts="2min", head="[world]\ns.temperature = 20\ns.humidity = 40\n")
    assert [text for _, text in result.log if text == "hot"] == ["hot", "hot"]
    silent = bench(body, "", lasts="1min", head="[world]\ns.temperature = 20\n")
    assert any("s does not answer" in text for _, text in silent.log) and silent.crash is None


def test_analog_reads_volts_at_the_sensor_on_every_port(bench):
    for board, pin in (("esp32-38pin", "34"), ("esp8266-30pin", '"A0"'), ("rp2040w-40pin", "26")):
        body = f'[sensor.t]\nchip = "analog"\npin = {pin}\nevery = "1s"\nrange = "0V-5V"\ndivider = ["10kohm", "10kohm"]\n'
        steps = '[[step]]\nat = "3s"\nexpect = "t.voltage > 3.95 and t.voltage < 4.05"\n'
        result = bench(body, steps, board=board, lasts="5s", head="[world]\nt.voltage = 4.0\n")
        assert result.passed, (board, result.expectations, result.crash)


def test_a_crash_is_shown_with_its_traceback_and_its_moment(site: Path, tmp_path: Path, cli):
    path = _device(site, "porch-light")
    app = zapato.build(path, tmp_path).app
    broken = "def run():\n    import time\n\n    time.sleep_ms(50)\n    return 1 // 0\n"
    (app / "start.mpy").write_bytes(compile_all({"start": broken}, cache_folder())["start"])
    result = zapato.rehearse(path, app=app)
    assert not result.passed and result.crash and result.crash.error == "ZeroDivisionError"
    assert 'start.py", line 5, in run' in result.crash.traceback and 0.5 < result.crash.at < 0.7
    assert any(e.passed is None for e in result.expectations)


@pytest.mark.slow
def test_a_heap_that_is_too_small_is_a_crash(site: Path, monkeypatch):
    monkeypatch.setattr(importlib.import_module("zapato.simulator.rehearse"), "refuse", lambda design: None)
    design = zapato.load(_device(site, "kettle-plug"))
    object.__setattr__(design.board.chip, "heap", 16 * 1024)
    try:
        result = zapato.rehearse(design)
    finally:
        object.__setattr__(design.board.chip, "heap", 36 * 1024)
    assert not result.passed and any("MemoryError" in text or "memory" in text for _, text in result.log)


def test_a_program_that_never_waits_is_stopped(site: Path, tmp_path: Path, monkeypatch):
    monkeypatch.setattr("zapato.simulator.vm.START", 1 << 26)
    app = zapato.build(_device(site, "porch-light"), tmp_path).app
    source = "def run():\n    while True:\n        pass\n"
    (app / "start.mpy").write_bytes(compile_all({"start": source}, cache_folder())["start"])
    result = zapato.rehearse(_device(site, "porch-light"), app=app)
    assert result.crash and "never waits" in result.crash.traceback


@pytest.mark.parametrize(
    ("steps", "code"),
    [
        ('[[step]]\nat = "5s"\nact = "b.pres"\n', "link-unknown"),
        ('[[step]]\nat = "5s"\nact = "c.press"\n', "link-unknown"),
        ('[[step]]\nat = "5s"\nact = "r.on = true"\n', "link-unknown"),
        ('[[step]]\nat = "5s"\nact = "b.down = 3"\n', "link-type"),
        ('[[step]]\nat = "5s"\nexpect = "r.onn"\n', "link-unknown"),
        ('[[step]]\nat = "5s"\nexpect = "published(3)"\n', "link-type"),
        ('[[step]]\nat = "5s"\n', "missing-key"),
        ('[[step]]\nexpect = "r.on"\n', "missing-key"),
        ('[[step]]\nat = "5min"\nexpect = "r.on"\n', "wrong-type"),
        ('[[step]]\nat = "5s"\nact = "os.remove(\'x\')"\n', "link-type"),
    ],
)
def test_mistakes_in_a_rehearsal_are_findings(bench, steps, code):
    with pytest.raises(RehearsalInvalid) as invalid:
        bench(BUTTON, steps)
    assert [f.code for f in invalid.value.findings] == [code] and invalid.value.findings[0].place.line > 3


@pytest.mark.slow
def test_command_line_shows_verdicts_and_draws(site: Path, tmp_path: Path, cli):
    called = cli(
        "rehearse", _device(site, "porch-light"), "--plot", tmp_path / "t.png", "--trace", tmp_path / "t.csv"
    )
    assert (
        called.code == 0 and called.out.startswith("passed porch-light") and called.out.count(" held ") == 14
    )
    assert (tmp_path / "t.png").read_bytes().startswith(b"\x89PNG") and (
        tmp_path / "t.csv"
    ).read_text().startswith("t,what,name,value\n")
    data = json.loads(cli("rehearse", _device(site, "kettle-plug"), "--format", "json").out)
    assert data[0]["passed"] and len(data[0]["expectations"]) == 9


@pytest.mark.slow
def test_a_failed_expectation_shows_what_was_seen(site: Path, cli):
    path = _device(site, "porch-light")
    path.write_text(path.read_text().replace('for  = "5min"', 'for  = "6min"'))
    called = cli("rehearse", path)
    assert called.code == 1 and "FAILED  not lamp.on\n" in called.out and "seen: lamp.on = true" in called.out


@pytest.mark.slow
def test_the_vm_missing_is_one_line(site: Path, cli, monkeypatch):
    vm._loaded.cache_clear()
    monkeypatch.setitem(sys.modules, "wasmtime", None)
    called = cli("rehearse", _device(site, "porch-light"))
    assert called.code == 2 and "VM cannot be loaded here" in called.err and called.err.count("\n") <= 2
    assert (
        cli("check", _device(site, "porch-light")).code == 0
        and cli("build", _device(site, "porch-light"), "--out", site / "out").code == 0
    )
    said = cli("demo", "--out", site / "demo")
    assert "not rehearsed" in said.out + said.err and "passed" not in said.out


def test_no_rehearsal_and_errors_refuse(site: Path, cli):
    path = _device(site, "porch-light")
    assert default_script(zapato.load(path)).is_file()
    (site / "rehearsals" / "porch-light.toml").unlink()
    assert cli("rehearse", path).code == 2
    path.write_text(path.read_text().replace('"D5"', '"SD1"'))
    with pytest.raises(Refused):
        zapato.rehearse(path)


def test_no_secret_reaches_the_stage(site: Path, monkeypatch):
    from zapato.simulator.rehearse import _settings

    assert "chamois" not in json.dumps(_settings(zapato.load(_device(site, "boot-dryer"))))


def test_the_timeline_shows_outputs_as_their_pins_are_with_and_without_a_broker(put):
    """In an outage, behind an expander, of a device that publishes nothing, and without power."""
    from zapato.draw.timeline import lanes

    body = (
        '[i2c.main]\nsda = 21\nscl = 22\n[expander.io]\nchip = "mcp23017"\nbus = "main"\n[relay.lamp]\npin = 14\nstart = "on"\n'
        '[relay.far]\npin = "io.3"\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = ["lamp.toggle", "far.toggle"]\n'
    )
    acts = [("10s", "b.press", ""), ("20s", "power.cut", 'over = "5s"'), ("40s", "b.press", "")]
    for site in ("", NETWORK.format(qos=0)):
        away = [("5s", "broker.down", ""), ("50s", "broker.up", "")] if site else []
        script = '[rehearsal]\nlasts = "1min"\n' + "".join(
            f'[[step]]\nat = "{at}"\nact = "{act}"\n{more}\n'
            for at, act, more in sorted([*acts, *away], key=lambda each: float(each[0][:-1]))
        )
        files = {
            "s.toml": script,
            "site.toml": site or '[site]\nname = "s"\n',
            "device.toml": HEADER.format(board="esp32-38pin") + body,
        }
        path = put(files)
        drawn = {
            lane.name: lane.samples
            for lane in lanes(zapato.rehearse(path.parent / "device.toml", path.parent / "s.toml"))
        }

        seen = [
            [[value for when, value in drawn[name] if when <= t][-1] for t in (5, 15, 22, 30, 45)]
            for name in ("lamp.on", "far.on")
        ]
        assert seen == [[True, False, False, True, False], [False, True, False, False, True]]


@pytest.mark.slow
@pytest.mark.parametrize(
    "name", ["boot-dryer", "gear-locker", "kettle-plug", "porch-light", "rack-strip", "water-tank"]
)
def test_what_a_day_looks_like_from_the_broker(name, demo_day):
    """All that a device says in its own rehearsal, by the minute, but for its vitals; what is said twice in a row, once."""
    _, result = demo_day(name)
    rows = [
        f"{int(row['t'] // 60_000):4} {row['what']} {row['name']} {row['value']}"
        for row in result.records
        if row["what"] in ("mqtt", "print", "duty", "screen", "net", "power") and "vitals" not in row["name"]
    ]
    approve(
        f"day-{name}",
        "\n".join(row for row, before in zip(rows, ["", *rows], strict=False) if row != before) + "\n",
    )
