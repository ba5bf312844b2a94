"""The firmware under fire: whatever arrives, fails or is written in a link, it goes on, tells it once, and stays safe."""

import json
from itertools import pairwise

import pytest
from conftest import HEADER, NETWORK, failed, steps

import zapato
from zapato.cli.report import brief_line
from zapato.errors import Refused
from zapato.firmware.compile import cache_folder, compile_all
from zapato.firmware.plan import make_plan

RELAY, BUTTON = "[relay.r]\npin = 26\n", '[button.b]\npin = 33\npull = "up"\n'
SENSOR = '[sensor.s]\nchip = "dht22"\npin = 27\nevery = "5s"\n'
FEEL = "[world]\ns.temperature = 20\ns.humidity = 50\n"


def link(when: str, *do: str, **more: str) -> str:
    rest = "".join(f'{key.rstrip("_")} = "{value}"\n' for key, value in more.items())
    return f'[[link]]\nwhen = "{when}"\ndo = {json.dumps(list(do))}\n{rest}'


def notes(result) -> list[str]:
    return [row.payload for row in result.messages.itertuples() if row.topic.endswith("/notes")]


# What somebody may publish, and what must not come of it.
HOSTILE = [
    ("r/do/pulse", "1e999"),
    ("r/do/pulse", '"soon"'),
    ("r/do/pulse", "[1, [2], 3]"),
    ("r/do/pulse", "-1"),
    ("r/do/pulse", "true"),
    ("r/on/set", '"off"'),
    ("r/on/set", '"false"'),
    ("r/on/set", "1"),
    ("r/on/set", "[" * 120),
    ("r/on/set", "[" * 900),
    ("r/on/set/" + "x" * 600, "true"),
    ("n/value/set", "1e999"),
    ("n/value/set", '"warm"'),
    ("n/value/set", "[1]"),
    ("n/value/set", "NaN"),
    ("m/value/set", "99"),
    ("n/do/set", "{}"),
    ("b/on/set", "true"),
    ("s/do/read", "5"),
]


@pytest.mark.parametrize("board", ["esp32-38pin", "esp8266-30pin"])
def test_hostile_messages_switch_nothing_and_are_told_once(board, bench):
    pins = {"esp32-38pin": ("26", "33", "27"), "esp8266-30pin": ('"D5"', '"D6"', '"D7"')}[board]
    body = f'[relay.r]\npin = {pins[0]}\n[button.b]\npin = {pins[1]}\npull = "up"\n[sensor.s]\nchip = "dht22"\npin = {pins[2]}\n[number.n]\n[number.m]\nlow = 0\nhigh = 10\n'
    rows = [f"{10 + n}s: message('{topic}', '{payload}')" for n, (topic, payload) in enumerate(HOSTILE * 2)]
    expect = [
        "55s? not r.on and n.value == 0 and m.value == 0",
        "56s: message('r/on/set', 'true')",
        "<1s? r.on",
    ]
    result = bench(
        body, steps(*rows, *expect), board=board, site=NETWORK.format(qos=1), lasts="70s", head=FEEL
    )
    assert not failed(result)
    told = [n for n in notes(result) if "a message" in n]
    assert len(told) == len(set(told)) > 5, "each once"
    assert not [r for r in result.records if r["what"] == "net" and r["name"] == "session"][1:], (
        "the connection was never lost"
    )


# What a link may do to itself: links, acts that make it happen, and what must hold afterwards.
FAULTY = {
    "a divisor that becomes 0": (
        "[number.n]\nstart = 2\n" + link("s.temperature / n.value > 5", "r.on"),
        ["10s: message('n/value/set', '0')"],
    ),
    "a divisor that is 0 at power-up": ('[number.n]\n[led.l]\npin = 25\nshows = "1 / n.value > 2"\n', []),
    "an unknown sensor in a text": (link("b.pressed", "notify('{s.humidity + 1}')"), ["1s: b.press"]),
    "a format that does not fit": (
        link("b.pressed", "notify('{s.temperature:d} {r.on:.1f}')"),
        ["10s: b.press"],
    ),
    "an unknown sensor in a setting": (
        "[number.n]\n" + link("b.pressed", "n.value = s.temperature"),
        ["1s: b.press"],
    ),
    "more than can be counted": (
        "[number.n]\nstart = 9e99\n" + link("b.pressed", "n.value = n.value * n.value * n.value * n.value"),
        ["10s: b.press"],
    ),
    "a loop without end": (
        "[flag.f]\n[flag.g]\n"
        + link("f.on", "g.on = true", "f.on = false")
        + link("not f.on", "f.on = true")
        + link("g.on", "g.on = false"),
        ["10s: message('f/on/set', 'true')"],
    ),
}


