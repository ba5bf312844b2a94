"""The program of one device: compiled modules, and the map that leads from its tracebacks to our sources."""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import field
from importlib.resources import files
from pathlib import Path
from typing import Any, cast

from zapato.budgets.memory import ROOMY
from zapato.design import Design
from zapato.design.commands import DEVICE
from zapato.design.program import offered
from zapato.errors import Unreadable
from zapato.firmware import flash_texts
from zapato.firmware.bundle import AIR, JoinedModules, bundle, parsed
from zapato.firmware.bundle import NAME as BUNDLE
from zapato.firmware.compile import cache_folder, compile_sets, runtime_source
from zapato.firmware.plan import Plan, make_minimal_plan, make_plan
from zapato.firmware.shorten import shorten
from zapato.lang.json_text import read_json
from zapato.record import record
from zapato.regex import regex

AFTER_FAULTS = ("fault", "trace", "faults")
COMMANDS = ("cmd_tell", "cmd_restart", "cmd_forget", "cmd_settings", "cmd_update")
ACCESS = "access"
PAGE = "page.html"
"""What the access point shows; a file as it is, in the minimal program's folder."""
LATER = (*AFTER_FAULTS, *COMMANDS, "netup", "confirm", ACCESS)
"""Runtime modules that are loaded when they are needed, and given back: after a fault, when the device itself is told something, while a version is on trial."""
ALONE = ("start", *LATER)
"""Runtime modules that stay by themselves, the way up first."""
MAIN = tuple(each for each in ALONE if each != ACCESS)
MINIMAL = ("start", "netup", *AFTER_FAULTS, *COMMANDS, ACCESS)

SAFE = "safe"
"""The minimal program's folder in a slot."""

MAP = "map.json"
"""The map's file, beside the modules of a build."""

_FRAME = regex(r'File "(\w+)(?:\.py)?", line (\d+), in (<?\w+>?)')


@record(frozen=True)
class Map:
    """What a place in the device's program is in our sources.

    Attributes:
        lines: of the module `device`: (first line, module, first line there); empty where the program has no line numbers.
        functions: "module.name" on the device to the places here, each "module.py:line name".
    """

    lines: tuple[tuple[int, str, int], ...] = ()
    functions: Mapping[str, tuple[str, ...]] = field(default_factory=dict[str, tuple[str, ...]])

    def with_source_places(self, text: str) -> str:
        """A text of the device with the places in it as those of our sources."""
        return _FRAME.sub(self._place, text)

    def _place(self, match: re.Match[str]) -> str:
        module, line, name = match.groups()
        if self.lines and module == BUNDLE:
            module, at = JoinedModules("", self.lines).origin(int(line))
            return f'File "{module}.py", line {at}, in {name}'
        places = self.functions.get(f"{module}.{name}")
        return " or ".join(places) if places and int(line) == 1 else match[0]

    def as_bytes(self) -> bytes:
        """The map as it is written beside the modules: JSON."""
        data = {"format": 1, "lines": self.lines, "functions": self.functions}
        return (json.dumps(data, indent=1, sort_keys=True) + "\n").encode()


@record(frozen=True)
class Program:
    """A device's program.

    Attributes:
        modules: the compiled modules by name.
        map: where their places are in our sources.
        safe: the modules of the minimal program; empty for a device without a network.
        page: what its access point shows.
        texts: what a small chip's program reads from the flash when it says it.
        safe_texts: of the minimal program.
    """

    modules: Mapping[str, bytes]
    map: Map
    safe: Mapping[str, bytes] = field(default_factory=dict[str, bytes])
    page: bytes = b""
    texts: bytes = b""
    safe_texts: bytes = b""

    @property
    def files(self) -> dict[str, bytes]:
        """What a slot holds of it, by path there."""
        return (
            {f"{name}.mpy": data for name, data in self.modules.items()}
            | {f"{SAFE}/{name}.mpy": data for name, data in self.safe.items()}
            | ({f"{SAFE}/{PAGE}": self.page} if self.page else {})
            | ({flash_texts.FILE: self.texts} if self.texts else {})
            | ({f"{SAFE}/{flash_texts.FILE}": self.safe_texts} if self.safe_texts else {})
        )


