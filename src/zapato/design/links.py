"""Links: rules between parts, resolved, type-checked and turned into device code."""

from __future__ import annotations

import ast
import re
import string
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, cast

from zapato.lang.document import Document
from zapato.lang.expressions import (
    Expression,
    Function,
    Mistake,
    NotThere,
    Read,
    Value,
    compile_expression,
    compile_node,
    offset_of,
    parse,
    width_of,
)
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, measured, nearest, number, text
from zapato.lang.source import Keys
from zapato.lang.units import QuantityError, quantity
from zapato.parts.model import Argument, Part, Property


def _read_do(value: object) -> tuple[str, ...]:
    if isinstance(value, str):
        return (value,)
    items = cast(list[object], value)
    if not isinstance(value, list) or not items or not all(isinstance(item, str) for item in items):
        raise Wrong('takes an action, or a list of them: ["heater.off", "vent.on"]')
    return tuple(cast(list[str], items))


_TEXT = {"type": "string"}
SHAPE = Shape(
    (
        text("when", "an event (part.event), or a condition that becomes true", None, most=1000),
        measured("every", "in place of when: again and again after this time", "time", None, least=1000),
        text("if", "a condition that must hold at that moment", None, most=1000),
        Field(
            "do",
            _read_do,
            {"anyOf": [_TEXT, {"type": "array", "items": _TEXT, "minItems": 1}]},
            "the action or actions",
            REQUIRED,
        ),
        measured("held", "the condition must have stayed true this long", "time"),
        measured("after", "wait this long before doing it", "time"),
        measured("for", "take it back after this time", "time"),
        number("back", "the condition must go back by this much before it can fire again"),
        text("label", "a name for people"),
    )
)

LONGEST_TIME = 366 * 86_400_000
"""ms: the longest time that the device counts."""
_EVENT = re.compile(r"\s*([A-Za-z_]\w*)\.([A-Za-z_]\w*)\s*")


@dataclass(eq=False, repr=False)
class Command:
    """One thing a link does.

    Attributes:
        text: as written.
        code: device code; "" for an action without arguments, which part and action say.
        takes_back: True where `for` can take it back.
        part, action: whose action or property it is; the action is "notify" for a text.
    """

    text: str
    code: str
    takes_back: bool = False
    part: str = ""
    action: str = ""


@dataclass
class Link:
    """A rule: when, if, do.

    Attributes:
        number: its place in the file, from 1.
        event: (part, event) where an event starts it, else None.
        when, condition: compiled expressions, or None.
        rearm: device code that must be false before a condition fires again; "" where the
            condition's own falling is enough.
        held, after, undo_after: ms, or 0.
        every: ms of a link that waits for nothing but time, or 0.
    """

    number: int
    event: tuple[str, str] | None = None
    when: Expression | None = None
    condition: Expression | None = None
    commands: list[Command] = field(default_factory=list[Command])
    rearm: str = ""
    held: int = 0
    after: int = 0
    undo_after: int = 0
    every: int = 0


class PartScope:
    """Expressions read the parts of one device."""

    functions: Mapping[str, Function] = {}

    def __init__(self, parts: Mapping[str, Part]) -> None:
        self.parts = parts

    def read(self, part: str, name: str) -> Read:
        found = self.part(part)
        known = found.properties.get(name)
        if known is None and "chip" in found.kind.shape.by_name and not found.values.get("chip"):
            return Read("?", "", f"p_{part}.{name}", False)  # its chip is the mistake, and is told
        if known is None:
            what = f"{part} has no property {name}" if name else f"{part} alone has no value"
            raise NotThere(what, self._instead(found, name))
        return Read(known.type, known.unit, f"p_{part}.{name}", known.unknown)

    def part(self, name: str) -> Part:
        """The part of this name. Raises NotThere with the nearest name."""
        found = self.parts.get(name)
        if found is None:
            have = f"parts: {', '.join(self.parts)}" if self.parts else "the device has no parts yet"
            raise NotThere(f"no part is called {name}", nearest(name, list(self.parts)) or (have,))
        return found

    @staticmethod
    def _instead(part: Part, name: str) -> tuple[str, ...]:
        options = [f"{part.name}.{each}" for each in part.properties]
        near = nearest(f"{part.name}.{name}", options) if name else ()
        if name in part.kind.events:
            return (f"{part.name}.{name} is an event: it can stand alone in when, not in a condition",)
        return near or ((f"it has: {', '.join(options)}",) if options else ())


