"""Changing device files: ways out put into the text, a part renamed everywhere, what is offered at a cursor."""

import re
import shutil
import sys
import tomllib
from pathlib import Path
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.checks import rule, rules
from zapato.checks.rule import files
from zapato.design import resolve
from zapato.editing import Edit, applied, fix, places_of, rename, ways
from zapato.editing.cursor import cursor
from zapato.editing.layout import formatted
from zapato.editing.notes import hints, home, note, sections
from zapato.editing.offers import offers
from zapato.errors import Refused, UnknownName, Unwritable
from zapato.lang.edit import save
from zapato.lang.unsaved import unsaved

DEVICE = """zapato = 1

[device]
name = "porch"
board = "esp8266-30pin"

[relay.lamp]
pin = "D1"      # the lamp
label = "lamp"

[button.wall]
pin = "D2"
pull = "up"

[number.level]
start = 3

[[link]]
when = "wall.pressed"
if = "level.value > 2 and not lamp.on"
do = ["lamp.on", "notify('the lamp is {lamp.on}')"]
"""


def _found(report, codes=()):
    return sorted((f.code, f.message) for f in report if not codes or f.code in codes)


# --- ways out


@pytest.mark.parametrize("code", [each for each in rules() if "device.toml" in files(rule(each).failing)])
def test_a_way_out_that_can_be_written_leaves_a_file_that_reads(code, put):
    """Of every code's own example: the text still is TOML, and what is certain takes the finding away."""
    path = put(files(rule(code).failing))
    before = zapato.check(path)
    for finding in (each for each in before if each.code == code):
        text = before.texts.get(finding.place.file, "")
        for way in ways(finding, text):
            new = applied(text, way.edits)
            assert new != text
            if code != "toml-syntax":
                tomllib.loads(new)
            if way.certain:
                with unsaved({Path(finding.place.file): new}):
                    after = zapato.check(path)
                assert (finding.code, finding.message) not in _found(after), way.title


WRITTEN = [
    ("[relay.lamp]", "[relais.lamp]", "[relay.lamp]"),
    ('pull = "up"', 'pul = "up"', 'pull = "up"'),
    ("wall.pressed", "wal.pressed", "wall.pressed"),
    ("wall.pressed", "wall.presed", "wall.pressed"),
    ('do = ["lamp.on"', 'do = ["lamp.onn"', 'do = ["lamp.on"'),
    ("level.value > 2", "level.valu > 2", "level.value > 2"),
    ("zapato = 1\n\n", "", "zapato = 1\n\n"),
    ("[device]", "[devise]", "[device]"),
]


@pytest.mark.parametrize(("right", "wrong", "mended"), WRITTEN)
def test_what_is_written_wrongly_is_mended(right, wrong, mended, put, cli):
    path = put(DEVICE.replace(right, wrong, 1))
    assert cli("fix", path, "--dry-run").code == 0 and path.read_text() == DEVICE.replace(right, wrong, 1)
    assert cli("fix", path).code == 0
    assert path.read_text() == DEVICE and mended in path.read_text()
    again = cli("fix", path)
    assert again.code == 0 and again.out.startswith("nothing can be corrected")


LEFT = [
    ('pin = "D1"', 'pin = "D2"', "a pin is a wire"),
    ('board = "esp8266-30pin"', 'board = "esp8266-31pin"', "a board is in somebody's hand"),
    ("start = 3", 'start = "3 V"', "a value is somebody's choice"),
    ('pull = "up"', "", "how a button is wired"),
    ("lamp.on and", "zzzzz.on and", "no name is near"),
    ("lamp.on and", "lamp2.on and", "another lamp is no slip"),
    ('pull = "up"', 'pull = "upp"', "a value is somebody's choice"),
]


@pytest.mark.parametrize(("right", "wrong", "why"), LEFT)
def test_what_only_people_know_is_left_to_them(right, wrong, why, put):
    path = put(DEVICE.replace(right, wrong, 1))
    found = fix([path])
    assert not found.made and not found.texts.changed, why


def test_mending_is_settled_and_touches_no_wire(site):
    """Letters lost at random from the demo's devices: a second call finds nothing to do, and no pin is another."""
    chance = Random(7)
    for path in sorted((site / "devices").glob("*.toml")):
        text = path.read_text()
        words = [
            each
            for each in re.finditer(r"[a-z]{5,}", text)
            if "#" not in text[: each.start()].split("\n")[-1]
        ]
        for each in chance.sample(words, 4):
            at = chance.randrange(each.start(), each.end())
            broken = text[:at] + text[at + 1 :]
            path.write_text(broken)
            found = fix([path])
            found.texts.write()
            assert not fix([path]).made
            assert re.findall(r"(?m)^pin\s*=.*$", path.read_text()) == re.findall(r"(?m)^pin\s*=.*$", broken)
        path.write_text(text)


