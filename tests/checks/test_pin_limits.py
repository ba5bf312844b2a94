"""The checks against the boards, pin by pin: the same question asked of the rules and of lists written down apart."""

import re
from dataclasses import replace
from pathlib import Path

import pytest
from conftest import HEADER
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from support.approved import approve

import zapato
from zapato.boards import board, board_ids
from zapato.checks import candidates, check

# board -> pins where a plain relay (active high) gives an error, and where a warning; every other usable pin is silent.
RELAYS = {
    "esp32-38pin": ({6, 7, 8, 9, 10, 11, 34, 35, 36, 39}, {0, 1, 3, 5, 14, 15}),
    "esp8266-30pin": ({6, 7, 8, 9, 10, 11, 17}, {0, 1, 2, 3, 16}),
    "rp2040w-40pin": (set(), set()),
    "esp32c3-mini": (set(), {2, 8, 9}),
    "esp32s3-44pin": (set(), {0, 19, 20, 43, 44, 48}),
    "esp32c6-30pin": (set(), {8, 9, 12, 13, 16, 17}),
    "esp32s2-mini": (set(), {15}),
}
# The same for a DHT22, whose resistor holds the line high.
DHTS = {
    "esp32-38pin": ({6, 7, 8, 9, 10, 11, 12, 34, 35, 36, 39}, {0, 1, 2, 3}),
    "esp8266-30pin": ({6, 7, 8, 9, 10, 11, 15, 17}, {0, 1, 2, 3}),
    "rp2040w-40pin": (set(), set()),
    "esp32c3-mini": (set(), {8, 9}),
    "esp32s3-44pin": ({45}, {0, 19, 20, 43, 44, 46, 48}),
    "esp32c6-30pin": (set(), {8, 9, 12, 13, 16, 17}),
    "esp32s2-mini": (set(), {15}),
}
# An analog sensor beside Wi-Fi: only these pins carry one.
ANALOG = {
    "esp32-38pin": {32, 33, 34, 35, 36, 39},
    "esp8266-30pin": {17},
    "rp2040w-40pin": {26, 27, 28},
    "esp32c3-mini": {0, 1, 2, 3, 4},
    "esp32s3-44pin": set(range(1, 11)),
    "esp32c6-30pin": set(range(7)),
    "esp32s2-mini": set(range(1, 11)),
}


def _verdicts(put, name: str, table: str) -> tuple[set[int], set[int]]:
    """Over all pins of the board: those with errors, and those with warnings only."""
    errors, warnings = set(), set()
    for pin in board(name).brought_out:
        written = '"A0"' if pin.analog_only else pin.gpio
        report = check(put(HEADER.format(board=name) + table.format(pin=written)))
        counts = report.counts
        if counts["error"]:
            errors.add(pin.gpio)
        elif counts["warning"]:
            warnings.add(pin.gpio)
    return errors, warnings


@pytest.mark.parametrize("name", RELAYS)
def test_a_relay_on_every_pin(name, put):
    assert _verdicts(put, name, "[relay.a]\npin = {pin}\n") == RELAYS[name]


@pytest.mark.parametrize("name", DHTS)
def test_a_line_that_is_held_high_on_every_pin(name, put):
    assert _verdicts(put, name, '[sensor.a]\nchip = "dht22"\npin = {pin}\n') == DHTS[name]


@pytest.mark.parametrize("name", ANALOG)
def test_an_analog_sensor_beside_wifi_on_every_pin(name, put):
    errors, _ = _verdicts(put, name, '[sensor.a]\nchip = "analog"\npin = {pin}\n[wifi]\nname = "hall"\n')
    assert {p.gpio for p in board(name).brought_out} - errors == ANALOG[name]


USES = {
    "relay": "[relay.a]\npin = {pin}\n",
    "dimmer": "[dimmer.a]\npin = {pin}\n",
    "true analog": '[dimmer.a]\npin = {pin}\nby = "dac"\n',
    "button": '[button.a]\npin = {pin}\npull = "up"\n',
    "contact": '[contact.a]\npin = {pin}\npull = "down"\n',
    "dht22": '[sensor.a]\nchip = "dht22"\npin = {pin}\n',
    "analog": '[sensor.a]\nchip = "analog"\npin = {pin}\n[wifi]\nname = "hall"\n',
    "touch": "[touch.a]\npin = {pin}\n",
    "strip": '[strip.a]\npin = {pin}\ncount = 8\nchip = "ws2812b"\n',
    "i2c": "[i2c.a]\nsda = {pin}\nscl = 25\n",
    "uart": "[uart.a]\ntx = {pin}\nrx = 25\nbaud = 9600\n",
}


