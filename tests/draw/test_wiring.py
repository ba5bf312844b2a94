"""What is drawn will be soldered: every wire suits both its ends, and what would burn is not drawn."""

import csv
import io
from pathlib import Path

import pytest
from conftest import HEADER
from support.voltage_cases import CASES

import zapato
from zapato.draw.arrangement import arrange
from zapato.wiring import MAINS, wiring

TRIALS = Path(__file__).parents[1] / "data" / "trials"
DEMO = Path(zapato.__file__).parent / "demo" / "site"
DEVICES = sorted([*TRIALS.glob("*/devices/*.toml"), *DEMO.glob("devices/*.toml")])


def sound(sheet) -> None:
    """What a wary engineer looks at."""
    design = sheet.design
    board = design.board
    pins = {each.upper() for each in board.brings_out} | {each.name.upper() for each in board.inputs}
    chip = {pin.name.upper() for pin in board.chip.pins.values()}
    for wire in sheet.wires:
        for end in (wire.start, wire.end):
            if end.startswith("board "):
                label = end.removeprefix("board ").upper()
                assert label in pins or (wire.kind == "fitted" and label in chip), (
                    f"{board.id} has no {label}"
                )
        if wire.kind == "supply" and wire.end.startswith("board "):
            into = board.input(wire.end.removeprefix("board "))
            assert into is None or into.low <= wire.volts <= into.high, wire
        if wire.kind == "supply" and wire.end == f"{wire.part} +":
            takes = design.parts[wire.part].kind.supplied(design.parts[wire.part])
            assert takes is None or wire.volts <= takes.high + 0.01, wire
        if wire.kind in ("signal", "serial") and wire.start.startswith("board ") and not wire.through:
            assert wire.volts <= board.chip.input_most, wire
        if wire.end.endswith(" VCC"):
            assert wire.volts <= 5.5, wire
        assert (wire.kind == "mains") == (wire.volts >= MAINS), wire
        assert wire.kind != "ground" or wire.volts == 0


@pytest.mark.parametrize("path", DEVICES, ids=lambda path: f"{path.parents[1].name}/{path.stem}")
def test_no_wire_of_a_site_would_be_refused(path):
    sheet = wiring(zapato.load(path))
    sound(sheet)
    placed = arrange(sheet.design, sheet)
    drawn = [line.wire for box in (*placed.left, *placed.right) for line in box.lines]
    kept = [w for w in sheet.wires if w.kind not in ("fitted", "supply", "ground")]
    assert all(wire in drawn or wire in placed.supplies for wire in kept), "every signal is in the picture"
    for box in (*placed.left, *placed.right):
        for line in box.lines:
            if line.pin:
                column, at = line.pin
                assert placed.columns[column][at].label == line.wire.start.removeprefix("board ")


@pytest.mark.parametrize(("on", "tables", "codes"), CASES)
def test_what_would_burn_is_not_drawn(put, on, tables, codes):
    sheet = wiring(zapato.load(put(HEADER.format(board=on) + tables)))
    sound(sheet)
    found = list(zapato.check(sheet.design))
    wrong = [f for f in found if (f.code == "volt-supply" and "bears" in f.message) or f.code == "volt-logic"]
    divided = 'chip = "echo"' in tables  # its divider is drawn
    assert bool(sheet.left_out) or not wrong or divided


@pytest.mark.parametrize(
    ("part", "drawn"),
    [
        ('[sensor.s]\nchip = "dht22"\npin = 25\nfed_from = "5V"\n', False),
        ('[sensor.s]\nchip = "dht22"\npin = 25\nfed_from = "5V"\nlevel = "3.3V"\n', True),
        ('[sensor.s]\nchip = "dht22"\npin = 25\nfed_from = "5V"\nshifted = true\n', True),
        (
            '[i2c.main]\nsda = 21\nscl = 22\n[sensor.s]\nchip = "sht31"\nbus = "main"\nfed_from = "5V"\n',
            False,
        ),
        ('[i2c.main]\nsda = 21\nscl = 22\n[sensor.s]\nchip = "sht31"\nbus = "main"\n', True),
    ],
)
def test_a_line_of_another_level_is_not_drawn(put, part, drawn):
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + part)))
    lines = [
        wire
        for wire in sheet.wires
        if wire.part == "s" and wire.kind == "signal" and wire.end.startswith("s ")
    ]
    assert bool(lines) is drawn and bool(sheet.left_out) is not drawn