def read_links(document: Document, parts: Mapping[str, Part]) -> list[Link]:
    """The [[link]] tables of a document; every mistake becomes a finding of it."""
    raw = document.data.get("link", [])
    if not isinstance(raw, list):
        document.found("wrong-type", ("link",), "a link stands in double brackets: [[link]]", of="key")
        return []
    scope, found = PartScope(parts), list[Link]()
    for index, table in enumerate(cast(list[object], raw)):
        if not isinstance(table, dict):
            document.found("wrong-type", ("link", index), "a link is a table: [[link]]")
            continue
        values = document.read(SHAPE, cast(dict[str, Any], table), ("link", index))
        found.append(_link(document, scope, values, index))
    return found


def read_conditions(document: Document, parts: Mapping[str, Part]) -> None:
    """Check the expressions that parts hold themselves, such as what an LED shows."""
    scope = PartScope(parts)
    for part in parts.values():
        for field_ in part.kind.fields:
            written = part.values.get(field_.name) if field_.role == "condition" else None
            if written and written not in part.kind.words:
                _boolean(document, scope, written, (*part.path, field_.name))


def _link(document: Document, scope: PartScope, values: Mapping[str, Any], index: int) -> Link:
    path: Keys = ("link", index)
    link = Link(
        index + 1,
        held=values.get("held") or 0,
        after=values.get("after") or 0,
        undo_after=values.get("for") or 0,
        every=values.get("every") or 0,
    )
    _begins(document, values, path)
    if values.get("when"):
        _when(document, scope, link, values["when"], (*path, "when"))
    if values.get("if"):
        link.condition = _boolean(document, scope, values["if"], (*path, "if"))
    for place, each in enumerate(values.get("do", ())):
        at = (*path, "do", place) if isinstance(document.data["link"][index]["do"], list) else (*path, "do")
        if command := _command(document, scope, each, at):
            link.commands.append(command)
    if values.get("back") is not None and link.when:
        _hysteresis(document, link, values["back"], (*path, "back"))
    _timing(document, link, path)
    return link


def _begins(document: Document, values: Mapping[str, Any], path: Keys) -> None:
    """A link has one beginning: when, or every."""
    given = cast(dict[str, Any], document.data["link"][path[1]])
    if "when" not in given and "every" not in given:
        document.missing(SHAPE.by_name["when"], path)
    elif "when" in given and "every" in given:
        message = "a link has one beginning, and this one has when and every"
        document.found("link-type", (*path, "every"), message, fixes=("two links",), of="key")
    for key in ("held", "back"):
        if values.get("every") and values.get(key):
            message = f"{key} goes with a condition, and this link has every"
            document.found("link-type", (*path, key), message, of="key")


def _say(document: Document, path: Keys, mistakes: list[Mistake]) -> None:
    for mistake in mistakes:
        document.found(
            mistake.code,
            path,
            mistake.message,
            fixes=mistake.fixes,
            offset=mistake.offset + 1,
            width=mistake.width,
        )


def _when(document: Document, scope: PartScope, link: Link, written: str, path: Keys) -> None:
    event = _EVENT.fullmatch(written)
    part = scope.parts.get(event[1]) if event else None
    if event and part and event[2] in part.kind.events:
        link.event = (event[1], event[2])
    elif event and part and event[2] not in part.properties:
        names = [*part.kind.events, *part.properties]
        fixes = nearest(event[2], names) or ((f"it has: {', '.join(names)}",) if names else ())
        _say(
            document,
            path,
            [
                Mistake(
                    event.start(2), f"{event[1]} has no event or property {event[2]}", fixes, "link-unknown"
                )
            ],
        )
    else:
        link.when = _boolean(document, scope, written, path)


def _boolean(document: Document, scope: PartScope, written: str, path: Keys) -> Expression:
    expression = compile_expression(written, scope)
    if not expression.mistakes and expression.value.type != "boolean":
        fix = "compare it with something: …  > 20" if expression.value.type == "number" else ""
        expression.mistakes.append(
            Mistake(0, f"a condition is true or false, and this is a {expression.value.type}", (fix,))
        )
    _say(document, path, expression.mistakes)
    return expression


