"""The command line as a stranger meets it: exit codes, one clear line, pipes, Ctrl-C, files of all sorts."""

import json
import re
import shlex
import signal
import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import pytest
from conftest import HEADER

import zapato
from zapato.boards import board_ids
from zapato.demo.copy import copy_site

ZAPATO = [sys.executable, "-m", "zapato"]


@pytest.mark.slow(30)
def test_demo_from_start_to_end_and_again(tmp_path: Path, cli):
    assert all(what == "wrote" for _, what in copy_site(tmp_path / "demo"))
    for name in ("boot-dryer", "gear-locker", "porch-light"):  # their days are in test_rehearse
        path = tmp_path / "demo" / "rehearsals" / f"{name}.toml"
        text = path.read_text()
        path.write_text(re.sub(r'lasts = "\w+"', 'lasts = "1s"', text[: text.index("[[step]]")]))
    first = cli("demo", "--out", tmp_path / "demo")
    assert first.code == 0, first.out + first.err
    assert "6 of 6 devices checked, built and rehearsed without a fault" in first.out
    assert "passed refuge, 4 devices together: An evening at the refuge" in first.out
    assert (tmp_path / "demo" / "out" / "evening.png").stat().st_size > 30_000
    head, *rows = first.out.rstrip().split("\n")[-9:-2]
    assert head.split() == ["device", "findings", "flash", "heap", "expectations", "took"]
    assert [row.split()[0] for row in rows] == [
        "boot-dryer",
        "gear-locker",
        "kettle-plug",
        "porch-light",
        "rack-strip",
        "water-tank",
    ]
    assert all(
        "no findings" in row and " KiB " in row and re.search(r"(\d+) of \1 held", row) for row in rows
    )
    for script in (tmp_path / "demo" / "rehearsals").glob("*.toml"):
        script.write_text('[rehearsal]\nlasts = "1s"\n')
    changed = tmp_path / "demo" / "devices" / "porch-light.toml"
    changed.write_text(changed.read_text() + "# mine\n")
    again = cli("demo", "--out", tmp_path / "demo")
    assert again.code == 0 and f"kept {changed}" in again.out and "--force" in again.out
    for damaged in ("[]", "[" * 200_000, "\0"):
        (tmp_path / "demo" / ".zapato-demo.json").write_text(damaged)
        assert dict(copy_site(tmp_path / "demo"))[changed] == "kept"
    assert changed.read_text().endswith("# mine\n")
    assert all(what != "kept" for _, what in copy_site(tmp_path / "demo", True))
    assert not changed.read_text().endswith("# mine\n")


def test_json_has_the_promised_shape(checked, cli, tmp_path: Path):
    checked("[relay.a]\npin = 34\n")
    called = cli("check", tmp_path / "device.toml", "--format", "json")
    data = json.loads(called.out)
    assert called.code == 1 and data["counts"] == {"error": 1, "warning": 0, "note": 0, "accepted": 0}
    keys = ["code", "severity", "file", "line", "column", "device", "part", "pin", "message", "why", "fixes"]
    assert list(data["findings"][0]) == keys and data["findings"][0]["line"] == 6


def test_text_shows_line_caret_reason_and_way_out(checked, cli, tmp_path: Path):
    checked("[relay.a]\npin   = 34   # old\n")
    lines = cli("check", tmp_path / "device.toml").out.splitlines()
    assert lines[0].startswith("error pin-input-only  ") and lines[0].endswith("device.toml:6:9")
    assert lines[1] == "    6 | pin   = 34   # old" and lines[2] == "      |         ^^"
    assert (
        lines[4].startswith("  why: ")
        and "Datasheet" in lines[4]
        and lines[5].startswith("  way out: free pins")
    )
    assert lines[-1] == "bench: 1 error" and "\x1b" not in "".join(lines)


