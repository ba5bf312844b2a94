"""The alerts of a site, alerts.toml: what is to be told when a value gets somewhere, stays there, or is no longer said."""

from __future__ import annotations

import string
from collections.abc import Iterable, Mapping
from dataclasses import field
from pathlib import Path
from typing import Any, cast

from zapato.design.design import Design
from zapato.design.links import rearmed
from zapato.lang.document import Document
from zapato.lang.expressions import Expression, Function, Mistake, NotThere, Read, compile_expression
from zapato.lang.fields import Shape, measured, named, nearest, number, text
from zapato.lang.source import Keys, Source
from zapato.lang.units import shown_time
from zapato.record import record
from zapato.regex import regex

FILE = "alerts.toml"
"""Its name in the site's folder."""
MOST = 500
"""Alerts of one file at the most."""
SHAPE = Shape(
    (
        named(
            "name",
            "its name",
            r"[a-z][a-z0-9-]{0,30}",
            "a-z, 0-9 and -, up to 31 characters, a letter first",
        ),
        text("when", "a condition over properties, device.part.property", most=1000),
        text("silent", "alert when this device, or device.part.property, has been silent", most=100),
        measured("held", "how long the condition must hold", "time"),
        number("back", "hysteresis: the value must go back by this much before the alert can come again"),
        text("text", "the alert's text, values in braces", most=300),
    )
)
_SILENT = regex(r"[a-z][a-z0-9-]{0,30}(?:\.[A-Za-z_]\w*\.[A-Za-z_]\w*)?")


@record
class Alert:
    """One alert.

    Attributes:
        name: its own.
        when: the condition, or None where it watches over a silence.
        gone: code that must be false before it is told again; "" where the condition's own falling is enough.
        silent: the device or property that must not be silent.
        held: ms.
        says: the text in pieces, (literal, expression or None).
    """

    name: str
    when: Expression | None = None
    gone: str = ""
    silent: str = ""
    held: int = 0
    says: list[tuple[str, Expression | None]] = field(default_factory=list[tuple[str, Expression | None]])

    @property
    def reads(self) -> set[str]:
        """The properties whose change may change it, "device.part.property"."""
        return {f"{part}.{name}" for part, name in self.when.reads} if self.when else {self.silent}


class AlertScope:
    """Expressions read the properties of a site's devices: "device.part.property" -> type and unit.

    A name's device code is `v("device.part.property")`; it may always be unknown.
    """

    functions: Mapping[str, Function] = {}

    def __init__(self, known: Mapping[str, tuple[str, str]]) -> None:
        self.known = known

    def read(self, part: str, name: str) -> Read:
        near = [known_name for known_name in self.known if known_name.endswith(f".{part}.{name}")][:3]
        raise NotThere("a property of a site is written device.part.property", tuple(near))

    def remote(self, device: str, part: str, name: str) -> Read:
        whole = f"{device}.{part}.{name}"
        known = self.known.get(whole)
        if known is None:
            raise NotThere(f"there is no {whole}", nearest(whole, list(self.known)))
        return Read(known[0], known[1], f"v({whole!r})", True)


def offered(designs: Iterable[Design]) -> dict[str, tuple[str, str]]:
    """What the devices of a site say, as "device.part.property" -> type and unit."""
    return {
        f"{design.name}.{part.name}.{name}": (known.type, known.unit)
        for design in designs
        if design.mqtt is not None
        for part in design.parts.values()
        for name, known in part.properties.items()
        if not known.wanted or name in part.asked
    }


def read_alerts(path: Path, known: Mapping[str, tuple[str, str]]) -> tuple[list[Alert], Document]:
    """The alerts of a file; mistakes are in its document's findings. Raises Unreadable."""
    document = Document.of(Source.read(path))
    for key in document.data.keys() - {"zapato", "alert"}:
        document.found(
            "unknown-key", (key,), f"{key} is not a table of alerts", fixes=("[[alert]]",), of="key"
        )
    raw = document.data.get("alert", [])
    rows = cast(list[Any], raw) if isinstance(raw, list) else []
    if not isinstance(raw, list):
        document.found("wrong-type", ("alert",), "an alert stands in double brackets: [[alert]]", of="key")
    if len(rows) > MOST:
        document.found("wrong-type", ("alert",), f"{len(rows)} alerts; {MOST} is the most", of="key")
    alerts: list[Alert] = []
    for index, table in enumerate(rows[:MOST]):
        path_: Keys = ("alert", index)
        if not isinstance(table, dict):
            document.found("wrong-type", path_, "an alert is a table: [[alert]]")
            continue
        before = len(document.findings)
        made = _alert(document, AlertScope(known), cast(dict[str, Any], table), path_)
        if made.name in {alert.name for alert in alerts}:
            document.found("name-taken", (*path_, "name"), f"another alert is called {made.name}")
        if len(document.findings) == before:
            alerts.append(made)
    return alerts, document


