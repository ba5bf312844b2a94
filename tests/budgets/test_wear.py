"""The wear of the flash: the figure of `build` against LittleFS itself."""

import json

import pytest
from conftest import HEADER

import zapato
from zapato.boards import board as board_named
from zapato.budgets.wear import ERASURES, wear
from zapato.firmware.image import data_image
from zapato.firmware.layout import FOLDERS
from zapato.simulator.little import LittleFlash
from zapato.simulator.scenario import PowerCut

BLOCKS = 98


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin", "rp2040w-40pin"])
@pytest.mark.parametrize("size", [30, 130, 300, 900])
def test_what_a_writing_erases_is_no_more_than_what_is_counted(board, size):
    chip, whole = board_named(board).chip, BLOCKS * 4096
    image = data_image(chip, {"a/x.mpy": b"y" * 200_000}, FOLDERS, whole).ljust(whole, b"\xff")
    flash = LittleFlash(chip, image, lambda: PowerCut(1))
    flash.blocks.journal.clear()
    for number in range(300):
        with flash.system.open("kept.json.new", "wb") as file:
            file.write((b"%06d" % number) * (size // 6))
        flash.system.rename("kept.json.new", "kept.json")
    erased = sum(erase for _, _, erase in flash.blocks.journal)
    assert erased / 300 <= ERASURES


def test_build_tells_how_long_the_flash_lasts(put, tmp_path, cli):
    plain = HEADER.format(board="esp8266-8pin") + "[relay.lamp]\npin = 2\n"
    path = put(plain + 'start = "last"\n')
    found = wear(zapato.load(path), 100_000)
    free = zapato.load(path).board.partition[1] // 4096 - 2 * 25 - 12
    assert found.free == free and found.kept == ("lamp",)
    assert found.years == round(100_000 * free / (ERASURES * 100 * 365.25), 1) > 60 * found.years_least
    called = cli("build", path, "--out", tmp_path / "out")
    assert "flash    lasts" in called.out and "kept: lamp" in called.out
    told = json.loads((tmp_path / "out" / "bench" / "build.json").read_text())["wear"]
    assert told["a_day"] == 100 and told["free"] > 0
    counted = put(plain + '[tally.runs]\nof = "lamp.on"\n')
    assert wear(zapato.load(counted), 100_000).a_day == 388
    quiet = put(plain)
    assert wear(zapato.load(quiet), 100_000) is None
    assert "flash    lasts" not in cli("build", quiet, "--out", tmp_path / "out").out