def test_in_a_large_site_only_files_with_mistakes_are_tried(put, monkeypatch):
    """A try checks a file with its neighbours: with all files the time would grow with the square of the site's size."""
    files = {
        f"devices/d{n}.toml": DEVICE.replace('"porch"', f'"d{n}"').replace(
            "label", "lable" if n == 7 else "label"
        )
        for n in range(12)
    }
    home = put({"site.toml": '[site]\nname = "refuge"\n[wifi]\nnmae = "hall"\n'} | files).parent
    module, alone = sys.modules["zapato.editing.fix"], []
    check = module.check_files
    monkeypatch.setattr(
        module, "check_files", lambda paths, files: alone.append(len(files)) or check(paths, files)
    )
    mended = fix([home])
    assert {line for _, _, _, line in mended.made} == {'label = "lamp"', 'name = "hall"'}
    assert alone.count(1) <= 8 and "unknown-key" not in {finding.code for finding in mended.left}
    assert alone[-1] == 12


# --- renaming


def _texts(site):
    return {path: path.read_text() for path in sorted(site.rglob("*.toml"))}


@pytest.mark.slow(25)
def test_every_part_of_the_demo_can_be_called_otherwise_and_back(site):
    """Nothing is found after it that was not before, and the way back gives the same bytes."""
    before, clean = _texts(site), len(zapato.check(site))
    for path in sorted((site / "devices").glob("*.toml")):
        for part in list(resolve(path).parts):
            rename(path, part, "other_name").texts.write()
            assert _texts(site) != before and len(zapato.check(site)) == clean, (path.name, part)
            assert part not in resolve(path).parts
            rename(path, "other_name", part).texts.write()
            assert _texts(site) == before, (path.name, part)


@pytest.mark.slow
def test_a_renamed_part_is_found_wherever_it_is_named(site, cli):
    places = places_of(site / "devices" / "gear-locker.toml", "door")
    assert {path.parent.name + "/" + path.name for path in places} == {
        "devices/gear-locker.toml",
        "devices/boot-dryer.toml",
        "rehearsals/boot-dryer.toml",
        "rehearsals/site.toml",
    }
    for path, edits in places.items():
        lines = path.read_text().split("\n")
        assert all(lines[e.line - 1][e.column - 1 :].startswith("door") for e in edits)
    said = cli("rename", site / "devices" / "boot-dryer.toml", "heater", "oven")
    assert said.code == 0 and "refuge/boot-dryer/heater/… becomes refuge/boot-dryer/oven/…" in said.out
    result = zapato.rehearse(site / "devices" / "boot-dryer.toml")
    assert result.passed, "its rehearsal, with its topics, follows"


def test_words_for_people_stay(put):
    path = put(DEVICE)
    found = rename(path, "lamp", "light")
    (_, new), *_ = found.texts.changed.values()
    assert 'label = "lamp"' in new and "# the lamp" in new and "the lamp is {light.on}" in new
    assert new.count("light") == 4 and path.read_text() == DEVICE


def test_words_of_an_alert_stay(put):
    """Only what stands in braces is a name, with an apostrophe in the text or without."""
    text = "In the lamp's room the lamp isn't on: {porch.lamp.on}; its lamp"
    head = '[site]\nname = "hut"\n[wifi]\nname = "hut"\n[mqtt]\nhost = "10.0.0.2"\n'
    alert = f'[[alert]]\nname = "dark"\nwhen = "not porch.lamp.on"\ntext = "{text}"\n'
    root = put({"site.toml": head, "alerts.toml": alert, "devices/porch.toml": DEVICE}).parent
    assert not [each for each in zapato.check(root) if each.severity == "error"]
    rename(root / "devices" / "porch.toml", "lamp", "light").texts.write()
    assert text.replace("porch.lamp", "porch.light") in (root / "alerts.toml").read_text()


PIECE = {
    "site.toml": '[site]\nname = "hut"\n',
    "pieces/lamp.toml": '[relay.lamp]\npin = 26\n\n[[link]]\nwhen = "lamp.on"\nheld = "1h"\ndo = "lamp.off"\n',
    "devices/one.toml": 'zapato = 1\nuse = "pieces/lamp.toml"\n[device]\nname = "one"\nboard = "esp32-38pin"\n',
    "devices/two.toml": 'zapato = 1\nuse = "pieces/lamp.toml"\n[device]\nname = "two"\nboard = "esp32-38pin"\n'
    '[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "lamp.toggle"\n',
}


