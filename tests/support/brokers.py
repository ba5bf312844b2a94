"""Real brokers on this machine, and whoever listens to them."""

import queue
import shutil
import socket
import subprocess
import time
from pathlib import Path

import paho.mqtt.client as paho

MOSQUITTO = shutil.which("mosquitto") or shutil.which("mosquitto", path="/usr/sbin")


def _free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


class Broker:
    def __init__(self, folder: Path, port: int) -> None:
        self.folder, self.port, self.process = folder, port, None
        passwords = folder / "passwords"
        passwords.write_text("devices:marmot\n")
        subprocess.run(
            [shutil.which("mosquitto_passwd") or "mosquitto_passwd", "-U", str(passwords)], check=True
        )
        passwords.chmod(0o644)
        (folder / "m.conf").write_text(
            f"listener {port} 127.0.0.1\nallow_anonymous false\npassword_file {passwords}\nuser root\nmax_queued_messages 0\n"
        )

    def start(self) -> None:
        self.process = subprocess.Popen(
            [MOSQUITTO, "-c", str(self.folder / "m.conf")], stderr=subprocess.DEVNULL
        )
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
