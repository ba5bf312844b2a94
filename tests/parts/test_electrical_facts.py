"""Electrical facts, wires and topics of every kind: held against the kinds' own examples, the ladder, and the running firmware."""

import json
import re

import pytest
from conftest import HEADER, NETWORK, steps
from hypothesis import given
from hypothesis import strategies as st
from support.examples import example

import zapato
from zapato.boards import boards
from zapato.boards.catalogue import chip, chip_ids
from zapato.budgets.analog import divider
from zapato.budgets.rails import loads, rails
from zapato.budgets.strips import CABLES, COPPER, DROP, LEAD_DROP, RAIL_OHM, _feeds, ladder, strips
from zapato.changes import changes
from zapato.parts import kind, kind_names
from zapato.parts.electrical import INPUT, PIN, RAIL
from zapato.topics import topics
from zapato.wiring import pin_rows, wiring


@pytest.mark.parametrize("name", kind_names())
def test_a_kinds_facts_fit_its_fields(put, name):
    """Feeds exist, sources are told, passives and currents name pins that the part has; every pin has its wire."""
    made, about = example(put, name), kind(name)
    fields = {field.name for field in about.whole_shape.fields}
    supplies = {part.name for part in made.with_role("supply")}
    for part, load in loads(made):
        assert load.feed in {RAIL, INPUT, PIN, *supplies}, load
        assert 0 <= load.idle <= load.typical <= load.peak < 100 and load.source and load.what
        assert not load.field or load.field in {f.name for f in part.kind.fields}
        assert (load.feed == PIN) == bool(load.field) or part.has_role("relay")
    assert {key.split()[0] for key in about.terminals} <= fields
    for part in made.with_role(name):
        for each in about.beside(part, 3.3):
            assert (
                each.what
                and each.value
                and each.why
                and (not each.field or each.field in {*fields, *about.ends(part)})
            )
    ends = [wire.end for wire in wiring(made).wires]
    for use in made.uses:
        if use.part.kind.name == name and use.pin.gpio >= 0 and name != "supply":
            assert any(end.startswith(f"{use.part.name} ") for end in ends), (use.part.name, ends)
    assert changes(made, made) == []


@pytest.mark.parametrize("name", chip_ids())
def test_what_a_chip_draws_is_in_order_and_has_its_section(name):
    about = chip(name)
    stated = [each for each in (about.draw.idle, about.draw.typical, about.draw.peak) if each]
    assert stated == sorted(stated) and all(0.005 < each < 1 for each in stated)
    assert not stated or "Datasheet" in about.draw.source
    assert not about.total or (
        about.sources["total"] and about.total > max(p.drive_ma for p in about.pins.values()) / 1000
    )


def test_every_boards_rails_have_a_reason(put):
    for board in boards():
        made = zapato.load(put(HEADER.format(board=board.id)))
        for rail in rails(made):
            assert (
                rail.source
                and (rail.gives is None or rail.gives > 0)
                and rail.peak >= rail.typical >= rail.idle
            )


@given(st.floats(0.2, 30), st.floats(0.1, 5), st.sampled_from([5.0, 12.0, 24.0]))
def test_fed_at_so_many_places_a_strip_loses_no_more_than_it_may(length, amps, supply):
    """The number of places comes from a formula; here the ladder itself is asked, stretch by stretch."""
    places = _feeds(length, amps, supply)
    count = 200
    stretch = length if places == 1 else length / (places - 1)
    ohm, each = 2 * RAIL_OHM * stretch / count, amps * stretch / count
    volts = ladder(supply, [each] * count, ohm, ends=1 if places == 1 else 2)
    assert min(volts) >= supply * (1 - DROP) - 0.01 * supply
    if places > 2:
        wider = length / (places - 2)
        assert (
            min(ladder(supply, [amps * wider / count] * count, 2 * RAIL_OHM * wider / count, ends=2))
            < supply * (1 - DROP) + 0.01 * supply
        )


