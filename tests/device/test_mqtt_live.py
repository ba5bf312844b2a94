"""The runtime's MQTT client in the real VM, with real sockets, against a real mosquitto."""

import json
from pathlib import Path

import pytest
from support.brokers import MOSQUITTO, Broker, Listener, _free_port

import zapato
from zapato.firmware.layout import delivered
from zapato.firmware.plan import settings
from zapato.firmware.program import compile_device
from zapato.simulator.live import LiveBoard
from zapato.simulator.rehearse import machine_modules

pytestmark = pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed")

DEVICE = """
zapato = 1
[device]
name = "lamp"
board = "esp8266-30pin"
[relay.lamp]
pin = 14
[flag.flash]
[[link]]
when = "flash.on"
do = ["notify('flashed')", "flash.on = false"]
"""
SITE = """
[site]
name = "refuge"
[wifi]
name = "hall"
[mqtt]
host = "127.0.0.1"
port = {port}
user = "devices"
password = "marmot"
qos = {qos}
keep_alive = "5s"
"""


@pytest.fixture
def broker(tmp_path: Path):
    made = Broker(tmp_path, _free_port())
    made.start()
    yield made
    made.stop()


@pytest.fixture(params=[0, 1], ids=["qos0", "qos1"])
def device(request, broker, put):
    """The whole firmware of a small device, live: real time, real sockets, the chip's heap."""
    site = SITE.format(port=broker.port, qos=request.param)
    design = zapato.load(put({"device.toml": DEVICE, "site.toml": site}))
    live = LiveBoard(
        design.board,
        delivered(design, compile_device(design), settings(design, "00" * 32)),
        machine_modules(),
    )
    live.start()
    yield live
    live.stop()
    assert live.crash is None


def test_a_real_broker(device, broker):
    listener = Listener(broker.port)
    try:
        listener.until("refuge/lamp/state", "online")
        listener.until("refuge/lamp/lamp/on", "false")
        listener.client.publish("refuge/lamp/lamp/on/set", "true", 1)
        listener.until("refuge/lamp/lamp/on", "true")
        listener.client.publish("refuge/lamp/flash/do/set", "true", 1)
        listener.until("refuge/lamp/notes", "flashed")
        listener.client.publish("refuge/lamp/lamp/on/set", "{nonsense", 1)
        assert "not understood" in listener.until("refuge/lamp/notes")
        listener.client.publish("refuge/lamp/nobody/on/set", "x" * 700, 1)
        assert "too long" in listener.until("refuge/lamp/notes")
        broker.stop()
        listener.close()
        broker.start()
        listener = Listener(broker.port)
        listener.until("refuge/lamp/state", "online", 25)
        assert json.loads(listener.until("refuge/lamp/lamp/on")) is True
        device.stop()
        listener.until("refuge/lamp/state", "offline")
    finally:
        listener.close()


ECHO = """
zapato = 1
[device]
name = "echo"
board = "esp8266-30pin"
[relay.copy]
pin = 12
[led.seen]
pin = 13
shows = "known(lamp.lamp.on)"
[[link]]
when = "lamp.lamp.on"
do = "copy.on"
[[link]]
when = "not lamp.lamp.on"
do = "copy.off"
"""


def test_a_device_hears_another_through_a_real_broker(device, broker, put):
    """What it missed comes with what the broker keeps; of one that fell silent nothing is known."""
    qos = 1 if "qos = 1" in (broker.folder / "site.toml").read_text() else 0
    files = {
        "site.toml": SITE.format(port=broker.port, qos=qos),
        "devices/lamp.toml": DEVICE,
        "devices/echo.toml": ECHO,
    }
    design = zapato.load(put(files).parent / "devices" / "echo.toml")
    assert not [f for f in zapato.check(design).findings if f.severity == "error"]
    listener = Listener(broker.port)
    listener.until("refuge/lamp/lamp/on", "false")
    listener.client.publish("refuge/lamp/lamp/on/set", "true", 1)
    listener.until("refuge/lamp/lamp/on", "true")
    parts = delivered(design, compile_device(design), settings(design, "00" * 32))
    echo = LiveBoard(design.board, parts, machine_modules())
    echo.start()
    try:
        listener.until("refuge/echo/copy/on", "true")
        listener.client.publish("refuge/lamp/lamp/on/set", "false", 1)
        listener.until("refuge/echo/copy/on", "false")
        device.stop()
        listener.until("refuge/lamp/state", "offline", 20)
        listener.until("refuge/echo/seen/on", "false")
    finally:
        echo.stop()
        listener.close()
    assert echo.crash is None
