"""The time of day: what device files say of it, the zone's rules on the device, the sun, and servers that fail or lie."""

import json
import math
import re
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from conftest import HEADER, failed, in_the_vm, steps
from hypothesis import example, given
from hypothesis import strategies as st

import zapato
from zapato.design.sun import sun_of, sun_table
from zapato.firmware.compile import runtime_source
from zapato.lang.hours import DAYS, HoursError, days, moment
from zapato.lang.zones import zone, zone_names
from zapato.simulator.network import time_answer

PLACE = '[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n[time]\nzone = "{zone}"\nlatitude = 46.02\nlongitude = 7.75\n'
BELL = '[relay.lamp]\npin = 26\n[[link]]\nat = "{at}"\ndo = "notify(\'ding\')"\n'
HERE = PLACE.format(zone="Europe/Zurich")


def rung(result, begins: str) -> list[str]:
    """The local moments at which the bell rang."""
    here = ZoneInfo("Europe/Zurich")
    begin = datetime.fromisoformat(begins).replace(tzinfo=here).astimezone(UTC)
    at = [r["t"] for r in result.records if r["what"] == "print" and r["value"] == "ding"]
    return [(begin + timedelta(milliseconds=ms)).astimezone(here).strftime("%d %H:%M") for ms in at]


@pytest.mark.parametrize(
    ("at", "begins", "hours", "expected"),
    [
        ("06:30", "2026-06-01T06:29:00", 1, ["01 06:30"]),
        ("06:30", "2026-06-01T06:30:00", 2, []),  # it did not know the time yet
        ("02:30", "2026-03-29T01:00:00", 3, ["29 03:00"]),  # left out
        ("02:30", "2026-10-25T01:00:00", 5, ["25 02:30"]),  # twice
        ("00:00", "2026-12-31T23:50:00", 1, ["01 00:00"]),
        ("00:00", "2028-02-28T23:50:00", 1, ["29 00:00"]),
        ("00:00", "2028-02-29T23:50:00", 1, ["01 00:00"]),
        ("08:00", "2036-02-07T07:00:00", 2, ["07 08:00"]),  # the servers' count begins anew
        # Beyond midnight. The sun sets at 21:20 and rises at 05:39; the device knows it to two minutes.
        ("sunset + 6h", "2026-06-10T23:00:00", 6, ["11 03:19"]),
        ("sunrise - 6h", "2026-06-10T23:00:00", 2, ["10 23:38"]),
    ],
)
def test_a_bell_rings_by_the_clock_on_the_wall(at, begins, hours, expected, bench):
    result = bench(HERE + BELL.format(at=at), "", lasts=f"{hours}h", head=f"begins = {begins}")
    assert rung(result, begins) == expected


ZONES = ("Europe/Zurich", "Europe/Dublin", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu", "America/Nuuk",
         "Africa/Cairo", "Pacific/Chatham", "America/Santiago", "Asia/Jerusalem", "UTC", "Asia/Tokyo")  # fmt: skip


def test_the_device_reckons_every_zone_as_the_zone_data_do():
    """Every change of three years and its neighbours, and days at random, on the device and here."""
    cases = []
    for name in ZONES:
        rule = zone(name)
        assert rule
        for moment_ in _moments(name):
            offset = moment_.astimezone(ZoneInfo(name)).utcoffset()
            assert offset is not None
            since = moment_ - datetime(2000, 1, 1, tzinfo=UTC)
            cases.append((rule.plain, since.days, since.seconds, int(offset.total_seconds())))
    code = f"""
from clock import Clock
class Desk:
    starts = []
cases = {cases!r}
wrong = []
for zone, day, second, expected in cases:
    c = Clock(Desk, zone, b"")
    c.utc = day
    c.second = second
    if zone[0] + c.summer() != expected:
        wrong.append((zone, day, second, expected))
print(len(wrong), wrong[:3])
"""
    modules = {name: runtime_source(name, "esp32") for name in ("clock", "names")}
    assert in_the_vm(code, modules).splitlines()[-1] == "0 []"


def _moments(name: str) -> list[datetime]:
    found = []
    for year in (2026, 2027, 2031):
        moment_ = datetime(year, 1, 1, tzinfo=UTC)
        while moment_.year == year:
            if (
                moment_.astimezone(ZoneInfo(name)).utcoffset()
                != (moment_ + timedelta(minutes=30)).astimezone(ZoneInfo(name)).utcoffset()
            ):
                found += [moment_ + timedelta(minutes=30 + minutes) for minutes in (-31, -30, -1, 0, 1, 61)]
            moment_ += timedelta(minutes=30)
        found += [datetime(year, month, 15, 12, tzinfo=UTC) for month in range(1, 13)]
    return found


def test_every_zone_of_the_data_has_a_rule():
    assert [name for name in zone_names() if zone(name) is None] == []


