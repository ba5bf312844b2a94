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
            assert pin.boot.level in ("high", "low") and pin.boot.when in (
                "start",
                "download",
                "messages",
                "timing",
            )
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
    assert (board.usable or board.fitted) and board.boot_mode and board.inputs


def test_the_same_facts_from_the_other_side():
    """By function, against lists written down separately from the tables."""
    adc2 = set(range(11, 21))
    by_function = {
        "esp32": {
            "adc_radio": {32, 33, 34, 35, 36, 37, 38, 39},
            "input_only": {34, 35, 36, 37, 38, 39},
            "touch": {0, 2, 4, 12, 13, 14, 15, 27, 32, 33},
            "flash": {6, 7, 8, 9, 10, 11},
            "strap": {0, 2, 5, 12, 15},
            "adc": {0, 2, 4, 12, 13, 14, 15, 25, 26, 27, 32, 33, 34, 35, 36, 37, 38, 39},
            "dac": {25, 26},
        },
        "esp8266": {
            "adc_radio": {17},
            "input_only": {17},
            "flash": {6, 7, 8, 9, 10, 11},
            "strap": {0, 2, 15},
            "adc": {17},
        },
        "rp2040": {"adc_radio": {26, 27, 28, 29}, "adc": {26, 27, 28, 29}},
        "esp32c3": {
            "adc_radio": {0, 1, 2, 3, 4},
            "adc": {0, 1, 2, 3, 4, 5},
            "flash": set(range(11, 18)),
            "strap": {2, 8, 9},
            "usb": {18, 19},
        },
        "esp32c6": {
            "adc_radio": set(range(7)),
            "adc": set(range(7)),
            "flash": set(range(24, 31)),
            "strap": {4, 5, 8, 9, 15},
            "usb": {12, 13},
        },
        "esp32s2": {
            "adc_radio": set(range(1, 11)),
            "adc": set(range(1, 11)) | adc2,
            "input_only": {46},
            "touch": set(range(1, 15)),
            "flash": set(range(26, 33)),
            "strap": {0, 45, 46},
            "dac": {17, 18},
            "usb": {19, 20},
        },
        "esp32s3": {
            "adc_radio": set(range(1, 11)),
            "adc": set(range(1, 11)) | adc2,
            "touch": set(range(1, 15)),
            "flash": set(range(26, 33)),
            "strap": {0, 3, 45, 46},
            "usb": {19, 20},
        },
    }
    assert set(by_function) == set(CHIPS)
    for name, wanted in by_function.items():
        pins = CHIPS[name].pins.values()
        found = {
            "adc_radio": {p.gpio for p in pins if p.adc_radio},
            "input_only": {p.gpio for p in pins if not p.drives},
            "touch": {p.gpio for p in pins if p.touch is not None},
            "flash": {p.gpio for p in pins if p.flash},
            "strap": {p.gpio for p in pins if p.boot},
            "adc": {p.gpio for p in pins if p.adc},
            "dac": {p.gpio for p in pins if p.dac is not None},
            "usb": {p.gpio for p in pins if p.usb},
        }
        assert found == {function: wanted.get(function, set()) for function in found}, name


def test_the_function_table_of_the_rp2040_is_the_datasheets():
    """RP2040 Datasheet 1.4.3: the functions repeat every eight pins (UART, SPI) and every four (I2C)."""
    routes = CHIPS["rp2040"].routes
    for number in range(30):
        uart, i2c = (number // 4 + 1) // 2 % 2, number // 2 % 2
        for function, position in (("uart.tx", 0), ("uart.rx", 1)):
            assert (number in routes[function][uart]) == (number % 4 == position), (function, number)
        for function, position in (("i2c.sda", 0), ("i2c.scl", 1)):
            assert (number in routes[function][i2c]) == (number % 2 == position), (function, number)
        for function, position in (("spi.miso", 0), ("spi.sck", 2), ("spi.mosi", 3)):
            assert (number in routes[function][number // 8 % 2]) == (number % 4 == position), (
                function,
                number,
            )


def test_one_source_row_a_pin_and_reserved_pins_are_reserved():
    for chip in CHIPS.values():
        for pin in chip.pins.values():
            if pin.flash or pin.analog_only:
                assert not (pin.flash and pin.adc) and not (pin.analog_only and pin.drives)
    for board in boards():
        assert not [p for p in board.usable if p.flash], board.id
        taken = {g for f in board.fitted if f.taken for g in f.pins}
        assert not taken & {p.gpio for p in board.usable}, board.id


def test_boards_command(cli):
    listing = cli("boards")
    assert listing.code == 0 and all(name in listing.out for name in board_ids())
    one = cli("boards", "esp8266-30pin").out
    assert "D4     GPIO2" in one and "low at reset for a normal start" in one
    wrong = cli("boards", "esp8266-31pin")
    assert wrong.code == 2 and "did you mean" in wrong.err
