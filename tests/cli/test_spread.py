"""Work on many devices, on any executor: the same results in the same order, and workers that die."""

import json
import os
import re
import threading
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.errors import Refused, ZapatoError
from zapato.spread import AHEAD, jobs_for, processes, spread

PATHS = [Path(f"d{n}.toml") for n in range(60)]


def _work(path: Path) -> str:
    if path.stem == "d7":
        raise Refused("d7 has errors")
    return path.stem


def _dies(path: Path) -> str:
    if path.stem == "d3":
        os._exit(9)
    return path.stem


def told(found) -> list[str]:
    rows = []
    for path, find in found:
        try:
            rows.append(find())
        except ZapatoError as error:
            rows.append(f"{path.stem}: {type(error).__name__}")
    return rows


class Backwards(Executor):
    """Does what it was given last first, when somebody waits for it."""

    def __init__(self):
        self.given = []

    def submit(self, work, /, *given, **more):
        self.given.append((Future(), work, given))
        return self.given[-1][0]

    def work(self):
        while self.given:
            future, work, given = self.given.pop()
            try:
                future.set_result(work(*given))
            except Exception as error:
                future.set_exception(error)


@pytest.mark.parametrize("executor", [None, Backwards(), ThreadPoolExecutor(3)])
def test_in_their_order_whatever_ran_where(executor):
    wanted = [each.stem if each.stem != "d7" else "d7: Refused" for each in PATHS]
    assert told(spread(_work, PATHS, executor, getattr(executor, "work", lambda: None))) == wanted


def test_a_worker_that_dies_ends_nobody_else():
    with processes(2) as pool:
        found = told(spread(_dies, PATHS[:8], pool))
        assert "d3: ZapatoError" in found and len(found) == 8
        assert all(
            each in (path.stem, f"{path.stem}: ZapatoError") for each, path in zip(found, PATHS, strict=False)
        )
    assert told(spread(_work, PATHS[:3], pool)) == [f"{path.stem}: ZapatoError" for path in PATHS[:3]]


def test_whoever_stops_early_leaves_nothing_running():
    ran, gate = [], threading.Event()

    def waits(path):
        ran.append(path)
        gate.wait(10)

    pool = ThreadPoolExecutor(1)
    found = spread(waits, PATHS, pool)
    next(found)
    found.close()
    gate.set()
    pool.shutdown()
    assert 1 <= len(ran) <= 2 < AHEAD


@given(st.integers(0, 10_000), st.none() | st.integers(1, 64))
def test_how_many_processes(count, asked):
    found = jobs_for(count, asked)
    assert 1 <= found <= max(1, count) and (not asked or found <= asked)
    assert count >= 4 or asked or found == 1


def test_a_site_in_two_processes_is_what_it_is_in_one(site, cli, tmp_path):
    for path in (site / "rehearsals").glob("*.toml"):
        text = path.read_text()
        path.write_text(re.sub(r'lasts = "\w+"', 'lasts = "1min"', text[: text.index("[[step]]")]))
    (site / "rehearsals" / "site.toml").unlink()
    for name in ("boot-dryer", "rack-strip", "porch-light"):
        (site / "devices" / f"{name}.toml").unlink()
        (site / "rehearsals" / f"{name}.toml").unlink()
    (site / "devices" / "kettle-plug.toml").write_text("nothing of the kind")
    rows = {}
    for jobs in (1, 2):
        called = cli("rehearse", site, "--jobs", jobs, "--format", "json")
        assert called.code == 1 and "kettle-plug" in called.err
        rows[jobs] = [{k: v for k, v in each.items() if k != "wall"} for each in json.loads(called.out)]
        built = cli("build", site, "--jobs", jobs, "--out", tmp_path / str(jobs))
        assert built.code == 1 and built.out.rstrip().endswith("2 of 3 devices built; not: kettle-plug")
    assert rows[1] == rows[2] and len(rows[1]) == 2
    one, two = (
        {str(p.relative_to(tmp_path / n)): p.read_bytes() for p in (tmp_path / n).rglob("*.mpy")}
        for n in ("1", "2")
    )
    assert one == two and len(one) > 15


def test_ctrl_c_in_the_middle_leaves_at_once(site):
    import signal
    import subprocess
    import sys

    (site / "rehearsals" / "site.toml").unlink()
    for path in (site / "rehearsals").glob("*.toml"):
        path.write_text(f'[rehearsal]\nlasts = "{"1min" if path.stem == "boot-dryer" else "365d"}"\n')
    process = subprocess.Popen(
        [sys.executable, "-m", "zapato", "rehearse", str(site), "--jobs", "2", "--brief"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True,
    )  # fmt: skip
    assert process.stdout
    first = process.stdout.readline()
    os.killpg(process.pid, signal.SIGINT)
    _out, err = process.communicate(timeout=60)
    assert process.returncode == 130 and "Traceback" not in err, err
    assert "boot-dryer" in first


def test_a_check_on_any_executor_says_the_same(site):
    (site / "devices" / "odd.toml").write_text("nothing of the kind")
    (site / "rehearsals" / "porch-light.toml").write_text(
        '[rehearsal]\nlasts = "1s"\n[[step]]\nat = "0s"\nact = "wall.pres"\n'
    )
    here = zapato.check(site)
    assert {"link-unknown", "toml-syntax"} <= {f.code for f in here.findings}
    with ThreadPoolExecutor(3) as pool:
        assert zapato.check(site, executor=pool) == here
    gone = ThreadPoolExecutor(1)
    gone.shutdown()
    lost = zapato.check(site, executor=gone)
    assert len([f for f in lost.findings if "not checked" in f.message]) == 7