@given(st.integers(0, 364), st.floats(-60, 60), st.floats(-180, 180))
def test_the_suns_table_is_exact_to_two_minutes_between_the_polar_circles(day, latitude, longitude):
    standard = round(longitude / 15) * 3600
    table = sun_table(latitude, longitude, standard)
    exact = sun_of(date(2029, 1, 1) + timedelta(days=day), latitude, longitude, standard)
    week, rest = divmod(day, 7)
    for of in (0, 1):
        at = week * 4 + of * 2
        one, two = (int.from_bytes(table[k : k + 2], "big") for k in (at, at + 4))
        assert abs((one * (7 - rest) + two * rest + 3) // 7 - exact[of]) <= 2


PLACES = [
    (46.96, 11.08, 1, [(date(2029, 3, 20), "06:18", "18:29"), (date(2029, 6, 21), "04:21", "20:14"), (date(2029, 12, 21), "07:58", "16:29")]),
    (-33.87, 151.21, 10, [(date(2029, 1, 10), "04:55", "19:10"), (date(2029, 7, 10), "07:00", "17:02")]),
    (40.71, -74.01, -5, [(date(2029, 4, 10), "05:25", "18:31"), (date(2029, 10, 10), "06:02", "17:23")]),
    (64.73, 177.5, 12, [(date(2029, 3, 20), "06:12", "18:25")]),
    (65.5, -168.0, -12, [(date(2029, 9, 23), "05:00", "17:07")]),
]  # fmt: skip
"""Rising and setting in standard time by the formulas of Meeus, Astronomical Algorithms, chapters 15 and 25, worked out apart from the library."""


@pytest.mark.parametrize(("latitude", "longitude", "standard", "rows"), PLACES)
def test_the_sun_of_some_days(latitude, longitude, standard, rows):
    for day, *moments in rows:
        for minutes, told in zip(sun_of(day, latitude, longitude, standard * 3600), moments, strict=True):
            assert abs(minutes - (int(told[:2]) * 60 + int(told[3:]))) <= 1, (day, minutes, told)


@pytest.mark.slow
def test_between_sunset_and_sunrise_follows_the_polar_night_and_day(bench):
    far = PLACE.format(zone="Arctic/Longyearbyen").replace("46.02", "78.22").replace("7.75", "15.65")
    body = far + "[led.l]\npin = 25\nshows = \"between('sunset', 'sunrise')\"\n"
    for begins, expected in (("2026-12-20T10:00:00", "l.on"), ("2026-06-20T00:00:00", "not l.on")):
        rows = steps("1min? l.on or not l.on", f"=4h? {expected}")
        assert failed(bench(body, rows, lasts="5h", head=f"begins = {begins}")) == []


@pytest.mark.slow
def test_without_a_time_server_nothing_rings_and_afterwards_everything_does(bench):
    body = HERE + BELL.format(at="10:00") + "[led.l]\npin = 25\nshows = \"not between('08:00', '09:00')\"\n"
    begins = "2026-06-01T09:30:00"
    for silent, expected in (("40min", []), ("10min", ["01 10:00"])):
        rows = steps("0s: time.silent", f"={silent}? not l.on", "+1s: time.answers", "<11min? l.on")
        result = bench(body, rows, lasts="4h", head=f"begins = {begins}")
        assert failed(result) == []
        assert rung(result, begins) == expected


LIES = {
    "too short": lambda q: time_answer(q, NOW)[:40],
    "nothing": lambda q: b"",
    "another's stamp": lambda q: time_answer(bytes(48), NOW),
    "go away (stratum 0)": lambda q: bytes((0x24, 0)) + time_answer(q, NOW)[2:],
    "not set itself (leap 3)": lambda q: bytes((0xE4,)) + time_answer(q, NOW)[1:],
    "its own question back": lambda q: q,
    "noise": lambda q: bytes(range(200)),
}
NOW = datetime(2026, 6, 1, tzinfo=UTC)


@pytest.mark.parametrize("lie", LIES)
def test_a_server_that_lies_is_not_believed(lie, bench, monkeypatch):
    monkeypatch.setattr("zapato.simulator.network.time_answer", lambda question, now: LIES[lie](question))
    result = bench(HERE + BELL.format(at="10:00"), "", lasts="30min")
    assert result.crash is None
    assert not any("time is known" in text or "fault" in text for _, text in result.log)


WRONG = [
    ('at = "25:00"', "no time of day"),
    ('at = "6h"', "no time of day"),
    ('at = "sunset - 13h"', "at most 12 hours"),
    ('at = []', "takes a time of day"),
    ('at = "06:30"\ndays = "monday"', "no day"),
    ('days = "mon"\nevery = "1min"', "days goes with at"),
    ('at = "06:30"\nevery = "1min"', "every needs times"),
    ('at = "06:30"\nwhen = "lamp.on"', "one beginning"),
    ('at = "06:30"\nheld = "1min"', "held goes with a condition"),
    ('when = "b.pressed"\nevery = "1s"', "every needs times"),
    ('when = "lamp.on"\ntimes = 3', "times goes with every"),
    ('every = "5min"\ntimes = 3', "goes with a beginning"),
    ('every = "500ms"', "no more often than once a second"),
    ("when = \"between('22:00')\"", "takes 2 texts"),
    ("when = \"between('22:00', 'noon')\"", "no time of day"),
    ("when = \"between('22:00', '23:00', '23:30')\"", "takes 2 texts"),
    ("when = \"weekday()\"", "takes 1 text"),
    ("when = \"weekday('sat', 'sun')\"", "takes 1 text"),
    ("when = \"weekday('xyz')\"", "no day"),
    ("when = \"lamp.on == between('1:00','2:00') and 3\"", "true or false"),
]  # fmt: skip


@pytest.mark.parametrize(("keys", "words"), WRONG, ids=[row[0][:30] for row in WRONG])
def test_what_a_link_says_of_the_time_is_checked(keys, words, checked):
    body = (
        HERE + '[relay.lamp]\npin = 26\n[button.b]\npin = 33\npull = "up"\n[[link]]\ndo = "lamp.on"\n' + keys
    )
    report = checked(body)
    assert any(words in f.message for f in report.findings), [f.message for f in report.findings]


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ("", "time zone is not said"),
        ('[time]\nzone = "Europe/Zurich"\n', "no network"),
        ('[wifi]\nname = "hall"\n[time]\nzone = "Europe/Zurich"\n', "place is not said"),
        ('[wifi]\nname = "hall"\n[time]\nzone = "zurich"\n', "no time zone is called that"),
        ('[wifi]\nname = "hall"\n[time]\nzone = "../../etc/passwd"\n', "no time zone is called that"),
        ('[wifi]\nname = "hall"\n[time]\nzone = "UTC"\nlatitude = 91\n', "degrees from -90 to 90"),
    ],
)
def test_a_time_that_nobody_tells_is_found_at_the_desk(table, words, checked):
    report = checked(table + BELL.format(at="sunset"))
    assert any(words in f.message for f in report.findings), [f.message for f in report.findings]


