"""Descriptions by open standards: valid by the standards' own schemas, and a client that knows nothing else drives the device."""

import csv
import io
import json

import jsonschema_rs
import pytest
from conftest import HEADER, NETWORK
from support.examples import example
from support.standards import validator

import zapato
from zapato.descriptions import asyncapi, thing
from zapato.descriptions.schemas import value_schema
from zapato.parts import kind_names
from zapato.topics import topics

DEMO = ("boot-dryer", "gear-locker", "kettle-plug", "porch-light", "rack-strip", "water-tank")


@pytest.mark.parametrize("name", DEMO)
def test_the_demo_is_described_by_both_standards(site, name):
    made = zapato.load(site / "devices" / f"{name}.toml")
    described = thing(made)
    assert not [e.message for e in validator("thing-description-1.1.json").iter_errors(described)]
    assert not [e.message for e in validator("asyncapi-3.0.0.json").iter_errors(asyncapi(made))]
    assert described["title"] and described == thing(zapato.load(site / "devices" / f"{name}.toml"))
    assert "chamois" not in json.dumps(described)


@pytest.mark.parametrize("name", kind_names())
def test_every_kind_is_described(put, name):
    made = example(put, name)
    site = made.document.source.path.parent / "site.toml"
    site.write_text(NETWORK.format(qos=1))
    made = zapato.load(made.document.source.path)
    described = thing(made)
    assert not [e.message for e in validator("thing-description-1.1.json").iter_errors(described)]
    assert not [e.message for e in validator("asyncapi-3.0.0.json").iter_errors(asyncapi(made))]
    for part in made.with_role(name):
        for known, about in part.properties.items():
            if about.wanted:
                continue
            found = described["properties"][f"{part.name}.{known}"]
            assert found.get("readOnly", False) != about.settable and found.get("unit", "") == about.unit
            value = next((each for each in found.get("oneOf", ()) if each["type"] != "null"), found)
            assert value.get("minimum") == about.low and value.get("maximum") == about.high
            schema = {key: found[key] for key in ("type", "oneOf", "enum") if key in found}
            assert jsonschema_rs.Draft7Validator(schema).is_valid(None) == about.unknown, (
                "null is said while it is unknown"
            )
        assert {f"{part.name}.{action}" for action in part.kind.actions_of(part)} <= described.get(
            "actions", {}
        ).keys()


def test_a_secret_host_is_not_told(put):
    site = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = { secret = "where" }\nuser = "x"\ntls = true\nauthority = "ca.pem"\n'
    path = put(
        {
            "site.toml": site,
            "secrets.toml": 'where = "hidden.example"\n',
            "device.toml": HEADER.format(board="esp32-38pin") + "[relay.r]\npin = 26\n",
        }
    )
    made = zapato.load(path)
    assert "hidden" not in json.dumps([thing(made), asyncapi(made)])
    assert thing(made)["properties"]["r.on"]["forms"][0]["href"] == "mqtts://broker:8883/refuge/bench/r/on"
    assert thing(made)["security"] == ["login"]
    alone = zapato.load(put(HEADER.format(board="esp32-38pin") + "[relay.r]\npin = 26\n"))
    (path.parent / "site.toml").unlink()
    assert "properties" not in thing(zapato.load(alone.document.source.path))


def test_a_client_that_knows_the_description_alone_drives_the_device(bench, put):
    """Topics, payloads and types come from the Thing Description; the device obeys, and says so where it said it would."""
    from conftest import failed, steps

    body = "[relay.lamp]\npin = 26\n[dimmer.glow]\npin = 27\n"
    site = NETWORK.format(qos=1)
    made = zapato.load(put({"site.toml": site, "device.toml": HEADER.format(board="esp32-38pin") + body}))
    described = thing(made)

    def form(group: str, name: str, op: str) -> dict:
        return next(f for f in described[group][name]["forms"] if op in f["op"])

    level = described["properties"]["glow.level"]
    wanted = (level["minimum"] + level["maximum"]) / 2
    write = form("properties", "glow.level", "writeproperty")["mqv:topic"]
    toggle = form("actions", "lamp.toggle", "invokeaction")["mqv:topic"]
    said = form("properties", "lamp.on", "observeproperty")["mqv:filter"]
    rows = steps(
        f"10s: message('{write}', '{wanted:g}')", f"<1s? glow.level == {wanted:g}",
        f"20s: message('{toggle}', '')", f"<1s? lamp.on and published('{said.removeprefix('refuge/bench/')}', 'true')",
    )  # fmt: skip
    assert failed(bench(body, rows, lasts="40s", site=site)) == []


