"""Times of day and days of the week, as device files write them: "06:30", "sunset - 20min", "mon-fri"."""

from __future__ import annotations

from zapato.lang.units import QuantityError, quantity
from zapato.record import record
from zapato.regex import regex

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
CLOCK, SUNRISE, SUNSET = 0, 1, 2
SUNS = {"sunrise": SUNRISE, "sunset": SUNSET}
_MOMENT = regex(r"\s*(sunrise|sunset)\s*(?:([+-])\s*(\S+))?\s*")
_HOUR = regex(r"\s*(\d{1,2}):(\d{2})\s*")
FARTHEST = 12 * 60
"""Minutes from the sun's rising or setting at the most."""


class HoursError(Exception):
    """What is wrong with a time of day or a day of the week, and a way out."""

    def __init__(self, message: str, fix: str = "") -> None:
        super().__init__(message)
        self.message, self.fix = message, fix


@record(frozen=True)
class DailyMoment:
    """A time of day.

    Attributes:
        of: CLOCK, SUNRISE or SUNSET.
        minutes: after midnight, or after (before, where negative) the sun's rising or setting.
    """

    of: int
    minutes: int

    @property
    def code(self) -> str:
        """As the device has it."""
        return f"({self.of}, {self.minutes})"


def moment(text: str) -> DailyMoment:
    """The time of day that `text` says. Raises HoursError."""
    if match := _HOUR.fullmatch(text):
        hour, minute = int(match[1]), int(match[2])
        if hour > 23 or minute > 59:
            raise HoursError(f'"{text}" is no time of day: they go from 00:00 to 23:59')
        return DailyMoment(CLOCK, 60 * hour + minute)
    if match := _MOMENT.fullmatch(text):
        return DailyMoment(SUNS[match[1]], _away(text, match[2], match[3]))
    raise HoursError(f'"{text}" is no time of day', '"06:30", "sunset" or "sunrise + 20min"')


def _away(text: str, sign: str | None, written: str | None) -> int:
    if not written:
        return 0
    try:
        ms = quantity(written, "time")
    except QuantityError as error:
        raise HoursError(f'"{text}": {error}', '"sunset - 20min"') from None
    minutes = round(ms / 60_000)
    if minutes > FARTHEST:
        raise HoursError(f'"{text}": at most {FARTHEST // 60} hours from the sun')
    return -minutes if sign == "-" else minutes


def days(text: str) -> int:
    """The days that `text` says, Monday the lowest of seven bits: "mon-fri", "sat, sun". Raises HoursError."""
    bits = 0
    for piece in text.lower().split(","):
        first, dash, last = (end.strip() for end in piece.partition("-"))
        if first not in DAYS or (dash and last not in DAYS):
            raise HoursError(
                f'"{piece.strip()}" is no day: they are {" ".join(DAYS)}', '"mon-fri", or "sat, sun"'
            )
        at, end = DAYS.index(first), DAYS.index(last or first)
        while True:
            bits |= 1 << at
            if at == end:
                break
            at = (at + 1) % 7
    return bits
