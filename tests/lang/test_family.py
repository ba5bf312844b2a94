"""Families: one device file and a table, a device for each row; every finding names the row that it came from."""

import json
import re
from pathlib import Path

import pytest

import zapato
from zapato.checks import device_files

PAGE = (Path(__file__).parents[2] / "docs" / "sites.md").read_text("utf-8")
SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
FILE = """zapato = 1
with = "tables/lockers.csv"
use  = ["pieces/locker.toml"]

[device]
name  = { with = "name" }
label = { with = "label" }
board = "esp32c3-mini"

[relay.bolt]
pin = { with = "bolt" }
"""
PIECE = """[contact.door]
pin   = 5
pull  = "up"
quiet = { with = "quiet" }
"""


def table(count: int = 6, **wrong: str) -> str:
    """A table of lockers; `wrong` replaces the cells of a row by its number."""
    rows = [f'locker-{n:02d},"Locker {n}, left",{6 + n % 2},{n}s' for n in range(1, count + 1)]
    for number, text in wrong.items():
        rows[int(number[1:]) - 1] = text
    return "\n".join(["name,label,bolt,quiet", *rows]) + "\n"


@pytest.fixture
def lockers(put):
    def made(csv: str, file: str = FILE, **more: str) -> Path:
        files = {
            "site.toml": SITE,
            "devices/lockers.toml": file,
            "pieces/locker.toml": PIECE,
            "tables/lockers.csv": csv,
        }
        return put(files | {name.replace("__", "/") + ".toml": text for name, text in more.items()}).parent

    return made


def root(path: Path) -> Path:
    return next(each for each in (path, *path.parents) if (each / "site.toml").exists())


def test_a_row_is_a_device(lockers):
    home = root(lockers(table()))
    paths = device_files(home / "devices" / "lockers.toml")
    assert [each.name for each in paths] == [f"locker-{n:02d}" for n in range(1, 7)]
    report = zapato.check(home)
    assert not report.findings and len(report.devices) == 6
    one = zapato.load(paths[2])
    assert (one.name, one.label, one.parts["bolt"].pins["pin"].gpio) == ("locker-03", "Locker 3, left", 7)
    assert one.parts["door"].values["quiet"] == 3000 and one.topic == "refuge/locker-03"


WRONG = {
    "a pin that is none": ("locker-03,L,99,3s", "tables/lockers.csv:4", "pin-absent", "locker-03"),
    "a time without a unit": ("locker-03,L,6,fast", "tables/lockers.csv:4", "wrong-type", "locker-03"),
    "no cell": ("locker-03,L,,3s", "devices/lockers.toml:11", "missing-key", "locker-03"),
    "a name that cannot be": ("Locker 3,L,6,3s", "tables/lockers.csv:4", "bad-name", "Locker 3"),
    "a name twice": ("locker-01,L,6,3s", "tables/lockers.csv:4", "device-taken", "locker-01"),
    "a boot pin": ("locker-03,L,9,3s", "tables/lockers.csv:4", "pin-boot-glitch", "locker-03"),
}


@pytest.mark.parametrize("name", WRONG)
def test_a_finding_names_the_row_it_came_from(lockers, cli, monkeypatch, name):
    row, place, code, _ = WRONG[name]
    home = root(lockers(table(r3=row)))
    monkeypatch.chdir(home)
    found = [f for f in zapato.check(home).findings if f.code == code]
    assert len(found) == 1, zapato.check(home).findings
    assert f"{found[0].place.file}:{found[0].place.line}" == place
    assert found[0].row == "tables/lockers.csv:4"
    said = cli("check", ".")
    assert "row: " in said.out and "tables/lockers.csv:4" in said.out
    rows = json.loads(cli("check", ".", "--format", "json").out)["findings"]
    assert [each["row"] for each in rows if each["code"] == code] == ["tables/lockers.csv:4"]