def test_a_part_of_a_piece_is_renamed_in_every_device_that_uses_it(put):
    root = put(PIECE).parent
    rename(root / "devices" / "one.toml", "lamp", "light").texts.write()
    assert "lamp." not in (root / "devices" / "two.toml").read_text().replace("lamp.toml", "")
    assert [f.code for f in zapato.check(root) if f.severity == "error"] == []


FAMILY = {
    "site.toml": '[site]\nname = "hut"\n[wifi]\nname = "hut"\n[mqtt]\nhost = "10.0.0.2"\n',
    "tables/l.csv": "name,pin\nl-one,26\nl-two,27\n",
    "devices/l.toml": 'zapato = 1\nwith = "tables/l.csv"\n[device]\nname = { with = "name" }\nboard = "esp32-38pin"\n'
    '[relay.lamp]\npin = { with = "pin" }\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "lamp.toggle"\n',
    "devices/l-o.toml": 'zapato = 1\n[device]\nname = "l-o"\nboard = "esp32-38pin"\n[relay.lamp]\npin = 26\n'
    '[[link]]\nwhen = "l-two.lamp.on"\ndo = "lamp.on"\n',
    "rehearsals/l-one.toml": '[rehearsal]\nlasts = "9s"\n[[step]]\nat = "1s"\nact = "message(\'lamp/on/set\', \'true\')"\n',
    "rehearsals/l-o.toml": '[rehearsal]\nlasts = "9s"\n[[step]]\nat = "1s"\nact = "message(\'lamp/on/set\', \'true\')"\n',
}


@pytest.mark.parametrize("asked", ["devices/l.toml", "devices/l.toml/l-one"])
def test_a_part_of_a_family_is_renamed_for_all_members_and_whoever_hears_one(asked, put):
    root = put(FAMILY).parent
    assert not [f for f in zapato.check(root) if f.severity == "error"]
    rename(root / asked, "lamp", "light").texts.write()
    assert not [f for f in zapato.check(root) if f.severity == "error"]
    assert "lamp" not in (root / "devices" / "l.toml").read_text()
    other = (root / "devices" / "l-o.toml").read_text()
    assert "l-two.light.on" in other and "[relay.lamp]" in other, "another device's lamp stays"
    assert "light/on/set" in (root / "rehearsals" / "l-one.toml").read_text()
    assert "lamp/on/set" in (root / "rehearsals" / "l-o.toml").read_text(), "its name only begins alike"


def test_all_files_are_written_or_none(put, monkeypatch):
    """A disk that is full in the middle, a file that somebody saved meanwhile: everything is as it was, and the call can be made again."""
    root = put(PIECE).parent
    before = _texts(root)
    found = rename(root / "devices" / "two.toml", "b", "wall")
    whole = rename(root / "devices" / "one.toml", "lamp", "light")
    saved = []

    def full(source, text):
        if len(saved) == 1:
            saved.append("full")
            raise Unwritable("no space left on device")
        saved.append(source.path)
        save(source, text)

    monkeypatch.setattr("zapato.editing.change.save", full)
    with pytest.raises(Unwritable):
        whole.texts.write()
    assert len(saved) == 3 and _texts(root) == before
    (root / "devices" / "two.toml").write_text(before[root / "devices" / "two.toml"] + "# mine\n")
    with pytest.raises(Unwritable, match="changed meanwhile"):
        found.texts.write()
    assert "# mine" in (root / "devices" / "two.toml").read_text()


@pytest.mark.parametrize(
    ("old", "new", "error"),
    [
        ("lamp", "wall", Refused),
        ("lamp", "Lamp", Refused),
        ("lamp", "device", Refused),
        ("lampe", "x", UnknownName),
    ],
)
def test_names_that_cannot_be(old, new, error, put, cli):
    path = put(DEVICE)
    with pytest.raises(error):
        rename(path, old, new)
    assert cli("rename", path, old, new).code in (1, 2) and path.read_text() == DEVICE


# --- at the cursor


def _at(text: str):
    """The text without its mark "|", and the mark's line and column."""
    at = text.index("|")
    return text[:at] + text[at + 1 :], text[:at].count("\n") + 1, at - text.rfind("\n", 0, at)


