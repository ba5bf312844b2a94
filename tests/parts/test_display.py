"""Displays: what stands on them after a rehearsal, point by point, and what cannot stand there."""

import json

import pytest
from conftest import failed, in_the_vm, steps

from zapato.draw.screens import pictures

BUS = "[i2c.main]\nsda = 21\nscl = 22\n"
BODY = (
    BUS
    + """
[display.panel]
chip = "ssd1306"
bus = "main"
lines = [["Boot room", "{room.temperature:.1f} C", "door {door.closed}"], ["Page two", "", "{panel.page} {{}}"]]
[sensor.room]
chip = "dht22"
pin = 27
[contact.door]
pin = 25
pull = "up"
[button.b]
pin = 33
pull = "up"
[[link]]
when = "b.pressed"
do = "panel.turn"
"""
)
WORLD = "[world]\nroom.temperature = 21.5\nroom.humidity = 40\ndoor.closed = true\n"


def drawn(*lines: str) -> list[list[int]]:
    """The lines as MicroPython's own font has them, drawn in the VM."""
    text = (
        "import framebuf\nb = bytearray(1024)\nf = framebuf.FrameBuffer(b, 128, 64, framebuf.MONO_VLSB)\n"
        f"for n, line in enumerate({lines!r}):\n f.text(line, 0, n * 8)\nprint(b.hex())"
    )
    memory = bytes.fromhex(in_the_vm(text, {}))
    return [[memory[y // 8 * 128 + x] >> y % 8 & 1 for x in range(128)] for y in range(64)]


def test_what_stands_on_it(bench):
    network = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
    result = bench(
        BODY,
        WORLD + steps("10s: b.press", "<1s? panel.page == 2", "+2s: b.press", "<1s? panel.page == 1", "+2s: door.closed = false",
                      "+2s: message('panel/on/set', 'false')", "<2s? not panel.on", "+2s: message('panel/on/set', 'true')", "+2s: message('panel/page/set', '3')", "=1s? panel.page == 1"),
        site=network,
    )  # fmt: skip
    assert not failed(result)
    shown = [points for _, points in pictures(result)["panel"]]
    first = drawn("Boot room", "21.5 C", "door yes")
    expected = [
        drawn("Boot room", "? C", "door yes"),
        first,
        drawn("Page two", "", "2 {}"),
        first,
        drawn("Boot room", "21.5 C", "door no"),
    ]
    assert shown[:5] == expected and shown[5] == [[0] * 128] * 64 and shown[6] == expected[4]
    assert result.as_dict()["passed"] and json.dumps(result.as_dict())


WRONG = {
    "no lines": ('lines = []', ["wrong-type"]),
    "nine lines": (f'lines = {["x"] * 9}', ["wrong-type"]),
    "nine pages": (f'lines = {[["x"]] * 9}', ["wrong-type"]),
    "a letter it has not": ('lines = ["20 °C"]', ["wrong-type"]),
    "nobody": ('lines = ["{nobody.on}"]', ["link-unknown"]),
    "nobody on the second page": ('lines = [["a"], ["b", "{cellar.x}"]]', ["link-unknown"]),
    "a brace": ('lines = ["{"]', ["link-type"]),
    "another address": ('lines = ["a"]\naddress = 0x20', ["address-unsupported"]),
}  # fmt: skip


@pytest.mark.parametrize(("table", "codes"), WRONG.values(), ids=WRONG)
def test_what_cannot_stand_there(checked, table, codes):
    report = checked(f'{BUS}[display.panel]\nchip = "ssd1306"\nbus = "main"\n{table}\n')
    assert [f.code for f in report if f.severity == "error"] == codes
