"""Through the prompt of the MicroPython that is on a board: files over a line that fails, run by the real VM on LittleFS."""

import json
import re
from types import SimpleNamespace

import pytest
from support.approved import approve
from support.over_air import KEY, Place, designs

from zapato.boards import board
from zapato.deliver import cable, prompt
from zapato.deliver.prompt import by_prompt
from zapato.errors import NotDelivered
from zapato.firmware.image import data_image
from zapato.firmware.layout import FOLDERS, delivered
from zapato.firmware.plan import settings
from zapato.firmware.program import compile_device
from zapato.simulator.little import LittleFlash
from zapato.simulator.prompt_chip import PromptChip
from zapato.simulator.scenario import PowerCut

SIZE = 392 * 1024
OLD = {"main.py": b"print('somebody else')", "lib/old.py": b"x = 1\n", "kept.json": b"{}"}


def tree(flash: LittleFlash) -> dict[str, bytes]:
    """Every file of a flash, by path."""
    found = {}
    for folder, _, names in flash.system.walk("/"):
        for name in names:
            path = f"{folder}/{name}".lstrip("/")
            with flash.system.open(path, "rb") as file:
                found[path] = file.read()
    return found


@pytest.fixture(autouse=True)
def quick(monkeypatch):
    monkeypatch.setattr(cable, "LISTEN", 0.5)


@pytest.fixture
def there(put):
    """A board with other files on it; gives its flash, and a way to reach it with some fault."""
    made = []

    def make(board="esp32-38pin", flash=None, **faults):
        design = designs(put, board)[0]
        chip = design.board.chip
        if flash is None:
            image = data_image(chip, OLD, ["lib"], SIZE).ljust(SIZE, b"\xff")
            flash = LittleFlash(chip, image, lambda: PowerCut(500))
        place = Place(design, flash, seconds=20)
        made.append(PromptChip(place.board, boot=lambda: ["bench 1.0.0", "wifi joined"], **faults))
        files = delivered(design, compile_device(design), settings(design, KEY))
        return design, made[-1], flash, files

    yield make
    for each in made:
        each.close()


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin", "rp2040w-40pin"])
@pytest.mark.slow
def test_the_files_go_over_and_start(there, board, monkeypatch):
    design, chip, flash, files = there(board)
    told, closed, close = [], [], prompt.OpenPort.close
    texts, run = [""], prompt.Prompt.run

    def heard(self, code, seconds=prompt.ANSWER):
        text = re.sub(r"put\('.*'\)", "put('…')", code)
        texts.extend([text] if text != texts[-1] else [])
        return run(self, code, seconds)

    monkeypatch.setattr(prompt.Prompt, "run", heard)
    monkeypatch.setattr(prompt.OpenPort, "close", lambda line: (closed.append(line), close(line)))
    done = by_prompt(
        design.board.chip, files, FOLDERS, chip.name, tell=lambda what, share: told.append((what, share))
    )
    assert tree(flash) == files and chip.started and done.verified and closed
    assert done.said == ("bench 1.0.0", "wifi joined")
    approve(f"prompt-{board}", "\n".join(texts[1:]) + "\n")
    shares = [share for what, share in told if what == "writing"]
    assert shares == sorted(shares) and shares[-1] == 1
    again = Place(design, flash, seconds=20)
    assert again.run() is None and "broker reached" in again.log
    design, chip, _, files = there(board, flash)
    assert by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=print).size == len(files["main.py"])


@pytest.mark.parametrize("at", [5, 900, 30_000])
@pytest.mark.slow
def test_a_cable_that_comes_out_leaves_nothing_that_starts_and_the_next_call_goes_on(there, at):
    design, chip, flash, files = there(gone=at)
    if at < 100:  # before anything answers
        assert by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None) is None
        return
    with pytest.raises(NotDelivered, match=r"was disconnected|stopped answering") as told:
        by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert told.value.fix and not chip.started
    chip.close()
    flash.power_on()
    assert "main.py" not in tree(flash) or tree(flash)["main.py"] == OLD["main.py"]
    design, chip, _, files = there(flash=flash)
    done = by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert tree(flash) == files
    assert at < 30_000 or done.size < 0.9 * sum(map(len, files.values()))


@pytest.mark.parametrize("at", [1200, 20_000])
@pytest.mark.slow
def test_a_line_that_garbles_is_found_out_by_the_digest_and_written_again(there, at, monkeypatch):
    monkeypatch.setattr(prompt, "ANSWER", 1.0)
    design, chip, flash, files = there(garble=at)
    try:
        done = by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
        assert done.verified
    except NotDelivered as told:
        assert told.fix
        chip.close()
        design, chip, _, files = there(flash=flash)
        by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert tree(flash) == files


