"""What the tests share: the demo site copied out, files written from tables, the command line in process."""

from __future__ import annotations

import gc
import os
import signal
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cache
from pathlib import Path

import pytest
from hypothesis import settings
from support.approved import approve_section
from support.loader import chip  # noqa: F401

import zapato
from zapato.cli.app import run
from zapato.demo.copy import copy_site
from zapato.design import Design
from zapato.findings import Report
from zapato.simulator.result import Rehearsal

settings.register_profile("ci", derandomize=True, deadline=None)
settings.register_profile("desk", deadline=None)
settings.load_profile("ci" if os.environ.get("CI") else "desk")
"""In CI the examples are the same on every run; at the desk each run looks for new ones."""

signal.signal(signal.SIGINT, signal.default_int_handler)
"""A shell's job in the background ignores Ctrl-C, and so would every process that a test starts."""

LONGEST = 150
"""Seconds that a test may take on a machine that is busy."""
HEADER = 'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n'


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Tests on one device's day of the demo run in one process, where that day is played once. The slow ones come last, the slowest first."""
    for item in items:
        if "demo_day" in getattr(item, "fixturenames", ()):
            given = getattr(item, "callspec", None)
            name = given.params.get("name", "porch-light") if given else "porch-light"
            item.add_marker(pytest.mark.xdist_group(f"day of {name}"))
    items.sort(key=_seconds)


def _seconds(item: pytest.Item) -> tuple[bool, int]:
    """Whether it is slow, and below zero the seconds that its mark names."""
    mark = item.get_closest_marker("slow")
    return mark is not None, -mark.args[0] if mark and mark.args else 0


def pytest_collection_finish(session: pytest.Session) -> None:
    """The thousands of collected tests are no garbage: looking through them again and again took a twentieth of the time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(100_000, 20, 20)


@pytest.fixture(autouse=True)
def ends_some_time():
    """A test that waits for what never comes is a failure, not the end of the suite."""

    def late(*given: object) -> None:
        # No OSError: the command line would take it for a mistake of its user.
        pytest.fail(f"{LONGEST} s are over")

    before = signal.signal(signal.SIGALRM, late)
    signal.alarm(LONGEST)
    yield
    signal.alarm(0)
    signal.signal(signal.SIGALRM, before)


READ_WHOLE = ("tests/checks/", "tests/design/", "tests/lang/", "tests/simulator/test_site_together")
"""Tests whose findings are read as a whole: reason, ways out, and those that the test itself does not ask for."""


@pytest.fixture(autouse=True)
def findings_as_approved(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch):
    """Every finding that a test meets is the one that somebody read (tests/data/approved/findings-of-…)."""
    test = request.node
    own = "test_rules.py" in test.nodeid  # what it meets stands in docs/findings.md
    if own or not test.nodeid.startswith(READ_WHOLE) or hasattr(getattr(test, "obj", None), "hypothesis"):
        yield
        return
    lines: dict[str, None] = {}
    made = Report.of

    def of(*given, **named):
        report = made(*given, **named)
        for f in (*report.findings, *report.accepted):
            fixes = "".join(f" / {fix}" for fix in f.fixes)
            place = f"{Path(f.place.file).name}:{f.place.line}:{f.place.column}"
            lines.setdefault(f"{place} {f.severity} {f.code} {f.message}: {f.why}{fixes}")
        return report

    monkeypatch.setattr(Report, "of", staticmethod(of))
    yield
    approve_section(f"findings-of-{Path(test.path).stem}", test.name, [*lines])


@pytest.fixture(scope="session", autouse=True)
def compiled_once(tmp_path_factory: pytest.TempPathFactory):
    """Compiled modules are kept for the session, away from the user's own cache."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.mktemp("cache")))
        patch.setenv("XDG_DATA_HOME", str(tmp_path_factory.mktemp("data")))  # where a hub keeps its history
        yield


@pytest.fixture(scope="session")
def demo_day(tmp_path_factory: pytest.TempPathFactory) -> Callable[[str], tuple[Design, Rehearsal]]:
    """A device of the demo with its own rehearsal, played once."""
    folder = tmp_path_factory.mktemp("demo") / "site"
    for _ in copy_site(folder):
        pass

    @cache
    def played(name: str) -> tuple[Design, Rehearsal]:
        design = zapato.load(folder / "devices" / f"{name}.toml")
        return design, zapato.rehearse(design)

    return played


