"""Pictures and wiring: nothing clipped, nothing over anything else, on every board; and the same as text and data."""

import csv
import io
import json
import time

import pytest
from conftest import HEADER

import zapato
from zapato.boards import board_ids
from zapato.draw import budget_chart, link_graph, pin_map, timeline, wiring_sheet
from zapato.draw.links import rules_of
from zapato.wiring import pin_rows, wiring

MANY = (
    '[supply.box]\nvoltage = "5V"\ncurrent = "3A"\nboard = true\n'
    + "".join(f'[relay.pump_in_the_cellar_{n}]\npin = {pin}\nfed_from = "box"\nswitches = "230V"\n' for n, pin in enumerate((1, 2, 4, 5, 6, 7, 8, 9)))
    + "".join(f'[button.key_{n}]\npin = {pin}\npull = "up"\n' for n, pin in enumerate((10, 11, 12, 13, 14, 15, 16, 17)))
    + "".join(f"[led.lamp_{n}]\npin = {pin}\n" for n, pin in enumerate((18, 21, 38, 39, 40, 41)))
    + "[i2c.main]\nsda = 42\nscl = 47\n"
    + "".join(f'[sensor.air_{n}]\nchip = "{chip}"\nbus = "main"\n' for n, chip in enumerate(("bme280", "sht31", "bh1750", "aht20", "scd41", "ina219")))
    + "".join(f'[[link]]\nwhen = "key_{n % 8}.pressed"\nif = "air_0.temperature > {n} and not lamp_{n % 6}.on"\ndo = ["pump_in_the_cellar_{n % 8}.toggle", "notify(\'x\')"]\n' for n in range(14))
)  # fmt: skip
LONG = 'label = "A controller with a long label that somebody wrote in good faith"\n'


