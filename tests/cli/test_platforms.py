"""The house itself: the VM that ships, platforms, examples, odd terminals and closed streams."""

import hashlib
import json
import os
import pty
import re
import subprocess
import sys
import tomllib
from importlib.resources import files
from pathlib import Path

import pytest

import zapato

ROOT = Path(__file__).parents[2]
ZAPATO = [sys.executable, "-m", "zapato"]
IMAGES = {
    "esp8266": "c6b822b8d34546b2a69dac847e58f5b5f6b713038f3c85979593e39b28ffe40c",
    "esp32": "ac109203e24777c3f7f5b4cf86c266ce559b7ee0d01717b9d2ac048a07226d2d",
    "rp2": "35400c09623fb5c4b6f52a3792747c9e82d3908a4fac2f9e8659be719c8307c6",
}


@pytest.mark.parametrize("port", IMAGES)
def test_the_vms_are_the_ones_that_were_made(port):
    """Made by tools/make_vm; a new one wants this hash renewed, and tools/vendor_tests run."""
    image = (files("zapato") / "simulator" / "vm_image" / f"{port}.wasm").read_bytes()
    assert hashlib.sha256(image).hexdigest() == IMAGES[port] and len(image) < 1 << 20


def test_every_dependency_has_a_wheel_for_every_platform():
    """tools/wheels asks the index and writes the table; this holds the project's list against it."""
    table = json.loads((ROOT / "tools" / "wheels.json").read_text())
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    needed = project["dependencies"] + [
        each
        for extra in ("pictures", "hub", "postgresql")
        for each in project["optional-dependencies"][extra]
    ]
    names = {re.split(r"[<>=~! ;\[]", each)[0] for each in needed}
    assert names == set(table["packages"])
    for name, platforms in table["packages"].items():
        assert all(platforms[each] for each in table["platforms"]), name
    assert {"Linux x86-64", "Linux ARM64", "macOS", "Windows"} <= set(table["platforms"])


