"""Properties that hold for anything: expressions mean what Python means, firmware follows its model, packages open again."""

import random
import types
from pathlib import Path

import pytest
from conftest import HEADER, NETWORK, steps
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

import zapato
from zapato.design.links import PartScope
from zapato.firmware.package import PackageInvalid, manifest, pack, unpack
from zapato.lang.expressions import compile_expression

SLOW = settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
QUICK = settings(max_examples=200, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])

PARTS = (
    '[sensor.s]\nchip = "dht22"\npin = 27\n[relay.r]\npin = 26\n[flag.f]\n[number.n]\nlow = -50\nhigh = 50\n'
)
NUMBERS = st.deferred(
    lambda: st.one_of(
        st.integers(-40, 90).map(str),
        st.floats(-9, 9, allow_nan=False).map(lambda x: f"{x:.2f}"),
        st.just("n.value"),
        st.just("s.temperature"),
        st.tuples(NUMBERS, st.sampled_from(["+", "-", "*"]), NUMBERS).map(
            lambda t: f"({t[0]} {t[1]} {t[2]})"
        ),
        st.tuples(st.sampled_from(["min", "max"]), NUMBERS, NUMBERS).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        NUMBERS.map(lambda x: f"abs({x})"),
        NUMBERS.map(lambda x: f"-{x}" if x[0] != "-" else x),
    )
)
TRUTHS = st.deferred(
    lambda: st.one_of(
        st.sampled_from(["r.on", "f.on", "true", "false"]),
        st.tuples(NUMBERS, st.sampled_from(["<", "<=", ">", ">=", "==", "!="]), NUMBERS).map(" ".join),
        st.tuples(TRUTHS, st.sampled_from(["and", "or"]), TRUTHS).map(lambda t: f"({t[0]} {t[1]} {t[2]})"),
        TRUTHS.map(lambda t: f"not ({t})"),
    )
)


@pytest.fixture(scope="module")
def scope(tmp_path_factory: pytest.TempPathFactory) -> PartScope:
    path = tmp_path_factory.mktemp("scope") / "x.toml"
    path.write_text(HEADER.format(board="esp32-38pin") + PARTS)
    return PartScope(zapato.load(path).parts)


@QUICK
@given(TRUTHS, st.booleans(), st.booleans(), st.integers(-50, 50), st.one_of(st.none(), st.floats(-40, 80)))
def test_an_expression_means_what_it_says(scope, text, on, flag, number, temperature):
    """The code for the device gives the value that Python gives for the text; with an unknown value, false."""
    assume(len(text) <= 900)
    made = compile_expression(text, scope)
    assert not made.mistakes and made.value.type == "boolean", (text, made.mistakes)
    parts = {
        "r": types.SimpleNamespace(on=on),
        "f": types.SimpleNamespace(on=flag),
        "n": types.SimpleNamespace(value=number),
        "s": types.SimpleNamespace(temperature=temperature),
    }
    got = bool(eval(made.code, {f"p_{name}": part for name, part in parts.items()}))
    if temperature is None and "s.temperature" in text:
        assert got is False
    else:
        assert got == bool(eval(text, {**parts, "true": True, "false": False})), text


@QUICK
@given(TRUTHS, st.integers(0, 400), st.text(max_size=3))
def test_a_damaged_expression_never_raises(scope, text, at, put_in):
    broken = text[: at % (len(text) + 1)] + put_in + text[at % (len(text) + 1) + 1 :]
    made = compile_expression(broken, scope)
    for mistake in made.mistakes:
        assert 0 <= mistake.offset <= max(0, len(broken)) and mistake.message


TOGGLE = (
    '[button.b]\npin = 33\npull = "up"\n[relay.r]\npin = 26\n[[link]]\nwhen = "b.pressed"\ndo = "r.toggle"\n'
)


@SLOW
@given(st.lists(st.integers(150, 4000), min_size=1, max_size=12), st.integers(0, 1000))
def test_every_press_toggles_once_whatever_the_rhythm(bench, gaps, seed):
    """Presses of 120 ms with any gap, bouncing: the relay's state is the parity of the presses."""
    at, rows = 2000, []
    for number, gap in enumerate(gaps, 1):
        rows += [f"{at}ms: b.press", f"{at + 130}ms? {'r.on' if number % 2 else 'not r.on'}"]
        at += 120 + gap
    result = bench(TOGGLE, steps(*rows), seed=seed, lasts="1min")
    assert all(e.passed for e in result.expectations), [
        (e.text, e.at) for e in result.expectations if not e.passed
    ]


