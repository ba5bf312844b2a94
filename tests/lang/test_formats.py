"""What others read: SARIF against the standard's schema, the JSON Schema against real and broken device files."""

import json
import tomllib
from importlib.resources import files
from pathlib import Path

import jsonschema_rs
import pytest

import zapato
from zapato.checks import rules
from zapato.checks.rule import files as example_files
from zapato.cli.sarif import sarif
from zapato.design.schema import schema
from zapato.parts import kinds

STANDARD = (Path(__file__).parents[1] / "data" / "sarif-schema-2.1.0.json").read_text()
SARIF = jsonschema_rs.validator_for(json.loads(STANDARD.replace("{2}]?$", "{2}?$")))
"""The standard's own pattern of a language has a bracket too many."""
LANGUAGE = jsonschema_rs.Draft202012Validator(schema())
DEMO = sorted(p.name for p in (files("zapato.demo") / "site" / "devices").iterdir())


def test_the_schema_is_one():
    jsonschema_rs.meta.validate(schema())


@pytest.mark.parametrize("name", DEMO)
def test_every_demo_file_is_valid(name):
    LANGUAGE.validate(tomllib.loads((files("zapato.demo") / "site" / "devices" / name).read_text("utf-8")))


@pytest.mark.parametrize("kind", [k.name for k in kinds()])
def test_every_kinds_example_is_valid_and_passes_check(kind, put):
    """The reference's own examples, on the board with the most of everything."""
    example = next(k.example for k in kinds() if k.name == kind)
    assert example, f"{kind} has no example"
    text = f'zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n{example}\n'
    LANGUAGE.validate(tomllib.loads(text))
    assert zapato.check(put(text)).ok, [f.message for f in zapato.check(put(text))]


@pytest.mark.parametrize("code", [c for c, r in rules().items() if r.family != "reading"])
def test_rule_examples_have_a_valid_structure(code):
    """Mistakes of wiring are no mistakes of structure: the schema takes both examples."""
    for example in (rules()[code].failing, rules()[code].mended):
        named = example_files(example)
        if any(name.startswith("extensions/") for name in named):
            continue  # its kind is not in the schema of this process
        for name, text in named.items():
            if name.startswith("device"):
                LANGUAGE.validate(tomllib.loads(text))


HEAD = 'zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n'
BROKEN = [
    "[relay.a]\npin = 26\nactiv = 'low'",
    "[relay.a]\npin = 26\nactive = 'hgih'",
    "[relay.a]",
    "[relay.a]\npin = true",
    "[relay.a-b]\npin = 26",
    "[relais.a]\npin = 26",
    "[button.a]\npin = 26",
    "[sensor.a]\nchip = 'dht23'\npin = 27",
    "[sensor.a]\nchip = 'dht22'\npin = 27\nevery = 20",
    "[[link]]\nwhen = 'a.on'",
    "[[link]]\nwhen = 3\ndo = 'a.on'",
    "[strip.a]\npin = 13\ncount = 0\nchip = 'ws2812b'",
    "[mqtt]\nhost = 'x'\nport = 70000",
    "[mqtt]\nuser = 'x'",
    "[relay]\npin = 26",
]


@pytest.mark.parametrize("body", BROKEN)
def test_planted_mistakes_are_invalid_for_schema_and_check_alike(body, put):
    text = HEAD + body
    assert not LANGUAGE.is_valid(tomllib.loads(text))
    assert not zapato.check(put(text)).ok


def test_sarif_is_the_standards(put, cli):
    body = '[relay.a]\npin = 34\n[relay.b]\npin = 1\naccept = ["pin-console"]\nbecause = "a test"\n[led.c]\npin = 14\n'
    path = put(HEAD + body)
    log = sarif(zapato.check(path))
    SARIF.validate(log)
    results = log["runs"][0]["results"]
    assert [(r["ruleId"], r["level"]) for r in results] == [
        ("pin-input-only", "error"),
        ("pin-boot-glitch", "note"),
        ("pin-console", "warning"),
    ]
    assert results[2]["suppressions"][0]["justification"] == "a test"
    assert json.loads(cli("check", path, "--format", "sarif").out) == log
    with pytest.raises(jsonschema_rs.ValidationError):
        SARIF.validate({**log, "version": "3"})


@pytest.mark.parametrize("code", rules())
def test_every_finding_goes_into_sarif(code, put):
    device = put(example_files(rules()[code].failing))
    SARIF.validate(sarif(zapato.check(device if device.exists() else device.parent)))
