"""Links: rules between parts, resolved, type-checked and turned into device code."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator, Mapping
from dataclasses import field
from datetime import time
from typing import Any, cast

from zapato.design.commands import Command, read_command, read_text, say
from zapato.design.scope import PartScope
from zapato.lang.document import Document
from zapato.lang.expressions import Expression, Mistake, NotThere, compile_expression
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, measured, nearest, number, text, whole
from zapato.lang.hours import DailyMoment, HoursError, days, moment
from zapato.lang.source import Keys
from zapato.parts.kind import Part
from zapato.record import record
from zapato.regex import regex


def _read_do(value: object) -> tuple[str, ...]:
    if isinstance(value, str):
        return (value,)
    items = cast(list[object], value)
    if not isinstance(value, list) or not items or not all(isinstance(item, str) for item in items):
        raise Wrong('takes an action, or a list of them: ["heater.off", "vent.on"]')
    return tuple(cast(list[str], items))


def _read_at(value: object) -> tuple[DailyMoment, ...]:
    items = cast(list[object], [value] if isinstance(value, str) else value)
    if isinstance(value, time):
        raise Wrong("takes a time of day in quotes", f'"{value:%H:%M}"')
    if not isinstance(value, (str, list)) or not items or not all(isinstance(item, str) for item in items):
        raise Wrong('takes a time of day, or a list of them: ["06:30", "sunset"]')
    try:
        return tuple(moment(cast(str, item)) for item in items)
    except HoursError as error:
        raise Wrong(f"takes a time of day: {error.message}", *filter(None, (error.fix,))) from None


def _read_days(value: object) -> int:
    items = cast(list[object], [value] if isinstance(value, str) else value)
    if not isinstance(value, (str, list)) or not items or not all(isinstance(item, str) for item in items):
        raise Wrong('takes days of the week: "mon-fri", or ["sat", "sun"]')
    try:
        return days(",".join(cast(list[str], items)))
    except HoursError as error:
        raise Wrong(f"takes days of the week: {error.message}", *filter(None, (error.fix,))) from None


MOST_TIMES = 10_000
_TEXT = {"type": "string"}
_TEXTS = {"anyOf": [_TEXT, {"type": "array", "items": _TEXT, "minItems": 1}]}
SHAPE = Shape(
    (
        text("when", "an event (part.event), or a condition that becomes true", None, most=1000),
        Field(
            "at",
            _read_at,
            _TEXTS,
            'in place of when: a time of day: "06:30", "sunset", "sunrise + 20min"; or a list',
        ),
        Field("days", _read_days, _TEXTS, 'with at: on these days only: "mon-fri", or ["sat", "sun"]'),
        measured(
            "every",
            "alone: again and again after this time; with when or at: once, and again after this time",
            "time",
            None,
            least=100,
        ),
        whole("times", "with every: so many times altogether", None, least=1, most=MOST_TIMES),
        text("if", "a condition that must hold at that moment", None, most=1000),
        Field(
            "do",
            _read_do,
            _TEXTS,
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

STARTED = ("device", "started")
"""The event at every start of the program: after a power-up, a restart or an update."""
_EVENT = regex(r"\s*(?:([a-z][a-z0-9-]*)\.)?([A-Za-z_]\w*)\.([A-Za-z_]\w*)\s*")
"""A device where it is another, a part, an event."""


EVERY_DAY = 127


@record
class Link:
    """A rule: when, if, do.

    Attributes:
        number: its place in the file, from 1.
        event: (part, event) where an event starts it, else None.
        when, condition: compiled expressions, or None.
        rearm: device code that must be false before a condition fires again; "" where the
            condition's own falling is enough.
        held, after, undo_after: ms, or 0.
        every: ms from one time to the next, or 0.
        times: how often, or 0 for without an end.
        at: the times of day that start it.
        days: on which days, Monday the lowest of seven bits.
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
    times: int = 0
    at: tuple[DailyMoment, ...] = ()
    days: int = EVERY_DAY

    @property
    def alone(self) -> bool:
        """True where nothing but `every` starts it."""
        return bool(self.every) and not (self.when or self.event or self.at)

    @property
    def expressions(self) -> Iterator[tuple[str, Expression]]:
        """Its conditions, by their keys."""
        yield from (
            (key, expression)
            for key, expression in (("when", self.when), ("if", self.condition))
            if expression
        )


