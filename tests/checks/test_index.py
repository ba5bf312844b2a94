"""The index of a large site: whatever is changed between two checks, the report is the one that a check anew gives."""

import pickle
import shutil
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from zapato.checks import all_files, check_files, index
from zapato.checks.index import index_of
from zapato.demo.copy import copy_site


@pytest.fixture(autouse=True)
def pays(monkeypatch, tmp_path_factory):
    monkeypatch.setattr(index, "PAYS", 1)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.mktemp("cache")))


def indexed(folder: Path) -> tuple[dict, int]:
    """The report with the index, and how many devices were looked at."""
    files = all_files([folder])
    known = index_of([folder], files)
    count = known.unknown(files)
    return check_files([folder], files, index=known).as_dict(), count


def anew(folder: Path) -> dict:
    return check_files([folder], all_files([folder])).as_dict()


def swap(name: str, old: str, new: str):
    """An edit that is made, and taken back the next time."""

    def edit(site: Path) -> None:
        path = site / name
        text = path.read_text()
        path.write_text(text.replace(old, new) if old in text else text.replace(new, old))

    return edit


def comes_and_goes(name: str, text: str):
    def edit(site: Path) -> None:
        path = site / name
        path.unlink() if path.exists() else path.write_text(text)

    return edit


LINKED = 'zapato = 1\n[device]\nname = "extra"\nboard = "esp32-38pin"\n[led.l]\npin = 25\nshows = "gear-locker.door.closed"\n'
EDITS = {
    "a pin": swap("devices/kettle-plug.toml", "[relay.kettle]", "[relay.kettel]"),
    "another device that is listened to": swap("devices/gear-locker.toml", "[contact.door]", "[contact.gate]"),
    "a device's name": swap("devices/gear-locker.toml", 'name = "gear-locker"', 'name = "gear-lockers"'),
    "the site": swap("site.toml", "[mqtt]", '[mqtt]\nqos = "two"'),
    "a rehearsal": swap("rehearsals/porch-light.toml", "[[step]]", "[[stop]]"),
    "a rehearsal that comes": comes_and_goes("rehearsals/extra.toml", "[rehearsal]\nlasts = 3\n"),
    "a device that comes": comes_and_goes("devices/extra.toml", LINKED),
    "one with the same name": comes_and_goes("devices/twice.toml", LINKED.replace("extra", "porch-light")),
    "one that is listened to and comes": comes_and_goes("devices/far.toml", LINKED.replace("extra", "far").replace("gear-locker.door", "extra2.door")),
    "its other": comes_and_goes("devices/extra2.toml", 'zapato = 1\n[device]\nname = "extra2"\nboard = "esp32-38pin"\n[contact.door]\npin = 26\npull = "up"\n'),
    "a family": comes_and_goes("devices/boxes.toml", 'with = [{ name = "box-1", bolt = 6 }, { name = "box-2", bolt = 99 }]\nzapato = 1\n[device]\nname = { with = "name" }\nboard = "esp32-38pin"\n[relay.bolt]\npin = { with = "bolt" }\n'),
    "alerts": comes_and_goes("alerts.toml", '[[alert]]\nname = "a"\nwhen = "porch-light.nothing.on"\n'),
    "nothing": lambda site: None,
}  # fmt: skip


@pytest.fixture(scope="module")
def original(tmp_path_factory):
    for _ in copy_site(folder := tmp_path_factory.mktemp("index") / "site"):
        pass
    return folder


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(edits=st.lists(st.sampled_from(sorted(EDITS)), min_size=3, max_size=7))
def test_a_check_with_the_index_says_what_a_check_anew_says(edits, original, tmp_path):
    site = tmp_path / "site"
    shutil.rmtree(site, ignore_errors=True)
    shutil.copytree(original, site)
    for edit in edits:
        EDITS[edit](site)
        assert indexed(site)[0] == anew(site), edits


def test_only_what_changed_is_looked_at(original, tmp_path):
    shutil.copytree(original, site := tmp_path / "site")
    count = len(all_files([site]))
    assert indexed(site)[1] == count and indexed(site)[1] == 0
    for name, expected in (
        ("devices/porch-light.toml", {1}),
        ("rehearsals/porch-light.toml", {1}),
        ("devices/gear-locker.toml", {2}),  # and the dryer, which listens to it
        ("site.toml", {count}),
        ("zapato.lock", {0}),
        ("out/report.html", {0}),
    ):
        (site / name).parent.mkdir(exist_ok=True)
        with (site / name).open("a") as file:
            file.write("# more\n")
        assert {indexed(site)[1]} == expected, name


def test_a_table_wherever_it_lies_is_one_of_a_device_s_files(original, tmp_path):
    shutil.copytree(original, site := tmp_path / "site")
    (tmp_path / "registers.csv").write_text("name,at\npower,1\n")
    (site / "devices" / "metered.toml").write_text(
        'zapato = 1\n[device]\nname = "metered"\nboard = "esp32-38pin"\n[uart.line]\ntx = 17\nrx = 16\nbaud = 9600\n'
        '[meter.m]\nserial = "line"\ntable = "../registers.csv"\n'
    )
    report, count = indexed(site)
    assert count and not report["counts"]["error"] and indexed(site)[1] == 0
    (tmp_path / "registers.csv").write_text("name,at\npower,1\npower,2\n")
    again, looked_at = indexed(site)
    assert looked_at == 1 and again["counts"]["error"] == 1 and again == anew(site)


def test_what_is_saved_while_a_check_runs_is_looked_at_by_the_next(original, tmp_path):
    """Also where a link of the site leads nowhere, and a rehearsal comes meanwhile."""
    shutil.copytree(original, site := tmp_path / "site")
    (site / "gone.txt").symlink_to(site / "nowhere")
    (site / "rehearsals" / "porch-light.toml").unlink()
    files = all_files([site])
    known = index_of([site], files)
    light, locker, script = (
        site / name
        for name in ("devices/porch-light.toml", "devices/gear-locker.toml", "rehearsals/porch-light.toml")
    )

    def saved(done: int) -> None:
        if done == len(files):
            light.write_text(light.read_text().replace("[relay.lamp]", "[relay.lampe]"))
            locker.write_text(locker.read_text().replace("[contact.door]", "[contact.gate]"))
            script.write_text("[rehearsal]\nlasts = 3\n")

    check_files([site], files, tell=saved, index=known)
    assert indexed(site)[0] == anew(site) and anew(site)["counts"]["error"] > 0


def test_an_index_that_is_damaged_is_none(original, tmp_path):
    shutil.copytree(original, site := tmp_path / "site")
    report, count = indexed(site)
    file = index_of([site], all_files([site]))._file
    whole = file.read_bytes()
    assert file.stat().st_mode & 0o077 == 0
    for damaged in (b"", whole[:100], whole[:-100], whole[:32] + pickle.dumps(7), b"x" * len(whole)):
        file.write_bytes(damaged)
        assert indexed(site) == (report, count)