def _alert(document: Document, scope: AlertScope, table: dict[str, Any], path: Keys) -> Alert:
    values = document.read(SHAPE, table, path)
    made = Alert(values.get("name") or "", held=values.get("held") or 0)
    if ("when" in table) == ("silent" in table):
        document.found("missing-key", path, "an alert has either when or silent", of="key")
    elif values.get("when"):
        made.when = compile_expression(values["when"], scope)
        _condition(document, made.when, (*path, "when"))
        if values.get("back") is not None:
            made.gone = _gone(document, made.when, values["back"], (*path, "back"))
    elif values.get("silent"):
        made.silent = values["silent"]
        _silence(document, scope, made, path)
        if "back" in table:
            document.found("link-type", (*path, "back"), "back goes with when", of="key")
    made.says = _says(document, scope, values.get("text") or "", (*path, "text"))
    return made


def _condition(document: Document, expression: Expression, path: Keys) -> None:
    if not expression.mistakes and expression.value.type != "boolean":
        expression.mistakes.append(
            Mistake(0, f"a condition is true or false, and this is a {expression.value.type}")
        )
    if not expression.mistakes and not expression.reads:
        expression.mistakes.append(
            Mistake(0, "the condition contains no property of a part, so its value never changes")
        )
    _tell(document, expression, path)


def _tell(document: Document, expression: Expression, path: Keys, begin: int = 0) -> None:
    """The mistakes of an expression that begins so many characters into the text at `path`."""
    for mistake in expression.mistakes:
        offset = begin + mistake.offset + 1
        document.found(
            mistake.code, path, mistake.message, fixes=mistake.fixes, offset=offset, width=mistake.width
        )


def _gone(document: Document, when: Expression, back: float, path: Keys) -> str:
    code = "" if when.mistakes else rearmed(when, back)
    if not code and not when.mistakes:
        message = "back goes with a when that is one comparison of numbers, and is more than 0"
        document.found("link-type", path, message)
    return code


def _silence(document: Document, scope: AlertScope, made: Alert, path: Keys) -> None:
    """It names a device or a property that exists, and for how long it may be silent."""
    devices = {name.partition(".")[0] for name in scope.known}
    if made.silent not in devices | scope.known.keys():
        near = nearest(made.silent, [*devices, *scope.known])
        wrong = (
            f"there is no {made.silent}"
            if _SILENT.fullmatch(made.silent)
            else "names a device, or device.part.property"
        )
        document.found("link-unknown", (*path, "silent"), wrong, fixes=near)
    if not made.held:
        document.found("missing-key", path, 'silent needs held: for how long, such as "30min"', of="key")


def _says(
    document: Document, scope: AlertScope, written: str, path: Keys
) -> list[tuple[str, Expression | None]]:
    spoken: list[tuple[str, Expression | None]] = []
    try:
        pieces = list(string.Formatter().parse(written))
    except ValueError:
        document.found(
            "link-type", path, "a { without its } in the text", fixes=("write a brace as {{ or }}",)
        )
        return spoken
    at = 0
    for literal, name, spec, _ in pieces:
        inner = None if name is None else compile_expression(name, scope)
        if inner is not None:
            at = written.find(f"{{{name}", at) + 1
            _tell(document, inner, path, at)
            if spec:
                document.found("link-type", path, f"the text takes {{name}} alone, without :{spec}")
        spoken.append((literal, inner))
    return spoken


def usual_text(alert: Alert) -> str:
    """What is said where the file says nothing."""
    if alert.silent:
        return f"{alert.silent} has been silent for {shown_time(alert.held)}"
    what = alert.when.text if alert.when else ""
    return f"{what} for {shown_time(alert.held)}" if alert.held else what
