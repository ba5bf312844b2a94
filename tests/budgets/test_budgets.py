"""Budgets: physics against closed forms, figures worked by hand, and the findings that come from the same numbers."""

import json
from itertools import pairwise

import pytest
from conftest import HEADER, NETWORK
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.budgets.analog import analog, divider
from zapato.budgets.buses import i2c, pull_up_range, serial_reach
from zapato.budgets.eseries import E24, above, below
from zapato.budgets.rails import heaviest, rails
from zapato.budgets.strips import frame_time, ladder, split, strips
from zapato.budgets.traffic import of_site, traffic

FED = '[supply.shelf]\nvoltage = "5V"\ncurrent = "40A"\n'


@given(st.integers(1, 400), st.floats(1e-4, 0.05), st.floats(1e-4, 0.1), st.floats(0, 0.5))
def test_a_ladder_fed_at_one_end_is_the_closed_form(count, amps, ohm, lead):
    """All of it flows through the lead, k-th resistor from the end carries k currents: r i n (n - 1) / 2 at the end."""
    volts = ladder(5.0, [amps] * count, ohm, lead)
    first = 5.0 - lead * amps * count
    last = first - ohm * amps * count * (count - 1) / 2
    assert volts[0] == pytest.approx(first, abs=1e-5 * (5 - last) + 1e-4)
    assert volts[-1] == pytest.approx(last, abs=1e-5 * (5 - last) + 1e-4)
    assert all(a >= b - 1e-5 for a, b in pairwise(volts))


@given(st.integers(3, 300), st.floats(1e-3, 0.05))
def test_a_ladder_fed_at_both_ends_loses_a_quarter_of_it_in_the_middle(count, amps):
    ohm = 0.01
    both, one = ladder(5.0, [amps] * count, ohm, 0.0, ends=2), ladder(5.0, [amps] * count, ohm)
    assert both[0] == pytest.approx(both[-1], abs=1e-6)
    lost, whole = 5.0 - min(both), 5.0 - one[-1]
    assert lost == pytest.approx(whole / 4, rel=0.05 + 3 / count)


@given(st.lists(st.floats(0, 0.06), min_size=1, max_size=200), st.data())
def test_what_flows_into_every_led_of_a_ladder_is_what_it_takes(currents, data):
    """Kirchhoff's current law at each node, for uneven currents and any places to feed it."""
    ohm, lead = data.draw(st.floats(1e-3, 0.1)), data.draw(st.floats(1e-3, 0.5))
    fed = data.draw(st.sets(st.integers(0, len(currents) - 1), min_size=1))
    volts = ladder(5.0, currents, ohm, lead, fed=sorted(fed))
    for at, taken in enumerate(currents):
        beside = sum((other - volts[at]) / ohm for other in volts[max(at - 1, 0) : at + 2])
        given = (5.0 - volts[at]) / lead if at in fed else 0.0
        assert beside + given == pytest.approx(taken, abs=1e-6)


@given(st.floats(0.1, 9e6))
def test_an_e24_value_is_the_next_one(ohm):
    high, low = above(ohm), below(ohm)
    assert low <= ohm * (1 + 1e-6) and high >= ohm * (1 - 1e-6)
    assert high / low < 1.16
    for each in (high, low):
        digits = each
        while digits >= 9.999:
            digits /= 10
        while digits < 0.9999:
            digits *= 10
        assert any(abs(digits - step) < 1e-6 for step in E24)


def test_frames_and_pins_as_worked_out_by_hand():
    """30 us an LED and 300 us between frames (docs/budgets.md): 300 LEDs 9.3 ms, 107 frames a second."""
    assert frame_time(300) == pytest.approx(9.3e-3) and frame_time(600) == pytest.approx(18.3e-3)
    assert [split(count) for count in (1, 545, 546, 1090, 1091)] == [1, 1, 2, 2, 3]
    assert split(600, 100.0) == 2


def test_pull_ups_and_dividers_as_worked_out_by_hand():
    """3.3 V, 100 pF: 967 ohm to 11.8 kohm at 100 kHz, 3.5 kohm at 400 kHz; 5 V into 3.1 V: 6.2 kohm over 10."""
    least, most = pull_up_range(3.3, 100e-12, 100e3)
    assert least == pytest.approx(966.7, rel=1e-3) and most == pytest.approx(11_802, rel=1e-3)
    assert pull_up_range(3.3, 100e-12, 400e3)[1] == pytest.approx(3541, rel=1e-3)
    assert divider(5.0, 3.1) == (6200.0, 10_000.0)
    assert 5.0 * 10_000 / 16_200 <= 3.1


def design(put, body: str, board: str = "esp32-38pin", site: str = ""):
    return zapato.load(
        put({"device.toml": HEADER.format(board=board) + body} | ({"site.toml": site} if site else {}))
    )