@pytest.mark.parametrize("name", FAULTY)
def test_a_faulty_link_is_told_and_the_rest_goes_on(name, bench):
    body, acts = FAULTY[name]
    rest = link("b.doubled", "r.toggle")
    result = bench(
        RELAY + BUTTON + SENSOR + body + rest,
        steps(*acts, "30s: b.double", "<1s? r.on"),
        site=NETWORK.format(qos=0),
        head=FEEL,
    )
    texts = [text for _, text in result.faults]
    assert not failed(result) and len(texts) == len(set(texts)), "each fault once"
    quiet = ("an unknown sensor in a text", "a format that does not fit", "a loop without end")
    assert bool(texts) == (name not in quiet)


def test_a_sensor_that_answers_wrongly_is_unknown_and_can_be_asked_for(bench, put, tmp_path):
    """`known()` makes the safe thing happen: the heater goes off when the sensor falls silent."""
    body = RELAY + 'start = "on"\n' + SENSOR + link("not known(s.temperature)", "r.off", held="10s")
    result = bench(body, steps("20s? r.on", "25s: s.temperature = 30", "40s? r.on"), head=FEEL)
    assert not failed(result)
    silent = bench(body, steps("25s? not r.on"), head="[world]\ns.humidity = 50\n")
    assert not failed(silent)


def test_the_flash_that_cannot_be_written(bench):
    body = BUTTON + RELAY + 'start = "last"\n' + link("b.pressed", "r.toggle")
    script = steps(
        "5s: flash.fails",
        "6s: b.press",
        "<1s? r.on",
        "30s: flash.works",
        "31s: b.press",
        "<1s? not r.on",
        "50s: power.cut",
        "+2s? not r.on",
    )
    result = bench(body, script, site=NETWORK.format(qos=0))
    assert not failed(result) and any("OSError" in note for note in notes(result))


def test_kept_values_are_written_seldom_and_the_last_wins(bench):
    body = BUTTON + RELAY + 'start = "last"\n' + link("b.pressed", "r.toggle")
    presses = [f"{5 + n}s: b.press" for n in range(15)]
    result = bench(body, steps(*presses, "50s: power.cut", "+2s? r.on"), lasts="70s")
    assert not failed(result)


def test_a_retained_command_is_told_and_not_executed(bench):
    result = bench(
        RELAY,
        steps("1s: retained('r/on/set', 'true')", "10s? not r.on", "15s: broker.closes", "25s? not r.on"),
        site=NETWORK.format(qos=1),
    )
    assert not failed(result) and any("retained" in note for note in notes(result))


def test_two_commands_in_one_segment_act_one_after_the_other(bench):
    body = "[relay.r]\npin = 26\n[relay.q]\npin = 25\n[group.g]\nof = ['r', 'q']\n[flag.seen]\n" + link(
        "g.on", "seen.on = true"
    )
    both = "[[step]]\nat = \"10s\"\nact = [\"message('g/do/toggle', '')\", \"message('g/do/toggle', '')\", \"message('g/do/toggle', '')\"]\n"
    assert not failed(
        bench(body, both + steps("11s? r.on and q.on and g.on and seen.on"), site=NETWORK.format(qos=0))
    )


def test_the_broker_comes_back_after_three_minutes(bench):
    for gone in ("broker.down", "broker.silent"):
        back = {"broker.down": "broker.up", "broker.silent": "broker.answers"}[gone]
        result = bench(
            RELAY, steps(f"20s: {gone}", f"200s: {back}"), site=NETWORK.format(qos=0), lasts="5min"
        )
        sessions = [r["t"] / 1000 for r in result.records if r["what"] == "net" and r["name"] == "session"]
        assert 200 < sessions[-1] <= 215, (gone, sessions)


