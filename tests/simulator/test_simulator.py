"""The simulator itself: when expectations are judged, what the world can do, what the chip does not allow, what is kept."""

from pathlib import Path

import pytest
from conftest import NETWORK, failed, steps

import zapato
from zapato.draw import save, timeline
from zapato.draw.timeline import lanes
from zapato.errors import ZapatoError
from zapato.firmware.compile import cache_folder, compile_all

BUTTON = '[button.b]\npin = 33\npull = "up"\n'
RELAY = "[relay.r]\npin = 26\n"
TOGGLE = BUTTON + RELAY + '[[link]]\nwhen = "b.pressed"\ndo = "r.toggle"\n'


def verdicts(result) -> list[tuple[bool | None, float | None]]:
    return [(e.passed, e.at) for e in result.expectations]


def test_within_is_judged_at_the_first_moment_or_at_the_last(bench):
    result = bench(
        TOGGLE, steps("5s: b.press", "<2s? r.on", "10s: b.press", "10100ms? not r.on", "<2s? r.on")
    )
    (first, at), _, (second, late) = verdicts(result)
    assert first and 5.03 <= at < 5.05 and second is False and late == 12.1


def test_stays_fails_at_the_moment_it_breaks(bench):
    result = bench(TOGGLE, steps("5s? not r.on", "=20s? not r.on", "15s: b.press"))
    assert verdicts(result)[0] == (True, 5.0)
    broke, at = verdicts(result)[1]
    assert broke is False and 15.03 <= at < 15.05


def test_wait_follows_the_step_before(bench):
    result = bench(TOGGLE, steps("5s: b.press", "<1s? r.on", "+3s: b.press", "+1s? not r.on"))
    assert not failed(result) and 9.0 < verdicts(result)[1][1] < 9.1


def test_a_chain_goes_on_after_a_failure(bench):
    result = bench(TOGGLE, steps("5s? r.on", "<1s? r.on", "+1s? not r.on"))
    assert [passed for passed, _ in verdicts(result)] == [False, False, True]


def test_what_the_end_cuts_off_is_not_reached(bench):
    result = bench(TOGGLE, steps("50s? not r.on", "<30s? r.on"))
    assert [passed for passed, _ in verdicts(result)] == [True, None] and not result.passed


def test_published_looks_back_to_the_last_act(bench):
    body = TOGGLE
    script = steps(
        "10s: b.press",
        "<1s? published('r/on', 'true')",
        "20s: b.press",
        "<1s? published('r/on')",
        "+1s? published('r/on', 'true')",
    )
    result = bench(body, script, site=NETWORK.format(qos=0))
    assert [passed for passed, _ in verdicts(result)] == [True, True, False]


def test_a_value_goes_evenly_where_it_is_sent(bench):
    body = '[sensor.t]\nchip = "analog"\npin = 34\nevery = "1s"\n'
    script = steps(
        "10s: t.voltage = 2.0 over 20s", "20s? t.voltage > 1.4 and t.voltage < 1.6", "35s? t.voltage > 1.99"
    )
    result = bench(body, script, head="[world]\nt.voltage = 1.0\n")
    assert not failed(result)


def test_after_a_power_cut_time_counts_from_the_power_coming_back(bench):
    body = RELAY + 'start = "on"\n'
    script = steps("10s: power.cut", "<1s? r.on", "20s: power.cut over 5s", "<1s? r.on")
    seen = verdicts(bench(body, script))
    assert [passed for passed, _ in seen] == [True, True]
    assert all(after < at < after + 1 for (_, at), after in zip(seen, (11.0, 25.0), strict=True))


def test_several_acts_at_one_moment(bench):
    body = '[contact.c]\npin = 32\npull = "up"\n[contact.d]\npin = 33\npull = "up"\n'
    device_steps = '[[step]]\nat = "5s"\nact = ["c.closed = true", "d.closed = true"]\n[[step]]\nwithin = "1s"\nexpect = "c.closed and d.closed"\n'
    assert not failed(bench(body, device_steps))


def test_what_is_seen_is_told_for_each_expectation(bench):
    result = bench(TOGGLE, steps("5s? r.on or b.down"))
    assert dict(result.expectations[0].seen) == {"r.on": False, "b.down": False}


# A program that asks of the chip what it cannot do, and the error that the port gives.
IMPOSSIBLE = {
    "drive an input-only pin": ("esp32-38pin", "Pin(34, Pin.OUT)", "pin can only be input"),
    "pull up an input-only pin": ("esp32-38pin", "Pin(35, Pin.IN, Pin.PULL_UP)", "invalid pull"),
    "a pin that does not exist": ("esp32-38pin", "Pin(24)", "invalid pin"),
    "an interrupt on GPIO16": ("esp8266-30pin", "Pin(16, Pin.IN).irq(lambda p: 0)", "pin has no interrupt"),
    "pull down": ("esp8266-30pin", "Pin(16, Pin.IN, Pin.PULL_UP)", "invalid pull"),
    "measure a digital pin": ("rp2040w-40pin", "ADC(Pin(5))", "invalid pin"),
}