def test_what_is_wrong_with_others_is_theirs_to_hear(lockers):
    home = root(lockers(table(r2="locker-01,L,6,3s")))
    assert not zapato.check(home / "devices" / "lockers.toml" / "locker-03").findings
    assert [f.code for f in zapato.check(home / "devices" / "lockers.toml").findings] == ["device-taken"]


def test_what_compares_devices_names_the_row_too(lockers):
    """Addresses, topics and networks of members, out of their rows and for all of them."""
    more = (
        '[ethernet]\naddress = { with = "bolt" }\n[mqtt]\nhost = "192.168.4.2"\ntopic = { with = "quiet" }\n'
    )
    file = FILE.replace('pin = { with = "bolt" }', "pin = 6").replace("esp32c3-mini", "esp32-poe") + more
    file = file.replace('use  = ["pieces/locker.toml"]\n', "").replace("pin = 6", "pin = 4")
    rows = [
        "a,A,192.168.4.300,refuge/a",
        "b,B,192.168.4.1,refuge/b",
        "c,C,192.168.4.9,refuge/b",
        "d,D,192.168.4.9,refuge/d",
    ]
    home = root(lockers("\n".join(["name,label,bolt,quiet", *rows]) + "\n", file))
    (home / "site.toml").write_text(SITE + '[lan]\nnetwork = "192.168.4.0/24"\nrouter = "192.168.4.1"\n')
    found = {
        (f.code, f.device, f.place.line, f.row.rpartition(":")[2])
        for f in zapato.check(home).findings
        if f.severity == "error"
    }
    assert found == {
        ("ip-outside", "a", 2, "2"), ("ip-taken", "b", 3, "3"), ("mqtt-topic-taken", "c", 4, "4"), ("ip-taken", "d", 5, "5"),
    }  # fmt: skip
    wifi = FILE + '[wifi]\nname = "hall"\npassword = "short"\n'
    report = zapato.check(root(lockers(table(3), wifi)))
    assert [f.device for f in report.findings if f.code == "wifi-password"] == [
        "locker-01",
        "locker-02",
        "locker-03",
    ]


def test_a_cell_s_line_is_shown_where_others_clash(lockers, cli, monkeypatch):
    home = root(lockers(table(3, r3="locker-01,L,6,3s")))
    monkeypatch.chdir(home)
    said = cli("check", ".").out
    assert (
        "    4 | locker-01,L,6,3s" in said
        and "^^^^^^^^^" in said
        and "belongs to tables/lockers.csv:2 already" in said
    )


BEGINNINGS = {
    "a mark, comments, dos": "\ufeff# lockers\r\n" + "# more\r\n" * 900 + FILE.replace("\n", "\r\n"),
    "blanks and quotes": FILE.replace('with = "tab', ' "with" = "tab'),
    "no family: a table of values": FILE.replace(
        'with = "tables/lockers.csv"', "with = { quiet = '1s', name = 'x', label = 'y', bolt = 6 }"
    ),
}


@pytest.mark.parametrize("name", BEGINNINGS)
def test_a_family_is_known_by_its_beginning(lockers, name):
    home = root(lockers(table(3), BEGINNINGS[name]))
    count = 1 if name.startswith("no family") else 3
    assert len(device_files(home)) == count
    if count == 3:
        assert not zapato.check(home).findings


def test_links_of_pieces_and_rows_keep_their_places(lockers):
    """A row fills a link; its mistake is told at the link, though links of a piece stand before it."""
    link = '[[link]]\nwhen = "door.opened"\ndo = { with = "label" }\n'
    home = root(lockers(table(2, r1="locker-01,bolt.on,6,1s", r2="locker-02,bolt.onn,6,1s"), FILE + link))
    (home / "pieces" / "locker.toml").write_text(PIECE + '[[link]]\nwhen = "door.closed"\ndo = "bolt.off"\n')
    found = [
        (f.code, f.device, f.place.file.rpartition("/")[2], f.place.line) for f in zapato.check(home).findings
    ]
    assert found == [("link-unknown", "locker-02", "lockers.toml", FILE.count("\n") + 3)]


