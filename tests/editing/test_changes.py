"""What changes between two versions: one edit after the other, and what of it others may rely on."""

import subprocess

import pytest
from conftest import HEADER
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.changes import changes, first_difference, plain_rows
from zapato.cli.git import as_it_was
from zapato.errors import ZapatoError

SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n[lan]\nnetwork = "192.168.4.0/24"\nrouter = "192.168.4.1"\naddresses = { bench = "192.168.4.30" }\n'
BODY = """
[relay.pump]
pin = 26
[sensor.tank]
chip = "analog"
pin = 34
every = "20s"
[button.key]
pin = 33
pull = "up"
[[link]]
when = "key.pressed"
do = "pump.toggle"
for = "2min"
[[link]]
when = "tank.voltage > 2"
do = "notify('full')"
"""


@pytest.fixture
def edited(put):
    """The device before and after an edit of the device file and of the site."""

    def make(old: str, new: str, site: tuple[str, str] = ("", "")):
        before = zapato.load(
            put({"site.toml": SITE, "device.toml": HEADER.format(board="esp32-38pin") + BODY})
        )
        assert old in BODY and site[0] in SITE
        text = HEADER.format(board="esp32-38pin") + BODY.replace(old, new)
        after = zapato.load(put({"site.toml": SITE.replace(*site), "device.toml": text}))
        return {(c.group, c.how, c.what): c for c in changes(before, after)}

    return make


def test_nothing_changes_where_only_the_order_and_the_comments_do(edited):
    assert edited("", "") == {}
    assert edited("[relay.pump]\npin = 26\n", "# the pump\n[relay.pump]\npin   = 26    # to the tank\n") == {}
    first, second = BODY[BODY.index("[[link]]") :].strip().rsplit("[[link]]", 1)
    moved = BODY.replace(BODY[BODY.index("[[link]]") :], f"[[link]]{second.rstrip()}\n{first.rstrip()}\n")
    assert edited(BODY, moved) == {}


