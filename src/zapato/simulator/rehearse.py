"""Rehearsing: the built firmware in the real MicroPython VM, on a stage, in virtual time.

It starts as the board does: `main.py` of the data partition chooses the slot, and what an update or a fault needs is loaded only then.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace
from functools import cache
from importlib.resources import files
from pathlib import Path
from random import Random
from typing import Any

from zapato.checks import report as report_of
from zapato.design import Design, resolve
from zapato.design.script import Script, Step, begins_at, read_script, scripts
from zapato.errors import Refused, RehearsalInvalid, Unreadable
from zapato.firmware.build import refuse_unplaced
from zapato.firmware.compile import cache_folder, compile_all
from zapato.firmware.layout import delivered
from zapato.firmware.plan import page_password, settings
from zapato.firmware.program import PAGE, SAFE, Program, compile_device, read_map
from zapato.lang.source import shown
from zapato.parts.stimuli import PinLevel
from zapato.simulator import vm
from zapato.simulator.board import BUDGET, Reset, SimulatedBoard
from zapato.simulator.broker import Broker
from zapato.simulator.clock import Clock, End
from zapato.simulator.network import AccessPoint, Server
from zapato.simulator.result import Crash, Expectation, Rehearsal, Rows, said_of, unknown_of
from zapato.simulator.scenario import Messages, PowerCut, ScenarioRunner
from zapato.simulator.trace import Trace
from zapato.simulator.vm import Stopped

PORTS = ("_esp32", "_esp8266", "_rp2")
"""Ends of the names of modules that one port has for itself."""
KEY = "00" * 32
"""The update key of every rehearsal."""
PASSWORD = "rehearsal"
"""Stands for every password in the simulator: real ones are not needed there."""
NETWORK = "simulator"
"""The network of the simulator, where the site has none."""


def rehearse(
    what: Design | Path | str,
    script: Path | str | None = None,
    *,
    app: Path | None = None,
    seed: int | None = None,
    progress: Callable[[float], None] | None = None,
) -> Rehearsal:
    """Run the device's compiled firmware through a rehearsal; the same seed gives the same trace.

    `script` is the rehearsal file, by default `rehearsals/<device>.toml` of the site. `app` is a
    folder of compiled modules to run instead of building them anew. `progress` is called with how much of
    the virtual time is over, from 0 to 1. Raises Refused while errors
    stand, RehearsalInvalid, Unreadable, ToolMissing.

    Examples:
        >>> import zapato
        >>> run = zapato.rehearse("devices/kettle-plug.toml")
        >>> run.passed, run.restarts
        (True, ())
    """
    design = what if isinstance(what, Design) else resolve(Path(what))
    refuse(design)
    assert design.board
    vm.ready(design.board.chip.port)
    path = Path(script) if script else default_script(design)
    read = read_script(path, design)
    if read.document.findings:
        source = read.document.source
        findings = tuple(read.document.findings)
        raise RehearsalInvalid(f"{source.name} cannot be rehearsed", "", findings, {source.name: source.text})
    program = _built(app) if app else compile_device(design)
    return _run(design, read, program, read.seed if seed is None else seed, progress)


def weighed(design: Design, script: Path, heap: int, room: int) -> tuple[Rehearsal, int]:
    """A rehearsal of a design built for a chip with `heap` bytes and run with `room` bytes, whatever `check` says of it, and the
    bytes of its modules: to measure what it takes."""
    assert design.board
    board = design.board
    small, roomy = (
        replace(design, board=replace(board, chip=replace(board.chip, heap=size))) for size in (heap, room)
    )
    program = compile_device(small)
    vm.ready(board.chip.port)
    result = _run(roomy, read_script(script, roomy), program, 1)
    return result, sum(map(len, program.modules.values()))


def refuse(design: Design) -> None:
    """Raises Refused while errors stand, or a pin is still to be chosen."""
    checked = report_of([design])
    if not checked.ok:
        name = design.name or "the device"
        raise Refused(f"{name} is not rehearsed: its file has errors", "", checked.findings, checked.texts)
    refuse_unplaced(design)


def _built(app: Path) -> Program:
    """The program of an earlier build."""
    modules = {path.stem: path.read_bytes() for path in sorted(app.glob("*.mpy"))}
    safe = {path.stem: path.read_bytes() for path in sorted((app / SAFE).glob("*.mpy"))}
    shown = app / SAFE / PAGE
    return Program(modules, read_map(app), safe, shown.read_bytes() if shown.is_file() else b"")


def default_script(design: Design) -> Path:
    """The device's rehearsal, rehearsals/<device>.toml of its site, or its family's. Raises Unreadable where it has none."""
    places = scripts(design)
    for path in places:
        if path.is_file():
            return path
    message = f"{design.name} has no rehearsal: {shown(places[0]) if places else 'its file'} is not there"
    raise Unreadable(message, "name one with --script FILE")


def _run(
    design: Design,
    script: Script,
    program: Program,
    seed: int,
    progress: Callable[[float], None] | None = None,
) -> Rehearsal:
    assert design.board is not None
    begun = time.perf_counter()
    random = Random(seed)
    clock = Clock()
    trace = Trace(clock)
    broker = Broker(clock, trace)
    board, air = staged(design, program, script, clock, trace, broker, random)
    prepare(design, script, board, air, broker)
    if progress:
        _tell(progress, clock, script.lasts)
    crash = play_out(board, clock, trace)
    return result_of(design, script, board, trace, crash, time.perf_counter() - begun)


def staged(
    design: Design,
    program: Program,
    script: Script,
    clock: Clock,
    trace: Trace,
    server: Server,
    random: Random,
) -> tuple[SimulatedBoard, AccessPoint]:
    """The device's board with its program, and the network around it."""
    assert design.board is not None
    wifi = ((design.wifi or {}).get("name") or NETWORK, PASSWORD) if design.wifi is not None else None
    air = AccessPoint(clock, trace, wifi)
    air.epoch = begins_at(script, design)
    data, modules = delivered(design, program, _settings(design)), machine_modules(design.board.chip.port)
    seed = random.getrandbits(30)
    return SimulatedBoard(
        design.board, data, modules, seed, clock, trace, random, air, server, program.map.with_source_places
    ), air