def starts(row: Mapping[str, Any]) -> str:
    """What starts a link, as its table has it."""
    return str(row.get("when") or (f"at {row['at']}" if "at" in row else f"every {row.get('every', '')}"))


def written_actions(row: Mapping[str, Any]) -> list[str]:
    """What a link does, as its table has it, right or wrong."""
    actions: object = row.get("do", "")
    return (
        [str(action) for action in cast(list[object], actions)]
        if isinstance(actions, list)
        else [str(actions)]
    )


def read_links(document: Document, scope: PartScope) -> list[Link]:
    """The [[link]] tables of a document; every mistake becomes a finding of it."""
    raw = document.data.get("link", [])
    if not isinstance(raw, list):
        document.found("wrong-type", ("link",), "a link stands in double brackets: [[link]]", of="key")
        return []
    links = list[Link]()
    for index, table in enumerate(cast(list[object], raw)):
        if not isinstance(table, dict):
            document.found("wrong-type", ("link", index), "a link is a table: [[link]]")
            continue
        values = document.read(SHAPE, cast(dict[str, Any], table), ("link", index))
        links.append(_link(document, scope, values, index))
    for link in links:
        for _, expression in link.expressions:
            _asks(scope, expression)
        for command in link.commands:
            _asks(scope, command)
    return links


def _asks(scope: PartScope, reader: Expression | Command) -> None:
    """Tell the parts what of them is read."""
    for part, name in reader.reads:
        scope.ask(part, name)


def read_conditions(document: Document, scope: PartScope) -> None:
    """Check the expressions that parts hold themselves, such as what an LED shows."""
    for part in scope.parts.values():
        _texts(document, scope, part)
        for field_ in part.fields:
            written = part.values.get(field_.name) if field_.role == "condition" else None
            if written and written not in part.kind.words:
                path = (*part.path, field_.name)
                condition = _condition(document, scope, written, path, part.kind.gives(part))
                _asks(scope, condition)
                if part.values.get("back") is not None:
                    _hysteresis(document, condition, part.values["back"], (*part.path, "back"))


def _texts(document: Document, scope: PartScope, part: Part) -> None:
    """The texts that a part shows, with values in braces."""
    for field_ in part.fields:
        pages = part.pages(field_.name) if field_.role == "texts" else ()
        given: Any = document.data[part.kind.name][part.name].get(field_.name) if pages else ()
        deep = bool(given) and isinstance(given[0], list)
        for page, lines in enumerate(pages):
            for line, written in enumerate(lines):
                _, reads, mistakes = read_text(scope, written)
                say(document, (*part.path, field_.name, *((page, line) if deep else (line,))), mistakes)
                for name, what in reads:
                    scope.ask(name, what)


def _link(document: Document, scope: PartScope, values: Mapping[str, Any], index: int) -> Link:
    path: Keys = ("link", index)
    link = Link(
        index + 1,
        held=values.get("held") or 0,
        after=values.get("after") or 0,
        undo_after=values.get("for") or 0,
        every=values.get("every") or 0,
        times=values.get("times") or 0,
        at=values.get("at") or (),
        days=values.get("days") or EVERY_DAY,
    )
    _begins(document, values, path)
    if values.get("when"):
        _when(document, scope, link, values["when"], (*path, "when"))
    if values.get("if"):
        link.condition = _condition(document, scope, values["if"], (*path, "if"))
    for place, written in enumerate(values.get("do", ())):
        at = (*path, "do", place) if isinstance(document.data["link"][index]["do"], list) else (*path, "do")
        if command := read_command(document, scope, written, at):
            link.commands.append(command)
    if values.get("back") is not None and link.when:
        link.rearm = _hysteresis(document, link.when, values["back"], (*path, "back"))
    _timing(document, link, path)
    return link


