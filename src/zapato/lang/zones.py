"""Time zones as a device keeps them: the rule of POSIX (IEEE 1003.1, 8.3), read from the IANA time zone data."""

from __future__ import annotations

import re
from datetime import date
from pathlib import Path

from zapato.record import record
from zapato.regex import regex

_NAME = r"(?:[A-Za-z]{3,}|<[A-Za-z0-9+-]+>)"
_TIME = r"[+-]?\d+(?::\d+(?::\d+)?)?"
_RULE = regex(rf"{_NAME}({_TIME})(?:{_NAME}({_TIME})?,([^,]+),([^,]+))?")
_CHANGE = regex(rf"M(\d+)\.(\d)\.(\d)(?:/({_TIME}))?")


def _data() -> Path:
    """Where the zones' own package keeps them."""
    import tzdata

    return Path(tzdata.__path__[0])


@record(frozen=True)
class ClockChange:
    """When the offset changes: month 1 to 12, week 1 to 4 or 5 for the last, weekday 0 for Sunday, s after midnight."""

    month: int
    week: int
    weekday: int
    second: int

    @property
    def plain(self) -> tuple[int, int, int]:
        """As the device has it: the day of a year of 365 days, from 0, from which on the first such weekday counts; weekday; minute."""
        begin = date(2001, self.month, 1) - date(2001, 1, 1)
        last = (28, 31)[self.month != 2] - (self.month in (4, 6, 9, 11))
        first = last - 6 if self.week == 5 else 7 * self.week - 6
        return begin.days + first - 1, self.weekday, self.second // 60


@record(frozen=True)
class Zone:
    """A time zone's rule.

    Attributes:
        standard: s east of UTC.
        summer: s east of UTC between `begins` and `ends`, in local time each; None where there is no such time.
    """

    standard: int
    summer: int | None = None
    begins: ClockChange | None = None
    ends: ClockChange | None = None

    @property
    def plain(self) -> tuple[object, ...]:
        """As the device has it."""
        if self.summer is None or self.begins is None or self.ends is None:
            return (self.standard,)
        return (self.standard, self.summer, self.begins.plain, self.ends.plain)


def zone(name: str) -> Zone | None:
    """The rule in force from now on in a zone such as "Europe/Zurich"; None where no zone is called that."""
    if not re.fullmatch(r"[A-Za-z0-9_+-]+(?:/[A-Za-z0-9_+-]+){0,2}", name):
        return None
    path = _data().joinpath("zoneinfo", *name.split("/"))
    try:
        data = path.read_bytes()
    except OSError:
        return None
    return (
        _rule(data.rstrip(b"\n").rpartition(b"\n")[2].decode("ascii", "replace"))
        if data[:4] == b"TZif"
        else None
    )


def zone_names() -> list[str]:
    """Every zone that there is."""
    return (_data() / "zones").read_text("utf-8").split()


def _rule(text: str) -> Zone | None:
    match = _RULE.fullmatch(text)
    if not match:
        return None
    standard = -_seconds(match[1])
    if not match[3]:
        return Zone(standard)
    begins, ends = _change(match[3]), _change(match[4])
    summer = -_seconds(match[2]) if match[2] else standard + 3600
    return Zone(standard, summer, begins, ends) if begins and ends else None


def _change(text: str) -> ClockChange | None:
    match = _CHANGE.fullmatch(text)
    if not match or (match[1] == "2" and match[2] == "5"):  # the last week of February moves with its length
        return None
    return ClockChange(int(match[1]), int(match[2]), int(match[3]), _seconds(match[4] or "2"))


def _seconds(text: str) -> int:
    sign = -1 if text.startswith("-") else 1
    pieces = [int(piece) for piece in text.lstrip("+-").split(":")]
    return sign * sum(piece * scale for piece, scale in zip(pieces, (3600, 60, 1), strict=False))