def prepare(
    design: Design, script: Script, board: SimulatedBoard, air: AccessPoint, broker: Messages | None
) -> ScenarioRunner:
    """The world as it is at the beginning, and the steps until the script ends."""
    simulations = {part.name: part.simulation for part in design.parts.values()}
    runner = ScenarioRunner(board, air, broker, board.clock, board.trace, simulations, design.topic)
    runner.page = page_password(KEY)
    if given := _settings(design).get("mqtt"):
        runner.types = {
            "host": given["host"],
            "port": given["port"],
            "user": given["user"],
            "secret": given["password"],
        }
    for name, simulation in simulations.items():
        for chip in simulation.chips:
            board.stand(name, chip)
        for at in simulation.cards:
            board.card(*at)
        for address, data in simulation.beacons:
            board.ether.add(address, data)  # type: ignore[arg-type]
        for peer in simulation.peers:
            board.join(peer)
    for use in design.uses:
        if use.need.rest:
            board.pins.line(use.pin.gpio).change(int(use.need.rest == "high"))
    for key, value in script.world:
        runner.put(key, value)
    for model in script.models:
        runner.run(model)
    for said in script.said:
        runner.message(*said, True)
    board.pins.bounces = True
    runner.steps.load(script.steps)

    def end() -> None:
        raise End

    if script.lasts:
        board.clock.at(script.lasts, end)
    return runner


