"""Beacons: near or gone, what their bytes say, and what is passed on without drowning anybody."""

import json

import pytest
from conftest import failed, steps

from zapato.adverts import Advert, hear

FRIDGE = """
[radio.air]
weakest = -85
{more}
[beacon.fridge]
radio = "air"
address = "A4-C1-38-00-00-01"
data = "16 1a18 {{temperature:s16le*100}} {{humidity:u16le*100}} {{low:bool}}"
gone = "30s"
[beacon.dog]
radio = "air"
address = "de:ad:be:ef:00:02"
gone = "20s"
"""
NETWORK = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'


@pytest.mark.parametrize("board", ["esp32-38pin", "rp2040w-40pin"])
def test_near_and_gone(bench, board):
    result = bench(
        FRIDGE.format(more=""),
        "[world]\nfridge.temperature = -18.25\nfridge.humidity = 40\ndog.near = true\n"
        + steps(
            "8s? fridge.near and fridge.temperature == -18.25 and fridge.humidity == 40 and fridge.strength == -67 and dog.near",
            "+1s: fridge.temperature = 4", "<5s? fridge.temperature == 4 and not fridge.low", "+1s: dog.near = false", "=15s? dog.near",
            "<10s? not dog.near and fridge.near", "+1s: dog.strength = -90", "+1s: dog.near = true", "=10s? not dog.near",
            "+1s: fridge.near = false", "<35s? not fridge.near and not known(fridge.temperature)",
            "+1s: fridge.near = true", "<10s? fridge.near and fridge.temperature == 4", "+1s: fridge.near = false", "<35s? not fridge.near", "+1s: power.cut", "+1s: fridge.temperature = 5",
            "<10s? fridge.temperature == 5",
        ),
        lasts="4min", board=board,
    )  # fmt: skip
    assert not failed(result)


def test_what_is_passed_on(bench):
    result = bench(
        FRIDGE.format(more='passes = true\nonly = ["a4:c1:38", "c0:11"]\napart = "20s"\nmost = 1'),
        "[world]\nfridge.temperature = 3\ndog.near = true\n" + steps("70s? fridge.near", "+50s? air.left_out > 20"),
        lasts="3min", site=NETWORK,
    )  # fmt: skip
    assert not failed(result)
    said = [
        json.loads(r["value"])
        for r in result.records
        if r["what"] == "mqtt" and r["name"].endswith("air/heard")
    ]
    by = {address: [s for s in said if s["address"] == address] for address in {s["address"] for s in said}}
    assert set(by) == {"a4:c1:38:00:00:01", "c0:11:0e:00:00:07"} and all(
        8 <= len(each) <= 10 for each in by.values()
    )
    assert (
        by["a4:c1:38:00:00:01"][0]["data"].startswith("0201060816")
        and by["a4:c1:38:00:00:01"][0]["strength"] == -67
    )
    found = [r["value"] for r in result.records if r["what"] == "mqtt" and r["name"].endswith("air/found")]
    assert json.loads(found[-1]) == "a4:c1:38:00:00:01 de:ad:be:ef:00:02 c0:11:0e:00:00:07"


def test_a_beacon_that_sends_its_values_in_turns(bench):
    body = FRIDGE.format(more="").replace(
        'data = "16 1a18 {temperature:s16le*100} {humidity:u16le*100} {low:bool}"',
        'data = ["16 1a18 01 {temperature:s16le*100} {battery:u8}", "16 1a18 02 {humidity:u16le*100} {battery:u8}"]',
    )
    result = bench(
        body,
        "[world]\nfridge.temperature = -4.5\nfridge.humidity = 81\nfridge.battery = 90\n"
        + steps(
            "12s? fridge.temperature == -4.5 and fridge.humidity == 81 and fridge.battery == 90",
            "+1s: fridge.humidity = 40",
            "<10s? fridge.humidity == 40 and fridge.temperature == -4.5",
        ),
    )
    assert not failed(result)