@pytest.mark.parametrize("name", RELAYS)
def test_what_is_said_of_every_use_of_every_pin(name, put):
    rows = []
    for use, table in USES.items():
        said: dict[str, list[str]] = {}
        for pin in board(name).brought_out:
            path = put(HEADER.format(board=name) + table.format(pin='"A0"' if pin.analog_only else pin.gpio))
            for finding in zapato.check(path):
                text = f"{finding.severity} {finding.code}: {finding.message} ({finding.why}) {'; '.join(finding.fixes)}"
                said.setdefault(re.sub(r"\bGPIO\d+( \([^)]*\))?|\b[AD]\d+\b", "PIN", text), []).append(
                    str(pin.gpio)
                )
        rows += [
            f"== {use}",
            *(f"{','.join(dict.fromkeys(pins))}: {text}" for text, pins in sorted(said.items())),
        ]
    approve(f"pins-{name}", "\n".join(rows) + "\n")


# Levels: what a part puts on a pin, and what the finding computes.
VOLTS = [
    ('[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-5V"\n', "error", '"12kohm", "10kohm"'),
    ('[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-10V"\n', "error", '"33kohm", "10kohm"'),
    ('[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-3.3V"\n', "warning", '"3.9kohm", "10kohm"'),
    ('[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-5V"\ndivider = ["10kohm", "10kohm"]\n', None, ""),
    ('[motion.m]\npin = 27\nlevel = "5V"\n', "error", "10 kohm in series, 18 kohm to ground"),
    (
        '[contact.c]\npin = 32\npull = "none"\nlevel = "12V"\n',
        "error",
        "10 kohm in series, 3.3 kohm to ground",
    ),
    ('[motion.m]\npin = 27\nlevel = "3.3V"\n', None, ""),
    ('[motion.m]\npin = 27\nlevel = "3.6V"\n', None, ""),
    ('[motion.m]\npin = 27\nlevel = "3.61V"\n', "error", "a level shifter"),
    ('[motion.m]\npin = 27\nlevel = "2.475V"\n', None, ""),
    ('[motion.m]\npin = 27\nlevel = "2.47V"\n', "error", "a level shifter"),
]


@pytest.mark.parametrize(("body", "severity", "way_out"), VOLTS)
def test_levels_and_the_dividers_that_mend_them(body, severity, way_out, checked):
    found = [f for f in checked(body) if f.code.startswith("volt-")]
    assert [f.severity for f in found] == ([severity] if severity else [])
    if way_out:
        assert any(way_out in fix for fix in found[0].fixes), found[0].fixes


@pytest.mark.parametrize("volts", [3.5, 4, 5, 6, 8, 10, 12, 15, 24])
def test_the_divider_that_is_proposed_passes(volts, checked):
    body = f'[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-{volts}V"\n'
    fix = next(f.fixes[0] for f in checked(body) if f.code == "volt-analog")
    line = fix.partition(": ")[2].partition("]")[0] + "]"
    assert not checked(body + line + "\n").findings, line


def test_the_board_divides_a0_and_the_bare_module_does_not(checked):
    body = '[sensor.t]\nchip = "analog"\npin = "{}"\nrange = "0V-3.2V"\n'
    assert not checked(body.format("A0"), "esp8266-30pin").findings
    assert [f.code for f in checked(body.format("ADC"), "esp8266-22pad")] == ["board-wants", "volt-analog"]


# Resources: so many are fine, one more is not.
COUNTS = [
    (
        "esp32-38pin",
        "[uart.u{n}]\ntx = {a}\nrx = {b}\nbaud = 9600\n",
        [(17, 16), (18, 19), (22, 23)],
        2,
        "uart-exhausted",
    ),
    (
        "esp32s3-44pin",
        "[uart.u{n}]\ntx = {a}\nrx = {b}\nbaud = 9600\n",
        [(4, 5), (6, 7), (15, 16)],
        2,
        "uart-exhausted",
    ),
    (
        "esp32c3-mini",
        '[i2c.b{n}]\nsda = {a}\nscl = {b}\ncontroller = "hardware"\n',
        [(3, 4), (5, 6)],
        1,
        "i2c-exhausted",
    ),
    (
        "esp32-38pin",
        '[i2c.b{n}]\nsda = {a}\nscl = {b}\ncontroller = "hardware"\n',
        [(16, 17), (18, 19), (21, 22)],
        2,
        "i2c-exhausted",
    ),
    (
        "esp32c3-mini",
        "[dimmer.d{n}]\npin = {a}\n",
        [(p, 0) for p in (0, 1, 3, 4, 5, 6, 7)],
        6,
        "pwm-exhausted",
    ),
]


@pytest.mark.parametrize(("name", "table", "pins", "most", "code"), COUNTS)
def test_so_many_and_no_more(name, table, pins, most, code, checked):
    def found(count: int) -> list[str]:
        body = "".join(table.format(n=n, a=a, b=b) for n, (a, b) in enumerate(pins[:count]))
        return [f.code for f in checked(body, name) if f.code.endswith("-exhausted")]

    assert found(most) == [] and found(most + 1) == [code]


LINKS = [
    ("a.on", "a.off", None),
    ("a.on", "c.on", None),
    ("not a.on", "a.on", None),
    ("a.on and not c.on", "c.on", None),
    ("s.humidity > 100", "a.on", "link-never"),
    ("s.humidity >= 100", "a.on", None),
    ("s.humidity < 0", "a.on", "link-never"),
    ("s.temperature < -40", "a.on", "link-never"),
    ("s.temperature > -41", "a.on", None),
    ("a.on and c.on", "a.off", "link-never"),
    ("1 < 2", "a.on", "link-never"),
    ("s.humidity > 200 or a.on", "c.off", None),
]