def test_a_list_of_files_that_was_harmed_is_one_line(there, monkeypatch):
    design, chip, flash, files = there()
    whole = prompt.Prompt.run
    monkeypatch.setattr(
        prompt.Prompt,
        "run",
        lambda self, code, *more: "['/ma" if "all('')" in code else whole(self, code, *more),
    )
    before = tree(flash)
    with pytest.raises(NotDelivered, match="a damaged answer"):
        by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert tree(flash) == before


def test_the_wrong_board_and_nobody(there, put):
    _, chip, flash, files = there("esp32c3-mini")
    other = designs(put, "esp32-38pin")[0]
    before = tree(flash)
    with pytest.raises(
        NotDelivered, match="reports Generic board with ESP32C3, and the device file needs an esp32"
    ):
        by_prompt(other.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert tree(flash) == before
    _, deaf, _, _ = there(deaf=True)
    assert by_prompt(other.board.chip, files, FOLDERS, deaf.name, tell=lambda *_: None) is None


@pytest.mark.slow
def test_settings_alone_are_exchanged_by_the_command(there, cli, put, tmp_path):
    _, chip, flash, _ = there()
    put({"secrets.toml": f'[update_keys]\nbench = "{KEY}"\n'})
    device = tmp_path / "device.toml"
    assert cli("deliver", device, "--port", chip.name, "--out", tmp_path / "out").code == 0
    before = tree(flash)
    _, chip, _, _ = there(flash=flash)
    site = tmp_path / "site.toml"
    site.write_text(site.read_text().replace('"hall"', '"attic"'))
    called = cli("deliver", device, "--port", chip.name, "--settings", "--out", tmp_path / "out")
    assert called.code == 0 and "its settings written through the prompt" in called.out, called.err
    found = tree(flash)
    assert json.loads(found.pop("settings.json"))["wifi"]["name"] == "attic"
    assert json.loads(before.pop("settings.json"))["wifi"]["name"] == "hall" and found == before
    _, deaf, _, _ = there(deaf=True)
    called = cli("deliver", device, "--port", deaf.name, "--settings", "--out", tmp_path / "out")
    assert called.code == 2 and "answers with MicroPython's prompt" in called.err
    assert "goes with --port alone" in cli("deliver", device, "--base", site, "--settings").err


def test_a_full_flash_and_an_old_version_are_one_line(there, monkeypatch):
    design, chip, flash, files = there()
    with flash.system.open("ballast.bin", "wb") as file:
        file.write(b"x" * 300 * 1024)
    monkeypatch.setattr("zapato.deliver.prompt.write_all", _kept_ballast)
    with pytest.raises(NotDelivered, match="could not be written") as told:
        by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert told.value.fix and "\n" not in str(told.value)
    monkeypatch.undo()
    monkeypatch.setattr("zapato.deliver.prompt.runs_on", lambda version: False)
    _, chip, flash, _ = there()
    before = tree(flash)
    with pytest.raises(
        NotDelivered, match=r"MicroPython 1\.\d+\.\d+ is on the board, and the program needs"
    ) as told:
        by_prompt(design.board.chip, files, FOLDERS, chip.name, tell=lambda *_: None)
    assert "--base" in told.value.fix and tree(flash) == before


def _kept_ballast(prompt_there, files, folders, tell):
    """As `write_all`, but what fills the flash stays."""
    for folder in folders:
        prompt_there.run(f"os.mkdir({'/' + folder!r})")
    for path, data in files.items():
        prompt.write_file(prompt_there, f"/{path}", data)
    return 0


SAID = {
    "another chip": ("ESP module with ESP8266", (1, 25, 0), "the board reports ESP module with ESP8266"),
    "an old one": ("Generic ESP32 module with ESP32", (1, 19, 1, ""), "MicroPython 1.19.1 is on the board"),
    "no version": ("Generic ESP32 module with ESP32", None, "MicroPython 0.0.0 is on the board"),
}


@pytest.mark.parametrize("what", SAID)
def test_what_answers_at_the_prompt_is_looked_at_before_anything_is_written(what):
    about, version, words = SAID[what]
    answers = {"uname": about, "implementation": version}
    asked = SimpleNamespace(value=lambda code: next(answer for key, answer in answers.items() if key in code))
    with pytest.raises(NotDelivered, match=words):
        prompt.identify(asked, board("esp32-38pin").chip)
    answers |= {"uname": "Generic ESP32 module with ESP32", "implementation": (1, 25, 0, "")}
    assert prompt.identify(asked, board("esp32-38pin").chip) == "1.25.0"
