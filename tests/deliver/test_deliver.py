"""The commands that reach boards: over the air to a live program on a real broker, by cable to a chip on a pseudo-terminal."""

import json
import re

import pytest
from conftest import failed, steps
from support.brokers import MOSQUITTO, Broker, _free_port
from support.images import KEY, base_of
from support.loader import chip  # noqa: F401

import zapato
from zapato.deliver import cable
from zapato.deliver.broker import connected
from zapato.errors import NotDelivered
from zapato.simulator.live_run import Live
from zapato.simulator.loader_chip import Faults

DEVICE = 'zapato = 1\n[device]\nname = "lamp"\nversion = "{version}"\nboard = "esp32-38pin"\n[relay.lamp]\npin = 26\n[[link]]\nwhen = "lamp.on"\nafter = "{after}"\ndo = "lamp.off"\n'
SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\npassword = "larch and stone"\n[mqtt]\nhost = "127.0.0.1"\nport = {port}\nuser = "devices"\npassword = {{ secret = "mqtt_password" }}\n'
OTHER = 'zapato = 1\n[device]\nname = "bell"\nboard = "esp32-38pin"\n[relay.bell]\npin = 26\n'


@pytest.fixture
def site(put, tmp_path):
    """A site with a lamp; gives its folder and a function that writes a version of the lamp."""

    def lamp(version: str, after: str = "10s"):
        (tmp_path / "devices" / "lamp.toml").write_text(DEVICE.format(version=version, after=after))
        return tmp_path / "devices" / "lamp.toml"

    put(
        {
            "devices/lamp.toml": "",
            "secrets.toml": f'mqtt_password = "marmot"\n[update_keys]\nlamp = "{KEY}"\n',
        }
    )
    return tmp_path, lamp


@pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed")
@pytest.mark.slow
def test_over_the_air_with_the_commands(site, cli, tmp_path):
    """A live program on a real broker: seen, brought to a new version by what changed, seen again; then what cannot be."""
    folder, lamp = site
    (tmp_path / "broker").mkdir()
    broker = Broker(tmp_path / "broker", _free_port())
    broker.start()
    (folder / "site.toml").write_text(SITE.format(port=broker.port))
    live = Live(lamp("1.0.0"), broker=("127.0.0.1", broker.port))
    live.start()
    out = folder / "out"
    try:
        path = lamp("1.1.0", "20s")
        called = cli("deliver", path, "--air", "--patience", "30", "--out", out)
        assert called.code == 0, called.err
        found = re.match(r"refuge/lamp: 1\.0\.0 -> 1\.1\.0, ([\d.]+) of ([\d.]+) KiB sent", called.out)
        assert found and float(found[1]) < 0.2 * float(found[2])
        called = cli("fleet", path, "--format", "json")
        told = json.loads(called.out)[0]
        assert (
            called.code == 0
            and told["state"] == "online"
            and told["version"] == "1.1.0"
            and told["heap"] > 20_000
        )
        with connected(zapato.load(path), None, ["refuge/lamp/about"]) as way:
            _, about = way.next(10)
        assert (
            json.loads(about)["version"] == {"instance": "1.1.0"}
            and "lamp.toggle" in json.loads(about)["actions"]
        )
        watched = cli(
            "watch",
            path,
            "--lasts",
            "3",
            "--only",
            "value",
            "--only",
            "state",
            "--save",
            folder / "log.jsonl",
        )
        assert watched.code == 0 and "lamp.on = false" in watched.out and "state" in watched.out, watched
        rows = [json.loads(line) for line in (folder / "log.jsonl").read_text().splitlines()]
        assert {row["what"] for row in rows} == {"value", "state"} and "larch and stone" not in watched.out
        assert cli("watch", path, "--lasts", "1", "--grep", "nothing of this", "--format", "json").out == ""
        called = cli("deliver", path, "--air", "--out", out)
        assert called.code == 0 and "1.1.0 runs there already" in called.out and "--again" in called.out
        before = path.read_text()
        path.write_text(before + "\n[flag.new]\n")
        called = cli("deliver", path, "--air", "--out", out)
        assert called.code and "another program" in called.err + called.out, called
        path.write_text(before)
        assert cli("deliver", lamp("1.0.9"), "--air", "--out", out).err.startswith(
            "zapato: 1.0.9 is older than 1.1.0"
        )
        (folder / "devices" / "bell.toml").write_text(OTHER)
        assert cli("fleet", folder, "--listen", "2").code == 1
        called = cli("deliver", folder, "--air", "--patience", "2", "--out", out)
        assert called.code == 1 and called.out.split("\n")[0].startswith(
            "wave 1  bell: failed  refuge/bell does not answer for 2 s"
        )
        assert "wave 2  lamp: left" in called.out and "1 failed, 1 unchanged" in called.out
        assert cli("fleet", folder, "--listen", "1").out.split("\n")[2].split()[:4] == [
            "lamp",
            "online",
            "1.1.0",
            "1.0.9",
        ]
    finally:
        result = live.stop()
        broker.stop()
    assert result.crash is None
    with (
        pytest.raises(NotDelivered, match="no broker answers"),
        connected(zapato.load(lamp("1.2.0")), None, []),
    ):
        pass


