"""Values with units: "20s", "4.7kohm", "12V", "350mA", "2m".

A quantity is a number, an optional SI prefix and a unit, with or without a space between;
times may be put together, as in "1h30min".
The unit symbols are those of the SI and of the SenML registry (RFC 8428, section 12.1)
where it has them.
"""

from __future__ import annotations

import re

from zapato.regex import regex

_PREFIX = {"": 1.0, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6}
_TIME = {"ms": 1.0, "s": 1e3, "min": 60e3, "h": 3600e3, "d": 86400e3}
_TIMES = regex(r"\s*(?:\d{1,15}(?:\.\d{1,15})?\s*(?:ms|s|min|h|d)\s*){2,9}")
_NUMBER = regex(r"\s*([+-]?\d{1,15}(?:\.\d{1,15})?)\s*(\S*)\s*")

EXAMPLES = {
    "time": '"20s", "500ms", "10min", "8h"',
    "V": '"3.3V", "500mV"',
    "A": '"350mA", "2A"',
    "Ah": '"2600mAh", "12Ah"',
    "ohm": '"4.7kohm", "120ohm"',
    "m": '"2m", "30cm"',
    "W": '"60W"',
    "Hz": '"1kHz"',
}
"""How a quantity of each dimension is written, for messages."""


class QuantityError(ValueError):
    """A text that is no quantity of the dimension asked for. `str()` says what is wrong."""


def quantity(text: str, dimension: str) -> float:
    """The value of `text` in the dimension's base unit: ms for "time", else volts, amperes, ohms, …

    Raises QuantityError.

    >>> quantity("4.7kohm", "ohm")
    4700.0
    """
    match = _NUMBER.fullmatch(text)
    if dimension == "time" and not (match and match[2] in _TIME) and _TIMES.fullmatch(text):
        return sum(
            float(n) * _TIME[unit] for n, unit in re.findall(r"(\d+(?:\.\d+)?)\s*(ms|s|min|h|d)", text)
        )
    if match is None:
        raise QuantityError(f"{text!r} is not a number with a unit")
    number, unit = float(match[1]), match[2]
    if not unit:
        raise QuantityError(f"{text!r} has no unit")
    scale = _TIME.get(unit) if dimension == "time" else _scale(unit, dimension)
    if scale is None:
        raise QuantityError(f"{unit!r} is not a unit of {'time' if dimension == 'time' else dimension}")
    return number * scale


def _scale(unit: str, base: str) -> float | None:
    unit = unit.replace("Ω", "ohm").replace("Ohm", "ohm")
    if not unit.endswith(base):
        return None
    prefix = unit[: -len(base)]
    return 1e-2 if base == "m" and prefix == "c" else _PREFIX.get(prefix)


def shown_time(milliseconds: float) -> str:
    """A time as people write it: 90000 -> "1 min 30 s", 250 -> "250 ms"."""
    if milliseconds < 1000:
        return f"{milliseconds:g} ms"
    seconds = milliseconds / 1000
    if seconds < 60:
        return f"{seconds:g} s"
    minutes, rest = divmod(seconds, 60)
    if minutes < 60:
        return f"{minutes:g} min" + (f" {rest:g} s" if rest else "")
    hours, minutes = divmod(minutes, 60)
    return f"{hours:g} h" + (f" {minutes:g} min" if minutes else "") + (f" {rest:g} s" if rest else "")


def digits(value: float, count: int = 3) -> str:
    """A number with so many digits that count, never as a power of ten: 999.6 is "1000"."""
    return f"{float(f'{value:.{count}g}'):.15g}"
