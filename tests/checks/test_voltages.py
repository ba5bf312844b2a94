"""Voltages judged whole: supplies against inputs and parts, levels against pins, converters that are said."""

import pytest
from conftest import HEADER
from hypothesis import given
from hypothesis import strategies as st
from support.voltage_cases import CASES, ON_BOARD, supply

import zapato
from zapato.boards import board, board_ids
from zapato.budgets.rails import rails
from zapato.budgets.strips import strips
from zapato.design.feeds import board_input, main_supply, supply_span
from zapato.wiring import wiring


@pytest.mark.parametrize(("on", "tables", "codes"), CASES)
def test_what_would_burn_or_not_start_is_told(put, on, tables, codes):
    report = zapato.check(put(HEADER.format(board=on) + tables))
    found = {f.code: f.severity for f in report if f.code.startswith(("volt-", "analog-"))}
    assert found == codes, [f.message for f in report]
    assert all(f.fixes for f in report if f.code in codes)
    assert codes or not [f for f in report if f.severity == "error"]


@pytest.mark.parametrize(("on", "tables", "codes"), [case for case in CASES if case[2]])
def test_a_converter_of_the_way_out_mends_it(put, on, tables, codes):
    """Each way out that is a table can be written as it stands."""
    text = HEADER.format(board=on) + tables
    told = [f for f in zapato.check(put(text)) if f.code == "volt-supply"]
    ways = [way.split("converter] ", 1)[1] for f in told for way in f.fixes if "[supply.converter] " in way]
    if not ways or "boar" not in ways[0]:
        return
    keys, _, rest = ways[0].partition("; ")
    assert rest.startswith("and no board = true at ")
    mended = (
        text.replace("board = true\n", "", 1) + "\n[supply.converter]\n" + keys.replace(", ", "\n") + "\n"
    )
    assert not [f for f in zapato.check(put(mended)) if f.code == "volt-supply"]


@given(st.sampled_from(board_ids()), st.floats(0.6, 59))
def test_a_supply_suits_an_input_or_is_told(tmp_path_factory, name, volts):
    """Whatever feeds a board is within one of its inputs, or there is a finding."""
    path = tmp_path_factory.mktemp("any") / "d.toml"
    path.write_text(HEADER.format(board=name) + supply("brick", f"{volts:.3f}V", ON_BOARD))
    design = zapato.load(path)
    into = board_input(design, main_supply(design))
    told = any(f.code == "volt-supply" for f in zapato.check(path))
    assert (
        told
        == (into is None)
        == (not any(each.takes(float(f"{volts:.3f}"), float(f"{volts:.3f}")) for each in board(name).inputs))
    )


@pytest.mark.parametrize(
    ("volts", "rest", "span"),
    [
        ("3.7V", 'battery = "1Ah"', (3.0, 4.2)),
        ("7.4V", 'battery = "1Ah"', (6.0, 8.4)),
        ("12V", 'battery = "7Ah"', (10.5, 14.4)),
        ("4.5V", 'battery = "2Ah"', (2.7, 4.8)),
        ("22.2V", 'battery = "2Ah"', (18.0, 25.2)),  # six cells of lithium; seven are not usual
        ("25.9V", 'battery = "2Ah"', (25.9, 25.9)),
        ("25.6V", 'battery = "2Ah"', (20.0, 29.2)),  # eight of lithium iron phosphate
        ("28.8V", 'battery = "2Ah"', (28.8, 28.8)),
        ("24V", 'battery = "7Ah"', (21.0, 28.8)),  # two of lead
        ("36V", 'battery = "7Ah"', (36.0, 36.0)),
        ("9V", 'battery = "1Ah"', (5.4, 9.6)),
        ("11.3V", 'battery = "1Ah"', (11.3, 11.3)),
        ("12V", "", (12, 12)),
        ("12V", 'range = "11V-13V"', (11, 13)),
    ],
)
def test_a_battery_has_two_ends(put, volts, rest, span):
    design = zapato.load(put(HEADER.format(board="esp32-38pin") + supply("pack", volts, rest)))
    assert supply_span(design.parts["pack"]) == pytest.approx(span)


def test_a_converter_draws_its_power_and_its_loss(put):
    body = supply("pack", "12V", 'range = "10V-14V"') + supply(
        "step", "5V", 'from = "pack"', "efficiency = 80"
    )
    body += '[strip.s]\npin = 13\ncount = 50\nlevel = "5V"\nchip = "ws2812b"\nfed_from = "step"\n'
    found = {rail.name: rail for rail in rails(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))}
    assert found["step"].peak == pytest.approx(3.0) and found["pack"].peak == pytest.approx(
        3.0 * 5 / (10 * 0.8)
    )