def test_many_rows_stand_in_a_table_and_many_members_are_quickly_held_against(lockers):
    rows = ", ".join(f'{{ name = "n{n}", label = "x", bolt = 6, quiet = "1s" }}' for n in range(101))
    home = root(lockers(table(), FILE.replace('"tables/lockers.csv"', f"[{rows}]")))
    assert "want a table of their own" in zapato.check(home).findings[0].message
    from zapato.checks import site_files

    home = root(lockers(table(400)))
    (home / "devices" / "desk.toml").write_text(
        'zapato = 1\n[device]\nname = "locker-321"\nboard = "esp32-38pin"\n[relay.r]\npin = 26\n'
    )
    looked, sketch = [], site_files.sketch
    try:
        site_files.sketch = lambda path: looked.append(path.name) or sketch(path)
        found = zapato.check(home / "devices" / "desk.toml").findings
    finally:
        site_files.sketch = sketch
    assert [f.code for f in found] == ["device-taken"] and looked == ["locker-321"]


def test_what_a_worker_sends_is_little(lockers):
    import pickle

    from zapato.checks.result import look_at_all

    home = root(lockers(table(40)))
    found = look_at_all(device_files(home), whole=True)
    assert len(found) == 40 and len(pickle.dumps(found)) < 40 * 1200
    assert not [each for each in found if "design" in each.__dict__]


def test_what_was_met_goes_into_the_table_by_hand(lockers, cli, monkeypatch):
    from zapato.heard import write_heard

    home = root(lockers(table(2)))
    design = zapato.load(home / "devices" / "lockers.toml" / "locker-02")
    with pytest.raises(zapato.ZapatoError, match="one of a family") as error:
        write_heard(design, {}, "0x76", "sensor.x")
    assert error.value.fix.endswith("lockers.csv:3")


def test_an_editor_s_schema_takes_a_family(lockers):
    import tomllib

    import jsonschema_rs

    from zapato.design.schema import schema

    for text in (FILE, FILE.replace('"tables/lockers.csv"', '[{ name = "a", bolt = 6 }]')):
        jsonschema_rs.validate(schema(), tomllib.loads(text))
    with pytest.raises(jsonschema_rs.ValidationError):
        jsonschema_rs.validate(schema(), tomllib.loads(FILE.replace('{ with = "bolt" }', "{ with = 3 }")))


def test_what_is_wrong_for_all_is_told_once(lockers, cli, monkeypatch):
    home = root(lockers(re.sub(",[67],", ",6,", table()), FILE + "[led.l]\npin = 5\n"))
    monkeypatch.chdir(home)
    said = cli("check", ".")
    assert (
        said.out.count("error pin-taken") == 1
        and "rows: locker-01 (tables/lockers.csv:2), locker-02" in said.out
    )
    assert cli("check", "devices/lockers.toml/locker-02").out.count("row: locker-02") == 1
    assert cli("check", "devices/lockers.toml/locker-2").code == 2


TABLES = {
    "no table": ("", None, "cannot read tables/lockers.csv"),
    "no rows": ("name,label,bolt,quiet\n", None, "no rows"),
    "too many cells": (table(r2="locker-02,L,6,2s,more"), None, "line 3: more cells than columns"),
    "a quote that never ends": (table(r2='locker-02,"L,6,2s'), None, "a quote is not closed"),
    "comments and empty lines": (table() + "\n#locker-07,L,6,2s\n,,,\n", 6, ""),
    "semicolons, and a mark at its beginning": (
        "\ufeff" + table().replace(", left", " left").replace(",", ";"),
        6,
        "",
    ),
    "another country's letters": (table().replace("Locker 1,", "Schr\xe4nke 1,"), None, "not UTF-8"),
    "quotes, spaces, dos": (table().replace(",", " , ").replace("\n", "\r\n"), 6, ""),
}