def _hysteresis(document: Document, link: Link, back: float, path: Keys) -> None:
    """`back`: the code of the comparison with its limit moved back."""
    tree = link.when.tree if link.when else None
    if link.when is None or link.when.mistakes:
        return
    if (
        back <= 0
        or not isinstance(tree, ast.Compare)
        or not isinstance(tree.ops[0], (ast.Lt, ast.LtE, ast.Gt, ast.GtE))
    ):
        document.found(
            "link-type", path, "back goes with a when that is one comparison of numbers, and is more than 0"
        )
        return
    sign = "-" if isinstance(tree.ops[0], (ast.Gt, ast.GtE)) else "+"
    code = link.when.value.code
    moved = f"{code[:-1]} {sign} {back!r})"
    link.rearm = " and ".join([*(f"{guard} is not None" for guard in link.when.guards), moved])


def _timing(document: Document, link: Link, path: Keys) -> None:
    if link.held and link.event:
        document.found(
            "link-type",
            (*path, "held"),
            "held goes with a condition, and this when is an event",
            fixes=(f'when = "{link.event[0]}.down"' if link.event[1] == "pressed" else "",),
        )
    if link.undo_after:
        if link.commands and all(command.action == "notify" for command in link.commands):
            document.found("link-type", (*path, "for"), "for takes back what was done, and a note cannot be")
        for command in link.commands:
            if not command.takes_back and command.action != "notify":
                document.found(
                    "link-type",
                    (*path, "for"),
                    f"nothing takes {command.text} back, so for cannot go with it",
                )


def _command(document: Document, scope: PartScope, written: str, path: Keys) -> Command | None:
    """One action, setting or notify() as device code, or None with findings."""
    tree, mistakes = parse(written, "exec")
    body = tree.body if isinstance(tree, ast.Module) else []
    if mistakes or len(body) != 1:
        _say(
            document,
            path,
            mistakes or [Mistake(0, "one action: part.action, part.property = value, or notify('…')")],
        )
        return None
    checker = _Commands(scope, written)
    command = checker.statement(body[0])
    _say(document, path, checker.into.mistakes)
    return command


