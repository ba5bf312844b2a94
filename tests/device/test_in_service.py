"""A device in service: networks that come and go, values that must get out, what is known again after a silence."""

import json

import pytest
from conftest import HEADER, NETWORK, failed, steps
from support.over_air import Place

import zapato

RELAY = '[relay.r]\npin = 26\nstart = "on"\n'


@pytest.mark.parametrize("away", [170, 179, 240, 900])
def test_a_network_that_goes_away_never_takes_the_program_away(bench, away):
    """The access point opens where nobody ever let the device in, not where the network is down at the third minute."""
    script = steps(f"{away}s: wifi.down", f"{away + 60}s: wifi.up")
    result = bench(RELAY, script, site=NETWORK.format(qos=0), lasts=f"{away + 150}s")
    assert result.passed and not result.restarts
    lamp = [r for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26" and r["t"] > 1000]
    assert not lamp, "the relay stays as it is"
    assert [text for _, text in result.log].count("broker reached") == 2


@pytest.mark.parametrize("qos", [0, 1])
def test_forty_values_get_out_at_once(bench, qos):
    """More than the bytes that wait at a time; nothing else is said meanwhile."""
    body = "".join(f"[number.value_{n}]\nstart = {n}\n" for n in range(40))
    script = steps("30s: broker.down", "40s: broker.up")
    result = bench(body, script, site=NETWORK.format(qos=qos), lasts="56s")
    said = [
        (r["t"], r["name"]) for r in result.records if r["what"] == "mqtt" and r["name"].endswith("/value")
    ]
    first = {name for t, name in said if t < 15_000}
    again = {name for t, name in said if t > 40_000}
    assert len(first) == len(again) == 40


def test_a_notice_does_not_come_again_after_a_silence(bench):
    """`back` holds while the value is unknown: nobody knows that it went back."""
    body = '[i2c.main]\nsda = 21\nscl = 22\n[sensor.s]\nchip = "sht31"\nbus = "main"\nevery = "5s"\n'
    body += '[[link]]\nwhen = "s.temperature < 10"\nback = 5\ndo = "notify(\'fill it\')"\n'
    script = "[world]\ns.temperature = 20\ns.humidity = 40\n" + steps(
        "10s: s.temperature = 8", "30s: s.fall_silent", "60s? not known(s.temperature)", "70s: s.answer", "90s? known(s.temperature)",
        "95s: s.temperature = 16", "110s: s.temperature = 8",
    )  # fmt: skip
    result = bench(body, script, site=NETWORK.format(qos=0), lasts="2min")
    assert not failed(result)
    told = [r["t"] // 1000 for r in result.records if r["what"] == "mqtt" and r["value"] == "fill it"]
    assert len(told) == 2 and 10 <= told[0] < 30 and told[1] >= 110, told


SITE = '[site]\nname = "s"\n[wifi]\nname = "hall"\npassword = "larch and stone"\n[mqtt]\nhost = "192.168.4.2"\nuser = "u"\npassword = "marmot and pine"\n'


@pytest.mark.parametrize(
    ("own", "wifi", "mqtt"),
    [
        ("", ("hall", "larch and stone"), ("192.168.4.2", "u")),
        ('[wifi]\ncountry = "CH"\n', ("hall", "larch and stone"), ("192.168.4.2", "u")),
        ('[mqtt]\napart = "2s"\n', ("hall", "larch and stone"), ("192.168.4.2", "u")),
        ('[wifi]\nname = "hut"\n', ("hut", None), ("192.168.4.2", "u")),
        ('[mqtt]\nhost = "192.168.4.9"\n', ("hall", "larch and stone"), ("192.168.4.9", None)),
    ],
)
def test_a_devices_table_counts_key_by_key(put, own, wifi, mqtt):
    """And a password goes only to the network or broker that it was meant for."""
    path = put({"site.toml": SITE, "device.toml": HEADER.format(board="esp32-38pin") + own + RELAY})
    made = zapato.load(path)
    assert (made.wifi["name"], made.wifi.get("password") or None) == wifi
    assert (made.mqtt["host"], made.mqtt.get("user") or None) == mqtt


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin"])
def test_what_counts_at_power_up(bench, board):
    """An event at every start, a lamp that follows a switch, a flag and a number as they were before."""
    body = (
        '[rocker.stairs]\npin = 12\npull = "up"\n[relay.lamp]\npin = 14\nfollows = "stairs.on"\n[relay.fan]\npin = 5\n'
        '[flag.away]\nstart = "last"\n[number.limit]\nlow = 5\nhigh = 30\nstart = "last"\n'
        '[[link]]\nwhen = "device.started"\nif = "stairs.on"\nafter = "2s"\ndo = "fan.on"\n'
    )
    script = steps(
        "1s? lamp.on and not fan.on", "5s? fan.on and limit.value == 5 and not away.on",
        "20s: message('away/on/set', 'true')", "21s: message('limit/value/set', '17.5')", "22s: message('lamp/do/off', '')",
        "24s? not lamp.on and limit.value == 17.5", "25s: stairs.on = false", "27s: stairs.on = true", "28s? lamp.on",
        "29s: stairs.on = false", "50s: power.cut", "55s? not lamp.on and not fan.on and limit.value == 17.5 and away.on",
        "60s: stairs.on = true", "62s? lamp.on and not fan.on",
    )  # fmt: skip
    result = bench(
        body, "[world]\nstairs.on = true\n" + script, board=board, lasts="65s", site=NETWORK.format(qos=0)
    )
    assert not failed(result) and result.passed, (failed(result), result.log)


def test_what_is_kept_and_no_longer_fits_is_as_new(put, tmp_path):
    """The file changed while the power was away: a value out of its range, of another type, or damaged."""
    body = '[number.limit]\nlow = 5\nhigh = 30\nstart = "last"\n[flag.away]\nstart = "last"\n'
    for kept in (
        b'{"limit": 99, "away": 1}',
        b'{"limit": "x", "away": null}',
        b'{"limit": true}',
        b"{",
        b"[]",
    ):
        design = zapato.load(
            put(
                {"site.toml": NETWORK.format(qos=0), "device.toml": HEADER.format(board="esp32-38pin") + body}
            )
        )
        place = Place(design, seconds=20)
        place.board.flash.files["kept.json"] = kept
        assert place.run() is None
        said = {t.split("/")[-2]: p for t, p in place.heard if t.endswith(("/value", "/on"))}
        assert said == {"limit": b"5", "away": b"false"}, (kept, said)


@pytest.mark.parametrize("qos", [0, 1])
def test_after_an_outage_what_is_true_goes_before_what_was(bench, qos):
    """Values as they are now, then the events that waited, in their order, each with how long ago it was."""
    body = '[button.bell]\npin = 33\npull = "up"\n[number.n]\n'
    script = steps(
        "10s: bell.press", "30s: broker.down", "40s: bell.press", "60s: bell.press", "100s: broker.up"
    )
    result = bench(body, script, site=NETWORK.format(qos=qos), lasts="130s")
    said = [
        (r["t"], r["name"].removeprefix("refuge/bench/"), r["value"])
        for r in result.records
        if r["what"] == "mqtt"
    ]
    events = [(t, value) for t, name, value in said if name == "bell/pressed"]
    assert events[0][1] == "{}" and len(events) == 3
    ago = [json.loads(value)["ago"] for _, value in events[1:]]
    back = events[1][0] / 1000
    assert [abs(back - at - each) <= 1.5 for at, each in zip((40, 60), ago, strict=True)] == [True, True], (
        back,
        ago,
    )
    values = [t for t, name, _ in said if t > 100_000 and name in ("n/value", "bell/down")]
    assert len(values) == 2 and max(values) <= events[1][0]


def test_an_event_that_nobody_acknowledged_says_how_long_ago_it_was(bench):
    """It was sent, and went with the connection: sent anew it is no event of now."""
    script = steps("10s: broker.silent", "12s: bell.press", "13s: broker.closes", "70s: broker.answers")
    site = NETWORK.format(qos=1)
    result = bench('[button.bell]\npin = 33\npull = "up"\n', script, site=site, lasts="110s")
    said = [
        (r["t"], r["value"])
        for r in result.records
        if r["what"] == "mqtt" and r["name"].endswith("bell/pressed")
    ]
    late = [(t, json.loads(value)) for t, value in said if t > 70_000]
    assert late and all(abs(t / 1000 - 12 - row["ago"]) <= 1.5 for t, row in late), said