@pytest.mark.parametrize("name", TABLES)
def test_tables_as_people_write_them(lockers, monkeypatch, name):
    csv, count, words = TABLES[name]
    home = root(lockers(csv or table()))
    monkeypatch.chdir(home)
    (home / "tables" / "lockers.csv").write_bytes(csv.encode("latin-1" if "\xe4" in csv else "utf-8"))
    if not csv:
        (home / "tables" / "lockers.csv").unlink()
    report = zapato.check(home)
    if count:
        assert not report.findings and len(report.devices) == count
    else:
        assert words in " ".join(f.message for f in report.findings)


def test_rows_in_toml_and_in_the_file_itself(lockers):
    rows = '[[row]]\nname = "locker-01"\nlabel = "One"\nbolt = 6\nquiet = "1s"\n[[row]]\nname = "locker-02"\nlabel = "Two"\nbolt = 99\nquiet = "1s"\n'
    home = root(lockers(table(), FILE.replace("lockers.csv", "lockers.toml"), tables__lockers=rows))
    found = zapato.check(home).findings
    assert [(f.code, f.place.line, f.row.rpartition("/")[2]) for f in found] == [
        ("pin-absent", 9, "lockers.toml:6")
    ]
    own = 'with = [{ name = "a", label = "A", bolt = 6, quiet = "1s" },\n  { name = "b", label = "B", bolt = 98, quiet = "1s" }]'
    home = root(lockers(table(), FILE.replace('with = "tables/lockers.csv"', own)))
    found = zapato.check(home / "devices" / "lockers.toml").findings
    assert [(f.code, f.place.line, f.device) for f in found] == [("pin-absent", 3, "b")]


def test_a_family_is_built_rehearsed_heard_and_kept_apart(lockers, cli, monkeypatch):
    script = '[rehearsal]\nlasts = "20s"\n[world]\ndoor.closed = true\n[[step]]\nat = "5s"\nact = "door.closed = false"\n[[step]]\nwithin = "9s"\nexpect = "not door.closed"\n'
    desk = 'zapato = 1\n[device]\nname = "desk"\nboard = "esp32-38pin"\n[led.l]\npin = 25\nshows = "not locker-02.door.closed"\n'
    home = root(lockers(table(3), rehearsals__lockers=script, devices__desk=desk))
    monkeypatch.chdir(home)
    assert not zapato.check(home).findings
    ran = cli("rehearse", "devices/lockers.toml", "--brief")
    assert ran.code == 0 and ran.out.count("passed locker-0") == 3
    built = cli("build", "devices/lockers.toml")
    assert built.code == 0 and "3 of 3 devices built" in built.out
    assert {each.name for each in (home / "out").iterdir()} == {"locker-01", "locker-02", "locker-03"}
    about = {
        n: json.loads((home / "out" / f"locker-0{n}" / "build.json").read_text())["inputs"] for n in (1, 2)
    }
    assert about[1]["row"] != about[2]["row"] and about[1]["device"] == about[2]["device"]
    (home / "tables" / "lockers.csv").write_text(table(3, r2="locker-02,Another,6,2s"))
    again = cli("build", "devices/lockers.toml")
    assert again.out.count("unchanged locker") == 2 and "built locker-02" in again.out
    (home / "tables" / "lockers.csv").write_text(table(3, r2="locker-02,Another one,6,2s"))
    assert cli("check", "devices/lockers.toml", "--changed").out == "locker-02: no findings\n"
    # one that is read alone is still held against the others of its family, and of its site
    (home / "devices" / "desk.toml").write_text(desk.replace('"desk"', '"locker-01"'))
    assert "device-taken" in {f.code for f in zapato.check(home / "devices" / "desk.toml").findings}


def test_the_page_s_family_checks_clean(put):
    blocks = re.findall(r"```(?:toml|csv)\n(# (?:family|tables)/?[^\n]*\n.*?)```", PAGE, re.DOTALL)
    files = {}
    for text in blocks:
        name, _, body = text.partition("\n")
        files[name.removeprefix("# ").removeprefix("family/")] = body
    home = put(files | {"site.toml": SITE}).parent
    report = zapato.check(home)
    assert not report.findings and len(report.devices) == 3