class _Commands:
    """Turns the statement of one `do` into device code; mistakes gather in `into`."""

    def __init__(self, scope: PartScope, written: str) -> None:
        self.scope, self.written, self.into = scope, written, Expression(written)

    def statement(self, node: ast.stmt) -> Command | None:
        if isinstance(node, ast.Assign) and len(node.targets) == 1:
            return self.setting(node.targets[0], node.value)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Attribute):
            return self.action(node.value, [])
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call) and not node.value.keywords:
            function = node.value.func
            if isinstance(function, ast.Name) and function.id == "notify":
                return self.notify(node.value)
            if isinstance(function, ast.Attribute):
                return self.action(function, node.value.args)
        return self.wrong(node, "do takes part.action, part.property = value, or notify('…')")

    def wrong(
        self, node: ast.AST, message: str, fixes: tuple[str, ...] = (), code: str = "link-type"
    ) -> None:
        self.into.mistakes.append(
            Mistake(offset_of(node, self.written), message, fixes, code, width_of(node))
        )

    def owner(self, node: ast.expr) -> Part | None:
        if not isinstance(node, ast.Name):
            return self.wrong(node, "an action is written part.action")
        try:
            return self.scope.part(node.id)
        except NotThere as unknown:
            return self.wrong(node, unknown.message, unknown.fixes, "link-unknown")

    def setting(self, target: ast.expr, value: ast.expr) -> Command | None:
        if not isinstance(target, ast.Attribute):
            return self.wrong(target, "a setting is written part.property = value")
        part = self.owner(target.value)
        new = compile_node(value, self.written, self.scope, self.into)
        if part is None:
            return None
        known = part.properties.get(target.attr)
        if known is None:
            return self.wrong(
                target,
                f"{part.name} has no property {target.attr}",
                nearest(target.attr, list(part.properties)),
                "link-unknown",
            )
        if not known.settable:
            return self.wrong(target, f"{part.name}.{target.attr} can be read, not set")
        if new.type not in (known.type, "?"):
            return self.wrong(value, f"{part.name}.{target.attr} takes a {known.type}, not a {new.type}")
        if not self.fits(value, new, known, f"{part.name}.{target.attr}"):
            return None
        return Command(
            self.written,
            self.guarded(f"p_{part.name}.set({target.attr!r}, {new.code})"),
            part=part.name,
            action=target.attr,
        )

    def fits(self, node: ast.expr, value: Value, known: Property, what: str) -> bool:
        """Whether a value's unit, range and options are those of a property; a mistake where not."""
        if value.unit and known.unit and value.unit != known.unit:
            self.wrong(node, f"{what} is in {known.unit}, and this is in {value.unit}")
        elif value.constant is None or known.takes(value.constant):
            return True
        elif known.options:
            options = list(known.options)
            near = nearest(str(value.constant), options)
            self.wrong(
                node, f'{what} has no "{value.constant}"', near or (f"there are: {', '.join(options)}",)
            )
        else:
            self.wrong(node, f"{what} is {known.bounds}{f' {known.unit}' if known.unit else ''}")
        return False

    def guarded(self, code: str) -> str:
        """The code, left undone and told where something it reads is still unknown."""
        known = " and ".join(f"{guard} is not None" for guard in self.into.guards)
        return f"{code} if {known} else d.unknown()" if known else code

    def action(self, node: ast.Attribute, given: list[ast.expr]) -> Command | None:
        part = self.owner(node.value)
        if part is None:
            return None
        known = part.kind.actions.get(node.attr)
        if known is None:
            options = list(part.kind.actions)
            fixes = nearest(node.attr, options) or ((f"it can: {', '.join(options)}",) if options else ())
            return self.wrong(node, f"{part.name} has no action {node.attr}", fixes, "link-unknown")
        least = sum(not argument.optional for argument in known.arguments)
        if not least <= len(given) <= len(known.arguments):
            wants = ", ".join(argument.name for argument in known.arguments)
            return self.wrong(
                node,
                f"{part.name}.{node.attr} takes ({wants})"
                if wants
                else f"{part.name}.{node.attr} takes nothing in brackets",
            )
        codes = [
            self.argument(part, argument, value)
            for argument, value in zip(known.arguments, given, strict=False)
        ]
        code = f"p_{part.name}.do({', '.join([repr(node.attr), *codes])})" if codes else ""
        return Command(
            self.written, self.guarded(code) if code else "", bool(known.undo), part.name, node.attr
        )

    def argument(self, part: Part, argument: Argument, node: ast.expr) -> str:
        value = compile_node(node, self.written, self.scope, self.into)
        if argument.type == "time":
            return self.time(argument, value, node)
        if value.type not in (argument.type, "?"):
            self.wrong(node, f"{argument.name} takes a {argument.type}, not a {value.type}")
        elif known := part.properties.get(argument.name):
            self.fits(node, value, known, argument.name)
        return value.code

    def time(self, argument: Argument, value: Value, node: ast.expr) -> str:
        """A time written in quotes, in ms."""
        if not isinstance(value.constant, str):
            self.wrong(node, f"{argument.name} takes a time in quotes, such as '2s'")
            return "1"
        try:
            ms = round(quantity(value.constant, "time"))
        except QuantityError as error:
            self.wrong(node, f"{argument.name}: {error}")
            return "1"
        if not 1 <= ms <= LONGEST_TIME:
            self.wrong(node, f"{argument.name} is 1 ms to a year")
        return str(ms)

    def notify(self, node: ast.Call) -> Command | None:
        only = node.args[0] if len(node.args) == 1 else None
        if not isinstance(only, ast.Constant) or not isinstance(only.value, str):
            return self.wrong(node, "notify takes one text: notify('…')")
        try:
            pieces = list(string.Formatter().parse(only.value))
        except ValueError:
            return self.wrong(only, "a { without its } in the text", ("a brace itself is written {{ or }}",))
        code: list[str] = []
        for literal, name, spec, _ in pieces:
            if literal:
                code.append(repr(literal))
            if name is not None:
                value = self.inserted(name, only)
                code.append(f"show({value}, {spec!r})")
        return Command(self.written, f"d.note({' + '.join(code) or repr('')})", action="notify")

    def inserted(self, name: str, node: ast.expr) -> str:
        """The code of what stands in braces in a notify text."""
        inner = compile_expression(name, self.scope)
        for mistake in inner.mistakes:
            self.wrong(node, mistake.message, mistake.fixes, mistake.code)
        self.into.reads.extend(inner.reads)
        known = " and ".join(f"{guard} is not None" for guard in inner.guards)
        return f"({inner.value.code} if {known} else None)" if known else inner.value.code