def test_a_scan_tells_name_strength_and_bytes(bench, cli):
    """The device passes everything on once; what the desk makes of it is what a beacon's table needs."""
    result = bench(
        FRIDGE.format(more=""),
        "[world]\nfridge.temperature = 3\ndog.near = true\n"
        + steps("30s: message('air/do/scan', '')", "50s: fridge.temperature = 4", "70s? fridge.near"),
        lasts="90s",
        site=NETWORK,
    )
    assert not failed(result)
    rows = [r for r in result.records if r["what"] == "mqtt" and r["name"].endswith("air/heard")]
    assert rows and all(30_000 <= row["t"] <= 41_000 for row in rows)
    known: dict[str, Advert] = {}
    for row in rows:
        hear(known, row["value"])
    twice = Advert()
    for data in (
        "0201060616aa00010203",
        "0201060616aa00010204",
        "0201060616bb00010205",
        "0609486f757365",
        "04ff4c5600",
        "09ff",
    ):
        twice.hear(-50, bytes.fromhex(data))
    assert twice.says == ["16 aa00 010204", "16 bb00 010205", "ff 4c56 00"], (
        "the newest of each sort; what is cut short is left out"
    )
    for odd in (
        "[]",
        "{",
        '{"address": 1}',
        '{"address": "a4:c1:38:00:00:01", "strength": 1, "data": "zz"}',
        "[" * 9000,
    ):
        hear(known, odd)
    assert known["c0:11:0e:00:00:07"].name == "Hut scale" and known["c0:11:0e:00:00:07"].says == ["03 aafe"]
    assert (
        known["a4:c1:38:00:00:01"].says == ["16 1a18 2c01000000"]
        and known["a4:c1:38:00:00:01"].strength == -67
    )
    assert "5a:42:00:13:37:01" not in known, "weaker than the radio listens"


def test_who_was_near_in_an_outage_nobody_is_told_afterwards(bench):
    script = steps("30s: broker.down", "100s: broker.up")
    body = FRIDGE.format(more='passes = true\napart = "5s"\nmost = 5')
    result = bench(
        body, "[world]\nfridge.temperature = 3\ndog.near = true\n" + script, lasts="3min", site=NETWORK
    )
    heard = [r["t"] for r in result.records if r["what"] == "mqtt" and r["name"].endswith("air/heard")]
    back = next(
        r["t"]
        for r in result.records
        if r["what"] == "print" and r["value"] == "broker reached" and r["t"] > 100_000
    )
    assert any(t < 30_000 for t in heard) and any(t > back + 5000 for t in heard)
    assert sum(back <= t <= back + 1000 for t in heard) <= 5, "no heap of old sightings"


WRONG = {
    "no radio": ('[beacon.b]\nradio = "air"\naddress = "a4:c1:38:00:00:01"', "esp32-38pin", ["bus-missing"]),
    "no address": ('[radio.air]\n[beacon.b]\nradio = "air"\naddress = "a4:c1:38"', "esp32-38pin", ["wrong-type"]),
    "no pattern": ('[radio.air]\n[beacon.b]\nradio = "air"\naddress = "a4:c1:38:00:00:01"\ndata = "16 zz"', "esp32-38pin", ["wrong-type"]),
    "two radios": ("[radio.a]\n[radio.b]", "esp32-38pin", ["radio-missing"]),
    "no Bluetooth": ("[radio.a]", "esp8266-30pin", ["radio-missing"]),
    "not on this one, either": ("[radio.a]\nweakest = -200", "esp32s2-mini", ["wrong-type", "radio-missing"]),
}  # fmt: skip


@pytest.mark.parametrize(("body", "board", "codes"), WRONG.values(), ids=WRONG)
def test_what_cannot_be(checked, body, board, codes):
    from zapato.boards import board_ids

    if board in board_ids():
        assert sorted(f.code for f in checked(body, board) if f.severity == "error") == sorted(codes)


@pytest.mark.parametrize(
    ("pins", "do", "fixes"),
    [
        ("pin = 27", "air.send('a3f012')", ("it needs a transmitter: send = PIN",)),
        ("pin = 27", "hall.send", ("it needs a transmitter: send = PIN at its receiver",)),
        ("send = 27", "air.scan", ("it needs a receiver module: pin = PIN",)),
        ("pin = 27\nsend = 26", "air.sent", ('did you mean "send"?',)),
        ("pin = 27\nsend = 26", "hall.send", None),
    ],
)
def test_what_a_radio_lacks_is_told_at_the_desk(pins, do, fixes, checked):
    body = f'[receiver.air]\n{pins}\n[remote.hall]\nreceiver = "air"\ncode = "a3f012"\n[button.b]\npin = 33\npull = "up"\n'
    found = checked(f'{body}[[link]]\nwhen = "b.pressed"\ndo = "{do}"\n').findings
    assert [f.fixes for f in found if f.code == "link-unknown"] == ([] if fixes is None else [fixes])