@pytest.mark.parametrize(("when", "do", "code"), LINKS)
def test_conditions_that_never_come_true(when, do, code, checked):
    body = (
        '[relay.a]\npin = 26\nexcludes = ["c"]\n[relay.c]\npin = 25\n[sensor.s]\nchip = "dht22"\npin = 27\n'
    )
    found = [f.code for f in checked(f'{body}[[link]]\nwhen = "{when}"\ndo = "{do}"\n')]
    assert found == ([code] if code else [])


RINGS = [
    ([("a.on", "a.off", ""), ("not a.on", "a.on", "")], True),
    ([("a.on", "c.on", ""), ("c.on", "a.on", "")], False),
    (
        [("a.on", "c.on", ""), ("c.on", "a.off", ""), ("not a.on", "c.off", ""), ("not c.on", "a.on", "")],
        True,
    ),
    ([("a.on", "a.off", 'after = "1s"'), ("not a.on", "a.on", 'after = "1s"')], False),
    ([("a.on", "a.off", 'held = "1s"'), ("not a.on", "a.on", "")], False),
    ([("a.on", "a.toggle", "")], False),
    (
        [
            ("a.on", "c.toggle", ""),
            ("not c.on", "a.toggle", ""),
            ("c.on", "a.toggle", ""),
            ("not a.on", "c.toggle", ""),
        ],
        True,
    ),
]


@pytest.mark.parametrize(("rules", "loops"), RINGS)
def test_links_that_set_each_other_off(rules, loops, checked):
    body = "[relay.a]\npin = 26\n[relay.c]\npin = 25\n"
    body += "".join(f'[[link]]\nwhen = "{when}"\ndo = "{do}"\n{more}\n' for when, do, more in rules)
    assert ("link-loop" in [f.code for f in checked(body)]) == loops


@settings(max_examples=80, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.sampled_from(board_ids()),
    st.lists(
        st.tuples(
            st.sampled_from(["relay", "led", "button", "dht22", "dimmer", "touch", "analog"]),
            st.integers(0, 48),
        ),
        max_size=6,
    ),
)
def test_every_pin_that_is_proposed_is_free_of_errors(tmp_path: Path, name, wanted):
    """For any device: taking the first proposed pin leaves no error at that place."""
    tables = {
        "relay": "[relay.p{n}]\npin = {pin}\n",
        "led": "[led.p{n}]\npin = {pin}\n",
        "button": '[button.p{n}]\npin = {pin}\npull = "up"\n',
        "dht22": '[sensor.p{n}]\nchip = "dht22"\npin = {pin}\n',
        "dimmer": "[dimmer.p{n}]\npin = {pin}\n",
        "touch": "[touch.p{n}]\npin = {pin}\n",
        "analog": '[sensor.p{n}]\nchip = "analog"\npin = {pin}\n',
    }
    path = tmp_path / "x.toml"

    def report(pins: list[object]):
        body = "".join(
            tables[kind].format(n=n, pin=pin)
            for n, ((kind, _), pin) in enumerate(zip(wanted, pins, strict=True))
        )
        path.write_text(HEADER.format(board=name) + body)
        return zapato.check(path)

    pins: list[object] = [pin for _, pin in wanted]
    for finding in report(pins):
        proposed = next((fix for fix in finding.fixes if fix.startswith("free pins that can do this: ")), "")
        if finding.severity == "error" and proposed and finding.code != "pin-absent":
            index = int(finding.part.rpartition(".p")[2])
            first = proposed.partition(": ")[2].split(",")[0].split(" ")[0]
            changed = [*pins[:index], first, *pins[index + 1 :]]
            again = [f for f in report(changed) if f.part == finding.part and f.severity == "error"]
            assert not again, (finding.code, first, [f.message for f in again])


FOUGHT = [
    ('[button.b]\npin = "D8"\npull = "up"\n', ["pin-pull-fought"]),
    ('[button.b]\npin = "D3"\npull = "up"\n', []),
    ('[contact.c]\npin = "D4"\npull = "up"\n', ["pin-fitted", "pin-boot-level"]),
    ('[button.b]\npin = "D8"\npull = "none"\nactive = "high"\n', ["pin-boot-level"]),
]


@pytest.mark.parametrize(("body", "codes"), FOUGHT)
def test_the_boards_own_resistors(body, codes, checked):
    assert sorted(f.code for f in checked(body, "esp8266-30pin")) == sorted(codes)


def test_without_a_board_there_are_no_pins_to_choose_from(put):
    design = zapato.load(put(HEADER.format(board="esp32-38pin") + "[relay.lamp]\npin = 26\n"))
    assert (
        candidates(design.uses[0], design) and candidates(design.uses[0], replace(design, board=None)) == []
    )
