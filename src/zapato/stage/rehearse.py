"""Rehearsing: the built firmware in the real MicroPython VM, on a stage, in virtual time."""

from __future__ import annotations

import json
import tempfile
import time
from collections.abc import Iterable, Mapping
from importlib.resources import as_file, files
from pathlib import Path
from threading import Timer
from typing import Any

from zapato.checks import report as report_of
from zapato.design import Design, resolve
from zapato.errors import Refused, RehearsalInvalid, Unreadable, ZapatoError
from zapato.firmware.build import compile_device, refuse_undriven
from zapato.firmware.plan import settings
from zapato.lang.source import shown
from zapato.stage import vm
from zapato.stage.result import Crash, Expectation, Rehearsal
from zapato.stage.script import Script, read_script

MARK = "\x1e"
STAGE_HEAP = 220 * 1024
"""Bytes of VM heap for the stage itself; what of it is left over when the program starts is taken away."""
PATIENCE = 120.0
"""Seconds of wall time after which a program that never waits is stopped."""
PASSWORD = "rehearsal"
"""Stands for every password on the stage: real ones are not needed there."""


def rehearse(
    what: Design | Path | str,
    script: Path | str | None = None,
    *,
    app: Path | None = None,
    seed: int | None = None,
) -> Rehearsal:
    """Run the device's compiled firmware through a rehearsal; the same seed gives the same trace.

    `script` is the rehearsal file, by default rehearsals/<device>.toml of the site. `app` is a
    folder of compiled modules to run instead of building them anew. Raises Refused while errors
    stand, RehearsalInvalid, Unreadable, ToolMissing.
    """
    design = what if isinstance(what, Design) else resolve(Path(what))
    checked = report_of([design])
    if not checked.ok:
        raise Refused(
            f"{design.name or 'the device'} is not rehearsed while errors stand",
            "",
            checked.findings,
            checked.texts,
        )
    refuse_undriven(design)
    path = Path(script) if script else default_script(design)
    read = read_script(path, design)
    if read.document.findings:
        source = read.document.source
        findings = tuple(read.document.findings)
        raise RehearsalInvalid(f"{source.name} cannot be rehearsed", "", findings, {source.name: source.text})
    modules = {p.stem: p.read_bytes() for p in sorted(app.glob("*.mpy"))} if app else compile_device(design)
    return _run(design, read, modules, read.seed if seed is None else seed)


def default_script(design: Design) -> Path:
    """The device's rehearsal, rehearsals/<device>.toml of its site. Raises Unreadable where it has none."""
    folder = (design.site.root or design.document.source.path.absolute().parent) / "rehearsals"
    path = folder / f"{design.name}.toml"
    if not path.is_file():
        message = f"{design.name} has no rehearsal: {shown(path)} is not there"
        raise Unreadable(message, "name one with --script FILE")
    return path


def _run(design: Design, script: Script, modules: Mapping[str, bytes], seed: int) -> Rehearsal:
    assert design.board is not None
    heap = 2 * design.board.chip.heap
    begun = time.perf_counter()
    with (
        tempfile.TemporaryDirectory(prefix="zapato-") as name,
        as_file(files("zapato") / "stage" / "vm") as stage,
    ):
        folder = Path(name)
        app, flash = folder / "app", folder / "flash"
        app.mkdir()
        flash.mkdir()
        for module, data in modules.items():
            (app / f"{module}.mpy").write_bytes(data)
        (flash / "steps.py").write_text(_steps_module(script), "utf-8")
        (flash / "script.json").write_text(
            json.dumps(_script_data(design, script, modules, seed, heap)), "utf-8"
        )
        with vm.running(flash, heap + STAGE_HEAP, [app, flash, stage]) as process:
            records, complaint = _listen(process)
    wall = time.perf_counter() - begun
    return _result(design, script, records, complaint, heap, wall)


def _steps_module(script: Script) -> str:
    """The steps as a module of functions for the stage."""
    lines = [
        "import stage_broker",
        "import stage_net as net",
        "",
        "def fill(w, acts, expects):",
        "    broker = stage_broker.hub",
    ]
    for step in script.steps:
        lines.append(f"    {'acts' if step.act else 'expects'}[{step.number}] = lambda: {step.code}")
    return "\n".join(lines) + "\n"