@pytest.mark.parametrize("name", sorted(p.name for p in (ROOT / "examples").glob("*.py")))
@pytest.mark.slow(15)
def test_examples_run(name, site, tmp_path):
    words = [str(tmp_path / "t.png")] if name == "threshold_sweep.py" else [str(site)]
    done = subprocess.run(
        [sys.executable, str(ROOT / "examples" / name), *words],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert done.returncode == 0 and done.stdout, done.stderr
    lines = (ROOT / "examples" / name).read_text().splitlines()
    assert len(lines) < 60 and name in (ROOT / "README.md").read_text()


BAD = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[motion.m]\npin = 27\nlevel = "5V"\n[sensor.t]\nchip = "analog"\npin = 34\nrange = "0V-5V"\n[sensor.d]\nchip = "dht22"\npin = 4\nevery = "500ms"\n'


@pytest.mark.parametrize("encoding", ["cp850", "cp437", "cp1252", "latin-1", "utf-8"])
def test_output_in_any_code_page(encoding, put):
    """A sign that the code page lacks is written in plain letters; nothing is lost and nothing breaks."""
    done = subprocess.run(
        [*ZAPATO, "check", str(put(BAD))],
        capture_output=True,
        env={**os.environ, "PYTHONIOENCODING": encoding, "PYTHONUTF8": "0"},
    )
    text = done.stdout.decode(encoding)
    assert done.returncode == 1 and not done.stderr and "volt-logic" in text
    assert ("\u221240 to 80" in text) == (encoding == "utf-8") and re.search("[-\u2212]40 to 80", text)


@pytest.mark.parametrize("closed", ["1>&-", "2>&-", "1>&- 2>&-", "0<&-"])
def test_closed_streams(closed, put):
    call = f"{sys.executable} -m zapato check {put(BAD)} {closed}"
    done = subprocess.run(["sh", "-c", call], capture_output=True, text=True)
    assert done.returncode == 1 and "Traceback" not in done.stderr


def test_a_pipe_that_closes_early(put):
    call = f"{sys.executable} -m zapato boards | head -1"
    done = subprocess.run(["bash", "-o", "pipefail", "-c", call], capture_output=True, text=True)
    assert done.stdout.count("\n") == 1 and not done.stderr


IMPATIENT = "import sys\nimport zapato.cli.terminal as terminal\nfrom zapato.cli import main\nterminal.PATIENCE = 0.0\nmain()\n"
"""The command line, for which everything takes long."""


def terminal(words: list[str], columns: int = 80, call: list[str] = ZAPATO, **environment: str) -> str:
    """What a command writes to a terminal of so many columns."""
    parent, child = pty.openpty()
    env = {
        **{k: v for k, v in os.environ.items() if k != "NO_COLOR"},
        "TERM": "xterm",
        "COLUMNS": str(columns),
        **environment,
    }
    with subprocess.Popen(
        [*call, *words], stdout=child, stderr=child, stdin=subprocess.DEVNULL, env=env
    ) as process:
        os.close(child)
        said = b""
        while True:
            try:
                piece = os.read(parent, 65536)
            except OSError:
                break
            if not piece:
                break
            said += piece
        process.wait()
    os.close(parent)
    return said.decode()


def test_colour_only_where_it_is_wanted(put):
    words = ["check", str(put(BAD))]
    assert "\x1b[" in terminal(words)
    assert "\x1b[" not in terminal(words, NO_COLOR="1") and "\x1b[" not in terminal(words, TERM="dumb")


@pytest.mark.parametrize("columns", [30, 60, 100])
def test_narrow_terminals_fold(columns, put):
    path = put(BAD)
    said = terminal(["check", str(path)], columns, NO_COLOR="1")
    prose = [line for line in said.replace("\r", "").splitlines() if "why:" in line or "way out:" in line]
    assert prose and max(map(len, prose)) <= max(columns, 40)


def test_a_device_file_from_standard_input(put):
    done = subprocess.run([*ZAPATO, "check", "-"], input=BAD, capture_output=True, text=True)
    assert done.returncode == 1 and "-:6:" in done.stdout and "bench: 2 errors" in done.stdout


def test_the_same_file_twice_counts_once(put, cli):
    path = put(BAD)
    assert cli("check", path, path, path.parent / "." / path.name).out.count("volt-logic") == 1


def test_the_parsers_own_advice_is_not_passed_on(put):
    path = put(BAD + '[relay.r]\npin = 26\n[[link]]\nwhen = "1 is 1"\ndo = "notify(\'\\\\d\')"\n')
    done = subprocess.run([*ZAPATO, "check", str(path)], capture_output=True, text=True)
    assert not done.stderr and "Warning" not in done.stdout


@pytest.mark.parametrize("ending", [b"\r\n", b"\n"])
def test_fit_writes_into_the_file_as_it_was(ending, put, cli, tmp_path):
    """Line ends, byte-order mark and a link to the file stay; check agrees before and after."""
    text = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[relay.r]\npin = "auto"  # mine\n'
    real = put(text)
    real.write_bytes(b"\xef\xbb\xbf" + text.encode().replace(b"\n", ending))
    link = tmp_path / "linked.toml"
    link.symlink_to(real)
    assert cli("check", link).code == 0 and cli("fit", link, "--write").code == 0
    raw = real.read_bytes()
    assert (
        link.is_symlink()
        and raw.startswith(b"\xef\xbb\xbf")
        and raw.count(b"\n") == raw.count(ending)
        and b"auto" not in raw
        and b"# mine" in raw
    )
    assert cli("check", link).code == 0


@pytest.mark.slow
def test_long_work_shows_how_far_it_is_and_takes_it_away(put):
    """On a terminal that can; a pipe, a dumb terminal and the result itself stay clean."""
    script = '[rehearsal]\nlasts = "24h"\n'
    impatient = [sys.executable, "-c", IMPATIENT]
    text = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[led.l]\npin = 25\nshows = "1 > 2"\n'
    device = put({"device.toml": text, "script.toml": script})
    words = ["rehearse", str(device), "--script", str(device.parent / "script.toml")]
    said = terminal(words, call=impatient, NO_COLOR="1")
    shares = [int(share) for share in re.findall(r"\rrehearsing device +(\d+)%", said)]
    assert shares == sorted(shares) and len(shares) > 2
    assert "rehearsing" not in said.split("\r")[-1] and "passed bench" in said
    quiet = subprocess.run([*ZAPATO, *words], capture_output=True, text=True)
    assert "\r" not in quiet.stderr and "rehearsing" not in quiet.stdout
    assert all(line.startswith("rehearsing device") for line in quiet.stderr.splitlines()), (
        "a line now and then, where it takes long"
    )
    assert "\rrehearsing" not in terminal(words, call=impatient, TERM="dumb")


def test_what_an_extra_brings_is_named_where_it_is_missing(site, cli, monkeypatch):
    for package, words, extra in (
        ("matplotlib", ["draw", site / "devices" / "boot-dryer.toml", "--out", "x.png"], "pictures"),
        ("uvicorn", ["hub", "--demo", "--web", "0"], "hub"),
    ):
        with monkeypatch.context() as without:
            for name in [
                each
                for each in sys.modules
                if each.partition(".")[0] == package
                or each.startswith(("zapato.draw", "zapato.hub.web", "zapato.cli.hub"))
            ]:
                without.delitem(sys.modules, name)
                parent, _, child = name.rpartition(".")
                if hasattr(
                    sys.modules.get(parent), child
                ):  # loaded anew it would stay there in place of the first
                    without.setattr(sys.modules[parent], child, getattr(sys.modules[parent], child))
            without.setitem(sys.modules, package, None)
            called = cli(*words)
        assert called.code == 2 and f"pip install 'zapato[{extra}]'" in called.err, called


def test_the_public_calls_are_there_and_typed():
    assert set(zapato.__all__) <= set(dir(zapato)) and all(getattr(zapato, name) for name in zapato.__all__)
    assert (Path(zapato.__file__).parent / "py.typed").is_file()
    with pytest.raises(AttributeError, match="no attribute 'nothing'"):
        zapato.nothing  # noqa: B018


def test_what_follows_from_a_design_as_calls(site):
    one, other = (zapato.load(site / "devices" / f"{name}.toml") for name in ("boot-dryer", "kettle-plug"))
    assert {each.what for each in zapato.diff(one, other)} and zapato.diff(one, one) == []
    assert any(each.name.endswith("/heater/on/set") for each in zapato.list_topics(one))
    assert any("heater" in f"{wire}" for wire in zapato.wires(one).wires)
    rows = zapato.budget(one).of("memory")
    parts = [row.value for row in rows if row.what == "of that"]
    whole = next(row.value for row in rows if row.of == "heap")
    assert abs(sum(parts) - whole) < len(parts) and parts == sorted(parts, reverse=True)


def test_changed_without_a_repository_is_one_line(put, cli):
    called = cli("check", put(BAD), "--changed", "HEAD")
    assert called.code == 2 and called.err.count("\n") == 1 and "git does not know what changed" in called.err


@pytest.mark.slow
def test_thousands_of_equal_links_are_still_a_moment(put):
    """Once a minute's work: links that all wait for the same thing and do the same."""
    text = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[flag.f]\n[flag.g]\n'
    links = '[[link]]\nwhen = "f.on"\ndo = "g.on = true"\n' * 20_000
    done = subprocess.run(
        [*ZAPATO, "check", str(put(text + links))], capture_output=True, text=True, timeout=60
    )
    assert done.returncode == 1 and "memory-heap" in done.stdout