def test_a_client_whose_next_try_got_lost_tries_again_after_a_minute(put, tmp_path):
    """The timer of the next try takes memory that may not be there; the watch over the network sees it."""
    device = put(
        {"device.toml": HEADER.format(board="esp32-38pin") + RELAY, "site.toml": NETWORK.format(qos=0)}
    )
    (device.parent / "script.toml").write_text('[rehearsal]\nlasts = "3min"\n')
    app = zapato.build(device, tmp_path / "out").app
    source = make_plan(zapato.load(device)).plans["plan"]
    source += "\nfirst = connect\ndef connect(settings):\n    first(settings)\n    d.after(30000, forget)\n"
    source += "def forget():\n    client = d.out\n    client.lost('test')\n    d.cancel(client.timer)\n    client.timer = None\n"
    (app / "plan.mpy").write_bytes(compile_all({"plan": source}, cache_folder())["plan"])
    result = zapato.rehearse(device, device.parent / "script.toml", app=app)
    reached = [t for t, text in result.log if text == "broker reached"]
    assert len(reached) == 2 and 45 < reached[1] - 30 < 75, result.log


def test_what_the_broker_refuses_is_told_in_the_log_and_by_the_led(bench):
    body = '[led.l]\npin = 25\nshows = "status"\n'
    result = bench(body, steps("1s: broker.refuses"), site=NETWORK.format(qos=0))
    assert [text for _, text in result.log if "code 5" in text] == [
        "broker: the broker refuses, code 5: user or password"
    ]
    edges = [
        r["t"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO25" and r["t"] > 30_000
    ]
    assert edges and {round((b - a) / 100) for a, b in pairwise(edges)} == {1, 19}
    denied = bench(body, steps("1s: broker.denies"), site=NETWORK.format(qos=0))
    assert any("lets nobody command" in note for note in notes(denied))


def test_the_shortest_keep_alive_is_kept(bench):
    result = bench(RELAY, "", site=NETWORK.format(qos=0) + 'keep_alive = "5s"\n', lasts="10min")
    assert not [r for r in result.records if r["what"] == "mqtt" and r["value"] == "offline"]


def test_held_counts_from_power_up(bench):
    """A heater that comes back on after a power cut does get switched off."""
    body = BUTTON + RELAY + 'start = "last"\n' + link("r.on", "r.off", held="20s") + link("b.pressed", "r.on")
    script = steps("5s: b.press", "10s: power.cut", "12s? r.on", "25s? r.on", "33s? not r.on")
    assert not failed(bench(body, script))


def test_for_takes_back_only_what_it_did(bench):
    body = BUTTON + RELAY + "[led.l]\npin = 25\n" + link("b.pressed", "r.on", "l.on", for_="10s")
    was_on = bench(
        body,
        steps(
            "8s: message('r/on/set', 'true')", "10s: b.press", "19s? r.on and l.on", "22s? r.on and not l.on"
        ),
        site=NETWORK.format(qos=0),
    )
    changed = bench(
        body,
        steps(
            "10s: b.press",
            "12s: message('l/on/set', 'false')",
            "13s: message('l/on/set', 'true')",
            "22s? not r.on",
        ),
        site=NETWORK.format(qos=0),
    )
    again = bench(body, steps("10s: b.press", "15s: b.press", "24s? r.on", "26s? not r.on"))
    assert not failed(was_on) and not failed(changed) and not failed(again)


@pytest.mark.parametrize("start", ["on", "last"])
def test_relays_that_exclude_each_other_are_never_both_closed(start, bench):
    body = f'[relay.up]\npin = 26\nstart = "last"\nexcludes = ["down"]\n[relay.down]\npin = 25\nstart = "{start}"\n'
    body += BUTTON + link("b.pressed", "up.toggle", "down.toggle")
    body = body.replace('start = "on"', 'start = "off"') if start == "on" else body
    acts = ["message('up/on/set', 'true')", "message('down/on/set', 'true')"] * 4
    rows = [f"{10 + n}s: {act}" for n, act in enumerate(acts)] + [
        "20s: b.press",
        "25s: power.cut",
        "30s: power.cut over 3s",
    ]
    result = bench(body, steps(*rows), site=NETWORK.format(qos=0))
    level, both, last_open = {"GPIO26": 0, "GPIO25": 0}, False, dict.fromkeys(("GPIO26", "GPIO25"), -1000)
    for r in result.records:
        if r["what"] == "pin" and r["name"] in level:
            if r["value"]:
                other = "GPIO25" if r["name"] == "GPIO26" else "GPIO26"
                assert r["t"] - last_open[other] >= 100, "a dead time between them"
            elif level[r["name"]]:
                last_open[r["name"]] = r["t"]
            level[r["name"]] = r["value"]
            both |= all(level.values())
    assert not both and result.crash is None


def test_a_press_during_a_slow_reading_is_not_lost(bench):
    """The DHT's driver blocks for a quarter of a second; a short press within it still counts."""
    body = BUTTON + RELAY + SENSOR.replace('"5s"', '"2s"') + link("b.pressed", "r.toggle")
    rows = [row for n in range(8) for row in (f"{10_000 + n * 2000 + n * 35}ms: b.press",)]
    result = bench(body, steps(*rows, "28s? not r.on"), head=FEEL)
    toggles = [r for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26"]
    assert not failed(result) and len(toggles) == 1 + 8


def test_what_still_escapes_leaves_the_outputs_safe_and_begins_anew(put, tmp_path):
    """An error outside every net: outputs off, the fault kept, a restart, longer pauses each time, told afterwards."""
    files = {
        "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[relay.r]\npin = 26\n',
        "script.toml": '[rehearsal]\nlasts = "60s"\n',
    }
    device = put(files)
    app = zapato.build(device, tmp_path / "out").app
    source = "MORE = ()\n\n\ndef connect(settings):\n    pass\n\n\nclass D:\n    name = version = 'x'\n\n    def run(self):\n        from machine import Pin\n        Pin(26, Pin.OUT, value=1)\n        1 / 0\n\n    def note(self, text):\n        print('NOTE', text)\n\n    def after(self, ms, call):\n        pass\n\n\nd = D()\n"
    (app / "plan.mpy").write_bytes(compile_all({"plan": source}, cache_folder())["plan"])
    result = zapato.rehearse(device, device.parent / "script.toml", app=app)
    restarts = [r["t"] // 1000 for r in result.records if r["name"] == "reset"]
    assert restarts == [2, 7, 15, 32] and result.crash is None
    assert not result.passed and [int(t) for t in result.restarts] == restarts
    levels = [r["value"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26"]
    assert levels[-1] == 0 or levels.count(1) == levels.count(0) - 1
    assert any("NOTE started again after a fault: ZeroDivisionError" in text for _, text in result.log)
    told = [moment.text for moment in result.story if moment.what == "restart"]
    assert len(told) == 4 and all("restarted: ZeroDivisionError" in text for text in told)
    assert "restarted at 0:00:02" in brief_line(result)


@pytest.mark.parametrize("room", [True, False])
def test_a_program_that_runs_out_of_memory_is_a_failure_even_where_none_is_left_to_say_so(
    put, tmp_path, room
):
    """A restart counts as asked for only where no error came before it."""
    device = put(
        {
            "device.toml": HEADER.format(board="esp32-38pin") + "[led.l]\npin = 4\n",
            "script.toml": '[rehearsal]\nlasts = "3min"\n',
        }
    )
    app = zapato.build(device, tmp_path / "out").app
    plan = "MORE = ()\nconnect = None\n\n\nclass D:\n    name = version = 'x'\n\n    def run(self):\n        raise MemoryError\n\n    def note(self, text):\n        pass\n\n    def after(self, ms, call):\n        pass\n\n\nd = D()\n"
    sources = {"plan": plan} | ({} if room else {"fault": "raise MemoryError\n"})
    for name, made in compile_all(sources, cache_folder()).items():
        (app / f"{name}.mpy").write_bytes(made)
    result = zapato.rehearse(device, device.parent / "script.toml", app=app)
    assert result.restarts and not result.passed
    told = [moment.text for moment in result.story if moment.what == "restart"]
    assert told and all("MemoryError" in text for text in told), told


def test_the_watchdog_restarts_a_program_that_hangs(put, tmp_path):
    device = put(
        {
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[led.l]\npin = 4\n',
            "script.toml": '[rehearsal]\nlasts = "30s"\n',
        }
    )
    app = zapato.build(device, tmp_path / "out").app
    source = "def run():\n    import machine, time\n    machine.WDT(timeout=8000)\n    while True:\n        time.sleep(1)\n"
    (app / "start.mpy").write_bytes(compile_all({"start": source}, cache_folder())["start"])
    result = zapato.rehearse(device, device.parent / "script.toml", app=app)
    bites = [r["t"] for r in result.records if r["name"] == "watchdog"]
    assert len(bites) == 3 and all(8_000 < b - a < 8_600 for a, b in pairwise([0, *bites]))
    told = [moment.text for moment in result.story if moment.what == "restart"]
    assert told.count("the firmware restarted: it fed the watchdog too late") == 3


def test_a_device_with_errors_is_still_refused(put):
    with pytest.raises(Refused):
        zapato.rehearse(put('zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n[relay.r]\npin = 34\n'))


def test_a_cut_in_the_middle_of_writing_what_is_kept(bench):
    """The file is replaced whole: after the cut the relay is as it was written last, or as before, and nothing is told."""
    body = '[relay.r]\npin = 26\nstart = "last"\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "r.toggle"\n'
    script = steps(
        "1s: b.press",
        "2s? r.on",
        "20s: flash.cut",
        "21s: b.press",
        "21200ms? not r.on",
        "24s? r.on",
        "30s: b.press",
        "40s: power.cut",
        "45s? not r.on",
    )
    result = bench(body, script)
    assert not failed(result) and not result.faults
    assert sum(r["what"] == "power" and not r["value"] for r in result.records) == 2


LOOKED_UP = NETWORK.replace("192.168.4.2", "broker.refuge.example")


def test_a_name_that_is_looked_up_slowly_stops_nothing(bench):
    """The look-up takes 8 s; the button works meanwhile, and the broker is reached when the answer comes."""
    body = BUTTON + RELAY + link("b.pressed", "r.toggle")
    script = steps(
        "0s: names.slow",
        "5s: b.press",
        "<100ms? r.on",
        "7s: b.press",
        "<300ms? not r.on",
        "14s? published('state', 'online')",
    )
    result = bench(body, script, site=LOOKED_UP.format(qos=0), lasts="20s")
    assert not [f for f in failed(result) if f[0] != "published('state', 'online')"]
    online = next(r["t"] for r in result.records if r["what"] == "mqtt" and r["value"] == "online")
    assert 9_000 < online < 12_000


def test_a_wire_that_comes_off(bench):
    """With a resistor the pin rests; without one it picks up the mains, which is no press as long as it settles."""
    body = BUTTON + RELAY + link("b.pressed", "r.toggle")
    quiet = bench(body, steps("5s: b.loose", "=20s? not r.on", "30s: b.fixed", "31s: b.press", "<1s? r.on"))
    assert not failed(quiet)
    bare = body.replace('pull = "up"', 'pull = "none"')
    humming = bench(bare, steps("5s: b.loose", "=20s? not r.on"))
    edges = sum(
        r["what"] == "pin" and 5_000 < r["t"] < 25_000 and r["name"] == "GPIO33" for r in humming.records
    )
    assert not failed(humming) and edges > 1500 and not humming.faults


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_press_counts_once_whatever_comes_with_it(bench, seed):
    """A message and what it publishes keep the program busy while the contact bounces and is let go."""
    body = '[relay.r]\npin = "D5"\n[button.b]\npin = "D6"\npull = "up"\n[flag.f]\n[led.l]\npin = "D7"\nshows = "r.on"\n'
    body += link("b.pressed", "r.toggle") + link("f.on", "notify('on')") + link("not f.on", "notify('off')")
    rows = []
    for n in range(40):
        at, apart = 20_000 + 3000 * n, 4 * n - 20
        acts = sorted(
            [(at, "b.press"), (at + apart, f"message('f/on/set', '{'true' if n % 2 else 'false'}')")]
        )
        rows += [f"{moment / 1000}s: {act}" for moment, act in acts]
    result = bench(
        body, steps(*rows), board="esp8266-30pin", site=NETWORK.format(qos=1), lasts="150s", seed=seed
    )
    said = [
        r["name"].rpartition("/")[2] for r in result.records if r["what"] == "mqtt" and "/b/" in r["name"]
    ]
    levels = [r["value"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO14"]
    assert said.count("pressed") == 40 and "doubled" not in said and len(levels) >= 40