def test_rails_add_up(put):
    body = '[relay.a]\npin = 26\n[relay.b]\npin = 25\ncoil = "100mA"\nfed_from = "bench"\n[supply.bench]\nvoltage = "12V"\ncurrent = "150mA"\n[led.l]\npin = 17\nresistor = "130ohm"\n'
    found = {rail.name: rail for rail in rails(design(put, body))}
    pins = 0.004 + 0.004 + 1.3 / 130
    assert found["3V3"].peak == pytest.approx(pins) and found["3V3"].gives == 0.5
    assert (
        found["5V"].peak == pytest.approx(0.1 + 0.072 + pins)
        and found["5V"].gives == 0.5
        and not found["5V"].stated
    )
    assert (
        found["bench"].peak == pytest.approx(0.1) and found["bench"].gives == 0.15 and found["bench"].stated
    )
    with_radio = {rail.name: rail for rail in rails(design(put, body, site=NETWORK.format(qos=0)))}
    assert with_radio["5V"].peak == pytest.approx(0.24 + 0.072 + pins)


def test_a_battery_lasts_as_long_as_its_charge(put):
    body = '[supply.cells]\nvoltage = "3.7V"\nbattery = "2000mAh"\ncurrent = "1A"\nboard = true\n[sensor.a]\nchip = "analog"\npin = 32\ncurrent = "20mA"\n'
    rail = next(rail for rail in rails(design(put, body)) if rail.name == "5V")
    assert rail.hours == pytest.approx(2.0 / (0.1 + 0.01)) and rail.voltage == 3.7
    twelve = body.replace("3.7V", "12V")
    scaled = next(rail for rail in rails(design(put, twelve)) if rail.name == "5V")
    assert scaled.typical == pytest.approx(rail.typical * 5 / (12 * 0.85))


FOUND = {
    "a bare relay coil": ('[relay.r]\npin = 26\nfed_from = "pin"', {"current-pin", "coil-diode"}),
    "an LED without a resistor": ('[led.l]\npin = 25\nresistor = "0ohm"', {"current-pin"}),
    "an LED with a small one": ('[led.l]\npin = 25\nresistor = "47ohm"', {"current-pin"}),
    "300 LEDs from the regulator": ('[strip.s]\npin = 13\ncount = 300\nchip = "ws2812b"\nfed_from = "3V3"\nlevel = "5V"\nlimit = 40', {"current-supply", "strip-drop", "volt-supply"}),
    "300 LEDs from USB": ('[strip.s]\npin = 13\ncount = 300\nchip = "ws2812b"\nlevel = "5V"\nlength = "1m"\nlimit = 15', {"current-supply"}),
    "3.3 V into 5 V": ('[strip.s]\npin = 13\ncount = 5\nchip = "ws2812b"', {"strip-level-shift"}),
    "3.3 V into 4.5 V": ('[strip.s]\npin = 13\ncount = 5\nchip = "ws2812b"\nsupply = "4.5V"', set()),
    "2000 LEDs on a pin": (FED + '[strip.s]\npin = 13\ncount = 2000\nchip = "ws2812b"\nlevel = "5V"\nlimit = 1\nlength = "1m"\nfed_from = "shelf"', {"strip-slow"}),
    "no such supply": ('[relay.r]\npin = 26\nfed_from = "self"', {"feed-unknown"}),
    "weak pull-ups": ('[i2c.m]\nsda = 21\nscl = 22\npull_ups = "100kohm"\nlength = "2m"', {"i2c-pull-up"}),
    "strong pull-ups": ('[i2c.m]\nsda = 21\nscl = 22\npull_ups = "470ohm"', {"i2c-pull-up"}),
    "all of it as it should be": (FED + '[strip.s]\npin = 13\ncount = 30\nchip = "ws2812b"\nlevel = "5V"\nlength = "1m"\nfed_from = "shelf"\n[relay.r]\npin = 26\n[led.l]\npin = 25', set()),
}  # fmt: skip


@pytest.mark.parametrize("name", FOUND)
def test_what_cannot_work_is_found(checked, name):
    body, codes = FOUND[name]
    report = checked(body)
    assert {f.code for f in report} == codes
    assert all(f.fixes and f.place.line for f in report)


def test_the_figures_behind_a_finding_are_those_of_the_budget(put):
    made = design(
        put,
        FED
        + '[strip.s]\npin = 13\ncount = 144\nchip = "ws2812b"\nlevel = "5V"\nlength = "1m"\ncable = "3m"\nfed_from = "shelf"',
    )
    each = strips(made)[0]
    finding = next(f for f in zapato.check(made) if f.code == "strip-drop")
    assert f"{each.volts[-1]:.1f} of 5 V" in finding.message and f"at {each.feeds} places" in finding.fixes[0]
    assert each.amps == pytest.approx(8.64) and each.white == pytest.approx(43.2)
    assert each.wire == 10.0  # 2 x 0.0175 x 3 m x 8.64 A / 0.15 V = 6.05 mm2, and 10 is the next one
    rows = zapato.budget(made).rows
    assert next(r for r in rows if r.what == "lost at the worst place").verdict == "over"


