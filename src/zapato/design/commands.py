"""What a link does: actions, settings and notes, checked and turned into device code."""

from __future__ import annotations

import ast
import string
from collections.abc import Iterable
from dataclasses import field

from zapato.design.scope import PartScope
from zapato.lang.document import Document
from zapato.lang.expressions import (
    Expression,
    ExpressionValue,
    Mistake,
    NotThere,
    compile_expression,
    compile_node,
    offset_of,
    parse,
    width_of,
)
from zapato.lang.fields import nearest
from zapato.lang.source import Keys
from zapato.lang.units import QuantityError, quantity
from zapato.parts.kind import Argument, Part, Property
from zapato.record import record

DEVICE = "device"
"""The device itself, as links name it."""
ITSELF = {"restart": "do", "settings": "do", "forget": "forget_all"}
"""What the device itself can do, and the call in the runtime's module cmd_<action>."""
LONGEST_TIME = 366 * 86_400_000
"""ms: the longest time that the device counts."""


@record(eq=False)
class Command:
    """One thing a link does.

    Attributes:
        text: as written.
        code: device code; "" for an action without arguments, which part and action say.
        takes_back: True where `for` can take it back.
        part, action: whose action or property it is; the action is "notify" for a text.
        reads: the properties that its values read.
    """

    text: str
    code: str
    takes_back: bool = False
    part: str = ""
    action: str = ""
    reads: list[tuple[str, str]] = field(default_factory=list[tuple[str, str]])


def say(document: Document, path: Keys, mistakes: Iterable[Mistake]) -> None:
    """The mistakes of an expression as findings at its place."""
    for mistake in mistakes:
        document.found(
            mistake.code,
            path,
            mistake.message,
            fixes=mistake.fixes,
            offset=mistake.offset + 1,
            width=mistake.width,
        )


def read_command(document: Document, scope: PartScope, written: str, path: Keys) -> Command | None:
    """One action, setting or notify() as device code, or None with findings."""
    tree, mistakes = parse(written, "exec")
    body = tree.body if isinstance(tree, ast.Module) else []
    if mistakes or len(body) != 1:
        say(
            document,
            path,
            mistakes or [Mistake(0, "one action: part.action, part.property = value, or notify('…')")],
        )
        return None
    checker = _Commands(scope, written)
    command = checker.statement(body[0])
    say(document, path, checker.into.mistakes)
    if command:
        command.reads = checker.into.reads
    return command


def read_text(scope: PartScope, written: str) -> tuple[str, list[tuple[str, str]], list[Mistake]]:
    """Device code of a text with values in braces, the properties that it reads, and what is wrong with it."""
    checker = _Commands(scope, written)
    code = checker.text(
        written, ast.Constant(written, lineno=1, col_offset=0, end_lineno=1, end_col_offset=0)
    )
    return code or "''", checker.into.reads, checker.into.mistakes


def _example(part: Part, argument: Argument) -> str:
    """A value that an argument can have, as it is written in a link."""
    known = part.kind.argument_of(part, argument)
    if argument.type == "time":
        return "'2s'"
    if argument.type == "number":
        return f"{known.high:g}" if known and known.high is not None else "1"
    if argument.type == "boolean":
        return "True"
    return repr(known.options[0]) if known and known.options else "'…'"


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
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name):
            other = node.value.id.replace("_", "-")
            fix = f"a link of {other} that listens to this device"
            return self.wrong(node, "a link acts on parts of its own device alone", (fix,))
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

    def fits(self, node: ast.expr, value: ExpressionValue, known: Property, what: str) -> bool:
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
        return f"{code} if {known} else unknown()" if known else code

    def of_itself(self, node: ast.Attribute, given: list[ast.expr]) -> Command | None:
        """What the device itself can do."""
        if node.attr not in ITSELF:
            options = nearest(node.attr, list(ITSELF)) or (f"it can: {', '.join(ITSELF)}",)
            return self.wrong(node, f"the device has no action {node.attr}", options, "link-unknown")
        if given:
            return self.wrong(node, f"device.{node.attr} takes no arguments")
        return Command(
            self.written,
            f"__import__('cmd_{node.attr}').{ITSELF[node.attr]}(d)",
            part=DEVICE,
            action=node.attr,
        )

    def action(self, node: ast.Attribute, given: list[ast.expr]) -> Command | None:
        if isinstance(node.value, ast.Name) and node.value.id == DEVICE:
            return self.of_itself(node, given)
        part = self.owner(node.value)
        if part is None:
            return None
        able = part.kind.actions_of(part)
        known = able.get(node.attr)
        if known is None:
            options = list(able)
            lacking = part.kind.actions.get(node.attr)
            fixes = (
                ((f"it needs {lacking.needs}",) if lacking else ())
                or nearest(node.attr, options)
                or ((f"it can: {', '.join(options)}",) if options else ())
            )
            return self.wrong(node, f"{part.name} has no action {node.attr}", fixes, "link-unknown")
        least = sum(not argument.optional for argument in known.arguments)
        if not least <= len(given) <= len(known.arguments):
            dotted_name = f"{part.name}.{node.attr}"
            if not known.arguments:
                return self.wrong(node, f"{dotted_name} takes no arguments", (dotted_name,))
            wants = ", ".join(argument.name for argument in known.arguments)
            example = ", ".join(_example(part, argument) for argument in known.arguments)
            return self.wrong(
                node, f"{dotted_name} needs in brackets: {wants}", (f"such as {dotted_name}({example})",)
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
        elif known := part.kind.argument_of(part, argument):
            self.fits(node, value, known, argument.name)
        return value.code

    def time(self, argument: Argument, value: ExpressionValue, node: ast.expr) -> str:
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
        code = self.text(only.value, only)
        return None if code is None else Command(self.written, f"d.note({code})", action="notify")

    def text(self, written: str, node: ast.expr) -> str | None:
        """Device code of a text with values in braces; None with a mistake."""
        try:
            pieces = list(string.Formatter().parse(written))
        except ValueError:
            return self.wrong(node, "a { without its } in the text", ("write a brace as {{ or }}",))
        code: list[str] = []
        for literal, name, spec, _ in pieces:
            if literal:
                code.append(repr(literal))
            if name is not None:
                code.append(f"show({self.inserted(name, node)}, {spec!r})")
        return " + ".join(code) or repr("")

    def inserted(self, name: str, node: ast.expr) -> str:
        """The code of what stands in braces in a notify text."""
        inner = compile_expression(name, self.scope)
        for mistake in inner.mistakes:
            self.wrong(node, mistake.message, mistake.fixes, mistake.code)
        self.into.reads.extend(inner.reads)
        known = " and ".join(f"{guard} is not None" for guard in inner.guards)
        return f"({inner.value.code} if {known} else None)" if known else inner.value.code