@given(st.integers(1, 400), st.floats(0.1, 10))
def test_the_wire_is_the_thinnest_that_will_do(tmp_path_factory, count, metres):
    body = f'[strip.s]\npin = 13\ncount = {count}\nchip = "ws2812b"\ncable = "{metres:.2f}m"\nlength = "5m"\n'
    path = tmp_path_factory.mktemp("strip") / "device.toml"
    path.write_text(HEADER.format(board="esp32-38pin") + body)
    each = strips(zapato.load(path))[0]
    lost = {wire: 2 * COPPER * float(f"{metres:.2f}") / wire * each.amps for wire in CABLES}
    fit = [wire for wire, volts in lost.items() if volts <= LEAD_DROP * 5 + 1e-9]
    assert each.wire == (fit[0] if fit else 0.0)


@given(st.floats(3.4, 60), st.sampled_from([1.0, 2.45, 3.1, 3.3]))
def test_a_divider_brings_it_within_reach_and_wastes_little(volts, most):
    upper, lower = divider(volts, most)
    at_pin = volts * lower / (upper + lower)
    assert 0.86 * most < at_pin <= most * (1 + 1e-9)


@pytest.mark.parametrize("name", ["boot-dryer", "kettle-plug", "gear-locker", "rack-strip"])
@pytest.mark.slow
def test_what_a_device_says_in_a_day_stands_in_the_list_of_topics(demo_day, name):
    made, day = demo_day(name)
    says = {topic.name: topic for topic in topics(made) if topic.way == "from"}
    for row in day.records:
        if row["what"] == "mqtt":
            known = says[row["name"]]
            assert known.retained == row["retain"], row["name"]
            if known.payload.startswith(("boolean", "number")) and row["value"] != "null":
                value = json.loads(row["value"])
                assert isinstance(value, bool) == known.payload.startswith("boolean")
    heard = {row["name"] for row in day.records if row["what"] == "mqtt"}
    silent = {topic for topic, about in says.items() if about.retained and about.of != "about"} - heard
    assert not silent, silent


def test_what_a_device_hears_stands_in_the_list_of_topics(bench):
    """Every command of the list is understood by the firmware, and one that is not in it is not."""
    body = (
        '[relay.lamp]\npin = 26\n[led.light]\npin = 25\n[dimmer.glow]\npin = 27\n[flag.away]\n[number.wanted]\nstart = 20\n'
        '[group.all]\nof = ["lamp", "light"]\n'
    )  # fmt: skip
    site = NETWORK.format(qos=1)
    given = {"number": "40", "s": "2", "boolean": "true", "text": '"still"'}
    made = zapato.load(_written(body, site))
    orders = []
    for topic in topics(made):
        if topic.way == "to" and "/device/" not in topic.name:
            below = topic.name.removeprefix("refuge/bench/")
            if "/do/" not in below:
                payload = "true" if topic.payload.startswith("boolean") else "30"
            else:
                words = re.findall(r"\((\w+)\)", topic.payload)
                payload = json.dumps([json.loads(given[word]) for word in words]) if words else ""
            orders.append((below, payload))
    assert len(orders) > 20
    rows = [f"{10 + n}s: message('{below}', '{payload}')" for n, (below, payload) in enumerate(orders)]
    result = bench(
        body,
        steps(*rows, f"{20 + len(orders)}s: message('lamp/do/dance', '')"),
        lasts=f"{40 + len(orders)}s",
        site=site,
    )
    told = [text for _, text in result.log if "not understood" in text]
    assert len(told) == 1 and "lamp/do/dance" in told[0], told


def _written(body: str, site: str):
    import tempfile
    from pathlib import Path

    folder = Path(tempfile.mkdtemp())
    (folder / "site.toml").write_text(site)
    (folder / "device.toml").write_text(HEADER.format(board="esp32-38pin") + body)
    return folder / "device.toml"


def test_states_of_pins(put):
    body = "[relay.lamp]\npin = 26\n[i2c.main]\nsda = 21\nscl = 22\n"
    rows = {row.label: row for row in pin_rows(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))}
    assert (rows["26"].state, rows["26"].use) == ("used", "lamp") and rows["21"].use == "main sda"
    assert (
        rows["CLK"].state == "forbidden" and rows["12"].state == "mind" and "low at reset" in rows["12"].note
    )
    assert rows["TX"].state == "mind" and rows["GND"].state == "supply" and rows["23"].state == "free"
    assert rows["34"].note == "input only" and "out" not in rows["34"].can.split()
