"""Values between what people type, what is checked, and what goes over MQTT."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any, cast

from zapato.errors import ZapatoError
from zapato.hub.things import LONGEST, Affordance, DataSchema, whole_text
from zapato.lang.json_text import read_json
from zapato.lang.senml import unpacked
from zapato.lang.units import QuantityError, quantity
from zapato.regex import regex

Plain = bool | int | float | str | None
"""What a property can have; None is not known."""
_LINE = regex(r"\s*([^\s=(]+)\s*(?:=\s*(?P<value>\S.*)|\((?P<inside>.*)\)|(?P<after>.*))\s*")
WAITED = 30 * 86_400.0
"""s that an event may have waited on its device; more is no time that a device counts."""
WORDS = {"true": True, "on": True, "yes": True, "false": False, "off": False, "no": False}


class NotTaken(ZapatoError):
    """A value or a name that the thing does not take; nothing was sent."""


def heard(value: DataSchema, payload: bytes) -> Plain:
    """The value that a device said; a text where it is not what was described."""
    text = payload.decode("utf-8", "replace")[:LONGEST]
    try:
        parsed: Any = read_json(text)
    except ValueError:
        return text if text else None
    if value.packed:
        parsed = unpacked(parsed)
    if isinstance(parsed, float) and not abs(parsed) < 1e300:
        return text
    if isinstance(parsed, str):
        return whole_text(parsed)
    return parsed if parsed is None or isinstance(parsed, (bool, int, float)) else text


def since_event(payload: bytes) -> float:
    """Seconds since an event happened: what it says under "ago" where it waited for the broker, else 0; at most WAITED."""
    try:
        said: Any = read_json(payload)
    except ValueError:
        return 0.0
    ago = cast(dict[str, object], said).get("ago") if isinstance(said, dict) else None
    return float(ago) if isinstance(ago, (int, float)) and ago is not True and 0 <= ago <= WAITED else 0.0


def checked(value: DataSchema, given: Plain, name: str) -> Plain:
    """The value where it is one that can be; raises NotTaken with what can."""
    fits = {
        "boolean": isinstance(given, bool),
        "number": isinstance(given, (int, float)) and not isinstance(given, bool),
        "text": isinstance(given, str),
    }.get(value.type, given is not None)
    if not fits:
        raise NotTaken(f"{name} takes a {value.type or 'value'}, not {json.dumps(given)}", value.bounds)
    if value.options and given not in value.options:
        raise NotTaken(f"{name} has no {json.dumps(given)}", f"there are: {', '.join(value.options)}")
    if isinstance(given, (int, float)) and not isinstance(given, bool):
        low = value.low is not None and (given <= value.low if value.above else given < value.low)
        if low or (value.high is not None and given > value.high):
            raise NotTaken(f"{name} is {value.bounds} {value.unit}".rstrip(), f"not {given:g}")
        if value.whole and given != int(given):
            raise NotTaken(f"{name} takes a whole number, not {given:g}")
    return given


def typed(value: DataSchema, text: str, name: str) -> Plain:
    """A value as people type it: true, on, 22.5, 2s, warm or "warm". Raises NotTaken."""
    text = text.strip()
    word = text.lower()
    if value.type == "boolean" and word in WORDS:
        return WORDS[word]
    if value.unit == "s" and value.type == "number":
        try:
            return checked(value, quantity(text, "time") / 1000, name)
        except QuantityError:
            pass
    quoted = len(text) > 1 and text[0] == text[-1] == "'"
    try:
        given: Any = text[1:-1] if quoted else read_json(text)
    except ValueError:
        given = text
    if value.type == "text" and not isinstance(given, str):
        given = text
    if not isinstance(given, (bool, int, float, str)):
        raise NotTaken(f"{name} takes a {value.type or 'value'}, not {text[:40]}")
    return checked(value, given, name)


def split(line: str) -> tuple[str, str | None, list[str]]:
    """What a typed line names, the value that it sets or None, and the arguments that it gives."""
    match = _LINE.fullmatch(line)
    if match is None:
        raise NotTaken(
            f"{line.strip()[:60]} cannot be read", "device.part.property = value, or device.part.action"
        )
    if match["value"] is not None:
        return match[1], match["value"].strip(), []
    inside = match["inside"] if match["inside"] is not None else match["after"]
    return match[1], None, [argument.strip() for argument in inside.split(",") if argument.strip()]


def spoken(action: Affordance, given: Sequence[Plain]) -> str:
    """The payload of an action with these inputs. Raises NotTaken."""
    if len(given) != len(action.inputs):
        takes = ", ".join(
            argument.type + (f" ({argument.unit})" if argument.unit else "") for argument in action.inputs
        )
        raise NotTaken(f"{action.name} takes {takes or 'nothing'}", f"{len(given)} given")
    values = [checked(one, argument, action.name) for one, argument in zip(action.inputs, given, strict=True)]
    return "" if not values else json.dumps(values[0] if len(values) == 1 else values, ensure_ascii=False)