def read_map(app: Path) -> Map:
    """The map beside a build's app folder. Raises Unreadable where there is none, or a damaged one."""
    path = app.parent / MAP
    if not path.is_file():
        raise Unreadable(f"{path.parent} holds no build: {MAP} is not there", "zapato build PATH makes it")
    try:
        data = cast(dict[str, Any], read_json(path.read_text("utf-8")))
        lines = tuple((int(at), str(module), int(first)) for at, module, first in data["lines"])
        return Map(
            lines,
            {
                str(k): tuple(str(part_of_version) for part_of_version in v)
                for k, v in data["functions"].items()
            },
        )
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise Unreadable(f"{path} is not a map of a build: {error}", "build the device again") from None


def compile_device(design: Design) -> Program:
    """The program of a design without errors. Raises ToolMissing, Unwritable."""
    if design.wifi is None and design.ethernet is None:
        commands = (command for link in design.links for command in link.commands)
        own = sorted({f"cmd_{command.action}" for command in commands if command.part == DEVICE})
        program = _parts(design, make_plan(design), ("start", "netup", *AFTER_FAULTS, *own))
        (modules,) = _compiled(design, program)
        return Program(modules, program.map, texts=program.texts)
    program = _parts(design, make_plan(design), MAIN)
    minimal = _parts(design, make_minimal_plan(design), MINIMAL)
    modules, safe = _compiled(design, program, minimal)
    return Program(modules, program.map, safe, page(), program.texts, minimal.texts)


def page() -> bytes:
    """What the access point shows."""
    return (files("zapato") / "device" / PAGE).read_bytes()


def _roomy(design: Design) -> bool:
    return design.board is None or design.board.chip.heap >= ROOMY


def _compiled(design: Design, *programs: _Parts) -> list[dict[str, bytes]]:
    return compile_sets([program.sources for program in programs], cache_folder(), lines=_roomy(design))


@record(frozen=True)
class _Parts:
    """A program before it is compiled: the text of each file, where its functions stand in our sources, and the texts that stay on the flash."""

    sources: Mapping[str, str]
    map: Map
    texts: bytes


def _parts(design: Design, plan: Plan, alone: Sequence[str]) -> _Parts:
    """A plan and the runtime modules it needs; `alone` are those that stay by themselves."""
    port = design.board.chip.port if design.board else ""
    roomy = _roomy(design)
    sources = {name: runtime_source(name, port) for name in (*plan.modules, *plan.apart, *alone)}
    if "pins" in sources and offered(design):
        sources["pins"] = runtime_source("pins_offered", port)
    sources |= {**plan.plans, "levels": plan.levels}
    names: Mapping[str, Mapping[str, str]] = {}
    texts, on_flash, modules = sources, b"", plan.modules
    if not roomy:
        moved, on_flash = flash_texts.to_flash({name: sources[name] for name in (*plan.modules, *plan.apart)})
        modules = (*modules, flash_texts.MODULE)
        sources[flash_texts.MODULE] = runtime_source(flash_texts.MODULE, port)
        texts, names = shorten(sources | moved)
    together = bundle({name: texts[name] for name in modules})
    parts = {name: texts[name] for name in (*alone, *plan.plans, "levels")} | {BUNDLE: together.text}
    if plan.apart:
        own = dict.fromkeys(modules, BUNDLE)
        parts[AIR] = bundle({name: texts[name] for name in plan.apart}, own).text
    made = Map(together.origins) if roomy else Map((), _functions(sources, names))
    return _Parts(parts, made, on_flash)


def _functions(
    sources: Mapping[str, str], names: Mapping[str, Mapping[str, str]]
) -> dict[str, tuple[str, ...]]:
    """Where each function of the release build stands in our sources."""
    function_places: dict[str, list[str]] = {}
    for module, text in sources.items():
        to = names[module]
        for path, node in _defined(parsed(text).body):
            place = f"{module}.py:{node.lineno} {path}"
            there = module if module in ALONE or module.startswith("plan") else BUNDLE
            function_places.setdefault(f"{there}.{to.get(node.name, node.name)}", []).append(place)
    return {name: tuple(places) for name, places in sorted(function_places.items())}


def _defined(body: Sequence[ast.stmt], within: str = "") -> list[tuple[str, ast.FunctionDef]]:
    """Every function, with the name of its class before it."""
    functions: list[tuple[str, ast.FunctionDef]] = []
    for node in body:
        if isinstance(node, ast.FunctionDef):
            functions.append((within + node.name, node))
        elif isinstance(node, ast.ClassDef):
            functions += _defined(node.body, f"{node.name}.")
    return functions