@given(st.text(max_size=20))
def test_times_of_day_are_read_or_refused_with_a_reason(text):
    for read in (moment, days):
        try:
            read(text)
        except HoursError as error:
            assert error.message


def test_days_run_around_the_week():
    assert days("fri-mon") == days("fri, sat, sun, mon")
    assert days(",".join(DAYS)) == 127


def test_the_time_server_is_a_setting_and_never_part_of_the_package(put):
    from zapato.firmware.plan import make_plan, settings

    design = zapato.load(
        put(
            HEADER.format(board="esp32-38pin")
            + HERE.replace("zone =", 'server = "ntp.hut"\nzone =')
            + BELL.format(at="06:30")
        )
    )
    assert settings(design, "")["time"] == "ntp.hut"
    plan = "".join(make_plan(design).plans.values())
    assert "ntp.hut" not in plan
    assert re.search(r"Clock\(d, \(3600, 7200, ", plan)
    assert json.dumps(settings(design, ""))


def almanac(day: date, latitude: float, longitude: float, standard: int, rising: bool) -> float:
    """Minutes after midnight, by the low-precision formulas of the Astronomical Almanac (the Sun, section C)."""
    midnight = datetime(day.year, day.month, day.day, tzinfo=UTC)
    minute = 360.0 if rising else 1080.0
    for _ in range(6):
        moment_ = midnight + timedelta(minutes=minute - standard / 60)
        t = (moment_ - datetime(2000, 1, 1, 12, tzinfo=UTC)).total_seconds() / 86_400
        g, length = math.radians(357.528 + 0.9856003 * t), 280.460 + 0.9856474 * t
        along = math.radians(length + 1.915 * math.sin(g) + 0.020 * math.sin(2 * g))
        tilt = math.radians(23.439 - 4e-7 * t)
        ascension = math.degrees(math.atan2(math.cos(tilt) * math.sin(along), math.cos(along)))
        height = math.asin(math.sin(tilt) * math.sin(along))
        noon = 720 - 4 * longitude - 4 * ((length - ascension + 180) % 360 - 180) + standard / 60
        place = math.radians(latitude)
        cosine = (math.sin(math.radians(-0.8333)) - math.sin(place) * math.sin(height)) / (
            math.cos(place) * math.cos(height)
        )
        half = 4 * math.degrees(math.acos(cosine))
        minute = noon - half if rising else noon + half
    return minute % 1440


@given(st.integers(0, 364), st.floats(-60, 60), st.integers(-11, 11), st.floats(-7, 7))
@example(127, 58.0, 4, -2.0)  # it rises about midnight of Greenwich
@example(279, 60.0, 11, -4.74)  # and here the day's own change counts most
def test_the_sun_rises_and_sets_as_the_almanac_has_it(day, latitude, hours, off):
    when, longitude, standard = date(2029, 1, 1) + timedelta(days=day), hours * 15 + off, hours * 3600
    for found, rising in zip(sun_of(when, latitude, longitude, standard), (True, False), strict=True):
        assert abs(found - almanac(when, latitude, longitude, standard, rising)) < 1.25
