"""The runtime's MQTT client in the real VM, with real sockets, against a real mosquitto."""

import json
import os
import queue
import shutil
import socket
import subprocess
import time
from pathlib import Path

import paho.mqtt.client as paho
import pytest

from zapato.firmware.compile import cache_folder, compile_all, runtime_source
from zapato.stage.vm import command

MOSQUITTO = shutil.which("mosquitto") or shutil.which("mosquitto", path="/usr/sbin")
pytestmark = pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed")

# A device without pins: a lamp in software, on the real loop and the real client.
PROGRAM = """
import sys
sys.path.insert(0, "app")
from loop import Device
from mqtt import Mqtt

d = Device("lamp", "refuge/lamp", "1.0.0", 3.3)


class Lamp:
    name, props, sets, timed, on = "lamp", ("on",), ("on",), (), False

    def set(self, name, value):
        self.on = bool(value)
        d.changed(self, "on")

    def do(self, action):
        if action == "flash":
            d.emit(self, "flashed")
        return action == "flash"


d.add(Lamp())


class Wire:
    def __init__(self, mqtt):
        self.mqtt, self.ready, self.value = mqtt, mqtt.ready, mqtt.value

    def begin(self):
        self.mqtt.begin()

    def say(self, topic, text):
        self.mqtt.send(topic, text, False)

    def event(self, part, name):
        self.mqtt.send(part.name + "/" + name, "{}", False)


d.net = Wire(Mqtt(d, "127.0.0.1", %d, "devices", "marmot", %d, 5000))
d.run()
"""


def _free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


class Broker:
    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port, self.process = folder, port, None
        passwords = folder / "passwords"
        passwords.write_text("devices:marmot\n")
        subprocess.run([shutil.which("mosquitto_passwd") or "mosquitto_passwd", "-U", str(passwords)], check=True)
        passwords.chmod(0o644)
        (folder / "m.conf").write_text(
            f"listener {port} 127.0.0.1\nallow_anonymous false\npassword_file {passwords}\nuser root\n"
        )

    def start(self) -> None:
        self.process = subprocess.Popen([MOSQUITTO, "-c", str(self.folder / "m.conf")], stderr=subprocess.DEVNULL)
        for _ in range(400):
            with socket.socket() as s:
                if s.connect_ex(("127.0.0.1", self.port)) == 0:
                    return
            self.process.poll()
            time.sleep(0.01)
        raise AssertionError("mosquitto did not start")

    def stop(self) -> None:
        if self.process:
            self.process.terminate()
            self.process.wait(10)


class Listener:
    """A client that hears everything."""

    def __init__(self, port: int) -> None:
        self.heard: queue.Queue[tuple[str, str, bool]] = queue.Queue()
        self.client = paho.Client(paho.CallbackAPIVersion.VERSION2)
        self.client.username_pw_set("devices", "marmot")
        self.client.on_message = lambda c, u, m: self.heard.put((m.topic, m.payload.decode(), bool(m.retain)))
        self.client.on_connect = lambda c, *rest: c.subscribe("#", 1)
        self.client.connect("127.0.0.1", port)
        self.client.loop_start()

    def until(self, topic: str, payload: str | None = None, timeout: float = 15.0) -> str:
        end = time.monotonic() + timeout
        while True:
            found = self.heard.get(timeout=max(0.01, end - time.monotonic()))
            if found[0] == topic and payload in (None, found[1]):
                return found[1]

    def close(self) -> None:
        self.client.disconnect()
        self.client.loop_stop()


@pytest.fixture
def broker(tmp_path: Path):
    made = Broker(tmp_path, _free_port())
    made.start()
    yield made
    made.stop()


@pytest.fixture(params=[0, 1], ids=["qos0", "qos1"])
def device(request, broker, tmp_path: Path):
    (tmp_path / "app").mkdir()
    sources = {name: runtime_source(name, "esp32") for name in ("loop", "mqtt")}
    for name, data in compile_all(sources, cache_folder()).items():
        (tmp_path / "app" / f"{name}.mpy").write_bytes(data)
    (tmp_path / "program.py").write_text(PROGRAM % (broker.port, request.param))
    with subprocess.Popen([*command(), "program.py"], cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, env=dict(os.environ)) as vm:
        yield vm
        vm.kill()


def test_a_real_broker(device, broker):
    listener = Listener(broker.port)
    try:
        listener.until("refuge/lamp/state", "online")
        listener.until("refuge/lamp/lamp/on", "false")
        listener.client.publish("refuge/lamp/lamp/on/set", "true", 1)
        listener.until("refuge/lamp/lamp/on", "true")
        listener.client.publish("refuge/lamp/lamp/do/flash", "", 1)
        listener.until("refuge/lamp/lamp/flashed", "{}")
        listener.client.publish("refuge/lamp/lamp/on/set", "{nonsense", 1)
        assert "not understood" in listener.until("refuge/lamp/notes")
        listener.client.publish("refuge/lamp/nobody/on/set", "x" * 700, 1)
        assert "not understood" in listener.until("refuge/lamp/notes")
        broker.stop()
        listener.close()
        broker.start()
        listener = Listener(broker.port)
        listener.until("refuge/lamp/state", "online", 25)
        assert json.loads(listener.until("refuge/lamp/lamp/on")) is True
        device.kill()
        listener.until("refuge/lamp/state", "offline")
    finally:
        listener.close()