def _begins(document: Document, values: Mapping[str, Any], path: Keys) -> None:
    """A link has one beginning: when, at, or every alone; and every key beside it does something."""
    given = cast(dict[str, Any], document.data["link"][path[1]])

    def wrong(key: str, message: str, *fixes: str) -> None:
        document.found("link-type", (*path, key), message, fixes=fixes, of="key")

    if not given.keys() & {"when", "at", "every"}:
        document.missing(SHAPE.by_name["when"], path)
    if "when" in given and "at" in given:
        wrong("at", "a link has one beginning, and this one has when and at", "two links")
    for key, beside, words in (
        ("days", "at", "a time of day"),
        ("times", "every", "a time from one to the next"),
    ):
        if key in given and beside not in given:
            wrong(key, f"{key} goes with {beside}, {words}, and this link has none")
    if "times" in given and not given.keys() & {"when", "at"}:
        wrong("times", "times goes with a beginning, when or at", "without times it goes on and on")
    for key in ("held", "back"):
        if values.get(key) and "when" not in given:
            wrong(key, f"{key} goes with a condition, and this link has {'at' if 'at' in given else 'every'}")
    if "at" in given and values.get("every") and "times" not in given:
        wrong("every", "with at, every needs times: how often altogether", "times = 3")
    if "times" not in given and "when" not in given and 0 < (values.get("every") or 0) < 1000:
        wrong("every", "a link that goes on and on does so no more often than once a second", 'every = "1s"')


def _when(document: Document, scope: PartScope, link: Link, written: str, path: Keys) -> None:
    if written.strip() == ".".join(STARTED):
        link.event = STARTED
        return
    event = _EVENT.fullmatch(written)
    part = _owner(scope, event) if event else None
    if event is None or part is None:
        link.when = _condition(document, scope, written, path)
        return
    owner, name = written.strip().rpartition(".")[0], event[3]
    if name in part.kind.events:
        link.event = (owner, name)
        if event[1] and scope.others:
            scope.others.listen_event(owner, name)
    elif name not in part.properties:
        names = [*part.kind.events, *part.properties]
        fixes = nearest(name, names) or ((f"it has: {', '.join(names)}",) if names else ())
        message = f"{owner} has no event or property {name}"
        say(document, path, [Mistake(event.start(3), message, fixes, "link-unknown")])
    else:
        link.when = _condition(document, scope, written, path)


def _owner(scope: PartScope, event: re.Match[str]) -> Part | None:
    """The part that an event is written of, here or on another device; None where the condition's own mistake tells more."""
    if not event[1]:
        return scope.parts.get(event[2])
    try:
        return scope.others.part(event[1], event[2]).part if scope.others else None
    except NotThere:
        return None


def _condition(
    document: Document, scope: PartScope, written: str, path: Keys, type: str = "boolean"
) -> Expression:
    """An expression of this type; every mistake is a finding."""
    expression = compile_expression(written, scope)
    given = expression.value.type
    if not expression.mistakes and given != type:
        if type == "boolean":
            fix = "compare it with something: …  > 20" if given == "number" else ""
            expression.mistakes.append(
                Mistake(0, f"a condition is true or false, and this is a {given}", (fix,))
            )
        else:
            expression.mistakes.append(Mistake(0, f"this takes a {type}, and is given a {given}"))
    say(document, path, expression.mistakes)
    return expression


def rearmed(when: Expression, back: float) -> str:
    """The device code of a comparison with its limit moved back, true while the value is unknown: nobody knows then that it went back.

    "" where the condition is no comparison.
    """
    tree = when.tree
    if (
        back <= 0
        or not isinstance(tree, ast.Compare)
        or not isinstance(tree.ops[0], (ast.Lt, ast.LtE, ast.Gt, ast.GtE))
    ):
        return ""
    sign = "-" if isinstance(tree.ops[0], (ast.Gt, ast.GtE)) else "+"
    moved = f"{when.value.code[:-1]} {sign} {back!r})"
    return " or ".join([*(f"{guard} is None" for guard in when.guards), moved])


def _hysteresis(document: Document, when: Expression | None, back: float, path: Keys) -> str:
    """The code for `back`, or a finding where it cannot go with this condition."""
    if when is None or when.mistakes:
        return ""
    code = rearmed(when, back)
    if not code:
        message = "back goes with a when that is one comparison of numbers, and is more than 0"
        document.found("link-type", path, message)
    return code


def _timing(document: Document, link: Link, path: Keys) -> None:
    if link.held and link.event:
        document.found(
            "link-type",
            (*path, "held"),
            "held goes with a condition, and this when is an event",
            fixes=(f'when = "{link.event[0]}.down"' if link.event[1] == "pressed" else "",),
        )
    if link.event and link.every and "times" not in document.data["link"][path[1]]:
        document.found(
            "link-type",
            (*path, "every"),
            "with an event, every needs times: how often altogether",
            fixes=("times = 3",),
            of="key",
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
