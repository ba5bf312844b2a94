"""A board of one's own: a file in the site's boards/ folder joins the catalogue."""

import tempfile
from pathlib import Path

import zapato

BOARD = """
id = "esp32c3-hut"
title = "our own carrier for an ESP32-C3"
chip = "esp32c3"
usb = "the chip's own, on GPIO18 and GPIO19"
[headers]
terminals = ["LAMP=4", "DOOR=5", "3V3", "GND"]
"""
DEVICE = """
zapato = 1
[device]
name = "hut-lamp"
board = "esp32c3-hut"
[relay.lamp]
pin = "LAMP"
[contact.door]
pin = "DOOR"
pull = "up"
[[link]]
when = "door.opened"
do = "lamp.on"
for = "5min"
"""

with tempfile.TemporaryDirectory() as folder:
    site = Path(folder)
    for name, text in {
        "site.toml": '[site]\nname = "hut"\n',
        "boards/esp32c3-hut.toml": BOARD,
        "devices/hut-lamp.toml": DEVICE,
    }.items():
        (site / name).parent.mkdir(exist_ok=True)
        (site / name).write_text(text, "utf-8")
    report = zapato.check(site)
    design = zapato.load(site / "devices" / "hut-lamp.toml")
    print(f"{design.board.title}: {report.counts}")
    print({part.name: part.pins["pin"].name for part in design.parts.values()})
