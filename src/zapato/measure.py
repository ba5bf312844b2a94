"""What an extension takes of a device's memory: measured in the VM, for its cost.json.

Three devices are built and run for each form of the build: without the part, with one, with two. The second one shows what a part
takes, the first one what its modules take beside it; what is known already of other modules is taken off.
"""

from __future__ import annotations

import re
import shutil
import tempfile
from collections import Counter
from collections.abc import Mapping
from pathlib import Path

from zapato.budgets.memory import ROOMY, costs, features
from zapato.design import Design, resolve
from zapato.errors import ZapatoError
from zapato.extensions import Bundle
from zapato.extensions import costs as costs_of
from zapato.fitting import fit, write_pins
from zapato.parts import kind
from zapato.parts.bus_chip import BusChip
from zapato.parts.kind import Kind
from zapato.parts.sensors import SensorChip
from zapato.simulator.rehearse import weighed

FORMS = {"short": ROOMY - 4, "whole": ROOMY}
"""Bytes of heap by which a chip gets the one build or the other."""
ROOM = 150 * 1024
"""Bytes of heap while measuring: more than any device takes."""
HEAD = 'zapato = 1\n[device]\nname = "measured"\nboard = "esp32-38pin"\n[flag.one]\n'
SCRIPT = 'zapato = 1\n[rehearsal]\nlasts = "1min"\n[world]\n'
BUSES = {
    "i2c": "[i2c.line]\nsda = 21\nscl = 22\n",
    "spi": "[spi.line]\nsck = 18\nmosi = 23\nmiso = 19\n",
    "onewire": "[onewire.line]\npin = 4\n",
}

Costs = dict[str, dict[str, dict[str, float]]]


def measured(bundle: Bundle) -> Costs:
    """The figures of a bundle's kind or chip: form of the build -> "heap" or "flash" -> feature -> bytes.

    Raises ZapatoError where it has neither, or its example cannot be built.
    """
    if not (bundle.has("part.py") or bundle.has("chip.py")):
        raise ZapatoError(
            f"the extension {bundle.name} has neither part.py nor chip.py: nothing of it is on a device"
        )
    costs: Costs = {}
    known = {form: {name: _others(bundle, form, name) for name in ("heap", "flash")} for form in FORMS}
    tables = [_tables(bundle, count) for count in range(3)]  # while the site of the extension is in force
    for form, heap in FORMS.items():
        rows = [_row(bundle, text, heap) for text in tables]
        costs[form] = {name: _figures(rows, name, table) for name, table in known[form].items()}
    return costs


def _others(bundle: Bundle, form: str, name: str) -> dict[str, float]:
    """The figures without the bundle's own of an earlier time."""
    own: Mapping[str, Mapping[str, Mapping[str, float]]]
    own = costs_of(bundle.folder / "cost.json") if bundle.has("cost.json") else {}
    mine = own.get(form, {}).get(name, {})
    return {what: size for what, size in costs()[form][name].items() if what not in mine}


Row = tuple[Counter[str], dict[str, int]]


