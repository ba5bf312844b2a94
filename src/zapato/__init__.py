"""Zapato: from a declarative device file to checked, rehearsed, installable firmware.

    import zapato
    design = zapato.load("devices/boot-dryer.toml")
    report = zapato.check(design)           # every mistake, at its place, with the way out
    built = zapato.build(design)            # compiled modules, update package, build.json
    run = zapato.rehearse(design)           # the built firmware in the real MicroPython VM
    sheet = zapato.wires(design)            # every wire with both ends and its voltage, what to buy
    zapato.list_topics(design)              # every topic with payload, unit and example
    zapato.diff(old, design)                # what differs between two designs
    zapato.draw.pin_map(design)             # pictures, as Matplotlib figures (pip install 'zapato[pictures]')

Everything is loaded when it is first used.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from pathlib import Path

    from zapato import draw, extend, hub
    from zapato.budgets.whole import Budget, budget
    from zapato.changes import Change
    from zapato.changes import changes as diff
    from zapato.checks import check
    from zapato.design import Design
    from zapato.errors import ZapatoError
    from zapato.findings import Finding, Report
    from zapato.firmware.build import Build, build
    from zapato.fitting import Fit, fit
    from zapato.simulator.rehearse import rehearse
    from zapato.simulator.result import Rehearsal
    from zapato.simulator.site_rehearsal import SiteRehearsal, rehearse_site
    from zapato.topics import Topic
    from zapato.topics import topics as list_topics
    from zapato.wiring import Sheet
    from zapato.wiring import wiring as wires

__version__ = "0.2.0"
__all__ = [
    "Budget",
    "Build",
    "Change",
    "Design",
    "Finding",
    "Fit",
    "Rehearsal",
    "Report",
    "Sheet",
    "SiteRehearsal",
    "Topic",
    "ZapatoError",
    "budget",
    "build",
    "check",
    "diff",
    "draw",
    "extend",
    "fit",
    "hub",
    "list_topics",
    "load",
    "rehearse",
    "rehearse_site",
    "wires",
]

_HOMES = {
    "Budget": "budgets.whole",
    "Build": "firmware",
    "Change": "changes",
    "Design": "design",
    "Finding": "findings",
    "Fit": "fitting",
    "Rehearsal": "simulator",
    "Report": "findings",
    "Sheet": "wiring",
    "SiteRehearsal": "simulator",
    "Topic": "topics",
    "ZapatoError": "errors",
    "budget": "budgets.whole",
    "build": "firmware",
    "check": "checks",
    "diff": "changes:changes",
    "fit": "fitting",
    "list_topics": "topics:topics",
    "rehearse": "simulator",
    "rehearse_site": "simulator",
    "wires": "wiring:wiring",
}
"""Where each name is, and what it is called there where that is another name."""
_PACKAGES = ("draw", "extend", "hub")


def load(path: str | Path) -> Design:
    """The design of the device file at `path`; mistakes are in `design.findings`.

    Raises zapato.errors.Unreadable where the file cannot be read at all.

    Examples:
        >>> import zapato
        >>> design = zapato.load("devices/boot-dryer.toml")
        >>> design.parts["heater"].pins["pin"].name
        'GPIO26'
    """
    from pathlib import Path

    from zapato.design import resolve

    return resolve(Path(path))


def __getattr__(name: str) -> Any:
    if name in _PACKAGES:
        return import_module(f"zapato.{name}")
    if name not in _HOMES:
        raise AttributeError(f"module 'zapato' has no attribute {name!r}")
    home, _, called = _HOMES[name].partition(":")
    return getattr(import_module(f"zapato.{home}"), called or name)


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
