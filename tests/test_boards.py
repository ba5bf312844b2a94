"""The catalogue agrees with itself."""

import pytest

from zapato.boards import board_ids, boards

CHIPS = {b.chip.id: b.chip for b in boards()}


@pytest.mark.parametrize("name", CHIPS)
def test_a_chips_pin_table(name):
    chip = CHIPS[name]
    for number, pin in chip.pins.items():
        assert pin.gpio == number and pin.source
        assert not (pin.dac is not None and not pin.drives)
        if pin.pull_up or pin.pull_down:
            assert pin.reads
        if pin.boot:
            assert pin.boot.level in ("high", "low") and pin.boot.when in ("start", "download", "messages", "timing")
    for function in ("adc", "touch", "dac", "rtc", "flash", "usb", "console"):
        values = [getattr(p, function) for p in chip.pins.values() if getattr(p, function) not in (None, "")]
        assert len(values) == len(set(values)), f"{function} twice"
    assert any(p.flash for p in chip.pins.values()) or chip.port == "rp2"
    assert chip.analog.low < chip.analog.high <= chip.input_most
    assert all(chip.sources.values())


@pytest.mark.parametrize("name", board_ids())
def test_a_boards_headers(name):
    board = next(b for b in boards() if b.id == name)
    labels = [place.label for row in board.headers.values() for place in row if place.gpio is not None]
    assert len(labels) == len({label.lower() for label in labels}), "a label twice"
    for row in board.headers.values():
        for place in row:
            assert place.gpio is None or place.gpio in board.chip.pins
    for fitted in board.fitted:
        assert set(fitted.pins) <= set(board.chip.pins), fitted.name
        assert fitted.active in ("", "high", "low") and fitted.what
    assert (board.usable or board.fitted) and board.boot_mode and board.supply


def test_the_same_facts_from_the_other_side():
    """By function, against lists written down separately from the tables."""
    by_function = {
        "esp32": {
            "adc_radio": {32, 33, 34, 35, 36, 37, 38, 39},
            "input_only": {34, 35, 36, 37, 38, 39},
            "touch": {0, 2, 4, 12, 13, 14, 15, 27, 32, 33},
            "flash": {6, 7, 8, 9, 10, 11},
            "strap": {0, 2, 5, 12, 15},
        },
        "esp8266": {"adc_radio": {17}, "input_only": {17}, "touch": set(), "flash": {6, 7, 8, 9, 10, 11}, "strap": {0, 2, 15}},
        "rp2040": {"adc_radio": {26, 27, 28, 29}, "input_only": set(), "touch": set(), "flash": set(), "strap": set()},
    }
    for name, wanted in by_function.items():
        pins = CHIPS[name].pins.values()
        found = {
            "adc_radio": {p.gpio for p in pins if p.adc_radio},
            "input_only": {p.gpio for p in pins if not p.drives},
            "touch": {p.gpio for p in pins if p.touch is not None},
            "flash": {p.gpio for p in pins if p.flash},
            "strap": {p.gpio for p in pins if p.boot},
        }
        assert found == wanted, name


def test_boards_command(cli):
    listing = cli("boards")
    assert listing.code == 0 and all(name in listing.out for name in board_ids())
    one = cli("boards", "esp8266-30pin").out
    assert "D4     GPIO2" in one and "low at reset for a normal start" in one
    wrong = cli("boards", "esp8266-31pin")
    assert wrong.code == 2 and "did you mean" in wrong.err
