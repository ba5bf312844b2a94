"""An existing cluster does the work: a real scheduler and two real workers on this machine."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

import zapato
from zapato.cluster import cluster
from zapato.errors import ZapatoError
from zapato.spread import spread

HERE = Path(__file__).parents[1] / "support"


@pytest.fixture
def workers():
    """A scheduler's address, its process, and those of its two workers."""
    process = subprocess.Popen(
        [sys.executable, str(HERE / "cluster.py")], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
        env={**os.environ, "PYTHONPATH": str(Path(__file__).parent)},  # workers find the functions of this module
    )  # fmt: skip
    assert process.stdout and process.stdin
    address, *pids = process.stdout.readline().split()
    yield address, process, [int(each) for each in pids]
    process.kill()
    process.wait()


def _begins(path: Path) -> str:
    """A mark that it was begun, in a file that the test sees; the third one waits until its worker is ended."""
    with open(path.parent / "begun", "a") as file:
        file.write(f"{path.stem} {os.getpid()}\n")
    if path.stem == "d3":
        until = time.monotonic() + 20
        while not (path.parent / f"killed{os.getpid()}").exists() and time.monotonic() < until:
            if (path.parent / "killed").exists():
                break
            time.sleep(0.02)
    return path.stem


def _marks(folder: Path) -> list[list[str]]:
    path = folder / "begun"
    return [line.split() for line in path.read_text().splitlines()] if path.exists() else []


def test_a_worker_that_is_killed_loses_nothing(workers, tmp_path):
    address, _, _ = workers
    paths = [tmp_path / f"d{n}.toml" for n in range(12)]
    told = []
    with cluster(address) as pool:

        def waiting():
            mark = next((each for each in _marks(tmp_path) if each[0] == "d3"), None)
            if mark and not (tmp_path / "killed").exists():
                os.kill(int(mark[1]), signal.SIGKILL)
                (tmp_path / "killed").touch()

        for path, find in spread(_begins, paths, pool, waiting):
            told.append((path.stem, find()))
    assert told == [(path.stem, path.stem) for path in paths]  # each once, in their order
    assert (
        len([each for each in _marks(tmp_path) if each[0] == "d3"]) == 2
    )  # the one that was lost began anew


def _refused(path: Path) -> str:
    raise zapato.ZapatoError("no such thing", "another") if path.stem == "d1" else KeyError(path.stem)


def test_what_goes_wrong_there_is_told_here(workers, tmp_path):
    with cluster(workers[0]) as pool:
        (_, one), (_, two) = spread(_refused, [tmp_path / "d1.toml", tmp_path / "d2.toml"], pool)
        with pytest.raises(ZapatoError, match="no such thing") as found:
            one()
        assert found.value.fix == "another"
        with pytest.raises(KeyError):
            two()


def test_a_scheduler_that_goes_away_leaves_what_is_done(workers, tmp_path):
    address, process, _ = workers
    paths = [tmp_path / f"d{n}.toml" for n in range(60)]
    done, lost = [], []
    with cluster(address) as pool:
        for path, find in spread(_begins, paths, pool):
            try:
                done.append(find())
            except ZapatoError as error:
                lost.append(path.stem)
                assert "not done" in str(error)
            if len(done) == 3 and process.poll() is None:
                process.kill()
                process.wait()
                (tmp_path / "killed").touch()
    assert done[:3] == ["d0", "d1", "d2"] and len(done) + len(lost) == 60 and len(lost) > 20


@pytest.mark.slow
def test_the_commands_say_the_same_there_as_here(workers, site, cli, monkeypatch):
    monkeypatch.chdir(site.parent)
    for name in ("gear-locker", "boot-dryer", "rack-strip", "water-tank"):
        (site / "devices" / f"{name}.toml").unlink()
        (site / "rehearsals" / f"{name}.toml").unlink()
    (site / "rehearsals" / "site.toml").unlink()
    (site / "devices" / "odd.toml").write_text(
        'zapato = 1\n[device]\nname = "odd"\nboard = "esp32-38pin"\n[relay.r]\npin = 34\n'
    )
    for path in (site / "rehearsals").glob("*.toml"):
        text = path.read_text()
        path.write_text(text[: text.index("[[step]]")].replace("5h", "1min").replace("2h10min", "1min"))
    address = workers[0].removeprefix("tcp://")
    for words in (
        ["check", "site", "--format", "json"],
        ["rehearse", "site", "--format", "json"],
        ["build", "site", "--anew"],
        ["fit", "site", "--boards", "--format", "json"],
    ):
        here, there = cli(*words), cli(*words, "--cluster", address)
        assert here.code == there.code == (1 if words[0] != "fit" else 0), there.err
        if "json" in words:
            assert _timeless(json.loads(here.out)) == _timeless(json.loads(there.out))
        else:
            assert "unchanged" in there.out and there.out.splitlines()[-1] == here.out.splitlines()[-1]
            assert "/" not in next(line for line in there.out.splitlines() if "update" in line).split()[1][:1]


def _timeless(rows):
    return (
        [{k: v for k, v in each.items() if k != "wall"} for each in rows] if isinstance(rows, list) else rows
    )


def test_a_script_of_its_own_goes_along(workers, site, cli, monkeypatch):
    monkeypatch.chdir(site)
    (site / "short.toml").write_text(
        '[rehearsal]\ntitle = "Short"\nlasts = "5s"\n[[step]]\nat = "2s"\nact = "top.press"\n[[step]]\nwithin = "1s"\nexpect = "kettle.on"\n'
    )
    said = cli(
        "rehearse",
        "devices/kettle-plug.toml",
        "--script",
        "short.toml",
        "--trace",
        "t.csv",
        "--cluster",
        workers[0],
    )
    assert said.code == 0 and "kettle-plug: Short" in said.out and "start" not in said.err, said.err
    assert (site / "t.csv").read_text().startswith("t,what,name,value")
    assert cli("rehearse", "devices/kettle-plug.toml", "--live", "--cluster", workers[0]).code == 2
    refused = cli("rehearse", "devices/kettle-plug.toml", "--live", "--jobs", "2")
    assert refused.code == 2 and "--jobs spreads several live devices" in refused.err


def test_nobody_answers_and_nothing_is_installed(monkeypatch):
    with pytest.raises(ZapatoError, match="no scheduler answers"), cluster("127.0.0.1:9"):
        pass
    monkeypatch.setitem(sys.modules, "distributed", None)
    with pytest.raises(ZapatoError, match="needs the package") as found, cluster("127.0.0.1:9"):
        pass
    assert "zapato[cluster]" in found.value.fix
