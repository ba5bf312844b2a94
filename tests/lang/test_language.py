"""The device language: every mistake at its place, and no text whatever makes check raise."""

from pathlib import Path

import pytest
from conftest import HEADER
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

import zapato
from zapato.lang.units import QuantityError, quantity, shown_time

# body, then (code, line, column) of every finding, in order.
CASES = {
    "syntax errors, all of them": (
        '[relay.a\npin = 26\n[relay.b]\npin = \nlabel = "x\nactive = "low"\n',
        [("toml-syntax", 5, 9), ("missing-key", 7, 2), ("toml-syntax", 8, 7), ("toml-syntax", 9, 11)],
    ),
    "a key twice": ("[relay.a]\npin = 26\npin = 27\n", [("toml-syntax", 7, 1)]),
    "a table twice": ("[relay.a]\npin = 26\n[relay.a]\npin = 27\n", [("name-taken", 7, 2)]),
    "an open list": (
        '[relay.a]\npin = 26\nexcludes = ["b",\n[relay.b]\npin = 27\n',
        [("toml-syntax", 7, 17)],
    ),
    "unknown key": ('[relay.a]\npin = 26\nactiv = "low"\n', [("unknown-key", 7, 1)]),
    "unknown kind": ("[relais.a]\npin = 26\n", [("unknown-kind", 5, 2)]),
    "a kind without a name": ("[relay]\npin = 26\n", [("missing-key", 5, 2)]),
    "missing keys": ("[button.a]\n", [("missing-key", 5, 2), ("missing-key", 5, 2)]),
    "wrong types": (
        '[relay.a]\npin = true\nactive = "hgih"\nlabel = 3\n',
        [("wrong-type", 6, 7), ("wrong-type", 7, 10), ("wrong-type", 8, 9)],
    ),
    "no unit": ('[sensor.a]\nchip = "dht22"\npin = 27\nevery = 20\n', [("wrong-type", 8, 9)]),
    "wrong unit": ('[sensor.a]\nchip = "dht22"\npin = 27\nevery = "20V"\n', [("wrong-type", 8, 9)]),
    "unknown chip": ('[sensor.a]\nchip = "dht23"\npin = 27\n', [("wrong-type", 6, 8)]),
    "bad name": ("[relay.a-b]\npin = 26\n", [("bad-name", 5, 2)]),
    "no such reference": ('[relay.a]\npin = 26\nexcludes = ["b", "a"]\n', [("unknown-reference", 7, 13)]),
    "no such bus": ('[sensor.a]\nchip = "bh1750"\nbus = "main"\n', [("bus-missing", 7, 7)]),
    "unknown part in a link": (
        '[relay.a]\npin = 26\n[[link]]\nwhen = "b.pressed"\ndo = "aa.on"\n',
        [("link-unknown", 8, 9), ("link-unknown", 9, 7)],
    ),
    "a condition that is a number": (
        '[sensor.s]\nchip = "dht22"\npin = 27\n[relay.a]\npin = 26\n[[link]]\nwhen = "s.temperature"\ndo = "a.on"\n',
        [("link-type", 11, 9)],
    ),
    "different quantities": (
        '[sensor.s]\nchip = "dht22"\npin = 27\n[relay.a]\npin = 26\n[[link]]\n'
        'when = "s.temperature > s.humidity"\ndo = "a.on"\n',
        [("link-type", 11, 9)],
    ),
    "a setting that cannot be": (
        '[button.s]\npin = 33\npull = "up"\n[[link]]\nwhen = "s.pressed"\ndo = "s.down = true"\n',
        [("link-type", 10, 7)],
    ),
    "nothing to take back": (
        '[button.s]\npin = 33\npull = "up"\n[relay.a]\npin = 26\n[[link]]\nwhen = "s.pressed"\ndo = "a.pulse(\'2s\')"\nfor = "5s"\n',
        [("link-type", 13, 7)],
    ),
    "an array item has its own place": (
        '[relay.a]\npin = 26\n[[link]]\nwhen = "a.on"\ndo = [\n  "a.off",\n  "a.of",\n]\n',
        [("link-unknown", 11, 4)],
    ),
    "a key of another chip": (
        '[sensor.a]\nchip = "dht22"\npin = 4\ndivider = ["22kohm", "10kohm"]\n',
        [("unknown-key", 8, 1)],
    ),
    "multi-byte characters count as one": (
        '[relay.a]\nlabel = "Ä €"\npin = 26\n"ü" = 1\n',
        [("unknown-key", 8, 1)],
    ),
}


@pytest.mark.parametrize("name", CASES)
def test_every_mistake_at_its_place(name, checked):
    body, expected = CASES[name]
    report = checked(body)
    assert [(f.code, f.place.line, f.place.column) for f in report] == expected, [f.message for f in report]


@pytest.mark.parametrize(
    ("word", "near"),
    [("heatr.on", "heater"), ("heater.onn", "on"), ("heater.toggel", "toggle"), ("heter.toggle", "heater")],
)
def test_the_nearest_name_is_proposed(word, near, checked):
    report = checked(f'[relay.heater]\npin = 26\n[[link]]\nwhen = "heater.on"\ndo = "{word}"\n')
    proposed = " ".join(fix for f in report for fix in f.fixes)
    assert report.findings[0].code == "link-unknown" and (
        f'"{near}"' in proposed or word == "heater.onn" or "heater.on" in proposed
    )