@pytest.fixture
def site(tmp_path: Path) -> Path:
    """The demo site, copied out."""
    for _ in copy_site(tmp_path / "site"):
        pass
    return tmp_path / "site"


@pytest.fixture
def put(tmp_path: Path) -> Callable[[Mapping[str, str] | str], Path]:
    """Write files (or one device file) into a fresh folder; gives the device file's path."""

    def write(files: Mapping[str, str] | str) -> Path:
        named = {"device.toml": files} if isinstance(files, str) else files
        for name, text in named.items():
            path = tmp_path / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, "utf-8")
            path.chmod(0o600)
        return tmp_path / "device.toml"

    return write


@pytest.fixture
def checked(put) -> Callable[..., Report]:
    """Check the tables of a device on a board."""
    return lambda body, board="esp32-38pin": zapato.check(put(HEADER.format(board=board) + body))


@dataclass
class Called:
    """What a call of the command line gave."""

    code: int
    out: str
    err: str


@pytest.fixture
def cli(capsys: pytest.CaptureFixture[str]) -> Callable[..., Called]:
    """Call the command line in this process."""

    def call(*words: object) -> Called:
        capsys.readouterr()
        code = run([str(word) for word in words])
        said = capsys.readouterr()
        return Called(code, said.out, said.err)

    return call


@pytest.fixture
def bench(put) -> Callable[..., zapato.Rehearsal]:
    """A device on the bench with its rehearsal: tables of parts and links, tables of steps; gives the result."""

    def run(
        body: str,
        steps: str,
        board: str = "esp32-38pin",
        lasts: str = "1min",
        head: str = "",
        site: str = "",
        **more,
    ) -> zapato.Rehearsal:
        device = put(
            {
                "device.toml": f'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n{body}',
                "script.toml": f'[rehearsal]\nlasts = "{lasts}"\n{head}\n{steps}',
            }
            | ({"site.toml": site} if site else {})
        )
        return zapato.rehearse(device, device.parent / "script.toml", **more)

    return run


def steps(*rows: str) -> str:
    """Steps in short: "5s: b.press" acts, "6s? r.on" expects at a moment, "<2s? r.on" expects within, "=1min? r.on" for as long."""
    made = []
    for row in rows:
        when, mark, what = row.partition("? ") if "? " in row else row.partition(": ")
        key = {"<": "within", "=": "stays", "+": "wait"}.get(when[0], "at")
        value = when.lstrip("<=+")
        over = ""
        if " over " in what:
            what, _, length = what.partition(" over ")
            over = f'over = "{length}"\n'
        made.append(
            f'[[step]]\n{key} = "{value}"\n{over}{"expect" if mark == "? " else "act"} = """{what}"""\n'
        )
    return "".join(made)


NETWORK = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\nqos = {qos}\n'
"""A site with Wi-Fi and a broker."""


def failed(result: zapato.Rehearsal | zapato.SiteRehearsal) -> list[tuple]:
    """The expectations that did not hold, with what was seen; a crash as one of them."""
    missed = [(e.text, e.passed, e.at, dict(e.seen)) for e in result.expectations if not e.passed]
    programs = result.devices.values() if isinstance(result, zapato.SiteRehearsal) else [result]
    return missed + [("crash", each.crash.traceback) for each in programs if each.crash]


def in_the_vm(
    main: str, modules: Mapping[str, str], files: Mapping[str, bytes] | None = None, heap: int = 1 << 23
) -> str:
    """Run a MicroPython text in the real VM beside these modules of the runtime; gives what it printed."""
    from zapato.firmware.compile import cache_folder, compile_all
    from zapato.simulator.files import Disk, Flash
    from zapato.simulator.rehearse import machine_modules
    from zapato.simulator.vm import Machine

    flash = Flash()
    flash.files.update(files or {})
    program = {
        f"{name}.mpy": data
        for name, data in compile_all({**modules, "test_main": main}, cache_folder()).items()
    }
    said: list[bytes] = []
    disk = Disk({"app": {**machine_modules(), **program}, "sim": {"pipe": b""}}, flash, lambda name: None)
    machine = Machine(
        "esp32", 1 << 16, heap, disk, lambda name, data: "", said.append, {"MICROPYPATH": "/app"}
    )
    code = machine.run("test_main")
    text = b"".join(said).decode()
    assert code == 0, text
    return text