def test_analog_and_serial(put):
    body = '[sensor.tank]\nchip = "analog"\npin = 34\nrange = "0V-10V"\ndivider = ["22kohm", "10kohm"]\n[uart.meter]\ntx = 17\nrx = 16\nenable = 4\nbaud = 115200\nlength = "900m"\n'
    made = design(put, body)
    each = analog(made)[0]
    assert each.most == pytest.approx(made.board.analog.high * 3.2) and each.wanted == 10
    assert each.step == pytest.approx(each.most / 2**made.board.analog.bits)
    assert serial_reach(made.parts["meter"]) == pytest.approx(1e8 / 115200)
    row = next(r for r in zapato.budget(made).rows if r.of == "meter")
    assert row.verdict == "over"
    assert (
        i2c(design(put, '[i2c.m]\nsda = 21\nscl = 22\n[sensor.a]\nchip = "bh1750"\nbus = "m"\n'))[0].ohm
        == 10_000
    )


def test_messages_a_second_of_a_device_and_its_site(put):
    body = '[sensor.air]\nchip = "bme280"\nbus = "m"\nevery = "500ms"\n[i2c.m]\nsda = 21\nscl = 22\n'
    made = design(put, body, site=NETWORK.format(qos=0))
    assert traffic(made).rate == pytest.approx(6 + 1 / 60)
    assert of_site([made] * 20) == pytest.approx(20 * (6 + 1 / 60))
    apart = NETWORK.format(qos=0) + 'apart = "10s"\n'
    assert traffic(design(put, body, site=apart)).rate == pytest.approx(0.3 + 1 / 60)


def test_the_command_tells_prints_and_draws(site, cli, tmp_path):
    called = cli("budget", site)
    assert called.code == 0 and "porch-light" in called.out and "the site says up to" in called.out
    called = cli("budget", site / "devices" / "rack-strip.toml", "--topic", "strips", "--sources")
    assert "lost at the worst place" in called.out and "IEC 60228" in called.out and "heap" not in called.out
    rows = json.loads(cli("budget", site, "--format", "json").out)
    assert {"device", "topic", "value", "limit", "formula", "source"} <= rows[0].keys()
    assert all(row["source"] for row in rows if row["topic"] != "supply")
    picture = tmp_path / "b.png"
    assert cli("budget", site / "devices" / "rack-strip.toml", "--out", picture).code == 0
    assert picture.read_bytes()[:4] == b"\x89PNG"
    assert cli("budget", site, "--out", picture).code == 2
    frame = zapato.budget(site / "devices" / "rack-strip.toml").frame
    assert set(frame["topic"]) >= {"supply", "pins", "strips", "traffic", "memory"}


@given(
    st.dictionaries(st.sampled_from("abcdefg"), st.integers(1, 200), min_size=1),
    st.lists(st.tuples(st.sampled_from("abcdefg"), st.sampled_from("abcdefg")), max_size=9),
)
def test_of_relays_that_exclude_each_other_the_most_at_once_is_counted(coils, pairs):
    """Against every choice there is."""
    from itertools import combinations

    apart: dict[str, set[str]] = {}
    for one, other in pairs:
        if one != other:
            apart.setdefault(one, set()).add(other)
            apart.setdefault(other, set()).add(one)
    choices = (choice for size in range(len(coils) + 1) for choice in combinations(sorted(coils), size))
    allowed = (
        choice for choice in choices if not any(b in apart.get(a, ()) for a, b in combinations(choice, 2))
    )
    assert heaviest(coils, apart) == max(sum(coils[each] for each in choice) for choice in allowed)


def test_a_heater_and_a_fan_that_exclude_each_other_and_a_coil_before_the_regulator(put, site):
    body = '[relay.a]\npin = 26\ncoil = "90mA"\nexcludes = ["b"]\n[relay.b]\npin = 25\ncoil = "60mA"\n'
    both = next(r for r in rails(design(put, body.replace('excludes = ["b"]\n', ""))) if r.name == "5V")
    one = next(r for r in rails(design(put, body)) if r.name == "5V")
    assert both.peak - one.peak == pytest.approx(0.06)
    fed = (
        body.replace("coil", 'fed_from = "box"\ncoil')
        + '[supply.box]\nvoltage = "12V"\ncurrent = "1A"\nboard = true\n'
    )
    rail = next(r for r in rails(design(put, fed)) if r.name == "5V")
    inside = 0.1 + 0.004 * 2
    assert rail.peak == pytest.approx(
        0.09 + inside * 5 / (12 * 0.85)
    )  # the coils hang on 12 V, the rest behind the regulator
