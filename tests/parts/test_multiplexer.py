"""Multiplexers: their channels as buses, what is connected when, and what a line that is held low does to the rest."""

import pytest

from tests.conftest import failed, steps
from zapato.parts.multiplexers.tca9546a.sim import Chip as Four
from zapato.parts.multiplexers.tca9548a.sim import Chip as Eight

HALL = """
[i2c.main]
sda = 21
scl = 22
{bus}

[multiplexer.hall]
chip = "tca9548a"
bus = "main"
{more}

[channel.north]
multiplexer = "hall"
number = 0
{north}

[channel.south]
multiplexer = "hall"
number = 5
"""
SENSORS = "".join(
    f'[sensor.{name}]\nchip = "sht31"\nbus = "{bus}"\nevery = "5s"\n{more}'
    for name, bus, more in (("n", "north", ""), ("s", "south", ""), ("m", "main", "address = 0x45\n"))
)
WORLD = "[world]\n" + "".join(
    f"{name}.temperature = {value}\n{name}.humidity = 50\n"
    for name, value in (("n", 11), ("s", 22), ("m", 33))
)


def hall(bus: str = "", more: str = "", north: str = "") -> str:
    return HALL.format(bus=bus, more=more, north=north)


@pytest.mark.parametrize("controller", ["software", "hardware"])
@pytest.mark.parametrize("board", ["esp32-38pin", "rp2040w-40pin"])
def test_chips_of_one_address_on_two_channels_are_told_apart(bench, board, controller):
    body = hall(bus=f'controller = "{controller}"') + SENSORS
    body = body if board.startswith("esp32") else body.replace("= 21", "= 4").replace("= 22", "= 5")
    truth = "n.temperature == 11 and s.temperature == 22 and m.temperature == 33"
    found = "north.found == '0x44' and south.found == '0x44' and main.found == '0x45 0x70'"
    rows = steps(f"10s? {truth}", f"11s? {found}", "12s: s.temperature = 25", "<6s? s.temperature == 25")
    assert not failed(bench(body, rows, board=board, head=WORLD))


ONE_IS_HELD = (
    "known(s.temperature) and s.temperature == 25 and m.temperature == 33 and not known(n.temperature)"
)
ALL_STAND_STILL = "not known(s.temperature) and not known(m.temperature) and not known(n.temperature)"


@pytest.mark.parametrize(
    ("more", "then"), [("reset = 27", ONE_IS_HELD), ("", ALL_STAND_STILL)], ids=["reset", "no reset"]
)
def test_a_channel_that_is_held_low_is_cut_off_by_the_reset_input_alone(bench, more, then):
    """Without it the whole bus stands still until the line is free: the multiplexer hears no START to be told by."""
    held = steps("10s: north.short", "11s: s.temperature = 25", f"60s? {then}", "61s: north.mend")
    after = steps("<8s? n.temperature == 11 and s.temperature == 25 and m.temperature == 33")
    assert not failed(bench(hall(more=more) + SENSORS, held + after, head=WORLD, lasts="2min"))


def test_a_multiplexer_that_is_silent_takes_only_its_own_chips(bench):
    """From the beginning, too: a scan of its channels finds nothing, and is no fault of the program."""
    lost = "not known(n.temperature) and not known(s.temperature) and m.temperature == 33"
    rows = steps(
        "0s: hall.fall_silent",
        f"30s? {lost} and north.found == ''",
        "31s: hall.answer",
        "<8s? n.temperature == 11",
    )
    result = bench(hall() + SENSORS, rows, head=WORLD)
    assert not failed(result) and not any("fault" in text for _, text in result.log), result.log


def test_a_channel_that_is_cut_takes_only_its_own_chips(bench):
    rows = steps(
        "10s: north.cut",
        "40s? not known(n.temperature) and s.temperature == 22 and m.temperature == 33",
        "41s: north.mend",
        "<8s? n.temperature == 11",
    )
    assert not failed(bench(hall() + SENSORS, rows, head=WORLD))