@pytest.mark.slow
def test_by_cable_with_the_commands(site, cli, chip, monkeypatch):  # noqa: F811
    folder, lamp = site
    (folder / "site.toml").write_text(SITE.format(port=1883))
    monkeypatch.setattr(cable, "LISTEN", 1)
    base = folder / "base.bin"
    base.write_bytes(base_of("esp32-38pin"))
    there = chip("esp32-38pin", boot=lambda flash: ["lamp 1.0.0", "wifi joined, 192.168.4.20"])
    called = cli("deliver", lamp("1.0.0"), "--port", there.name, "--base", base, "--out", folder / "out")
    assert called.code == 0, called.err
    assert "verified by the chip's own digest" in called.out and "\n  lamp 1.0.0\n  wifi joined" in called.out
    assert "larch and stone" not in called.out + called.err
    data = chip("esp32-38pin")
    before = bytes(data.flash[:0x200000])
    assert cli("deliver", lamp("1.0.0"), "--port", data.name, "--out", folder / "out").code == 0
    assert bytes(data.flash[:0x200000]) == before and data.flash[0x200000:] == there.flash[0x200000:]
    torn = chip("esp32-38pin", faults=Faults(unplug=20))
    called = cli("deliver", lamp("1.0.0"), "--port", torn.name, "--out", folder / "out")
    assert called.code == 2 and "was disconnected" in called.err.strip().split("\n")[-1]
    assert "deliver needs --port" in cli("deliver", lamp("1.0.0")).err


def test_the_status_led_is_explained_as_it_blinks(cli):
    """Row by row what the runtime has."""
    import ast

    from zapato.firmware.compile import runtime_source
    from zapato.parts.led.part import STATUS

    tree = ast.parse(runtime_source("led", "esp32"))
    codes = next(
        ast.literal_eval(n.value)
        for n in tree.body
        if isinstance(n, ast.Assign) and ast.unparse(n.targets[0]) == "CODES"
    )
    assert codes == tuple((on, off) for on, off, _ in STATUS)
    out = cli("explain", "status-led").out
    assert "50 ms lit, 450 ms dark" in out and "an update comes" in out and "status-led" in cli("explain").out


def test_links_tell_the_device_itself(put, bench, cli):
    """A long press restarts it, a longer one forgets what was kept, without asking twice."""
    body = (
        '[button.b]\npin = 33\npull = "up"\nhold = "{hold}"\n[relay.r]\npin = 26\nstart = "last"\n'
        '[[link]]\nwhen = "b.lasted >= 3 and b.lasted < 10"\ndo = "device.restart"\n[[link]]\nwhen = "b.lasted >= 10"\ndo = "device.forget"\n'
    )
    for hold, told in (("1s", False), ("3s", False), ("11s", True)):
        result = bench(body.format(hold=hold), steps("20s: b.hold", "60s? not r.on"), lasts="70s")
        assert (
            failed(result) == []
            and any("kept values, network and broker are forgotten" in text for _, text in result.log) == told
        )
        assert any(r["name"] == "reset" for r in result.records) == (hold != "1s") and not result.crash
    body = body.format(hold="3s")
    wrong = put(
        'zapato = 1\n[device]\nname = "d"\nboard = "esp32-38pin"\n'
        + body.replace("device.restart", "device.explode")
    )
    assert [f.code for f in zapato.check(wrong)] == ["link-unknown"]
    assert [
        f.code for f in zapato.check(put(wrong.read_text().replace("device.explode", "device.forget(3)")))
    ] == ["link-type"]
    assert "name-taken" in {
        f.code
        for f in zapato.check(
            put('zapato = 1\n[device]\nname = "d"\nboard = "esp32-38pin"\n[relay.device]\npin = 4\n')
        )
    }