OFFERED = [
    ("\n[rel|", {"relay"}, {"wall"}),
    ("\n[sensor.room]\n|", {"chip", "every"}, {"shows"}),
    ("\n[relay.x]\nactive = |", {"low", "high"}, set()),
    ('\n[relay.x]\nactive = "|', {"low", "high"}, set()),
    ("\n[sensor.room]\nchip = |", {"dht22", "sht40"}, {"lamp"}),
    ('\n[group.all]\nof = ["|', {"lamp", "wall"}, set()),
    ('\n[[link]]\nwhen = "wa|', {"wall", "lamp"}, {"notify"}),
    ('\n[[link]]\nwhen = "wall.|', {"pressed"}, {"toggle"}),
    ('\n[[link]]\ndo = "lamp.|', {"toggle", "on"}, {"pressed"}),
    ('\n[[link]]\ndo = ["lamp.on",\n  "lamp.|', {"toggle"}, {"pressed"}),
    ('\n[[link]]\nif = "lamp.on and level.|', {"value"}, {"toggle"}),
    ('\n[led.x]\nshows = "lamp.|', {"on"}, set()),
    ('\n[led.x]\npin = "|', {"D5 (GPIO14)"}, {"D1 (GPIO5)"}),
    ('\n[[link]]\n# when = "wa|', set(), {"wall"}),
    ('\n[[link]]\nwhen = "a" # wa|', set(), {"wall"}),
]


@pytest.mark.parametrize(("typed", "there", "absent"), OFFERED)
def test_what_is_offered(typed, there, absent, put):
    text, line, column = _at(DEVICE + typed)
    path = put(text)
    labels = {each.label for each in offers(resolve(path), cursor(text, line, column))}
    assert there <= labels and not absent & labels


def test_secrets_are_offered_by_name_and_never_told(put):
    text, line, column = _at(DEVICE + '\n[wifi]\nname = "hut"\npassword = { secret = "wi|')
    path = put(
        {
            "site.toml": '[site]\nname = "hut"\n',
            "secrets.toml": 'wifi = "goats and hay"\n',
            "device.toml": text,
        }
    )
    found = offers(resolve(path), cursor(text, line, column))
    assert [each.label for each in found] == ["wifi"] and "goats" not in repr(found)


@pytest.mark.parametrize("device", ["boot-dryer", "porch-light", "gear-locker"])
def test_every_pin_that_is_offered_can_be_taken(device, site):
    """Written where it was offered, it brings no error; the first brings no warning of a pin either."""
    path = site / "devices" / f"{device}.toml"
    text = path.read_text()
    for found in list(re.finditer(r"(?m)^pin\s*= (?=\d|\"D)", text))[:4]:
        line, column = text[: found.end()].count("\n") + 1, found.end() - text.rfind("\n", 0, found.end())
        old = re.match(r'\d+|"[^"]*"', text[found.end() :])[0]
        pins = [e for e in offers(resolve(path), cursor(text, line, column)) if e.sort == "pin"]
        assert pins
        for rank, each in enumerate(pins):
            with unsaved({path: applied(text, [Edit(line, column, len(old), each.insert)])}):
                report = zapato.check(path)
            errors = [f for f in report if f.severity == "error" and f.code.startswith("pin-")]
            assert not errors, (each, errors)
            assert rank or not [f for f in report if f.code.startswith("pin-") and f.severity == "warning"]


NOTED = [
    ("[rel|ay.lamp]", "lamp.on"),
    ('pin = "D|1"', "GPIO5"),
    ("pu|ll = ", "pull"),
    ('when = "wall.pre|ssed"', "pressed"),
    ("level.val|ue", "number"),
    ('board = "esp8266|-30pin"', "ESP8266"),
]


@pytest.mark.parametrize(("typed", "said"), NOTED)
def test_what_is_said_of_a_place(typed, said, put):
    text, line, column = _at(DEVICE.replace(typed.replace("|", ""), typed, 1))
    design = resolve(put(text))
    assert said in note(design, cursor(text, line, column), text, line, column)


def test_where_a_name_is_at_home(site):
    path = site / "devices" / "boot-dryer.toml"
    text, line, column = _at(path.read_text().replace("gear-locker.door", "gear-locker.do|or", 1))
    place = home(resolve(path), text, line, column)
    assert Path(place.file).name == "gear-locker.toml"
    assert "[contact.door]" in (site / "devices" / "gear-locker.toml").read_text().split("\n")[place.line - 1]


def test_the_tables_of_a_text():
    assert [each.title for each in sections(DEVICE)] == [
        "device", "relay.lamp", "button.wall", "number.level", 'link "wall.pressed"'
    ]  # fmt: skip
    assert sections(DEVICE)[1].last == 9


# --- while saving


