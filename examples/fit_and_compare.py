"""Pins chosen for a device, and the same device on every board of the catalogue."""

import tempfile
from pathlib import Path

import zapato
from zapato.fitting.boards import fit_boards

DEVICE = """
zapato = 1
[device]
name = "hut-fan"
board = "esp32-38pin"
[relay.fan]
pin = "auto"
[button.switch]
pin = "auto"
pull = "up"
[sensor.room]
chip = "dht22"
pin = "auto"
"""

with tempfile.TemporaryDirectory() as folder:
    path = Path(folder) / "hut-fan.toml"
    path.write_text(DEVICE, "utf-8")
    design = zapato.load(path)
    print(zapato.fit(design).frame.to_string(index=False))
    for each in fit_boards(design)[:5]:
        print(f"{each.board.id:<22} {'carries it' if each.ok else 'cannot'}, {each.free} pins left")