def test_equal_mistakes_of_one_line_have_a_caret_each(put, cli):
    """A colour is read at the desk as the strip's driver reads it."""
    body = """[strip.rack]\npin = 13\ncount = 9\nchip = "ws2812b"\n[[link]]\nevery = "1h"\ndo = ["rack.color = 'red'", "rack.color = '#ff80zz'", "rack.color = '#Ff8000'"]\n"""
    shown = cli("check", put(HEADER.format(board="esp32-38pin") + body)).out
    assert 'rack.color is written as "#rrggbb".' in shown and "2 errors" in shown
    line, carets = next((a, b) for a, b in pairwise(shown.split("\n")) if "red'" in a)
    assert [line[m.start() : m.end()] for m in re.finditer(r"\^+", carets)] == ["'red'", "'#ff80zz'"]


@pytest.mark.parametrize(
    ("content", "code", "says"),
    [
        (b"", 1, "the file is empty"),
        (b"\x00\xff\xfe" * 50, 1, "not UTF-8 text"),
        (b"a" * (2 << 20), 1, "larger than 1 MiB"),
        (b"zapato = 1\n[device]\nname = ", 1, "no value after the ="),
        (b'zapato = 2\n[device]\nname = "a"\nboard = "esp32-38pin"\n', 1, "language version 2"),
        (b'zapato = 1\n[device]\nname = "a"\nboard = "esp32-39pin"\n', 1, 'did you mean "esp32-38pin"?'),
    ],
)
def test_files_of_all_sorts(content, code, says, tmp_path: Path, cli):
    (tmp_path / "x.toml").write_bytes(content)
    called = cli("check", tmp_path / "x.toml")
    assert called.code == code and says.lower() in (called.out + called.err).lower()
    assert "Traceback" not in called.out + called.err


def test_paths_that_cannot_be_read(tmp_path: Path, cli):
    (tmp_path / "loop.toml").symlink_to(tmp_path / "loop.toml")
    (tmp_path / "empty").mkdir()
    for path in (tmp_path / "loop.toml", tmp_path / "none.toml", tmp_path / "empty", tmp_path / ("a" * 300)):
        called = cli("check", path)
        assert called.code == 2 and called.err.startswith("zapato: ") and called.err.count("\n") == 1, called


def test_wrong_calls(cli):
    for words in (
        ["chek"],
        ["check"],
        ["check", "x", "--format", "xml"],
        ["new", "Lamp", "--board", "esp32-38pin"],
        ["new", "a"],
    ):
        called = cli(*words)
        assert called.code == 2 and called.err.startswith("zapato: ") and called.err.count("\n") == 1, called
    assert "did you mean check?" in cli("chek").err


@pytest.mark.parametrize("board", board_ids())
def test_a_new_device_passes_check_builds_and_is_never_overwritten(board, tmp_path: Path, cli):
    called = cli("new", "lamp", "--board", board, "--site", tmp_path / "home", "--room", 'the "old" hall')
    assert called.code == 0
    path = tmp_path / "home" / "devices" / "lamp.toml"
    assert {f.code for f in zapato.check(path)} <= {"board-wants", "fitted-unreached"}
    assert not zapato.build(path, tmp_path).key_made
    assert (tmp_path / "home" / "secrets.toml").stat().st_mode & 0o777 == 0o600
    before = path.read_bytes()
    assert (
        cli("new", "lamp", "--board", board, "--site", tmp_path / "home").code == 2
        and path.read_bytes() == before
    )


def test_a_secret_is_never_shown(site: Path, cli):
    (site / "secrets.toml").write_text('wifi_password = "chamois on the ridge\nmqtt_password = 12345678\n')
    called = cli("check", site / "devices")
    assert "chamois" not in called.out + called.err and "12345678" not in called.out
    assert "secrets.toml:1:" in called.out and "secret-missing" in called.out


def test_as_a_program_in_a_pipe(site: Path):
    done = subprocess.run([*ZAPATO, "--version"], capture_output=True, text=True, check=True)
    assert done.stdout == f"zapato {zapato.__version__}\n"
    quiet = subprocess.run(
        f"{' '.join(ZAPATO)} explain | head -1", shell=True, capture_output=True, text=True
    )
    assert quiet.stderr == "" and quiet.stdout


