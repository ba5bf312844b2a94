"""What the firmware does, part by part and link by link: each case a device, its day, and what must hold.

Everything runs as compiled modules in the real VM; outputs are measured at the pins.
"""

import json

import pytest
from conftest import HEADER, NETWORK, failed, in_the_vm, steps

import zapato
from zapato.firmware.compile import runtime_source

BUTTON = '[button.b]\npin = 33\npull = "up"\nhold = "1s"\n'
RELAY = "[relay.r]\npin = 26\n"
DHT = '[sensor.s]\nchip = "dht22"\npin = 27\nevery = "5s"\n'
WARM = "[world]\ns.temperature = 20\ns.humidity = 50\n"


def link(when: str, do: str, **keys: object) -> str:
    """A [[link]] table."""
    actions = do if do.startswith("[") else f'"{do}"'
    rows = "".join(
        f"{k.rstrip('_')} = {v if isinstance(v, (int, float)) else json.dumps(v)}\n" for k, v in keys.items()
    )
    return f'[[link]]\nwhen = "{when}"\ndo = {actions}\n{rows}'


# name -> (parts and links, steps); one minute each, nothing random beyond the seed.
CASES = {
    "a relay that starts on": (RELAY + 'start = "on"\n', steps("1s? r.on", "30s? r.on")),
    "an active-low relay is off at power-up": (
        RELAY + 'active = "low"\n',
        steps("0s? not r.on", "1s? not r.on"),
    ),
    "exclusion works both ways, and opens before it closes": (
        BUTTON
        + '[relay.a]\npin = 26\nexcludes = ["c"]\n[relay.c]\npin = 25\n'
        + link("b.pressed", "a.toggle")
        + link("b.held", "c.on"),
        steps(
            "5s: b.press",
            "<1s? a.on",
            "10s: b.hold",
            "+1500ms? c.on and not a.on",
            "20s: b.press",
            "<1s? a.on and not c.on",
        ),
    ),
    "a pulse ends by itself and a second one extends it": (
        BUTTON + RELAY + link("b.pressed", "r.pulse('3s')"),
        steps("5s: b.press", "<1s? r.on", "7s: b.press", "10s? r.on", "11s? not r.on"),
    ),
    "off ends a pulse": (
        BUTTON + RELAY + link("b.pressed", "r.pulse('20s')") + link("b.held", "r.off"),
        steps("5s: b.press", "6s? r.on", "8s: b.hold", "11s? not r.on", "29s? not r.on"),
    ),
    "an LED blinks until it is told otherwise": (
        BUTTON + "[led.l]\npin = 25\n" + link("b.pressed", "l.blink('2s')") + link("b.held", "l.off"),
        steps(
            "5s: b.press",
            "5500ms? l.on",
            "6500ms? not l.on",
            "7500ms? l.on",
            "10s: b.hold",
            "12s? not l.on",
            "=5s? not l.on",
        ),
    ),
    "an LED follows an expression from the first moment": (
        BUTTON
        + RELAY
        + 'start = "on"\n[led.l]\npin = 25\nshows = "not r.on or b.down"\n'
        + link("b.released", "r.toggle"),
        steps("1s? not l.on", "5s: b.press", "<60ms? l.on", "6s? l.on", "10s: b.press", "11s? not l.on"),
    ),
    "motion keeps the lamp on, and each new motion extends it": (
        "[motion.m]\npin = 14\n" + RELAY + link("m.started", "r.on", for_="10s"),
        steps(
            "5s: m.present = true",
            "6s: m.present = false",
            "12s: m.present = true",
            "13s: m.present = false",
            "20s? r.on",
            "23s? not r.on",
        ),
    ),
    "a contact that is closed at power-up announces nothing": (
        '[contact.d]\npin = 32\npull = "up"\n' + RELAY + link("d.closed", "r.on"),
        steps("1s? not r.on", "5s: d.closed = false", "8s: d.closed = true", "<1s? r.on"),
    ),
    "held is given up when the condition falls": (
        BUTTON + RELAY + link("b.down", "r.on", held="2s"),
        steps("5s: b.press", "9s? not r.on", "10s: b.down = true", "11900ms? not r.on", "<400ms? r.on"),
    ),
    "after waits and is not given up": (
        BUTTON + RELAY + link("b.pressed", "r.on", after="3s"),
        steps("5s: b.press", "7900ms? not r.on", "<300ms? r.on"),
    ),
    "if is asked at the moment of doing": (
        BUTTON
        + RELAY
        + '[contact.d]\npin = 32\npull = "up"\n'
        + link("b.pressed", "r.toggle", if_="not d.closed"),
        steps("5s: b.press", "6s? r.on", "7s: d.closed = true", "8s: b.press", "9s? r.on"),
    ),
    "a link sets a property to an expression": (
        BUTTON
        + "[number.n]\nlow = 0\nhigh = 10\n[flag.f]\n"
        + link("b.pressed", '["n.value = n.value + 4", "f.on = n.value > 5"]'),
        steps(
            "1s? n.value == 0 and not f.on",
            "5s: b.press",
            "6s? n.value == 4",
            "8s: b.press",
            "10s: b.press",
            "11s? n.value == 10 and f.on",
        ),
    ),
    "a group is on when any member is, and switches all": (
        BUTTON
        + '[relay.a]\npin = 26\n[relay.c]\npin = 25\n[group.g]\nof = ["a", "c"]\n'
        + link("b.pressed", "g.toggle")
        + link("b.held", "a.off"),
        steps(
            "5s: b.press",
            "<1s? a.on and c.on and g.on",
            "10s: b.hold",
            "13s? not a.on and not c.on and not g.on",
        ),
    ),
    "links in a chain all act": (
        BUTTON
        + "[relay.a]\npin = 26\n[relay.c]\npin = 25\n[relay.e]\npin = 17\n"
        + link("b.pressed", "a.on")
        + link("a.on", "c.on")
        + link("c.on", "e.on")
        + link("e.on", "a.off"),
        steps("5s: b.press", "<1s? not a.on and c.on and e.on"),
    ),
    "for takes several things back, the last first": (
        BUTTON
        + '[relay.a]\npin = 26\nexcludes = ["c"]\n[relay.c]\npin = 25\nstart = "on"\n'
        + link("b.pressed", '["c.off", "a.on"]', for_="2s"),
        steps("2s? c.on", "5s: b.press", "6s? a.on and not c.on", "8s? c.on and not a.on"),
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_parts_and_links(name, bench):
    body, script = CASES[name]
    assert not failed(bench(body, script))


SENSING = {
    "crossing upwards with hysteresis": (
        link("s.temperature > 60", "notify('hot')", back=3),
        [(10, 59.9), (15, 60.1), (20, 58), (25, 61), (30, 56.9), (35, 60.5)],
        ["hot", "hot"],
    ),
    "crossing downwards with hysteresis": (
        link("s.temperature < 5", "notify('cold')", back=2),
        [(10, 4), (15, 6), (20, 4), (25, 7.1), (30, 4.9)],
        ["cold", "cold"],
    ),
    "without hysteresis every crossing counts": (
        link("s.temperature >= 30", "notify('warm')"),
        [(10, 30), (15, 29.9), (20, 30)],
        ["warm", "warm"],
    ),
    "two conditions": (
        link("s.temperature > 25 and s.humidity > 60", "notify('close')"),
        [(10, 26), (15, 24)],
        [],
    ),
    "a value shown in a text": (
        link("s.temperature > 40", "notify('{s.temperature} and {s.humidity:.3f} %')"),
        [(10, 41.5)],
        ["41.5 and 50.000 %"],
    ),
    "arithmetic and functions": (
        link("max(s.temperature, 2 * s.humidity - 90) >= abs(-33)", "notify('yes')"),
        [(10, 32), (15, 33)],
        ["yes"],
    ),
}


@pytest.mark.parametrize("name", SENSING)
def test_conditions_on_measured_values(name, bench):
    rule, values, told = SENSING[name]
    script = steps(*(f"{t - 2}s: s.temperature = {v}" for t, v in values))
    result = bench(DHT + rule, script, head=WARM)
    assert [text for _, text in result.log][1:] == told and result.crash is None


def test_a_value_that_is_unknown_makes_no_condition_true(bench):
    """No reading yet, then a sensor that falls silent: neither may switch anything, and both are survived."""
    body = DHT + RELAY + link("s.temperature < 90", "r.on") + link("not s.temperature > 10", "r.on")
    quiet = bench(body, steps("1s? not r.on", "=50s? not r.on"), head="[world]\ns.temperature = 20\n")
    assert quiet.crash is None and not failed(quiet)
    shown = bench(
        DHT + BUTTON + link("b.pressed", "notify('{s.temperature} {s.humidity:.1f}')"), steps("30s: b.press")
    )
    assert "? ?" in [text for _, text in shown.log]


def test_a_reading_is_reported_when_it_changed_enough(bench):
    body = DHT + "change = 0.5\n"
    moves = steps(
        "8s: s.temperature = 20.3",
        "18s: s.temperature = 20.5",
        "28s: s.temperature = 20.9",
        "38s: s.temperature = 21.1",
    )
    result = bench(body, moves, head=WARM, site=NETWORK.format(qos=0))
    told = [row.payload for row in result.messages.itertuples() if row.topic.endswith("/s/temperature")]
    assert [json.loads(p) for p in told if p != "null"] == [20.0, 20.5, 21.1]


def test_an_i2c_chip_that_comes_back_is_read_again(bench):
    body = '[i2c.main]\nsda = 21\nscl = 22\n[sensor.sky]\nchip = "bh1750"\nbus = "main"\nevery = "2s"\n'
    result = bench(body, steps("20s: sky.illuminance = 300", "<3s? sky.illuminance > 299"))
    assert not failed(result)
    log = [text for _, text in result.log]
    assert (
        log[1] == "main found nothing"
        and any("sky does not answer" in text for text in log)
        and "sky answers again" in log
    )


def test_a_bus_is_scanned_at_power_up(bench):
    body = '[i2c.main]\nsda = 21\nscl = 22\n[sensor.a]\nchip = "bh1750"\nbus = "main"\n[sensor.c]\nchip = "bh1750"\nbus = "main"\naddress = 0x5c\n'
    result = bench(body, "", head="[world]\na.illuminance = 1\nc.illuminance = 2\n")
    assert "main found 0x23 0x5c" in [text for _, text in result.log]


def test_the_state_of_a_relay_outlives_a_power_cut(bench):
    body = (
        BUTTON + RELAY + 'start = "last"\n[relay.q]\npin = 25\n' + link("b.pressed", '["r.toggle", "q.on"]')
    )
    script = steps(
        "5s: b.press",
        "6s? r.on and q.on",
        "10s: power.cut over 5s",
        "16s? r.on and not q.on",
        "20s: b.press",
        "25s: power.cut",
        "30s? not r.on",
    )
    assert not failed(bench(body, script))


def test_outputs_are_off_while_the_power_is(bench):
    body = RELAY + 'start = "on"\n'
    result = bench(body, steps("10s: power.cut over 20s", "29s? not r.on", "31s? r.on"))
    assert not failed(result)
    levels = [(r["t"], r["value"]) for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26"]
    assert [value for _, value in levels] == [0, 1, 0, 1]
    assert levels[2][0] == 10_000 and levels[1][0] == levels[3][0] - 30_000 < 700


# --- over MQTT

ASKED = {
    "set": ("message('r/on/set', 'true')", "r.on"),
    "set with spaces": ("message('r/on/set', ' true ')", "r.on"),
    "do": ("message('r/do/toggle', '')", "r.on"),
    "do with an empty object": ("message('r/do/on', '{}')", "r.on"),
    "a time in seconds": ("message('r/do/pulse', '30')", "r.on"),
    "a list of arguments": ("message('r/do/pulse', '[30]')", "r.on"),
    "a number": ("message('n/value/set', '9.5')", "n.value == 9.5"),
    "an action with a value": ("message('n/do/set', '7')", "n.value == 7"),
}


@pytest.mark.parametrize("name", ASKED)
@pytest.mark.parametrize("qos", [0, 1])
def test_what_the_device_is_told(name, qos, bench):
    act, holds = ASKED[name]
    body = RELAY + "[number.n]\nlow = 0\nhigh = 10\n"
    assert not failed(
        bench(body, steps(f"10s: {act}", f"<1s? {holds}"), site=NETWORK.format(qos=qos), lasts="20s")
    )


NONSENSE = [
    ("r/on/set", "maybe"),
    ("r/off/set", "true"),
    ("x/on/set", "true"),
    ("r/do/explode", ""),
    ("r/do/pulse", "'soon'"),
    ("r/do/pulse", "[1, 2, 3]"),
    ("b/down/set", "true"),
    ("n/value/set", "{"),
    ("r/on/set", ""),
]


@pytest.mark.parametrize(("topic", "payload"), NONSENSE)
def test_nonsense_is_noted_and_survived(topic, payload, bench):
    body = RELAY + BUTTON + "[number.n]\n"
    act = f"message('{topic}', '{payload}')" if "'" not in payload else f"message('{topic}', '\"soon\"')"
    result = bench(
        body,
        steps(f"10s: {act}", "12s? not r.on", "15s: message('r/on/set', 'true')", "<1s? r.on"),
        site=NETWORK.format(qos=0),
        lasts="20s",
    )
    assert not failed(result)
    notes = [row.payload for row in result.messages.itertuples() if row.topic.endswith("/notes")]
    assert any("not understood" in note for note in notes) or payload == ""


def _topics(result) -> list[tuple[float, str, str]]:
    return [(row.t, row.topic.split("/", 2)[2], row.payload) for row in result.messages.itertuples()]


def test_everything_retained_is_said_again_after_the_broker_came_back(bench):
    body = BUTTON + RELAY + link("b.pressed", "r.toggle")
    script = steps("10s: broker.down", "20s: b.press", "40s: broker.up")
    said = _topics(bench(body, script, site=NETWORK.format(qos=1), lasts="3min"))
    after = [(topic, payload) for t, topic, payload in said if t > 40]
    assert ("state", "online") in after and ("r/on", "true") in after
    ago = next(json.loads(payload)["ago"] for topic, payload in after if topic == "b/pressed")
    assert 20 <= ago <= 30, "an event waits in the queue, and says since when"


def test_the_queue_is_bounded_and_counts_what_it_dropped(bench):
    body = BUTTON + link("b.pressed", "notify('x')")
    presses = [f"{20 + n}s: b.press" for n in range(40)]
    result = bench(
        body, steps("10s: broker.down", *presses, "70s: broker.up"), site=NETWORK.format(qos=0), lasts="4min"
    )
    said = [(topic, json.loads(p)) for _, topic, p in _topics(result) if topic == "vitals"]
    assert result.crash is None and said[-1][1]["dropped"] == 3 * 40 - 24, (
        "pressed, released and a note for each press"
    )
    assert said[-1][1]["version"] == "1.0.0" and said[-1][1]["uptime"] >= 180 and said[-1][1]["signal"] < 0


def test_events_in_flight_are_sent_again_with_qos_1(bench):
    """The broker goes away while a message is on its way: it arrives after the reconnection."""
    body = BUTTON + link("b.pressed", "notify('here')")
    result = bench(
        body,
        steps("10s: b.press", "10036ms: broker.down", "12s: broker.up"),
        site=NETWORK.format(qos=1),
        lasts="1min",
    )
    assert [topic for t, topic, payload in _topics(result) if payload == "here"], "never lost"


def test_the_will_is_published_when_the_device_falls_silent(bench):
    result = bench(RELAY, steps("20s: wifi.down"), site=NETWORK.format(qos=0), lasts="3min")
    said = [(t, p) for t, topic, p in _topics(result) if topic == "state"]
    assert said[0][1] == "online" and said[1][1] == "offline" and 20 < said[1][0] < 20 + 45 + 31


def test_it_joins_when_the_network_appears_late_and_waits_longer_each_time(bench):
    result = bench(RELAY, steps("1s: wifi.down", "9min: wifi.up"), site=NETWORK.format(qos=0), lasts="14min")
    joined = [r["t"] for r in result.records if r["what"] == "net" and r["name"] == "joined"]
    assert len(joined) == 1 and 540_000 < joined[0] < 540_000 + 62_000 + 22_000
    assert ("state", "online") in [(topic, p) for _, topic, p in _topics(result)]


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin", "rp2040w-40pin"])
def test_the_radio_is_told_its_country(board, put):
    """The ports raise ValueError where it has not two letters (extmod/modnetwork.c): `check` does not let such a text through."""
    site = NETWORK.format(qos=0).replace("[wifi]\n", '[wifi]\ncountry = "CH"\n')
    path = put(
        {
            "device.toml": HEADER.format(board=board) + "[flag.away]\n",
            "site.toml": site,
            "s.toml": '[rehearsal]\nlasts = "20s"\n',
        }
    )
    result = zapato.rehearse(path, path.parent / "s.toml")
    told = [(r["name"], r["value"]) for r in result.records if r["what"] == "net"]
    assert told.index(("country", "CH")) < [name for name, _ in told].index("joined") and not result.faults
    for wrong in ("ch", "Switzerland", "C", "C1"):
        put({"site.toml": site.replace('"CH"', f'"{wrong}"')})
        assert [f.code for f in zapato.check(path) if f.severity == "error"] == ["bad-name"]


def test_a_country_that_the_radio_refuses_does_not_end_the_program():
    stub = "STA_IF = 0\ndef country(code):\n    raise ValueError\nclass WLAN:\n    def __init__(self, interface):\n        pass\n"
    text = "import net\nclass Device:\n    pass\nprint(net.Net(Device(), 'hall', '', None, 'Switzerland').ssid)\n"
    assert (
        in_the_vm(text, {"net": runtime_source("net", "esp32"), "network": stub}).splitlines()[-1] == "hall"
    )


def test_the_status_led_tells_the_state_by_its_rhythm(bench):
    body = '[led.l]\npin = 25\nshows = "status"\n'
    result = bench(
        body, steps("30s: broker.down", "1min: wifi.down"), site=NETWORK.format(qos=0), lasts="2min"
    )
    edges = [r["t"] for r in result.records if r["what"] == "pin" and r["name"] == "GPIO25"]
    per_second = {
        name: sum(a <= t < b for t in edges) / ((b - a) / 1000)
        for name, a, b in (
            ("joining", 1200, 3000),
            ("online", 5_000, 29_000),
            ("no broker", 35_000, 55_000),
            ("no wifi", 70_000, 110_000),
        )
    }
    assert per_second["joining"] > 8 and per_second["online"] == 0 and per_second["no wifi"] > 8
    assert 1.5 < per_second["no broker"] < 2.5


def test_a_device_without_a_network_runs_alone(bench):
    result = bench(BUTTON + RELAY + link("b.pressed", "r.on"), steps("5s: b.press", "6s? r.on"))
    assert not failed(result) and result.messages.empty


def test_the_topic_can_be_chosen(bench):
    site = NETWORK.format(qos=0) + 'topic = "hut/lamp"\n'
    result = bench(
        RELAY,
        steps("10s: message('hut/lamp/r/on/set', 'true')"),
        site=site.replace('name = "refuge"', 'name = "hut"'),
        lasts="20s",
    )
    assert {row.topic.rsplit("/", 2)[0] for row in result.messages.itertuples()} <= {"hut/lamp", "hut"}
    assert ("hut/lamp/r/on", "true") in {(row.topic, row.payload) for row in result.messages.itertuples()}


@pytest.mark.parametrize(
    "board",
    [
        "esp32-38pin",
        "esp8266-30pin",
        "rp2040w-40pin",
        "esp32c3-mini",
        "esp32s3-44pin",
        "esp32c6-30pin",
        "esp32s2-mini",
    ],
)
def test_a_new_device_works_on_every_chip(board, tmp_path):
    """The starter file of each chip, built and pressed."""
    import zapato
    from zapato.starter import start_device

    list(start_device(tmp_path, "lamp", board))
    script = tmp_path / "s.toml"
    script.write_text(
        '[rehearsal]\nlasts = "10s"\n'
        + steps("1s? not lamp.on", "2s: switch.press", "<1s? lamp.on", "5s: switch.press", "<1s? not lamp.on")
    )
    assert not failed(zapato.rehearse(tmp_path / "devices" / "lamp.toml", script))
