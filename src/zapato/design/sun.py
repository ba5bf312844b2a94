"""When the sun rises and sets at a place, as a table that a device reads: one row a week, in local standard time."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import UTC, date, datetime, timedelta
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from astral import Observer

WEEKS = 54
"""Rows: the year's last day lies between two of them."""
YEAR = 2027
"""The year whose days are taken; in others the sun is a minute or so off, by the leap days."""
ABSENT = 0xFFFF


@cache
def sun_table(latitude: float, longitude: float, standard: int) -> bytes:
    """Rising and setting of every seventh day from the 1st of January, in minutes after midnight, two bytes each.

    A day without them has 0xFFFF and 1440 where the sun stays up (as if it had risen before the day and set after
    it), 1440 and 0xFFFF where it stays down. `standard` is the zone's offset in s east of UTC.
    """
    return b"".join(_pair(*day) for day in _days(latitude, longitude, standard))


def _pair(rise: int, set_: int) -> bytes:
    return rise.to_bytes(2, "big") + set_.to_bytes(2, "big")


def _days(latitude: float, longitude: float, standard: int) -> Iterator[tuple[int, int]]:
    for week in range(WEEKS):
        yield sun_of(date(YEAR, 1, 1) + timedelta(days=7 * week), latitude, longitude, standard)


def sun_of(day: date, latitude: float, longitude: float, standard: int) -> tuple[int, int]:
    """Rising and setting of one day in minutes after local midnight of standard time.

    The sun's upper limb at the horizon with 34' of refraction, as almanacs have it.
    """
    from astral import Observer
    from astral.sun import elevation, noon, sunrise, sunset

    # The library takes the sun's place of a UTC day, and jumps where the event crosses midnight there. So it is asked
    # for a place under the zone's own meridian, whose UTC is our standard time, between the days that this leaves out.
    observer = Observer(latitude, (longitude - standard / 240 + 180) % 360 - 180)
    share = standard / 86_400
    other = day - timedelta(days=1 if standard > 0 else -1)

    def of_day(find: Callable[..., datetime]) -> int:
        one, two = (_minutes(find, observer, moment) for moment in (day, other))
        return round(one + (two - one) * abs(share)) % 1440

    try:
        return of_day(sunrise), of_day(sunset)
    except ValueError:
        up = elevation(observer, noon(observer, day)) > 0
        return (ABSENT, 1440) if up else (1440, ABSENT)


def _minutes(find: Callable[..., datetime], observer: Observer, day: date) -> float:
    """After midnight, of the event that is nearest to noon: a UTC day may have two of them, or none."""
    midnight = datetime(day.year, day.month, day.day, tzinfo=UTC)
    moments = (find(observer, day + timedelta(days=near)) for near in (-1, 0, 1))
    return min(
        ((moment - midnight).total_seconds() / 60 for moment in moments), key=lambda moment: abs(moment - 720)
    )