def test_a_multiplexer_in_a_channel_of_another(bench):
    inner = """
[multiplexer.shelf]
chip = "pca9546a"
bus = "south"
address = 0x71
reset = 26

[channel.top]
multiplexer = "shelf"
number = 3

[sensor.t]
chip = "sht31"
bus = "top"
address = 0x45
every = "5s"
"""
    body = (
        hall(more="reset = 27")
        + SENSORS.replace(
            '"main"\nevery = "5s"\naddress = 0x45', '"main"\nevery = "5s"\naddress = 0x44'
        ).split("[sensor.m]")[0]
        + inner
    )
    world = WORLD.replace("m.", "t.")
    rows = steps(
        "10s? n.temperature == 11 and s.temperature == 22 and t.temperature == 33",
        "11s? top.found == '0x45' and south.found == '0x44 0x71'",
        "12s: top.short",
        "60s? not known(t.temperature) and n.temperature == 11 and s.temperature == 22",
        "61s: top.mend",
        "<8s? t.temperature == 33",
    )
    assert not failed(bench(body, rows, head=world, lasts="90s"))


CLASH = '[sensor.{}]\nchip = "sht31"\nbus = "{}"\n'


@pytest.mark.parametrize(
    ("body", "codes"),
    [
        (hall() + CLASH.format("a", "north") + CLASH.format("b", "south"), []),
        (hall() + CLASH.format("a", "north") + CLASH.format("b", "north"), ["address-taken"]),
        (hall() + CLASH.format("a", "north") + CLASH.format("b", "main"), ["address-taken"]),
        (
            hall() + '[sensor.a]\nchip = "shtc3"\nbus = "south"\n',
            ["address-taken"],
        ),  # 0x70, as the multiplexer
        (hall(bus='speed = "1MHz"\npull_ups = "1kohm"'), ["bus-too-fast", "i2c-pull-up"]),
        (hall(bus='speed = "400kHz"') + '[expander.e]\nchip = "pcf8574"\nbus = "north"\n', ["bus-too-fast"]),
        (hall(bus='pull_ups = "1kohm"', north='pull_ups = "1.2kohm"'), ["i2c-pull-up"]),
        (
            hall(bus='length = "2m"', north='length = "2.5m"') + CLASH.format("a", "north"),
            ["line-length"],
        ),
        (hall().replace("number = 5", "number = 0"), ["channel-taken"]),
        (hall().replace("tca9548a", "tca9546a"), ["channel-absent"]),
        (hall().replace('multiplexer = "hall"', 'multiplexer = "main"', 1), ["bus-missing"]),
        (hall().replace('bus = "main"', 'bus = "north"'), ["channel-ring"]),
        (hall().replace('bus = "main"', 'bus = ["main", "north"]'), ["wrong-type"]),
        (hall().replace('multiplexer = "hall"', "multiplexer = 3", 1), ["wrong-type"]),
    ],
)
def test_what_channels_share_with_their_bus_is_checked(checked, body, codes):
    found = {finding.code for finding in checked(body).findings if finding.severity != "note"}
    assert found == set(codes)


@pytest.mark.parametrize(("chip", "width"), [(Eight, 0xFF), (Four, 0x0F)])
def test_the_register_of_the_stand_in(chip, width):
    """Of several bytes the last one counts, bits without a channel read 0; all are off after a reset (datasheets, Control register)."""
    stand_in = chip(lambda what: None)
    stand_in.lines = {number: -1 - number for number in range(chip.channels)}
    assert stand_in.read(1) == b"\0" and not stand_in.connected
    stand_in.write(b"\x01\xaa")
    assert stand_in.read(2) == bytes([0xAA & width]) * 2
    assert stand_in.connected == [-1 - n for n in range(chip.channels) if 0xAA >> n & 1]
    stand_in.power_on()
    assert not stand_in.connected
