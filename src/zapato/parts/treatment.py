"""What a reading goes through on the device before it counts: scale, offset, points, smoothing.

A rehearsal's world has what the chip feels, in the chip's own words; links and topics have what comes out of the treatment.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import pairwise
from typing import Any, cast

from zapato.lang.fields import Field, Wrong, measured
from zapato.lang.senml import UNITS, read_unit
from zapato.parts.kind import Part, Property

SMOOTHING = {"median": 1, "mean": 2, "lowpass": 3}
SINGLE = ("points", "unit", "gives")
"""Fields that only a chip with one value can have."""


def _read_each(value: Any) -> Any:
    """A number, or a table of property and number."""
    numbers: list[object] = (
        list(cast(dict[str, object], value).values()) if isinstance(value, dict) else [value]
    )
    for number in numbers:
        if isinstance(number, bool) or not isinstance(number, (int, float)) or number - number != 0:
            raise Wrong("takes a number, or a table such as { temperature = -0.5 }")
    return cast(Any, value)


def _read_points(value: object) -> tuple[tuple[float, float], ...]:
    rows = cast(list[Any], value)
    good = isinstance(value, list) and len(rows) >= 2
    for row in rows if good else ():
        good = good and isinstance(row, list) and len(cast(list[Any], row)) == 2
        good = good and all(type(number) in (int, float) for number in cast(list[Any], row))
    if not good:
        raise Wrong("takes pairs of what is read and what it means: [[0.5, 0], [4.5, 100]]")
    points = tuple((float(a), float(b)) for a, b in rows)
    if any(after[0] <= before[0] for before, after in pairwise(points)):
        raise Wrong("has pairs that do not rise: what is read grows from pair to pair")
    return points


def _read_smooth(value: object) -> tuple[str, int]:
    match = re.fullmatch(r"(median|mean|lowpass) (\d+)", value) if isinstance(value, str) else None
    if not match or not 2 <= int(match[2]) <= 60:
        raise Wrong('takes the way and how many readings, 2 to 60: "median 5", "mean 10", "lowpass 8"')
    return match[1], int(match[2])


def _read_word(value: object) -> str:
    if not isinstance(value, str) or not re.fullmatch(r"[a-z][a-z0-9_]{0,30}", value):
        raise Wrong("takes a word of a-z, 0-9 and _")
    return value


_EACH = {"anyOf": [{"type": "number"}, {"type": "object", "additionalProperties": {"type": "number"}}]}
FIELDS: tuple[Field, ...] = (
    Field(
        "scale", _read_each, _EACH, "readings are multiplied by it; a table gives one for each value", None
    ),
    Field("offset", _read_each, _EACH, "then this is added", None),
    Field(
        "points",
        _read_points,
        {"type": "array"},
        "then this line of points says what it means; for a chip with one value",
        (),
    ),
    Field(
        "smooth",
        _read_smooth,
        {"type": "string"},
        'then several readings count: "median 5", "mean 10", "lowpass 8"',
        None,
    ),
    measured("repeat", "said again after this time even where nothing changed", "time", 0, least=1000),
    Field(
        "unit",
        lambda value: read_unit(value, none=False),
        {"enum": sorted(UNITS)},
        "the unit of what the points or the scale make of it; for a chip with one value",
        None,
    ),
    Field(
        "gives",
        _read_word,
        {"type": "string"},
        "the word for what it then is, such as level; for a chip with one value",
        None,
    ),
)


def properties(part: Part, properties: Mapping[str, Property]) -> Mapping[str, Property]:
    """The chip's properties as they are after the treatment."""
    treated: dict[str, Property] = {}
    for name, known in properties.items():
        if any(part.values.get(key) not in (None, ()) for key in ("scale", "offset", "points")):
            known = replace(known, low=None, high=None)
        if len(properties) == 1:
            known = replace(known, unit=part.get("unit", known.unit))
            name = part.get("gives", name)
        treated[name] = known
    return treated


def arguments(part: Part, names: tuple[str, ...]) -> Iterator[tuple[object, ...] | None]:
    """For each of the chip's properties the arguments of the runtime's Through, or None where it is left as it is."""
    way, window = part.get("smooth", ("", 0))
    for name in names:
        scale, offset = _of(part, "scale", name, 1), _of(part, "offset", name, 0)
        points = part.get("points", ())
        given = (scale, offset, points, SMOOTHING.get(way, 0), window)
        yield None if given == (1, 0, (), 0, 0) else given


def _of(part: Part, key: str, name: str, usual: float) -> float:
    value = part.values.get(key)
    if isinstance(value, dict):
        return cast(dict[str, float], value).get(name, usual)
    return usual if value is None else value


def mistakes(part: Part, names: tuple[str, ...]) -> Iterator[tuple[str, str]]:
    """Fields that do not go with this chip, and why."""
    for key in ("scale", "offset"):
        value = part.values.get(key)
        if isinstance(value, dict):
            for name in cast(dict[str, float], value).keys() - set(names):
                yield key, f"{key} names {name}, and the chip measures {', '.join(names)}"
        elif value is not None and len(names) > 1:
            yield key, f"{key} is for one of {', '.join(names)}: {key} = {{ {names[0]} = {value:g} }}"
    for key in SINGLE:
        if part.values.get(key) not in (None, ()) and len(names) > 1:
            yield key, f"{key} is for a chip with one value, and this one measures {', '.join(names)}"
