"""zapato.lock: what was built of what; a build and a check touch only what changed since."""

import json
import re
import signal
import subprocess
import sys
import tomllib
from importlib import import_module

import pytest

SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\npassword = { secret = "wifi" }\n[mqtt]\nhost = "192.168.4.2"\n[lan]\nnetwork = "192.168.4.0/24"\nrouter = "192.168.4.1"\naddresses = { one = "192.168.4.21" }\n'
DEVICE = 'zapato = 1\n[device]\nname = "{}"\nboard = "esp8266-30pin"\n{}'
LAMP = '[relay.lamp]\npin = "D5"\n'


@pytest.fixture
def home(put, monkeypatch):
    files = {
        "site.toml": SITE,
        "secrets.toml": 'wifi = "a secret of the house"\n',
        "pieces/lamp.toml": LAMP,
        "devices/one.toml": 'use = ["pieces/lamp.toml"]\n' + DEVICE.format("one", ""),
        "devices/two.toml": DEVICE.format("two", LAMP + '[[link]]\nwhen = "one.lamp.on"\ndo = "lamp.on"\n'),
        "devices/three.toml": DEVICE.format("three", LAMP),
    }
    folder = put(files).parent
    monkeypatch.chdir(folder)
    return folder


def lock(home) -> dict:
    return tomllib.loads((home / "zapato.lock").read_text())["device"]


