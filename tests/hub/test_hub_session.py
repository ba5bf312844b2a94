"""A session at the hub as text that somebody read: what it remembers, tells, shows, measures; and what it keeps when it starts again."""

import json
import stat

import pytest
from conftest import HEADER, NETWORK
from support.approved import approve
from test_hub import Way, described, service  # noqa: F401

import zapato
from zapato.hub import History, Hub
from zapato.hub import hub as hub_module
from zapato.hub.history import HistoryRow
from zapato.hub.hub import measured
from zapato.hub.metrics import metrics
from zapato.hub.service import Service
from zapato.hub.things import read_thing

BODY = (
    '[relay.lamp]\npin = 26\nlabel = "Hall lamp"\n[button.b]\npin = 33\npull = "up"\n[contact.door]\npin = 32\npull = "up"\n'
    '[motion.m]\npin = 14\n[sensor.air]\nchip = "dht22"\npin = 27\n[number.limit]\nstart = 22\nlow = 5\nhigh = 30\nunit = "Cel"\n'
    '[strip.rack]\npin = 13\ncount = 30\nchip = "ws2812b"\n[sensor.fumes]\nchip = "sgp30"\nbus = "main"\n[i2c.main]\nsda = 21\nscl = 22\n'
)
SAID = (
    ("state", b"online", True), ("lamp/on", b"true", True), ("lamp/on", b"true", True), ("lamp/on", b"true", False), ("lamp/on", b"false", False),
    ("air/temperature", b"null", True), ("air/temperature", b"21.5", False), ("air/humidity", b"1e999", False), ("limit/value", b"22", True),
    ("limit/value", b"22", False), ("b/pressed", b"{}", True), *(("b/pressed", payload, False) for payload in (b'{"ago": 3}', b'{"ago": 0.5}', b'{"ago": -3}', b'{"ago": 1e99}', b'{"ago": true}', b'["ago"]', b"")), ("door/closed", b"true", False),
    ("door/closed", b"[1]", False), ("m/present", b"", False), ("rack/color", b'"#ff8000"', False), ("rack/on/set", b"true", False),
    ("vitals", b'{"uptime": 61, "signal": -58, "heap": 9000, "version": "1.0.0", "dropped": 0}', False), ("state", b"offline", False),
)  # fmt: skip


@pytest.fixture
def design(put):
    return zapato.load(
        put({"device.toml": HEADER.format(board="esp32-38pin") + BODY, "site.toml": NETWORK.format(qos=0)})
    )


def test_a_session(design):
    hub = Hub({"bench.lamp.on": HistoryRow(5.0, "bench.lamp.on", True)})
    lines: list[str] = []
    hub.listen(lambda event: lines.append(f"  told {event.what} {event.name} {event.value!r} at {event.at}"))
    hub.hear(*described(design), True, 10.0)
    for at, (name, payload, kept) in enumerate(SAID, 11):
        lines.append(f"{at} {name} {payload.decode()} {'kept' if kept else 'live'}")
        rows = hub.hear(f"{design.topic}/{name}", payload, kept, float(at))
        lines += [f"  remembers {row.name} {row.value!r} at {row.at}" for row in rows]
    (thing,) = hub.table(60.0)
    properties, actions = thing.pop("properties"), thing.pop("actions", [])
    lines += ["", json.dumps(thing)]
    lines += [f"{json.dumps(row)} -> {measured(row['value'], row)}" for row in properties]
    lines += [json.dumps(action) for action in actions]
    lines += ["", *(f"{name}: {reading}" for name, reading in hub.readings.items())]
    lines += ["", *map(str, hub.figures()), *map(str, hub.presence())]
    approve("hub-session", "\n".join(lines) + "\n")


@pytest.mark.parametrize(
    ("value", "about", "shown"),
    [
        (21.5, {"unit": "Cel"}, "21.5 °C"),
        (45, {"unit": "%RH"}, "45 % RH"),
        (4700, {"unit": "Ohm"}, "4700 Ω"),
        (8.0, {"unit": "ug/m3"}, "8 µg/m³"),
        (12.1, {"unit": "V"}, "12.1 V"),
        (3, {}, "3"),
        (None, {"unit": "Cel"}, "-"),
        (True, {"unit": "V"}, "on"),
        ("warm", {}, "warm"),
    ],
)
def test_a_value_with_its_unit(value, about, shown):
    assert measured(value, {"name": "x.on", **about}) == shown


def test_figures_for_others(design, service):  # noqa: F811
    service.hub.hear(*described(design), True, 0.0)
    for name, payload, kept in SAID:
        service.hub.hear(f"{design.topic}/{name}", payload, kept, 100.0)
    approve("hub-metrics", metrics(service).decode())