def test_every_board_states_its_inputs_with_their_source():
    for name in board_ids():
        found = board(name).inputs
        assert found and all(each.low < each.high and each.source for each in found), name
        assert {each.rail for each in found} <= {"", "5V", "3V3"}


TOLD_BY = {
    "supply": {"current-supply"},
    "pins": {"current-pin"},
    "buses": {"line-length", "i2c-pull-up"},
    "strips": {"strip-drop", "strip-slow", "strip-level-shift"},
    "analog": {"volt-analog", "analog-source"},
    "traffic": {"mqtt-rate"},
    "memory": {"memory-heap"},
}
"""The codes that tell of a topic's figures."""
OVER = {
    "a serial cable": '[uart.m]\ntx = 17\nrx = 16\nbaud = 9600\nlength = "300m"\n',
    "a long RS-485 line": '[uart.m]\ntx = 17\nrx = 16\nenable = 4\nbaud = 1000000\nlength = "1km"\n',
    "an I2C cable": '[i2c.main]\nsda = 21\nscl = 22\nlength = "15m"\npull_ups = "1.2kohm"\n',
    "weak pull-ups": '[i2c.main]\nsda = 21\nscl = 22\nlength = "3m"\npull_ups = "22kohm"\n',
    "strong pull-ups": '[i2c.main]\nsda = 21\nscl = 22\npull_ups = "500ohm"\n',
    "a strip on USB": '[strip.s]\npin = 13\ncount = 300\nchip = "ws2812b"\nlevel = "5V"\nlength = "20m"\n',
    "an LED without much": '[led.l]\npin = 25\nresistor = "20ohm"\n',
    "a range beyond the pin": '[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-10V"\n',
    "a divider of megohms": '[sensor.t]\nchip = "analog"\npin = 34\ndivider = ["4.7Mohm", "2.2Mohm"]\n',
    "a fast meter": '[wifi]\nname = "h"\n[mqtt]\nhost = "192.168.4.2"\n' + "".join(
        f'[sensor.t{n}]\nchip = "analog"\npin = {pin}\nevery = "100ms"\n' for n, pin in enumerate((32, 33, 34, 35))
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", OVER)
def test_what_is_over_its_limit_in_the_budget_is_a_finding(put, name):
    design = zapato.load(put(HEADER.format(board="esp32-38pin") + OVER[name]))
    over = [row for row in zapato.budget(design).rows if row.verdict == "over"]
    assert over, "the case is over a limit"
    codes = {f.code for f in zapato.check(design)}
    for row in over:
        assert codes & TOLD_BY[row.topic], (row, codes)


def test_a_strip_that_is_fed_at_more_places_loses_less(put):
    """Each stretch between two feeds loses a quarter of what one of its length fed at one end does."""
    body = '[supply.brick]\nvoltage = "5V"\ncurrent = "20A"\n[strip.s]\npin = 13\ncount = 301\nchip = "ws2812b"\nlevel = "5V"\nfed_from = "brick"\nlength = "5m"\nlimit = 20\ncable = "0m"\nfeeds = {}\n'
    lost = {
        n: strips(zapato.load(put(HEADER.format(board="esp32-38pin") + body.format(n))))[0].lost
        for n in (1, 2, 3)
    }
    assert lost[2] == pytest.approx(lost[1] / 4, rel=0.02) and lost[3] == pytest.approx(lost[2] / 4, rel=0.05)
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + body.format(3))))
    fed = [wire for wire in sheet.wires if wire.end.startswith("s +")]
    back = [wire for wire in sheet.wires if wire.end.startswith("s -") and wire.kind == "ground"]
    assert len(fed) == len(back) == 3 and {w.area for w in fed} == {w.area for w in back}


@pytest.mark.parametrize(
    ("volts", "suits"), [("3.6V", True), ("3.61V", False), ("1.71V", True), ("1.7V", False)]
)
def test_a_supply_at_the_end_of_what_a_chip_takes_suits(volts, suits, checked):
    body = supply("brick", "12V", "") + supply("cell", volts, "") + "[i2c.main]\nsda = 21\nscl = 22\n"
    body += '[sensor.s]\nchip = "bme280"\nbus = "main"\nfed_from = "brick"\n'
    (found,) = (f for f in checked(body) if f.code == "volt-supply")
    assert ('fed_from = "cell"' in found.fixes) == suits and 'fed_from = "3V3"' in found.fixes