def _row(bundle: Bundle, tables: str, heap: int) -> Row:
    """The features of a device with these tables, and its bytes of heap and flash."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if bundle.site:
            (folder / "site.toml").write_text(
                f'zapato = 1\n[site]\nname = "m"\nextensions = ["{bundle.name}"]\n'
            )
            shutil.copytree(bundle.folder, folder / "extensions" / bundle.name)
        path = folder / "measured.toml"
        path.write_text(HEAD + tables, "utf-8")
        design = _fitted(path)
        script = folder / "script.toml"
        script.write_text(SCRIPT + _world(design), "utf-8")
        known = features(design)
        result, flash = weighed(design, script, heap, ROOM)
        if result.crash or result.restarts:
            wrong = result.crash.error if result.crash else "it restarts itself"
            raise ZapatoError(f"the example of {bundle.name} does not run: {wrong}")
        return known, {"heap": result.used.peak, "flash": flash}


def _fitted(path: Path) -> Design:
    design = resolve(path)
    errors = [finding for finding in design.findings if finding.severity == "error"]
    if errors:
        raise ZapatoError(f"its example cannot be built: {errors[0].message}")
    if any(part.autos for part in design.parts.values()):
        fitted = fit(design)
        if not fitted.ok:
            raise ZapatoError("its example finds no pins on an esp32-38pin")
        write_pins(fitted)
        design = resolve(path)
    return design


def _tables(bundle: Bundle, count: int) -> str:
    """So many of the kind as its example has it, or of the chip on a bus of its own."""
    if bundle.has("part.py"):
        made = kind(bundle.name)
        return _copies(made, count) if made and count else ""
    known = bundle.member("chip", "CHIP")
    bus = known.bus if isinstance(known, SensorChip) else "spi" if known.on_spi else "i2c"
    rows = BUSES.get(bus, "") if count else ""
    for n in range(count):
        rows += f'[{getattr(known, "kind", "sensor")}.m{n}]\nchip = "{bundle.name}"\n{_place(known, bus, n)}'
    return rows


def _place(known: SensorChip | BusChip, bus: str, number: int) -> str:
    """Where one of several of a chip is: its bus with its address or its select line, or its own pins."""
    wanted = list(known.requires) if isinstance(known, SensorChip) else ["select"] if known.on_spi else []
    if isinstance(known, SensorChip) and known.need and not bus:
        wanted.append("pin")
    rows = 'bus = "line"\n' if bus else ""
    if known.addresses:
        rows += f"address = {known.addresses[number % len(known.addresses)]}\n"
    return rows + "".join(f'{key} = "auto"\n' for key in wanted)


def _copies(made: Kind, count: int) -> str:
    """The example of a kind, its own table so often, each with pins to be chosen; the first keeps its name, for what refers to it."""
    pins = "|".join(field.name for field in made.fields if field.role == "pin") or "pin"
    loose = re.sub(rf'^({pins}) = (?:\d+|"[^"]+")', r'\1 = "auto"', made.example, flags=re.MULTILINE)
    tables = re.split(r"(?m)^(?=\[)", loose)
    own = [table for table in tables if table.startswith(f"[{made.name}.")]
    rest = "".join(table for table in tables if table not in own)
    again = "".join(
        (re.sub(r"^\[\w+\.\w+", f"[{made.name}.m{n}", line) if n else line).rstrip() + "\n"
        for n in range(count)
        for line in own
    )
    return f"{rest}\n{again}"


def _world(design: Design) -> str:
    """Every number that the world can set."""
    return "".join(
        f"{part.name}.{name} = 20\n"
        for part in design.parts.values()
        for name in part.simulation.stimuli
        if name in part.properties and part.properties[name].type == "number"
    )


def _figures(rows: list[Row], name: str, known: Mapping[str, float]) -> dict[str, float]:
    """What the new features take: a part the difference of the second, its modules the rest of the first."""
    (before, one, two), sizes = [row[0] for row in rows], [row[1][name] for row in rows]
    parts = [feature for feature in one if feature.startswith("part ") and feature not in known]
    modules = [feature for feature in one if feature.startswith("module ") and feature not in known]
    if not parts + modules:
        raise ZapatoError("its example has nothing that is not known already")
    a_part = max(0.0, sizes[2] - sizes[1] - _known(two, one, known))
    first = max(0.0, sizes[1] - sizes[0] - _known(one, before, known) - a_part)
    shares = {what: first / len(modules) for what in modules} | {what: a_part / len(parts) for what in parts}
    return {what: float(round(size)) for what, size in shares.items()}


def _known(more: Counter[str], less: Counter[str], known: Mapping[str, float]) -> float:
    """Bytes of what the one device has beyond the other, as far as they are known."""
    return sum((count - less[what]) * known.get(what, 0.0) for what, count in more.items())