def _tell(progress: Callable[[float], None], clock: Clock, lasts: int) -> None:
    """Call `progress` at every hundredth of the virtual time."""

    def tell() -> None:
        progress(clock.now / lasts)
        clock.after(max(1, lasts // 100), tell)

    tell()


def play_out(board: SimulatedBoard, clock: Clock, trace: Trace) -> Crash | None:
    """Run the program, power-up after power-up."""
    dark: int | None = None
    try:
        while True:
            try:
                if dark is not None:
                    ms, dark = dark, None
                    board.power_off()
                    clock.go(clock.now + ms)
                trace.log("power", "on", True)
                error, traceback = board.run()
                trace.log("crash", error, traceback)
                return Crash(error, traceback, clock.now / 1000)
            except PowerCut as cut:
                trace.log("power", "on", False)
                dark = cut.ms
            except Reset:
                trace.log("power", "reset", True)
                dark = 0
    except End:
        return None
    except Stopped:
        what = "the program never waits"
        return Crash("Stopped", f"{what}: stopped after more than {BUDGET:,} instructions", clock.now / 1000)


@cache
def machine_modules(port: str = "") -> dict[str, bytes]:
    """The simulator's own modules, compiled, by file name; where ports differ, those of `port`."""
    folder = files("zapato") / "simulator" / "machine_modules"
    sources = {
        entry.name.removesuffix(".py"): entry.read_text("utf-8")
        for entry in folder.iterdir()
        if entry.name.endswith(".py")
    }
    own = {n.removesuffix(f"_{port}"): text for n, text in sources.items() if port and n.endswith(f"_{port}")}
    common = {name: text for name, text in sources.items() if not name.endswith(PORTS)}
    return {f"{name}.mpy": data for name, data in compile_all(common | own, cache_folder()).items()}


def _settings(design: Design) -> dict[str, Any]:
    """The device's settings with every secret replaced."""
    values: dict[str, Any] = settings(design, KEY)
    for group, needs in (("wifi", "name"), ("mqtt", "password")):
        if values.get(group, {}).get(needs):
            values[group]["password"] = PASSWORD
    return values


def result_of(
    design: Design, script: Script, board: SimulatedBoard, trace: Trace, crash: Crash | None, wall: float
) -> Rehearsal:
    """What the trace tells of the script."""
    return Rehearsal(
        design.name,
        script.title,
        script.lasts / 1000,
        wall,
        tuple(expectations_of(script, trace.rows, design)),
        crash,
        board.heap,
        board.facts.chip.heap,
        board.effort,
        tuple(trace.rows),
        (*script.notes, *board.ether.notes),
        step_notes={step.number: step.note for step in script.steps if step.note},
        cards={
            part.name: board.card(*at).files()
            for part in design.with_role("card")
            for at in part.simulation.cards
        },
        outputs=outputs_of(design, board, trace),
    )


def outputs_of(
    design: Design, board: SimulatedBoard, trace: Trace
) -> dict[str, tuple[tuple[float, bool], ...]]:
    """What the outputs of a device were, by the levels at their pins; without power nothing is on."""
    outputs: dict[str, tuple[tuple[float, bool], ...]] = {}
    for part in design.parts.values():
        for name, how in part.simulation.probes.items():
            if not isinstance(how, PinLevel):
                continue
            line, active = board.pins.line(how.gpio).name, how.active
            outputs[f"{part.name}.{name}"] = tuple(
                (r["t"] / 1000, r["what"] == "pin" and r["value"] == active)
                for r in trace.rows
                if (r["what"] == "pin" and r["name"] == line)
                or (r["what"] == "power" and r["name"] == "on" and not r["value"])
            )
    return outputs


def expectations_of(script: Script, rows: Rows, design: Design | None = None) -> list[Expectation]:
    """The expectations of a script with their verdicts, as they stand in a trace; with a design, what its program did not know then."""
    verdicts = {r["number"]: at for at, r in enumerate(rows) if r["what"] == "expect"}
    return [
        _expectation(step, rows, verdicts.get(step.number), design) for step in script.steps if not step.act
    ]


def _expectation(step: Step, rows: Rows, at: int | None, design: Design | None) -> Expectation:
    if at is None:
        return Expectation(step.text, step.place, None, number=step.number)
    row = rows[at]
    before = rows[: 0 if row["value"] else at]
    return Expectation(
        step.text,
        step.place,
        row["value"],
        row["t"] / 1000,
        row["after"] / 1000,
        row["seen"],
        step.number,
        said_of(before, row["seen"]),
        unknown_of(design, before, row["seen"]) if design else {},
    )