@SLOW
@given(
    st.lists(
        st.tuples(
            st.sampled_from(["wifi.down", "wifi.up", "broker.down", "broker.up", "power.cut", "b.press"]),
            st.integers(200, 90_000),
        ),
        max_size=8,
    )
)
def test_whatever_happens_to_the_network_it_comes_back(bench, events):
    """Any order of outages: the program never crashes, and once all is up again the broker knows the true state."""
    at, rows = 5000, []
    for act, gap in events:
        rows.append(f"{at}ms: {act}")
        at += gap + 1100
    rows += [f"{at}ms: wifi.up", f"{at + 1}ms: broker.up", f"{at + 10_000}ms: b.press"]
    end = at + 400_000
    result = bench(TOGGLE, steps(*rows), lasts=f"{end}ms", site=NETWORK.format(qos=1))
    assert result.crash is None, result.crash
    state = [r for r in result.records if r["what"] == "mqtt" and r["name"].endswith("/state")][-1]
    told = [r for r in result.records if r["what"] == "mqtt" and r["name"].endswith("/r/on")][-1]
    pin = [r for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26"][-1]
    assert state["value"] == "online" and told["value"] == ("true" if pin["value"] else "false")


@QUICK
@given(
    st.dictionaries(
        st.from_regex(r"[a-z_]{1,12}", fullmatch=True), st.binary(max_size=200), min_size=1, max_size=5
    ),
    st.binary(min_size=16, max_size=40),
    st.integers(0, 10_000),
)
def test_a_package_opens_again_and_only_whole(modules, key, at):
    package = pack(manifest("lamp", "1.0.0", ">=1", modules), modules, key)
    about, found = unpack(package, key)
    assert found == modules and about["device"] == "lamp"
    damaged = bytearray(package)
    damaged[at % len(package)] ^= 0x55
    try:
        _, again = unpack(bytes(damaged), key)
        assert again == modules, "a damaged byte that nothing depends on"
    except PackageInvalid:
        pass


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.integers(0, 10**6))
def test_a_plan_of_any_device_compiles(tmp_path: Path, seed):
    """Random devices of the kinds that are driven: what passes the check is a plan that Python can read."""
    from zapato.firmware.plan import make_plan
    from zapato.fitting import fit, write_pins

    chance = random.Random(seed)
    tables = [
        '[relay.p{n}]\npin = "auto"\nstart = "{start}"\n',
        '[led.p{n}]\npin = "auto"\nshows = "status"\n',
        '[button.p{n}]\npin = "auto"\npull = "up"\n',
        '[contact.p{n}]\npin = "auto"\npull = "none"\n',
        '[motion.p{n}]\npin = "auto"\n',
        '[sensor.p{n}]\nchip = "dht22"\npin = "auto"\n',
        "[flag.p{n}]\n",
        "[number.p{n}]\nlow = 1\nhigh = 5\n",
    ]
    chosen = [chance.choice(tables) for _ in range(chance.randrange(1, 8))]
    body = "".join(t.format(n=n, start=chance.choice(["on", "off", "last"])) for n, t in enumerate(chosen))
    body += "".join(
        f'[[link]]\nwhen = "p{n}.on"\nheld = "2s"\ndo = "p{n}.off"\n'
        for n, t in enumerate(chosen)
        if "relay" in t
    )
    path = tmp_path / "x.toml"
    path.write_text(
        HEADER.format(board=chance.choice(["esp32-38pin", "rp2040w-40pin", "esp32s3-44pin"])) + body
    )
    write_pins(fit(path))
    design = zapato.load(path)
    assert zapato.check(design).ok
    made = make_plan(design)
    for text in (*made.plans.values(), made.levels):
        compile(text, "plan.py", "exec")
    levels: dict[str, object] = {}
    exec(made.levels, levels)
    relays = {p.pins["pin"].gpio: int(p.get("start", "off") == "on") for p in design.with_role("relay")}
    assert relays.items() <= dict(levels["OUT"]).items(), (
        "a relay that is to start off is low before anything else"
    )