EDITS = {
    "another pin": ("pin = 26", "pin = 25", {("parts", "changed", "pump pin"), ("wires", "changed", "pump IN")}, 0),
    "another period": ('every = "20s"', 'every = "5s"', {("parts", "changed", "tank every")}, 0),
    "a label": ("pin = 26", 'pin = 26\nlabel = "Pump"', {("parts", "added", "pump label")}, 0),
    "a link's time": ('for = "2min"', 'for = "3min"', {("links", "changed", "key.pressed")}, 0),
    "a link's act": ('do = "pump.toggle"', 'do = "pump.on"', {("links", "changed", "key.pressed")}, 0),
    "a link goes": ('[[link]]\nwhen = "tank.voltage > 2"\ndo = "notify(\'full\')"\n', "", {("links", "removed", "tank.voltage > 2")}, 0),
    "a link more": ('for = "2min"\n', 'for = "2min"\n[[link]]\nevery = "1h"\ndo = "tank.read"\n', {("links", "added", "every 1h")}, 0),
    "a lamp more": (
        "[button.key]", "[led.lamp]\npin = 25\n[button.key]",
        {("parts", "added", "lamp"), ("wires", "added", "lamp long leg"), ("topics", "added", "refuge/bench/lamp/on")}, 0,
    ),
    "a sensor goes": (
        '[sensor.tank]\nchip = "analog"\npin = 34\nevery = "20s"\n', "",
        {("parts", "removed", "tank"), ("topics", "removed", "refuge/bench/tank/voltage"), ("wires", "removed", "tank DATA")}, 2,
    ),
    "another kind": (
        "[relay.pump]", "[led.pump]",
        {("parts", "removed", "pump"), ("parts", "added", "pump"), ("topics", "removed", "refuge/bench/pump/do/pulse"), ("topics", "added", "refuge/bench/pump/do/blink")}, 1,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", EDITS)
def test_an_edit_is_told_where_it_is_felt(edited, name):
    old, new, wanted, relied = EDITS[name]
    found = edited(old, new)
    assert wanted <= found.keys(), found.keys()
    assert sum(each.relied for each in found.values()) == relied
    assert all(each.old or each.how == "added" for each in found.values() if each.group != "topics")


def test_what_the_site_changes_is_told_too(edited):
    found = edited("", "", ('name = "refuge"', 'name = "hut"'))
    assert (
        found["device", "changed", "topic"].relied and found["topics", "removed", "refuge/bench/state"].relied
    )
    found = edited("", "", ("192.168.4.30", "192.168.4.31"))
    assert found["device", "changed", "address"].new == "192.168.4.31"
    found = edited("", "", ('[mqtt]\nhost = "192.168.4.2"\n', ""))
    assert found["device", "removed", "topic"].relied and len(found) > 10


ROWS = st.lists(
    st.tuples(
        st.integers(0, 50),
        st.sampled_from(["pin", "mqtt", "print"]),
        st.sampled_from("abc"),
        st.integers(0, 2),
    ),
    max_size=12,
)


@given(ROWS, ROWS)
def test_two_traces_part_where_they_first_differ(put_nothing, a, b):
    at = first_difference(a, b)
    if at is None:
        assert a == b
    else:
        assert a[:at] == b[:at] and a[at : at + 1] != b[at : at + 1]
    assert first_difference(a, a) is None and first_difference(a, [*a, ("x",)]) == len(a)


@pytest.fixture(scope="module")
def put_nothing():
    return None


def test_a_trace_calls_pins_after_their_parts_and_leaves_out_what_only_measures(put):
    design = zapato.load(
        put(HEADER.format(board="esp32-38pin") + "[relay.pump]\npin = 26\n[i2c.main]\nsda = 21\nscl = 22\n")
    )
    rows = [
        {"t": 0, "what": "pin", "name": "GPIO26", "value": 0},
        {"t": 0, "what": "pin", "name": "GPIO21", "value": 1},
        {"t": 500, "what": "print", "name": "", "value": "bench 1.0.0"},
        {"t": 900, "what": "mqtt", "name": "refuge/bench/vitals", "value": "{}"},
        {"t": 1500, "what": "pin", "name": "GPIO26", "value": 1},
        {"t": 1600, "what": "expect", "name": "pump.on", "value": True},
    ]
    assert plain_rows(rows, design) == [
        (0.0, "pin", "main sda", "1"),
        (0.0, "pin", "pump", "0"),
        (1.5, "pin", "pump", "1"),
    ]


def git(folder, *words):
    call = ["git", "-c", "user.name=x", "-c", "user.email=x@y.z", *words]
    subprocess.run(call, cwd=folder, check=True, capture_output=True)


def test_a_site_below_the_top_of_its_repository_as_it_was(site, tmp_path):
    git(tmp_path, "init", "-q")
    git(tmp_path, "add", ".")
    git(tmp_path, "reset", "-q", "site/secrets.toml")
    git(tmp_path, "commit", "-qm", "first")
    path = site / "devices" / "kettle-plug.toml"
    before = path.read_text()
    path.write_text(before.replace('"Kettle plug"', '"Teapot"'))
    with as_it_was(path, "HEAD") as then:
        assert then.read_text() == before and then.parent.parent != site
        assert zapato.load(then).site.name == "refuge" and zapato.check(then).ok
        held = then
    assert not held.exists()
    with as_it_was(site, "HEAD") as then:
        assert (then / "devices" / "kettle-plug.toml").read_text() == before
        assert (then / "secrets.toml").stat().st_mode & 0o77 == 0
    new = site / "devices" / "new.toml"
    new.write_text(before.replace("kettle-plug", "new"))
    for what, words in ((new, "was not there"), (path, "no revision")):
        with pytest.raises(ZapatoError, match=words), as_it_was(what, "HEAD" if what is new else "v9"):
            pass
    outside = tmp_path.parent / f"{tmp_path.name}-outside"
    outside.mkdir()
    (outside / "device.toml").write_text(before)
    with pytest.raises(ZapatoError, match="no file here"), as_it_was(outside / "device.toml", "HEAD"):
        pass