# expression -> device code, or None where it must be refused
EXPRESSIONS = {
    "s.temperature > 20 and not d.closed": "p_s.temperature is not None and (((p_s.temperature > 20) and (not p_d.closed)))",
    "true": "True",
    "min(s.temperature, 30) + 2 * abs(-3) >= 5": "p_s.temperature is not None and (((min(p_s.temperature, 30) + (2 * abs((-3)))) >= 5))",
    "s.humidity / 0 > 1": None,
    "s.temperature + s.humidity > 1": None,
    "1 < s.temperature < 3": None,
    "__import__('os').system('x')": None,
    "s.__class__ == 1": None,
    "(lambda: 1)() == 1": None,
    "[x for x in (1,)] == 1": None,
    "s.temperature if true else 1": None,
    "s.temperature > 'warm'": None,
    "d.closed > 1": None,
    "s": None,
    "s.temperature = 3": None,
    "s.temperature && true": None,
    "": None,
    "(" * 450 + "1" + ")" * 450 + " == 1": None,
    "~1 == 1": None,
    "f'{s}' == 'x'": None,
}


@pytest.mark.parametrize("text", EXPRESSIONS)
def test_expressions(text, put):
    from zapato.design.links import PartScope
    from zapato.lang.expressions import compile_expression

    body = '[sensor.s]\nchip = "dht22"\npin = 27\n[contact.d]\npin = 32\npull = "up"\n'
    design = zapato.load(put(HEADER.format(board="esp32-38pin") + body))
    result = compile_expression(text, PartScope(design.parts))
    wanted = EXPRESSIONS[text]
    if wanted is None:
        assert result.mistakes or result.value.type != "boolean"
        assert all(0 <= m.offset <= len(text) for m in result.mistakes)
    else:
        assert not result.mistakes and result.code == wanted


@pytest.mark.parametrize(
    ("text", "dimension", "value"),
    [
        ("20s", "time", 20_000),
        ("1h30min", "time", 5_400_000),
        ("4.7kohm", "ohm", 4700),
        ("350 mA", "A", 0.35),
        ("30cm", "m", 0.3),
        ("3.3V", "V", 3.3),
    ],
)
def test_quantities(text, dimension, value):
    assert quantity(text, dimension) == pytest.approx(value)


@given(st.integers(1, 10**9))
def test_a_shown_time_reads_back(ms):
    assert quantity(shown_time(ms).replace(" ", ""), "time") == pytest.approx(ms)


@given(st.text(max_size=12), st.sampled_from(["time", "V", "ohm", "m"]))
def test_no_text_makes_a_quantity_crash(text, dimension):
    try:
        assert isinstance(quantity(text, dimension), float)
    except QuantityError as error:
        assert str(error)


ANY = settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
WORDS = st.sampled_from(
    [
        "zapato",
        "device",
        "relay",
        "button",
        "led",
        "contact",
        "motion",
        "sensor",
        "i2c",
        "link",
        "wifi",
        "mqtt",
        "name",
        "board",
        "pin",
        "pull",
        "active",
        "when",
        "if",
        "do",
        "for",
        "held",
        "back",
        "chip",
        "bus",
        "address",
        "every",
        "accept",
        "because",
        "esp32-38pin",
        "analog",
        "dht22",
        "bh1750",
        "up",
        "down",
        "a.on",
        "a.toggle",
        "notify('{a.on}')",
        "[]",
        "{}",
        "nan",
    ]
)
VALUES = st.recursive(
    st.one_of(
        st.integers(-5, 50),
        st.booleans(),
        st.floats(allow_nan=False),
        WORDS,
        st.text(max_size=8),
        st.just("20s"),
    ),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(WORDS, inner, max_size=3)),
    max_leaves=12,
)


def _check_text(path: Path, text: str | bytes) -> None:
    path.write_bytes(text if isinstance(text, bytes) else text.encode("utf-8", "surrogatepass"))
    report = zapato.check(path)
    for finding in report:
        assert finding.place.line >= 1 and finding.place.column >= 1 and finding.message
        assert finding.place.line <= max(1, report.texts.get(finding.place.file, "").count("\n") + 1)


@ANY
@given(st.one_of(st.text(max_size=300), st.binary(max_size=300)))
@example("[a]\n[a]\n[a.b]\n[[a]]\na.b = 1\n")
@example('x = """\n')
@example("\ufeffzapato = 1\r\n[device]\r\n")
@example("[[link]]\n[link]\n[device.name.x]\n")
@example("a = " + "[" * 3000)
def test_no_text_whatever_makes_check_raise(tmp_path, text):
    _check_text(tmp_path / "any.toml", text)


@ANY
@given(st.dictionaries(WORDS, VALUES, max_size=6))
def test_no_tables_whatever_make_check_raise(tmp_path, data):
    import tomlkit

    _check_text(tmp_path / "any.toml", "zapato = 1\n" + tomlkit.dumps(data))


@ANY
@given(st.data())
def test_no_cut_or_swap_of_a_real_file_makes_check_raise(tmp_path, data):
    from importlib.resources import files

    text = (files("zapato.demo") / "site" / "devices" / "boot-dryer.toml").read_text("utf-8")
    at = data.draw(st.integers(0, len(text)))
    end = data.draw(st.integers(at, min(len(text), at + 40)))
    _check_text(tmp_path / "any.toml", text[:at] + data.draw(st.text(max_size=6)) + text[end:])
