"""A device in service: networks that come and go, values that must get out, what is known again after a silence."""

import pytest
from conftest import HEADER, NETWORK, failed, steps

import zapato

RELAY = '[relay.r]\npin = 26\nstart = "on"\n'


@pytest.mark.parametrize("away", [170, 179, 240, 900])
def test_a_network_that_goes_away_never_takes_the_program_away(bench, away):
    """The access point opens where nobody ever let the device in, not where the network is down at the third minute."""
    script = steps(f"{away}s: wifi.down", f"{away + 60}s: wifi.up")
    result = bench(RELAY, script, site=NETWORK.format(qos=0), lasts=f"{away + 150}s")
    assert result.passed and not result.restarts
    lamp = [r for r in result.records if r["what"] == "pin" and r["name"] == "GPIO26" and r["t"] > 1000]
    assert not lamp, "the relay stays as it is"
    assert [text for _, text in result.log].count("broker reached") == 2


@pytest.mark.parametrize("qos", [0, 1])
def test_forty_values_get_out_at_once(bench, qos):
    """More than the 512 bytes that wait at a time; nothing else is said meanwhile."""
    body = "".join(f"[number.value_{n}]\nstart = {n}\n" for n in range(40))
    script = steps("30s: broker.down", "40s: broker.up")
    result = bench(body, script, site=NETWORK.format(qos=qos), lasts="56s")
    said = [(r["t"], r["name"]) for r in result.records if r["what"] == "mqtt" and r["name"].endswith("/value")]
    first = {name for t, name in said if t < 15_000}
    again = {name for t, name in said if t > 40_000}
    assert len(first) == len(again) == 40


def test_a_notice_does_not_come_again_after_a_silence(bench):
    """`back` holds while the value is unknown: nobody knows that it went back."""
    body = '[i2c.main]\nsda = 21\nscl = 22\n[sensor.s]\nchip = "sht31"\nbus = "main"\nevery = "5s"\n'
    body += '[[link]]\nwhen = "s.temperature < 10"\nback = 5\ndo = "notify(\'fill it\')"\n'
    script = "[world]\ns.temperature = 20\ns.humidity = 40\n" + steps(
        "10s: s.temperature = 8", "30s: s.fall_silent", "60s? not known(s.temperature)", "70s: s.answer", "90s? known(s.temperature)",
        "95s: s.temperature = 16", "110s: s.temperature = 8",
    )  # fmt: skip
    result = bench(body, script, site=NETWORK.format(qos=0), lasts="2min")
    assert not failed(result)
    told = [r["t"] // 1000 for r in result.records if r["what"] == "mqtt" and r["value"] == "fill it"]
    assert len(told) == 2 and 10 <= told[0] < 30 and told[1] >= 110, told


SITE = '[site]\nname = "s"\n[wifi]\nname = "hall"\npassword = "larch and stone"\n[mqtt]\nhost = "192.168.4.2"\nuser = "u"\npassword = "marmot and pine"\n'


@pytest.mark.parametrize(
    ("own", "wifi", "mqtt"),
    [
        ("", ("hall", "larch and stone"), ("192.168.4.2", "u")),
        ('[wifi]\ncountry = "CH"\n', ("hall", "larch and stone"), ("192.168.4.2", "u")),
        ('[mqtt]\napart = "2s"\n', ("hall", "larch and stone"), ("192.168.4.2", "u")),
        ('[wifi]\nname = "hut"\n', ("hut", None), ("192.168.4.2", "u")),
        ('[mqtt]\nhost = "192.168.4.9"\n', ("hall", "larch and stone"), ("192.168.4.9", None)),
    ],
)
def test_a_devices_table_counts_key_by_key(put, own, wifi, mqtt):
    """And a password goes only to the network or broker that it was meant for."""
    path = put({"site.toml": SITE, "device.toml": HEADER.format(board="esp32-38pin") + own + RELAY})
    made = zapato.load(path)
    assert (made.wifi["name"], made.wifi.get("password") or None) == wifi
    assert (made.mqtt["host"], made.mqtt.get("user") or None) == mqtt