def test_the_command_prints_every_form(site, cli):
    device = site / "devices" / "boot-dryer.toml"
    called = cli("topics", device)
    assert called.code == 0 and "refuge/boot-dryer/heater/on/set" in called.out
    rows = list(csv.DictReader(io.StringIO(cli("topics", site, "--format", "csv").out)))
    assert len(rows) == sum(len(topics(zapato.load(site / "devices" / f"{name}.toml"))) for name in DEMO)
    data = json.loads(cli("topics", device, "--format", "json").out)
    one = next(row for row in data if row["name"].endswith("cabinet/temperature"))
    assert one["unit"] == "Cel" and one["retained"] and one["qos"] == 1
    assert json.loads(cli("topics", device, "--format", "asyncapi").out)["asyncapi"] == "3.0.0"
    assert json.loads(cli("topics", device, "--format", "thing").out)["title"] == "Boot dryer"
    assert cli("topics", site, "--format", "thing").code == 2


def test_the_build_writes_the_description(site, cli, tmp_path):
    device = site / "devices" / "kettle-plug.toml"
    assert cli("build", device, "--out", tmp_path / "out").code == 0
    described = json.loads((tmp_path / "out" / "kettle-plug" / "thing.json").read_text())
    assert described == thing(zapato.load(device))


def test_what_is_watched_and_how_it_is_told(put):
    from support.over_air import Said as Messages

    from zapato.deliver.watch import watch

    body = '[i2c.main]\nsda = 21\nscl = 22\n[button.b]\npin = 33\npull = "up"\n'
    made = zapato.load(
        put({"site.toml": NETWORK.format(qos=0), "device.toml": HEADER.format(board="esp32-38pin") + body})
    )
    rows = [
        ("refuge/bench/notes", b"main found 0x23, 0x76"),
        ("refuge/bench/notes", b"probe 28ff641e0216035d answers"),
        ("refuge/bench/notes", b"fault in memory: there was none left"),
        ("refuge/bench/b/down", b"true"),
        ("refuge/bench/b/pressed", b"{}"),
        ("refuge/bench/state", b"online"),
        ("refuge/bench/b/down/set", b"true"),
        ("refuge/bench/device/do/tell", b""),
        ("refuge/bench/update/want", b"[]"),
        ("refuge/bench/about", b"{}"),
        ("refuge/other/notes", b"hello"),
        ("refuge/bench/nobody/knows", b"\xff"),
    ]
    way = Messages(*rows)
    found = [(s.what, s.name, s.found) for s in watch([made], way, goes_on=lambda: bool(way.messages))]
    assert found == [
        ("note", "", ("0x23", "0x76")),
        ("note", "", ("28ff641e0216035d",)),
        ("fault", "", ()),
        ("value", "b.down", ()),
        ("event", "b.pressed", ()),
        ("state", "", ()),
        ("event", "nobody.knows", ()),
    ]


@pytest.mark.parametrize("name", kind_names())
def test_every_example_could_be_true(put, name):
    """What a topic shows as an example is a value that its own schema allows."""
    for topic in topics(example(put, name)):
        if topic.of in ("property", "set") and topic.type and not topic.packed:
            assert jsonschema_rs.Draft7Validator(value_schema(topic)).is_valid(json.loads(topic.example)), (
                topic
            )
