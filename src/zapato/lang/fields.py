"""The fields of a table: what may stand there, how it is read, how an editor completes it.

A field is plain data. Kinds, the device table and the site's tables are all tuples of
fields, read by one reader that collects every mistake, and turned into one JSON Schema.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import field, replace
from typing import Any, Final, cast

from zapato.lang.units import EXAMPLES, QuantityError, quantity
from zapato.record import record
from zapato.regex import regex

REQUIRED: Final = object()
"""The default of a field that must be given."""

AUTO: Final = "auto"
"""The pin that the solver chooses."""


class Wrong(Exception):
    """A value that cannot stand in its field.

    Attributes:
        message: what is wrong, completing "FIELD …".
        fixes: ways out.
        code: the finding's code.
        at: within a value that is a table, the keys that lead to what is wrong; the message says it whole.
        more: further mistakes of the same value.
    """

    def __init__(
        self,
        message: str,
        *fixes: str,
        code: str = "wrong-type",
        at: tuple[str, ...] = (),
        more: tuple[Wrong, ...] = (),
    ) -> None:
        super().__init__(message)
        self.message, self.fixes, self.code, self.at, self.more = message, fixes, code, at, more


@record(eq=False)
class Field:
    """One key of a table.

    Attributes:
        name: the key.
        read: turns the TOML value into ours; raises Wrong.
        schema: the JSON Schema (2020-12) of the TOML value.
        help: one sentence for the reference.
        default: the value where the key is absent, or REQUIRED.
        secret: True where the value must come from secrets.toml.
        hidden: the value goes to the device's settings alone, never into a report or an update
            package, so a named secret may stand there.
        dimension: of a value with a unit: "time", "V", …; else "".
        role: what a text means to the checks: "" or "pin", "part" (names of parts), "bus",
            "condition" (an expression that is true or false, or a word of the kind's own), "texts" (pages of
            lines with expressions in braces), "table" (a CSV file).
    """

    name: str
    read: Callable[[Any], Any]
    schema: Mapping[str, Any]
    help: str
    default: Any = None
    secret: bool = False
    role: str = ""
    dimension: str = ""
    hidden: bool = False

    @property
    def required(self) -> bool:
        return self.default is REQUIRED


def described(value: object) -> str:
    """The TOML type of a value, in words."""
    kinds = (
        (bool, "true or false"),
        (int, "a whole number"),
        (float, "a number"),
        (str, "a text"),
        (list, "a list"),
        (dict, "a table"),
    )
    return next((words for kind, words in kinds if isinstance(value, kind)), "a date")


def _expects(value: object, kind: type | tuple[type, ...], words: str, *fixes: str) -> None:
    if not isinstance(value, kind) or (isinstance(value, bool) and kind is not bool):
        raise Wrong(f"takes {words}, not {described(value)}", *fixes)


def text(
    name: str,
    help: str,
    default: Any = None,
    *,
    secret: bool = False,
    hidden: bool = False,
    most: int = 200,
    role: str = "",
) -> Field:
    """A text of at most `most` characters. A `secret` one is hidden, too."""

    def read(value: Any) -> str:
        _expects(
            value, str, "a text in quotes", f'{name} = "{value}"' if isinstance(value, (int, float)) else ""
        )
        value = cast(str, value)
        if len(value) > most:
            raise Wrong(f"is {len(value)} characters long; {most} is the most")
        return value

    schema = {"type": "string", "maxLength": most}
    return Field(name, read, schema, help, default, secret, role, hidden=hidden or secret)


def named(name: str, help: str, pattern: str, words: str, default: Any = REQUIRED) -> Field:
    """A name of a fixed form; `words` describe the form."""
    form = regex(pattern)

    def read(value: Any) -> str:
        _expects(value, str, "a text in quotes")
        if not form.fullmatch(value):
            raise Wrong(f'is "{value}"; {words}', *_mended(value, form), code="bad-name")
        return cast(str, value)

    return Field(name, read, {"type": "string", "pattern": f"^{pattern}$"}, help, default)


def _mended(value: str, form: re.Pattern[str]) -> tuple[str, ...]:
    better = re.sub(r"[^a-z0-9]+", "-", value.lower()).strip("-0123456789")[:31].strip("-")
    return (f'"{better}"',) if better and form.fullmatch(better) else ()


_MEANT: Mapping[object, tuple[str, ...]] = {True: ("on", "high"), False: ("off", "low", "none")}
"""The word that true, false, 1 and 0 mostly stand for."""


def choice(name: str, help: str, *options: str, default: Any = REQUIRED) -> Field:
    """One word of a few."""

    def read(value: Any) -> str:
        if not isinstance(value, str) or value not in options:
            given = f'"{value}"' if isinstance(value, str) else str(value).lower()
            meant = (
                [f'"{word}"' for word in _MEANT.get(value, ()) if word in options]
                if isinstance(value, (bool, int))
                else []
            )
            raise Wrong(
                f"is {given}; it takes one of: {', '.join(options)}", *meant[:1], *nearest(value, options)
            )
        return value

    return Field(name, read, {"enum": list(options)}, help, default)


def boolean(name: str, help: str, default: Any = False) -> Field:
    """true or false."""

    def read(value: Any) -> bool:
        _expects(value, bool, "true or false, without quotes")
        return cast(bool, value)

    return Field(name, read, {"type": "boolean"}, help, default)


def or_last(field: Field) -> Field:
    """The same field, which may also be "last": as it was before the power went."""

    def read(value: Any) -> Any:
        return "last" if value == "last" else field.read(value)

    return replace(field, read=read, schema={"anyOf": [field.schema, {"enum": ["last"]}]})


def whole(name: str, help: str, default: Any = REQUIRED, *, least: int = 0, most: int = 1 << 31) -> Field:
    """A whole number in a range, both ends included."""

    def read(value: Any) -> int:
        _expects(value, int, "a whole number without quotes")
        if not least <= value <= most:
            raise Wrong(f"is {value}; it must be {least} to {most}")
        return cast(int, value)

    return Field(name, read, {"type": "integer", "minimum": least, "maximum": most}, help, default)


def number(name: str, help: str, default: Any = None) -> Field:
    """A number."""

    def read(value: Any) -> float:
        _expects(value, (int, float), "a number without quotes")
        if value != value or value in (float("inf"), float("-inf")):
            raise Wrong(f"is {value}; it must be a finite number")
        return cast(float, value)

    return Field(name, read, {"type": "number"}, help, default)


def measured(
    name: str,
    help: str,
    dimension: str,
    default: Any = None,
    *,
    least: float = 0,
    most: float = float("inf"),
    rounded: Callable[[float], int] = round,
) -> Field:
    """A number with a unit; read in the base unit ("time" in milliseconds, made whole by `rounded`)."""
    example = EXAMPLES[dimension]

    def read(value: Any) -> float:
        if not isinstance(value, str):
            raise Wrong(f"takes a value with its unit, such as {example}", *_with_unit(value, dimension))
        try:
            measured_value = quantity(value, dimension)
        except QuantityError as error:
            raise Wrong(f"takes a value with its unit: {error}", f"such as {example}") from None
        if not least <= measured_value <= most:
            raise Wrong(
                f'is "{value}": out of range',
                f"at least {least:g}" if measured_value < least else f"at most {most:g}",
            )
        return rounded(measured_value) if dimension == "time" else measured_value

    schema = {"type": "string", "pattern": r"^\s*[+-]?\d+(\.\d+)?\s*\S+\s*$"}
    return Field(name, read, schema, help, default, dimension=dimension)


def _with_unit(value: object, dimension: str) -> tuple[str, ...]:
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        return (f'"{value}{"s" if dimension == "time" else dimension}"',)
    return ()


def span(name: str, help: str, dimension: str, default: Any = None) -> Field:
    """A range "LOW-HIGH" of two quantities, such as "0V-5V"; read as (low, high) in the base unit."""

    def read(value: Any) -> tuple[float, float]:
        _expects(value, str, 'a range such as "0V-5V"')
        low, _, high = value.partition("-")
        try:
            field = quantity(low, dimension), quantity(high, dimension)
        except QuantityError as error:
            raise Wrong(f'takes a range such as "0V-5V": {error}') from None
        if field[0] >= field[1]:
            raise Wrong(f'is "{value}": the lower end comes first')
        return field

    return Field(name, read, {"type": "string", "pattern": r"^[^-]+-[^-]+$"}, help, default)


def names(name: str, help: str, default: Any = (), *, role: str = "part") -> Field:
    """A list of names, or one name alone; read as a tuple. A bus is one name."""

    def read(value: Any) -> tuple[str, ...]:
        if role == "bus" and (not isinstance(value, str) or "," in value):
            raise Wrong(f"takes one name in quotes, not {described(value)}", f'{name} = "main"')
        items = cast(list[Any], [value] if isinstance(value, str) else value)
        if isinstance(value, str) and "," in value:
            listed = ", ".join(f'"{item.strip()}"' for item in value.split(","))
            raise Wrong("takes a list of names, not one text with commas", f"{name} = [{listed}]")
        if not isinstance(value, (str, list)) or not all(isinstance(item, str) for item in items):
            raise Wrong('takes a list of names: ["a", "b"]')
        return tuple(cast(list[str], items))

    one = {"type": "string"}
    schema = one if role == "bus" else {"anyOf": [one, {"type": "array", "items": one}]}
    return Field(name, read, schema, help, default, role=role)


def quantities(name: str, help: str, dimension: str, count: int, default: Any = None) -> Field:
    """A list of `count` quantities; read as a tuple in the base unit."""
    one = measured(name, help, dimension)

    def read(value: Any) -> tuple[float, ...]:
        if not isinstance(value, list) or len(cast(list[Any], value)) != count:
            raise Wrong(f"takes a list of {count} values such as [{EXAMPLES[dimension]}]")
        return tuple(one.read(item) for item in cast(list[Any], value))

    return Field(
        name,
        read,
        {"type": "array", "items": one.schema, "minItems": count, "maxItems": count},
        help,
        default,
    )


def pin(name: str, help: str, default: Any = REQUIRED) -> Field:
    """A pin: the chip's number, a label of the board, a pin another part offers, or "auto"."""

    def read(value: Any) -> int | str:
        if isinstance(value, bool) or not isinstance(value, (int, str)):
            raise Wrong(
                f"takes a pin: the chip's number or a label of the board in quotes, not {described(value)}"
            )
        return value

    schema = {"anyOf": [{"type": "integer", "minimum": 0}, {"type": "string", "minLength": 1}]}
    return Field(name, read, schema, help, default, role="pin")


def nearest(value: object, options: object, count: int = 1) -> tuple[str, ...]:
    """Fixes that name the option nearest to a mistyped word; none where nothing is near."""
    from difflib import get_close_matches

    if not isinstance(value, str):
        return ()
    matches = get_close_matches(value.lower(), [str(o) for o in cast(list[object], options)], count, 0.6)
    return tuple(f'did you mean "{near}"?' for near in matches)


@record(eq=False)
class Shape:
    """A table: its fields by name, those that must be given, and what the others are where they are not.

    `elsewhere` says of a key that is none of them whose it is ("analog", a chip), or "".
    """

    fields: tuple[Field, ...]
    elsewhere: Callable[[str], str] = lambda key: ""
    by_name: Mapping[str, Field] = field(init=False)
    required: tuple[Field, ...] = field(init=False)
    defaults: dict[str, Any] = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "by_name", {f.name: f for f in self.fields})
        object.__setattr__(self, "required", tuple(f for f in self.fields if f.required))
        object.__setattr__(self, "defaults", {f.name: f.default for f in self.fields if not f.required})