def test_ctrl_c_is_one_line_and_leaves_no_half_file(site: Path, tmp_path: Path):
    script = tmp_path / "year.toml"
    script.write_text('[rehearsal]\nlasts = "365d"\n')
    device = site / "devices" / "porch-light.toml"
    call = [*ZAPATO, "rehearse", str(device), "--script", str(script), "--trace", str(tmp_path / "t.csv")]
    process = subprocess.Popen(
        call,
        stderr=subprocess.PIPE,
        text=True,
    )
    maps = Path(f"/proc/{process.pid}/maps")
    while process.poll() is None and "wasmtime" not in maps.read_text():
        pass
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 130 and err.strip() == "interrupted" and not (tmp_path / "t.csv").exists()


def test_ctrl_c_while_a_class_is_made_ends_with_the_same_code(tmp_path: Path):
    """`exec` of a text, interrupted, makes `python -m` end as if killed, whatever code it is given."""
    (tmp_path / "cut.py").write_text(
        "import zapato.cli.app as app\nfrom zapato.cli import main\n"
        "app.run = lambda given: exec('raise KeyboardInterrupt')\nmain()\n"
    )
    called = subprocess.run([sys.executable, "-m", "cut"], cwd=tmp_path, capture_output=True, text=True)
    assert called.returncode == 130 and called.stderr.strip() == "interrupted"


def test_every_command_stands_in_the_order_of_the_work_with_an_example_that_can_be_called(cli):
    from zapato.cli.about import COMMANDS, STEPS
    from zapato.cli.app import APP, command_names

    text = cli("--help").out
    steps = [text.index(f"{step}:") for step in STEPS]
    assert steps == sorted(steps)
    for name in command_names():
        zapato, word, *words = shlex.split(COMMANDS[name].example.partition(" > ")[0])
        assert (zapato, word) == ("zapato", name) and f"  {name} " in text and COMMANDS[name].short in text
        assert COMMANDS[name].example in cli(name, "--help").out
        APP.get_command(None, name).make_context(name, words)


def test_a_name_with_blanks_is_refused_with_one_that_can_be(cli, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    done = cli("new", "My Lamp", "--board", "esp32-38pin")
    assert done.code == 2 and '"my-lamp" can' in done.err


def test_a_device_that_is_begun_with_a_flag_switches_both_ways(cli, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    cli("new", "porch-eye", "--board", "esp32-camera")
    path = tmp_path / "devices" / "porch-eye.toml"
    path.write_text(path.read_text() + '\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n')
    script = tmp_path / "s.toml"
    steps = (
        ("20s", "act", "message('switch/on/set', 'true')"),
        ("22s", "expect", "lamp.on"),
        ("24s", "act", "message('switch/on/set', 'false')"),
        ("26s", "expect", "not lamp.on"),
    )
    script.write_text(
        '[rehearsal]\nlasts = "30s"\n'
        + "".join(f'[[step]]\nat = "{at}"\n{word} = "{text}"\n' for at, word, text in steps)
    )
    assert zapato.rehearse(path, script).passed


def test_a_file_that_is_something_else_is_told_for_what_it_is_by_every_command(put, cli):
    path = (
        put({"script.toml": '[rehearsal]\nlasts = "20s"\n', "device.toml": "x = 1\n"}).parent / "script.toml"
    )
    for words in (["check", path], ["rehearse", path], ["build", path, "--out", path.parent / "out"]):
        called = cli(*words)
        assert called.code and "this is a rehearsal, not a device file" in called.out + called.err, words
        assert "missing-key" not in called.out + called.err


def test_each_module_of_a_command_is_listed():
    from pkgutil import iter_modules

    from zapato.cli import commands
    from zapato.cli.about import COMMANDS

    assert sorted(COMMANDS) == sorted(module.name for module in iter_modules(commands.__path__))
