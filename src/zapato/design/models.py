"""Models of the world in a rehearsal: simple, stated, and closing the loop from what the device drives to what it feels."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import field
from typing import Any, cast

from zapato.lang.document import Document
from zapato.lang.expressions import Expression, Mistake, Scope, compile_expression
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, choice, measured, number, text
from zapato.lang.source import Keys, table
from zapato.record import record


def _read_effects(value: object) -> dict[str, float]:
    rows = cast(dict[str, object], value)
    if (
        not isinstance(value, dict)
        or not rows
        or not all(isinstance(row, (int, float)) and not isinstance(row, bool) for row in rows.values())
    ):
        raise Wrong('takes what changes it, and by how much: { "heater.on" = 40 }')
    return {key: float(cast(float, amount)) for key, amount in rows.items()}


SHAPE = Shape(
    (
        text("drives", 'what of the world it sets: "cabinet.temperature"', REQUIRED),
        choice("like", "room: approaches a balance; tank: fills and empties", "room", "tank"),
        number("start", "its value at the beginning", REQUIRED),
        Field(
            "by",
            _read_effects,
            {"type": "object", "additionalProperties": {"type": "number"}},
            'what changes it: of a room the rise in the end, of a tank the change a minute; { "heater.on" = 40 }',
            REQUIRED,
        ),
        number("outside", "of a room: its value in the end when nothing changes it", 0),
        measured(
            "constant", "of a room: the time in which 63 % of a change is done", "time", 600_000, least=1000
        ),
        number("low", "it never falls below"),
        number("high", "it never rises above"),
    )
)


@record
class Model:
    """One model.

    Attributes:
        drives: "part.property" of the world.
        like: "room": T goes towards outside + the sum of its effects, dT/dt = (end - T) / constant;
            "tank": dV/dt is the sum of its effects, a minute.
        by: code of an expectation's expression -> effect; one that is a number multiplies it.
        constant: ms.
    """

    drives: str
    like: str
    start: float
    outside: float
    constant: int
    low: float | None
    high: float | None
    by: list[tuple[str, float]] = field(default_factory=list[tuple[str, float]])


def read_models(
    document: Document, scope: Scope, unsettable: Callable[[str, float], Mistake | None]
) -> list[Model]:
    """The [model.NAME] tables; every mistake becomes a finding. `unsettable` says why the world cannot set a value."""
    models: list[Model] = []
    for name, raw in table(document.data, "model").items():
        path: Keys = ("model", name)
        if not isinstance(raw, dict):
            document.found("wrong-type", path, "a model is a table with a name: [model.room]")
            continue
        values = document.read(SHAPE, cast(dict[str, Any], raw), path)
        if values.keys() >= {"drives", "like", "start", "by"}:
            models += _model(document, scope, values, path, unsettable)
    return models


def _model(
    document: Document,
    scope: Scope,
    values: Mapping[str, Any],
    path: Keys,
    unsettable: Callable[[str, float], Mistake | None],
) -> list[Model]:
    problem = unsettable(values["drives"], values["start"])
    if problem:
        document.found(problem.code, (*path, "drives"), problem.message, fixes=problem.fixes)
    model = Model(
        values["drives"],
        values["like"],
        values["start"],
        values.get("outside") or 0,
        values.get("constant") or 600_000,
        values.get("low"),
        values.get("high"),
    )
    for written, effect in values["by"].items():
        expression = compile_expression(written, scope)
        for mistake in _mistakes(expression):
            document.found(
                mistake.code, (*path, "by", written), mistake.message, fixes=mistake.fixes, of="key"
            )
        model.by.append((expression.code, effect))
    return [] if problem else [model]


def _mistakes(expression: Expression) -> list[Mistake]:
    if not expression.mistakes and expression.value.type == "text":
        return [Mistake(0, "what changes it must be true or false, or a number")]
    return expression.mistakes