@pytest.mark.parametrize("name", IMPOSSIBLE)
def test_the_chips_limits_hold_on_the_stage(name, put, tmp_path: Path):
    board, code, complaint = IMPOSSIBLE[name]
    files = {
        "device.toml": f'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n[led.l]\npin = 4\n',
        "script.toml": '[rehearsal]\nlasts = "10s"\n',
    }
    device = put(files)
    app = zapato.build(device, tmp_path / "out").app
    source = f"from machine import ADC, Pin\n\n\ndef run():\n    {code}\n"
    (app / "start.mpy").write_bytes(compile_all({"start": source}, cache_folder())["start"])
    result = zapato.rehearse(device, device.parent / "script.toml", app=app)
    assert result.crash and result.crash.error == "ValueError" and complaint in result.crash.traceback
    assert 'start.py", line 5, in run' in result.crash.traceback


def test_a_program_that_ends_or_restarts(put, tmp_path: Path):
    device = put(
        {
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[led.l]\npin = 4\n',
            "script.toml": '[rehearsal]\nlasts = "10s"\n',
        }
    )
    app = zapato.build(device, tmp_path / "out").app

    def run(source: str):
        (app / "start.mpy").write_bytes(compile_all({"start": source}, cache_folder())["start"])
        return zapato.rehearse(device, device.parent / "script.toml", app=app)

    assert "came to its end" in run("def run():\n    pass\n").crash.traceback
    again = run("import machine\nimport time\n\n\ndef run():\n    time.sleep(3)\n    machine.reset()\n")
    resets = [r["t"] for r in again.records if r["name"] == "reset"]
    assert again.crash is None and [round(t / 1000, 1) for t in resets] == [3.5, 6.9]


def test_the_trace_as_tables(bench):
    result = bench(TOGGLE, steps("5s: b.press"), site=NETWORK.format(qos=0))
    frame = result.frame
    assert list(frame.columns) == ["t", "what", "name", "value"] and frame["t"].is_monotonic_increasing
    pin = frame[(frame.what == "pin") & (frame.name == "GPIO26")]
    assert list(pin.value) == [0, 1] and 5.03 <= pin.t.iloc[-1] < 5.05
    assert set(result.messages.columns) == {"t", "topic", "payload", "retain"}
    retained = result.messages[result.messages.retain].topic
    assert set(retained) == {"refuge/bench/state", "refuge/bench/b/down", "refuge/bench/r/on"}


def test_every_topic_is_as_the_formats_say(bench):
    result = bench(TOGGLE, steps("5s: b.press"), site=NETWORK.format(qos=0), lasts="2min")
    topics = set(result.messages.topic.str.removeprefix("refuge/bench/"))
    assert topics == {"state", "b/down", "r/on", "b/pressed", "b/released", "vitals"}


def test_the_picture_is_also_data(bench, tmp_path: Path):
    body = TOGGLE + '[sensor.s]\nchip = "dht22"\npin = 27\nevery = "5s"\n'
    script = steps("10s: b.press", "<1s? r.on", "20s: s.temperature = 30 over 30s", "55s? not r.on")
    result = bench(
        body, script, head="[world]\ns.temperature = 20\ns.humidity = 50\n", site=NETWORK.format(qos=0)
    )
    made = {lane.name: lane for lane in lanes(result)}
    assert set(made) == {"broker sees it", "r.on", "b.down", "s.temperature"}, "what never changes is no lane"
    assert made["s.temperature"].curve and not made["r.on"].curve
    assert [value for _, value in made["r.on"].samples] == [False, True]
    figure = timeline(result)
    assert len(figure.axes) == 5 and "not every expectation held" in figure._suptitle.get_text()
    for name in ("t.png", "t.svg"):
        save(figure, tmp_path / name)
        assert (tmp_path / name).stat().st_size > 5_000
    with pytest.raises(ZapatoError, match="a picture ends in"):
        save(figure, tmp_path / "t.jpeg")


def test_the_counter_wraps_and_nothing_notices(bench):
    """The millisecond counter wraps a minute after the start; timers across it keep their time."""
    body = BUTTON + RELAY + '[[link]]\nwhen = "b.pressed"\ndo = "r.on"\nfor = "20s"\n'
    assert not failed(bench(body, steps("50s: b.press", "69s? r.on", "71s? not r.on"), lasts="2min"))


def test_json_of_a_rehearsal(bench):
    data = bench(TOGGLE, steps("5s: b.press", "<1s? r.on")).as_dict()
    assert data["passed"] and data["expectations"][0]["seen"] == {"r.on": True} and data["crash"] is None
    heap = data["heap"]
    assert (
        0 < heap["loaded"] <= heap["peak"] < heap["has"]
        and heap["largest"] > 0
        and heap["machine_modules"] > 0
    )


def test_a_power_cut_while_the_power_is_off(bench):
    """The second cut begins anew; the program starts once, after it."""
    body = RELAY + 'start = "on"\n'
    result = bench(
        body, steps("10s: power.cut over 5s", "12s: power.cut over 6s", "17s? not r.on", "18500ms? r.on")
    )
    assert not failed(result)
    assert [(r["t"], r["value"]) for r in result.records if r["what"] == "power"] == [
        (0, True),
        (10_000, False),
        (12_000, False),
        (18_000, True),
    ]


def test_the_end_comes_while_the_power_is_off(bench):
    result = bench(RELAY, steps("10s: power.cut over 30s"), lasts="20s")
    assert result.crash is None