def edit(path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


def built(said) -> set[str]:
    """The devices that were worked on, whether their bytes are new or not."""
    return set(re.findall(r"^(?:built|unchanged) (\S+) .*\n  modules", said.out, re.MULTILINE))


def checked(said) -> set[str]:
    names = said.out.rstrip().splitlines()[-1].partition(":")[0]
    return set() if names == "no device" else set(names.split(", "))


def test_what_is_in_it_and_what_is_not(home, cli):
    assert cli("check", ".", "--changed").out.startswith("one, three, two")
    assert built(cli("build", ".")) == {"one", "two", "three"}
    text, rows = (home / "zapato.lock").read_text(), lock(home)
    assert list(rows) == ["one", "three", "two"]
    assert rows["one"]["address"] == "192.168.4.21" and rows["one"]["reads"] == ["pieces/lamp.toml"]
    assert (
        rows["two"]["reads"] == ["devices/one.toml", "pieces/lamp.toml"]
        and rows["two"]["topic"] == "refuge/two"
    )
    about = json.loads((home / "out" / "one" / "build.json").read_text())
    assert about["update"]["sha256"] == rows["one"]["update"]
    edit(home / "secrets.toml", "a secret of the house", "another of the house")
    assert built(cli("build", ".")) == {
        "one",
        "two",
        "three",
    }  # their data changed, and nothing that one may commit
    assert (home / "zapato.lock").read_text() == text
    assert "a secret" not in text and not any(
        (home / "out" / n / "secret" / "mark").stat().st_mode & 0o077 for n in rows
    )


CHANGES = {
    "a device": ("devices/three.toml", "[relay.lamp]", "[relay.lamp]\nlabel = 'Lamp'", {"three"}),
    "a piece": ("pieces/lamp.toml", '"D5"', '"D6"', {"one", "two"}),  # two listens to one
    "another that is listened to": ("devices/one.toml", "zapato = 1", "zapato = 1  # here", {"one", "two"}),
    "the site": ("site.toml", '"hall"', '"attic"', {"one", "two", "three"}),
    "nothing": ("devices/three.toml", "[relay.lamp]", "[relay.lamp]", set()),
}


@pytest.mark.parametrize("name", CHANGES)
def test_only_what_changed(home, cli, name):
    file, old, new, wanted = CHANGES[name]
    cli("build", ".")
    edit(home / file, old, new)
    assert checked(cli("check", ".", "--changed")) == wanted
    assert checked(cli("check", "--changed", ".")) == wanted
    said = cli("build", ".")
    assert built(said) == wanted and said.code == 0
    assert len(re.findall(r"^unchanged \S+ .*\n(?!  modules)", said.out, re.MULTILINE)) == 3 - len(wanted)
    assert built(cli("build", ".")) == set()
    assert checked(cli("check", ".", "--changed")) == set()


@pytest.mark.slow
def test_results_that_are_gone_are_made_anew_and_devices_that_are_gone_leave(home, cli):
    cli("build", ".")
    (home / "out" / "one" / "one-1.0.0.update").unlink()
    (home / "out" / "two" / "secret" / "two-data.bin").unlink()
    assert built(cli("build", ".")) == {"one", "two"}
    assert built(cli("build", ".", "--anew")) == {"one", "two", "three"}
    assert built(cli("build", ".", "--out", "elsewhere")) == {"one", "two", "three"}
    (home / "devices" / "three.toml").unlink()
    cli("build", "devices/one.toml")
    assert set(lock(home)) == {"one", "two", "three"}
    cli("build", ".")
    assert set(lock(home)) == {"one", "two"}
    (home / "zapato.lock").write_text("<<<<<<< ours\n")
    said = cli("build", ".")
    assert "zapato.lock cannot be read" in said.err and "remove it" in said.err
    said = cli("check", ".", "--changed")
    assert said.code == 2 and "zapato.lock" in said.err
    (home / "zapato.lock").write_text(
        'zapato = 1\n[device.one]\ninputs = 3\n[device.two]\nreads = "x"\n[device]\nthree = 4\n'
    )
    assert checked(cli("check", ".", "--changed")) == {"one", "two"}


HOSTILE = {
    "another format": ("zapato = 2\n[device.one]\n", 2),
    "no tables": ("zapato = 1\ndevice = 3\n", {"one", "three", "two"}),
    "an endless file": (
        'zapato = 1\n[device.one]\nfile = "devices/one.toml"\nreads = ["/dev/zero"]\ninputs = "x"\n',
        {"one", "three", "two"},
    ),
    "a way out of the site": (
        'zapato = 1\n[device."../../x"]\nfile = "../../../etc/passwd"\ninputs = ""\n',
        {"one", "three", "two"},
    ),
    "bytes": ("\x00\x01", 2),
}


@pytest.mark.parametrize("name", HOSTILE)
def test_a_lock_file_that_others_wrote(home, cli, name):
    text, wanted = HOSTILE[name]
    (home / "zapato.lock").write_text(text)
    said = cli("check", ".", "--changed")
    if wanted == 2:
        assert said.code == 2 and "zapato.lock cannot be read" in said.err and "remove it" in said.err
        assert "cannot be read" in cli("build", "devices/one.toml").err
        assert (home / "zapato.lock").read_text() == text  # nothing is lost
    else:
        assert checked(said) == wanted
        assert built(cli("build", ".")) == wanted and set(lock(home)) == wanted


def test_what_changes_meanwhile_counts_as_changed(home, cli, monkeypatch):
    """Somebody saves a file while its build, or its rehearsal, runs."""
    way, stage = (import_module(f"zapato.{name}") for name in ("firmware.build", "simulator.rehearse"))
    alone = stage.compile_device

    def saved(work):
        def and_saved(design, *more):
            path = home / "devices" / "three.toml"
            path.write_text(path.read_text() + "# saved\n")
            return work(design, *more)

        return and_saved

    monkeypatch.setattr(way, "compile_device", saved(way.compile_device))
    cli("build", "devices/three.toml")
    monkeypatch.undo()
    monkeypatch.chdir(home)
    assert checked(cli("check", "devices/three.toml", "--changed")) == {"three"}
    monkeypatch.setenv("XDG_CACHE_HOME", str(home / "cache"))
    (home / "three.toml").write_text('[rehearsal]\nlasts = "2s"\n')
    words = ("rehearse", "devices/three.toml", "--script", "three.toml", "--brief", "--changed")
    monkeypatch.setattr(stage, "compile_device", saved(alone))
    assert "passed three" in cli(*words).out
    monkeypatch.setattr(stage, "compile_device", alone)
    assert "passed three" in cli(*words).out  # run once more, for the file is another
    assert "passed since" in cli(*words).out


def test_two_sites_keep_their_own(home, cli, tmp_path_factory):
    import shutil

    other = tmp_path_factory.mktemp("other") / "site"
    shutil.copytree(home, other)
    (other / "devices" / "two.toml").unlink()
    edit(other / "devices" / "three.toml", '"D5"', '"D6"')
    cli("build", ".", other, "--out", home / "out2")
    assert set(lock(home)) == {"one", "two", "three"} and set(lock(other)) == {"one", "three"}
    assert lock(home)["three"]["inputs"] != lock(other)["three"]["inputs"]


def test_one_that_fails_keeps_what_it_was(home, cli):
    cli("build", ".")
    before = lock(home)
    edit(home / "devices" / "three.toml", '"D5"', '"A0"')
    edit(home / "devices" / "one.toml", "zapato = 1", "zapato = 1 #")
    said = cli("build", ".")
    assert said.code == 1 and built(said) == {"one", "two"}
    after = lock(home)
    assert after["three"] == before["three"] and after["one"]["inputs"] != before["one"]["inputs"]


@pytest.mark.slow
def test_ctrl_c_keeps_what_is_done_and_the_next_does_the_rest(home, cli):
    for n in range(24):
        (home / "devices" / f"n{n:02d}.toml").write_text(DEVICE.format(f"n{n:02d}", LAMP))
    process = subprocess.Popen(
        [sys.executable, "-m", "zapato", "build", ".", "--jobs", "2"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=home
    )  # fmt: skip
    assert process.stdout
    for line in process.stdout:
        if line.startswith("built n03"):
            break
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    assert process.returncode in (1, 130) and "devices done; not: " in said
    done = set(lock(home))
    assert {"n00", "n01", "n02"} <= done and len(done) < 27
    rest = built(cli("build", "."))
    assert rest == ({f"n{n:02d}" for n in range(24)} | {"one", "two", "three"}) - done and not rest & done


def test_one_at_a_time(tmp_path):
    import threading

    from zapato.lang.files import locked

    entered = threading.Event()

    def other() -> None:
        with locked(tmp_path / "secrets.toml"):
            entered.set()

    with locked(tmp_path / "zapato.lock"):
        waits = threading.Thread(target=other)
        waits.start()
        assert not entered.wait(0.3)
    assert entered.wait(10)
    waits.join()


def test_two_processes_make_every_key_once(home):
    """Each build of a new device adds its key to the same file."""
    for n in range(12):
        (home / "devices" / f"n{n:02d}.toml").write_text(DEVICE.format(f"n{n:02d}", LAMP))
    halves = [[f"devices/n{n:02d}.toml" for n in range(start, 12, 2)] for start in (0, 1)]
    running = [
        subprocess.Popen([sys.executable, "-m", "zapato", "build", *half, "--jobs", "1"], cwd=home, stdout=subprocess.DEVNULL)
        for half in halves
    ]  # fmt: skip
    assert [each.wait() for each in running] == [0, 0]
    keys = tomllib.loads((home / "secrets.toml").read_text())["update_keys"]
    assert len(keys) == 12 and len(lock(home)) == 12


@pytest.mark.slow
def test_a_rehearsal_that_passed_is_not_run_again(home, cli, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(home / "cache"))
    (home / "rehearsals").mkdir()
    for name in ("one", "three"):
        (home / "rehearsals" / f"{name}.toml").write_text(
            '[rehearsal]\nlasts = "5s"\n[[step]]\nat = "1s"\nexpect = "not lamp.on"\n'
        )
    both = ("rehearse", "devices/one.toml", "devices/three.toml", "--brief")
    assert cli(*both, "--changed").out.count("passed ") == 2
    assert cli(*both, "--changed").out == "2 of 2 devices passed since they last changed\n"
    assert cli(*both).out.count("passed ") == 2
    edit(home / "rehearsals" / "three.toml", "not lamp.on", "lamp.on")
    for _ in range(2):  # what failed is run again
        said = cli(*both, "--changed")
        assert said.code == 1 and "failed three" in said.out and "passed one" not in said.out