def test_a_hub_that_starts_again_knows_its_devices_and_their_last_values(design, tmp_path, monkeypatch):
    """Descriptions and values come from the history, before the broker has said anything; the file is its user's alone."""
    monkeypatch.setattr("zapato.hub.service.PersistentConnection", Way)
    path, sessions = tmp_path / "kept" / "history.db", []
    topic, text = described(design)
    for turn in range(2):
        history = History(path)
        try:
            made = Service(("broker", 1883), history)
            assert list(made.hub.things) == ["bench"] * turn
            sessions.append(history.session)
            made.hub.hear(topic, text, True, 1.0)
            rows = made.hub.hear(f"{design.topic}/lamp/on", b"true", True, 20.0 + turn)
            assert [row.at for row in rows] == [20.0] * (not turn), "what is known since before is not new"
            assert made.hub.readings["bench.lamp.on"] == hub_module.Reading(True, 20.0, not turn)
            assert [history.was_taken(number) for number in (7, 8)] == [bool(turn), False]
            history.put(rows, taken=(7,), about={topic: text.decode()})
        finally:
            history.close()
        files = [path, *path.parent.glob("history.db-*")]
        assert {stat.S_IMODE(file.stat().st_mode) & 0o077 for file in files} == {0}
    assert sessions[0].startswith("zapato-hub-") and sessions == sessions[:1] * 2, "the broker knows it again"
    assert History().session == "", "what is gone with the process asks for no session"


def test_a_full_hub_takes_what_is_new_of_those_it_has(design, monkeypatch):
    monkeypatch.setattr(hub_module, "MOST", 1)
    hub = Hub()
    topic, text = described(design)
    assert hub.describe(topic, text)
    assert (
        hub.describe(topic, text.replace(b"Hall lamp", b"Stair lamp"))
        and hub.page("stair lamp")["found"] == 1
    )
    assert not hub.describe("refuge/other/about", text) and list(hub.things) == ["bench"]


def _form(topic: object, op: object = "readproperty", **more) -> dict:
    return {"op": op, "mqv:topic": topic, **more}


FOREIGN = {
    "@context": ["https://www.w3.org/2022/wot/td/v1.1"],
    "title": "Sauna \x1b[2J " + "x" * 300,
    "description": "sauna, in the yard",
    "version": {"instance": "2.0"},
    "properties": {
        "a.whole": {"type": "integer", "minimum": -5, "maximum": 5, "unit": "u" * 30, "forms": [_form("t/a")]},
        "a.above": {"type": "number", "exclusiveMinimum": 0, "minimum": 9, "maximum": 1e15, "forms": [_form("t/b", "observeproperty"), _form("t/b0")]},
        "a.choice": {"oneOf": [{"type": "null"}, {"type": "number", "maximum": 1e14, "unit": "V"}], "forms": [_form("t/c")]},
        "a.words": {"type": "string", "enum": ["warm", 3, "\ud800cold", *map(str, range(120))], "forms": [_form("t/d")]},
        "a.set": {"type": "boolean", "forms": [_form("t/e", ["readproperty", "x"]), _form("t/e/set", "writeproperty", **{"mqv:qos": "0", "mqv:retain": True})]},
        "a.fixed": {"readOnly": True, "forms": [_form("t/f", ["readproperty", "writeproperty"])]},
        "a.pack": {"forms": [_form("t/g", contentType="application/senml+json")]},
        "a.address": {"forms": [{"op": "readproperty", "href": "mqtts://broker:8883/t/h%20i?x#y"}]},
        "a.filter": {"forms": [{"op": "readproperty", "mqv:filter": "t/j", "href": "mqtt://broker/t/k"}]},
        "a.long": {"forms": [_form("x" * 511)]},
        "a.longer": {"forms": [_form("x" * 512), _form("")]},
        "a.hash": {"forms": [_form("t/#"), _form("t/+/x"), _form("$SYS/x"), _form("a\0b"), _form("\ud800"), _form(7), "none", {"href": "http://x/y"}, {"href": "mqtt://[/y"}]},
        "a.many": {"forms": [*[{} for _ in range(19)], _form("t/l")]},
        "a.more": {"forms": [*[{} for _ in range(20)], _form("t/m")]},
        "x" * 250: {"title": "T" * 250, "forms": [_form("t/n")]},
    },
    "actions": {
        "a.go": {"input": {"type": "array", "items": [{"type": "number"}, {"type": "string"}, *[{} for _ in range(12)]]}, "forms": [_form("t/o", "invokeaction", **{"mqv:qos": 1})]},
        "a.one": {"input": {"type": "number", "minimum": 1}, "forms": [_form("t/p", "invokeaction", **{"mqv:qos": "2"})]},
        "a.none": {"forms": [_form("t/q", "invokeaction")]},
        "a.read": {"forms": [_form("t/r")]},
    },
    "events": {"a.rang": {"forms": [_form("t/s", "subscribeevent")]}, "a.never": {"forms": [_form("t/t")]}},
}  # fmt: skip
"""A description of somebody else's, with what there is in the standard (W3C, Thing Description 1.1) and what should not be."""


def test_a_description_of_somebody_elses():
    made = read_thing("yard/sauna/about", json.dumps(FOREIGN).encode())
    rows = [f"{made.name} {made.topic} {made.label!r} {made.where!r} {made.version!r}", *made.filters, ""]
    for group in (made.properties, made.actions, made.events):
        rows += [ascii(affordance) for affordance in group.values()]
    approve("hub-foreign", "\n".join(rows) + "\n")