def boxes(figure) -> list[tuple[str, object]]:
    """The texts of a figure with what they cover, in dots."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.text import Annotation, Text

    canvas = FigureCanvasAgg(figure)
    canvas.draw()
    texts = [each for each in figure.findobj(Text) if each.get_text().strip() and each.get_visible()]
    return [
        (each.get_text(), Text.get_window_extent(each, canvas.get_renderer()) if isinstance(each, Annotation) else each.get_window_extent(canvas.get_renderer()))
        for each in texts
    ]  # fmt: skip


def readable(figure, ticks: bool = False) -> None:
    """No text leaves the picture, and no two of them overlap."""
    width, height = figure.get_size_inches() * figure.dpi
    found = boxes(figure)
    for text, box in found:
        assert box.x0 > -2 and box.x1 < width + 2 and box.y0 > -2 and box.y1 < height + 2, f"clipped: {text}"
    for at, (one, a) in enumerate(found):
        for other, b in found[at + 1 :]:
            wide, high = min(a.x1, b.x1) - max(a.x0, b.x0), min(a.y1, b.y1) - max(a.y0, b.y0)
            assert ticks or wide < 2 or high < 2, f"over each other: {one!r} and {other!r}"


@pytest.mark.parametrize("board", board_ids())
def test_every_board_can_be_drawn(put, board):
    made = zapato.load(put(HEADER.format(board=board)))
    readable(pin_map(made))
    rows = pin_rows(made)
    assert len(rows) == sum(map(len, made.board.headers.values()))
    assert {row.gpio for row in rows if row.state == "forbidden"} >= {
        gpio for gpio in made.board.label_of if made.board.chip.pins[gpio].flash
    }
    readable(wiring_sheet(made))


def test_thirty_parts_and_long_labels_stay_readable_and_quick(put):
    made = zapato.load(
        put(HEADER.format(board="esp32s3-44pin").replace("[device]\n", f"[device]\n{LONG}") + MANY)
    )
    assert zapato.check(made).ok
    budget = zapato.budget(made)
    for draw in (
        lambda: pin_map(made),
        lambda: wiring_sheet(made),
        lambda: link_graph(made),
        lambda: budget_chart(budget),
    ):
        begun = time.perf_counter()
        figure = draw()
        assert time.perf_counter() - begun < 5
        readable(figure)


def test_every_wire_is_there_with_what_stands_in_it(put):
    body = (
        '[relay.pump]\npin = 26\nswitches = "230V"\n[led.ready]\npin = 25\n[led.low]\npin = 17\nactive = "low"\n[button.start]\npin = 33\npull = "up"\n'
        '[i2c.main]\nsda = 21\nscl = 22\n[sensor.sky]\nchip = "bh1750"\nbus = "main"\n[uart.meter]\ntx = 5\nrx = 16\nbaud = 9600\nlevel = "5V"\n'
        '[strip.rack]\npin = 13\ncount = 9\nchip = "ws2812b"\nlevel = "5V"\nfed_from = "shelf"\n[supply.shelf]\nvoltage = "5V"\ncurrent = "2A"\n'
        '[sensor.tank]\nchip = "analog"\npin = 32\nrange = "0V-10V"\n'
    )  # fmt: skip
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))
    found = {wire.end: wire for wire in sheet.wires}
    assert found["pump IN"].start == "board 26" and found["pump +"].start == "board 5V"
    assert found["pump contact"].kind == "mains" and sheet.apart == ("pump",)
    assert (
        found["ready long leg"].through == "330 ohm resistor"
        and found["ready short leg"].start == "board GND"
    )
    assert found["low short leg"].start == "board 17" and found["low long leg"].start == "board 3V3"
    assert found["start other side"].start == "board GND"
    assert found["sky SDA"].start == "main SDA" and found["main SDA"].start == "board 21"
    assert (
        found["meter RX of the other side"].start == "board 5"
        and found["meter RX of the other side"].kind == "serial"
    )
    assert "5 V" in found["meter TX of the other side"].note
    assert found["rack DIN"].through == "74HCT125, 330 ohm resistor" and found["rack +"].start == "shelf +"
    assert any(wire.start == "shelf -" and wire.end == "board GND" for wire in sheet.wires)
    items = {(item.what, item.value): item for item in sheet.items}
    assert items["resistor", "330 ohm"].count == 3 and items["resistor", "4.7 kohm"].count == 2
    assert ("resistor", "33 kohm") in items and (
        "capacitor",
        "1000 uF",
    ) in items  # 10 V into 2.45 V over 10 kohm
    assert len(sheet.frame) == len(sheet.wires)


def test_a_board_without_usb_wants_its_adapter_crossed(site):
    sheet = wiring(zapato.load(site / "devices" / "kettle-plug.toml"))
    rows = [(w.start, w.end) for w in sheet.wires if w.kind == "serial"]
    assert rows == [("adapter TX", "board RX"), ("adapter RX", "board TX")] and sheet.steps
    assert {(w.start, w.end) for w in sheet.wires if w.kind == "fitted"} >= {("board GPIO12", "kettle")}
    assert not any(w.end.startswith("kettle ") for w in sheet.wires)  # it is on the board: no wire to make


def test_the_command_draws_and_tells(site, cli, tmp_path):
    device = site / "devices" / "boot-dryer.toml"
    called = cli("draw", device)
    assert (
        called.code == 0
        and "board 26" in called.out
        and "into the loader" in called.out
        and "mains at: heater" in called.out
    )
    data = json.loads(cli("draw", device, "--format", "json").out)
    assert data.keys() == {"device", "pins", "wires", "links", "budget"} and data["wires"]["buy"]
    called = cli("draw", device, "--out", tmp_path / "d.svg")
    assert called.code == 0 and sorted(p.name for p in tmp_path.glob("d-*.svg")) == [
        "d-budget.svg",
        "d-links.svg",
        "d-pins.svg",
        "d-wires.svg",
    ]
    assert (
        cli("draw", device, "--what", "pins", "--out", tmp_path / "one.png").code == 0
        and (tmp_path / "one.png").exists()
    )
    called = cli("draw", device, "--out", tmp_path / "d.gif")
    assert called.code == 2 and "ends in" in called.err
    assert cli("draw", device, "--shopping", tmp_path / "buy.csv").code == 0
    rows = list(csv.reader(io.StringIO((tmp_path / "buy.csv").read_text())))
    assert (
        rows[0] == ["count", "what", "value", "for"] and ["2", "resistor", "330 ohm", "ready, state"] in rows
    )


@pytest.mark.slow
def test_a_timeline_with_outages_and_failures_stays_readable(site):
    script = site / "rehearsals" / "porch-light.toml"
    text = script.read_text().replace('expect = "lamp.on"', 'expect = "not lamp.on"', 2)
    script.write_text(text.replace("published('state', 'online')", "published('state', 'gone')"))
    result = zapato.rehearse(site / "devices" / "porch-light.toml")
    assert sum(each.passed is False for each in result.expectations) >= 2
    figure = timeline(result)
    words = " ".join(text for text, _ in boxes(figure))
    assert all(word in words for word in ("power", "network", "broker", "seen:"))
    assert {what for what, *_ in result.outages} == {"power", "network", "broker"}
    readable(figure, ticks=True)


def test_what_follows_what_has_every_rule_with_what_it_does(site):
    """Links with their acts, and the parts that follow an expression of their own."""
    rules = {rule.when: rule for rule in rules_of(zapato.load(site / "devices" / "boot-dryer.toml"))}
    assert rules["start.pressed; if door.closed and cabinet.temperature < 55"].does == "heater.toggle"
    assert rules["heater.on or vent.on"].targets == ("ready",)
    guard = rules["cabinet.temperature > 60"]
    assert (guard.title, guard.sources, guard.targets) == ("guard hot", ("cabinet",), ("heater",))
    readable(link_graph(zapato.load(site / "devices" / "boot-dryer.toml")))