def _script_data(
    design: Design, script: Script, modules: Iterable[str], seed: int, heap: int
) -> dict[str, object]:
    bench: dict[str, dict[str, list[object]]] = {"reads": {}, "sets": {}, "acts": {}}
    for part in design.parts.values():
        own = part.kind.bench(part)
        for group, entries in (("reads", own.reads), ("sets", own.sets), ("acts", own.acts)):
            bench[group].update({f"{part.name}.{key}": entry for key, entry in entries.items()})
    assert design.board is not None
    return {
        "seed": seed,
        "heap": heap,
        "lasts": script.lasts,
        "pins": _pins(design),
        "rest": _rest_levels(design),
        "full": design.board.analog.high,
        "bench": bench,
        "topic": design.topic,
        "wifi": [(design.wifi or {}).get("name", ""), PASSWORD] if design.wifi is not None else None,
        "world": script.world,
        "steps": [step.as_dict() for step in script.steps],
        "modules": sorted(modules),
        "settings": _settings(design),
    }


def _settings(design: Design) -> dict[str, Any]:
    """The device's settings with every secret replaced."""
    found: dict[str, Any] = settings(design, "00" * 32)
    for group in ("wifi", "mqtt"):
        if group in found and (group == "wifi" or found[group]["password"]):
            found[group]["password"] = PASSWORD
    return found


def _pins(design: Design) -> list[dict[str, object]]:
    """The chip's limits as the stage enforces them."""
    assert design.board is not None
    return [
        {
            "gpio": pin.gpio,
            "name": pin.name,
            "drives": pin.drives,
            "up": pin.pull_up,
            "down": pin.pull_down,
            "irq": pin.interrupt,
            "adc": bool(pin.adc),
            "reset": {"high": 1, "low": 2, None: 0}[pin.reset_level],
        }
        for pin in design.board.chip.pins.values()
    ]


def _rest_levels(design: Design) -> list[tuple[int, int]]:
    """What the parts' circuits do to their pins while nobody drives them."""
    return [(use.pin.gpio, int(use.need.rest == "high")) for use in design.uses if use.need.rest]


def _listen(process: Any) -> tuple[list[dict[str, Any]], str]:
    """The records of a run, and what the VM itself complained of."""
    records: list[dict[str, Any]] = []
    stuck: list[bool] = []
    timer = Timer(PATIENCE, lambda: (stuck.append(True), process.kill()))
    timer.daemon = True
    timer.start()
    loose: list[str] = []
    try:
        for line in process.stdout:
            _take(line, records, loose)
        complaint = process.stderr.read()
        code = process.wait()
    finally:
        timer.cancel()
    if stuck:
        return records, f"the program never waits: stopped after {PATIENCE:g} s of work"
    ended = bool(records) and records[-1]["what"] == "end"
    return records, "" if ended else complaint.strip() or "\n".join(
        loose
    ).strip() or f"the VM ended with code {code}"


def _take(line: str, records: list[dict[str, Any]], loose: list[str]) -> None:
    if line.startswith(MARK):
        records.append(json.loads(line[1:]))
    else:
        loose.append(line.rstrip("\n"))


def _result(
    design: Design, script: Script, records: list[dict[str, Any]], complaint: str, heap: int, wall: float
) -> Rehearsal:
    last = records[-1]["t"] / 1000 if records else 0.0
    crash = next(
        (Crash(r["name"], r["value"].strip(), r["t"] / 1000) for r in records if r["what"] == "crash"), None
    )
    if complaint and crash is None:
        if not records:
            raise ZapatoError(f"the stage did not start: {complaint.splitlines()[-1]}")
        crash = Crash(complaint.splitlines()[-1], complaint, last)
    verdicts = {r["number"]: r for r in records if r["what"] == "expect"}
    expectations = [
        _expectation(step.text, step.place, verdicts.get(step.number))
        for step in script.steps
        if not step.act
    ]
    peak = records[-1]["value"] if records and records[-1]["what"] == "end" else 0
    kept = tuple(r for r in records if r["what"] != "end")
    return Rehearsal(
        design.name, script.title, script.lasts / 1000, wall, tuple(expectations), crash, peak, heap, kept
    )


def _expectation(text: str, place: Any, row: Mapping[str, Any] | None) -> Expectation:
    if row is None:
        return Expectation(text, place, None)
    return Expectation(text, place, row["value"], row["t"] / 1000, row["after"] / 1000, row["seen"])