def ends(sheet, part: str = "") -> set[tuple[str, str]]:
    return {(wire.start, wire.end) for wire in sheet.wires if not part or wire.part == part}


def test_a_converter_has_two_sides(put):
    body = '[supply.pack]\nvoltage = "12V"\nbattery = "7Ah"\n[supply.step]\nvoltage = "5V"\nfrom = "pack"\nboard = true\n[relay.r]\npin = 26\n'
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))
    assert ends(sheet) >= {
        ("pack +", "step input +"), ("pack -", "step input -"), ("step +", "board 5V"), ("step -", "board GND"), ("board 5V", "r +"),
    }  # fmt: skip
    colours = {wire.end: wire.colour for wire in sheet.wires}
    assert (colours["step input +"], colours["board 5V"], colours["r -"]) == ("yellow", "red", "black")
    bought = {(item.what, item.value) for item in sheet.items}
    assert {("converter", "12 V to 5 V"), ("battery", "12 V"), ("relay", "")} <= bought


def test_an_rs485_line_is_drawn_whole(put):
    body = "[uart.line]\ntx = 17\nrx = 16\nenable = 4\nbaud = 9600\n"
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))
    assert ends(sheet) >= {
        ("board 17", "line driver DI"), ("board 16", "line driver RO"), ("board 4", "line driver DE and RE"), ("board 3V3", "line driver VCC"),
        ("line driver A", "line A at the far end"), ("line driver B", "line B at the far end"), ("line driver GND", "line ground at the far end"),
    }  # fmt: skip
    bought = {(item.what, item.value): item.count for item in sheet.items}
    assert bought["resistor", "120 ohm"] == 2 and bought["RS-485 driver", "for 3.3 V"] == 1


def test_gates_are_bought_by_the_case_and_fed_with_5_v(put):
    body = '[supply.brick]\nvoltage = "12V"\n' + "".join(
        f'[strip.s{n}]\npin = {pin}\ncount = 5\nchip = "ws2815"\nlevel = "5V"\nfed_from = "brick"\n' for n, pin in enumerate((13, 25, 26, 27, 32))
    )  # fmt: skip
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))
    sound(sheet)
    assert {(i.what, i.value): i.count for i in sheet.items}["gate", "74HCT125"] == 2
    assert ("board 5V", "74HCT125 VCC") in ends(sheet)


def test_what_stands_between_a_line_and_a_rail_is_a_wire_of_its_own(put):
    body = '[onewire.w]\npin = 25\n[i2c.main]\nsda = 21\nscl = 22\n[sensor.tank]\nchip = "analog"\npin = 34\ndivider = ["10kohm", "4.7kohm"]\nrange = "0V-9V"\n'
    sheet = wiring(zapato.load(put(HEADER.format(board="esp32-38pin") + body)))
    through = {(wire.start, wire.end): wire.through for wire in sheet.wires}
    assert through["board 25", "board 3V3"] == "4.7 kohm resistor" == through["board 21", "board 3V3"]
    assert (
        through["board 34", "board GND"] == "4.7 kohm resistor"
        and through["board 34", "tank DATA"] == "10 kohm resistor"
    )


def test_the_list_of_cables_is_a_table(site, cli, tmp_path):
    assert cli("draw", site / "devices" / "rack-strip.toml", "--cables", tmp_path / "c.csv").code == 0
    rows = list(csv.DictReader(io.StringIO((tmp_path / "c.csv").read_text())))
    plus = next(row for row in rows if row["to"] == "left +")
    assert plus["voltage"] == "5" and plus["colour"] == "red" and float(plus["mm2"]) >= 0.25
    assert next(row for row in rows if row["to"] == "left -")["colour"] == "black"