def test_after_a_save_only_what_changed_is_told(put):
    from zapato.checks.follow import Follower

    path = put(DEVICE)
    follower = Follower([path])
    first = follower.look()
    assert first is not None and not first.files and follower.look() is None
    path.write_text(DEVICE.replace('"D2"', '"D1"'))
    broken = follower.look()
    assert [f.code for f in broken.came] == ["pin-taken"] and not broken.went
    for folder in (".git", "_old", "out"):
        (path.parent / folder).mkdir()
        (path.parent / folder / "other.toml").write_text("x")
    assert follower.look() is None, "what is hidden or was made there is no file of the site"
    path.write_text("# a line more\n" + DEVICE.replace('"D2"', '"D1"'))
    moved = follower.look()
    assert moved.files == (path,) and not moved.came and not moved.went
    path.write_text(DEVICE)
    assert [f.code for f in follower.look().went] == ["pin-taken"]
    shutil.move(path, path.with_name("gone.toml"))
    assert follower.look() is None, "a file that is just being replaced"
    shutil.move(path.with_name("gone.toml"), path)
    assert follower.look() is None or not follower.look()


@given(st.data())
def test_an_even_layout_changes_nothing_else(data):
    """Whatever stands there: the same values, the same comments, and a second call changes nothing."""
    text = (Path(zapato.__file__).parent / "demo" / "site" / "devices" / "rack-strip.toml").read_text()
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(text)))
        new = data.draw(
            st.sampled_from(
                ["", '"', "#", "[", "]", "=", "\n", "\n\n", "  ", "'''", '"""', "\\", "\r\n", "x=1#"]
            )
        )
        text = text[:at] + new + text[at + data.draw(st.integers(0, 5)) :]
    made = formatted(text)
    try:
        before = tomllib.loads(text.replace("\r\n", "\n"))
    except tomllib.TOMLDecodeError:
        assert made == text
        return
    assert tomllib.loads(made.replace("\r\n", "\n")) == before and formatted(made) == made


LAYOUT = {
    "a=1\n": "a = 1\n",
    "a   = 1 # x\nlong = 2   # y\n": "a = 1   # x\nlong = 2   # y\n",
    "a    = 1\nlong = 2\n": "a    = 1\nlong = 2\n",
    "a = 1\n[t]\n\n\n\nb=2   \n": "a = 1\n\n[t]\n\nb = 2\n",
    "a = 1\n# of t\n[t]\n": "a = 1\n\n# of t\n[t]\n",
    "a = [\n  1,  \n  2 ] # c\nb=3\n": "a = [\n  1,\n  2 ] # c\nb = 3\n",
    'a = """\nx  \n\n\n[no]\nb=3\n"""\n': 'a = """\nx  \n\n\n[no]\nb=3\n"""\n',
    "a = 'x # y'# z\r\n": "a = 'x # y'  # z\r\n",
    'a="C:\\\\"# "\nb = 1\n': 'a = "C:\\\\"  # "\nb = 1\n',
    'a.b=1\n"c d"  =2\n': 'a.b = 1\n"c d" = 2\n',
    'a="""x""""# "y"\n': 'a = """x""""  # "y"\n',
    f"a={'9' * 5000}\n": f"a={'9' * 5000}\n",
    "a = [\n": "a = [\n",
}


@pytest.mark.parametrize("text", LAYOUT)
def test_what_an_even_layout_is(text):
    assert formatted(text) == LAYOUT[text]


def test_what_stands_behind_values(put):
    """Labels by the chip's number, addresses in hex, long times in whole units; nothing where it is written so already."""
    path = put(
        'zapato = 1\n[device]\nname = "p"\nboard = "esp8266-30pin"\n[relay.r]\npin = "D5"\nlongest_on = "5400s"\nshortest_on = "90s"\n'
        '[i2c.b]\nsda = 4\nscl = 5\n[sensor.s]\nchip = "bme280"\nbus = "b"\naddress = 119\nevery = "30s"\n'
        '[sensor.t]\nchip = "bh1750"\nbus = "b"\naddress = 0x23\nevery = "2min"\n[[link]]\nwhen = "r.on"\nafter = "600s"\ndo = "r.off"\n'
    )
    lines = path.read_text().split("\n")
    told = [(lines[line - 1].split(" ")[0], words) for line, _, words in hints(resolve(path))]
    assert told[:2] == [("pin", "GPIO14"), ("address", "0x77")]
    assert sorted(told[2:]) == [
        ("after", "10 min"),
        ("longest_on", "1 h 30 min"),
        ("shortest_on", "1 min 30 s"),
    ]
