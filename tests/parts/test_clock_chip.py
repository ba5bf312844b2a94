"""A clock chip with a battery: times hold without a network, drift shows, and a flat battery is told."""

import pytest
from conftest import failed, steps

BODY = '[i2c.main]\nsda = 21\nscl = 22\n[clock.wall]\nchip = "ds3231"\nbus = "main"\n[relay.lamp]\npin = 26\n[[link]]\nat = "20:30"\ndo = "lamp.on"\n'
SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\naccess = "asked"\n[time]\nzone = "Europe/Vienna"\n'


@pytest.mark.slow
def test_times_hold_through_a_night_without_power_and_network(bench):
    result = bench(
        BODY,
        "[world]\nwall.battery = 90\nwall.drift = 100\n"
        + steps(
            "20s? wall.kept", "<35min? lamp.on", "+1s: wifi.down", "+1s: power.cut over 23h", "+2min? wall.kept and not lamp.on",
            "=50min? not lamp.on", "<20min? lamp.on", "+1s: wall.battery = 0", "+1s: power.cut over 1min", "+1min? not wall.kept",
            "+1s: wifi.up", "<2min? wall.kept",
        ),
        head="begins = 2026-02-28T20:00:00", lasts="25h", site=SITE,
    )  # fmt: skip
    assert not failed(result) and result.passed
    told = [str(row["value"]) for row in result.records if row["what"] == "print"]
    assert "the time is known from wall: 19:30" in told and told.count("wall has lost the time") == 2
    rang = [
        row["t"] / 1000
        for row in result.records
        if row["what"] == "pin" and row["value"] == 1 and row["t"] > 43_200_000
    ]
    assert -9.5 < rang[0] - 24.5 * 3600 < -7, rang  # 100 ppm of 23 hours too early


def test_without_any_network(put, checked):
    body = BODY + '[time]\nzone = "Europe/Vienna"\n'
    assert not [f for f in checked(body) if f.severity == "error"]
    assert [
        f.code
        for f in checked(body.replace('[clock.wall]\nchip = "ds3231"\nbus = "main"\n', ""))
        if f.severity == "error"
    ] == ["time-missing"]
