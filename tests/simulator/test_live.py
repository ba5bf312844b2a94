"""Live rehearsals: the same program in real time, the embedded broker and a real one, typed acts, Ctrl-C."""

import json
import os
import queue
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from support.brokers import Broker, _free_port
from support.live import until

import zapato
from zapato.checks import all_files
from zapato.design import resolve_all
from zapato.errors import Refused, ZapatoError
from zapato.simulator.live_run import Live
from zapato.simulator.live_site import LiveSite

SCRIPT = """[rehearsal]
title = "A press, a command"
lasts = "5s"
[world]
sky.illuminance = 100
[[step]]
at = "1500ms"
act = "wall.press"
[[step]]
within = "2s"
expect = "lamp.on and published('lamp/on', 'true')"
[[step]]
wait = "100ms"
act = "message('lamp/on/set', 'false')"
[[step]]
within = "2s"
expect = "not lamp.on and sky.illuminance > 50"
"""


@pytest.fixture
def script(tmp_path: Path) -> Path:
    path = tmp_path / "live.toml"
    path.write_text(SCRIPT)
    return path


def _porch(site: Path) -> Path:
    return site / "devices" / "porch-light.toml"


@pytest.mark.slow
def test_a_script_in_real_time_on_the_embedded_broker(site, script, cli):
    called = cli("rehearse", "--live", _porch(site), "--script", script)
    assert called.code == 0, called.out
    assert "of real time" in called.out and called.out.count("held") >= 2
    data = json.loads(cli("rehearse", "--live", _porch(site), "--script", script, "--format", "json").out)
    assert data[0]["passed"] and 5 <= data[0]["lasts"] < 8


def test_a_script_in_real_time_on_a_real_broker(site, script, tmp_path):
    secrets = site / "secrets.toml"
    secrets.write_text(re.sub(r'mqtt_password = ".*?"', 'mqtt_password = "marmot"', secrets.read_text()))
    broker = Broker(tmp_path, _free_port())
    broker.start()
    try:
        live = Live(_porch(site), script=script, broker=("127.0.0.1", broker.port))
        live.start()
        assert live.wait(90)
        result = live.stop()
    finally:
        broker.stop()
    assert result.passed and result.live and not result.faults
    moment = {r["name"]: r["t"] for r in result.records if r["what"] == "pin" and r["value"] == 1}
    told = next(r["t"] for r in result.records if r["name"].endswith("lamp/on") and r["value"] == "true")
    assert told >= moment["GPIO14"]


def test_what_is_typed_is_done_and_what_is_wrong_is_told(site):
    rows: queue.Queue = queue.Queue()
    live = Live(_porch(site), on_row=rows.put)
    live.start()
    try:
        until(rows, "mqtt", "refuge/porch-light/state")
        live.act("wall.press")
        until(rows, "mqtt", "refuge/porch-light/lamp/on", "true")
        live.act("power.cut")
        until(rows, "mqtt", "refuge/porch-light/state", "offline")
        until(rows, "mqtt", "refuge/porch-light/state", "online")
        for wrong in ("wall.pres", "broker.down", "lamp.on = true", "1 +"):
            with pytest.raises(Refused):
                live.act(wrong)
    finally:
        result = live.stop()
    assert not result.faults and not result.crash


@pytest.mark.skipif(os.name == "nt", reason="Ctrl-C is sent otherwise there")
def test_ctrl_c_ends_it_cleanly(site):
    words = [sys.executable, "-m", "zapato", "rehearse", "--live", str(_porch(site))]
    running = subprocess.Popen(
        words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    assert running.stdout and running.stdin
    for line in running.stdout:
        if "broker reached" in line:
            break
    running.send_signal(signal.SIGINT)
    out, err = running.communicate(timeout=60)
    assert running.returncode == 0 and "of real time" in out and not err


@pytest.mark.slow(20)
def test_a_whole_site_in_real_time(site):
    """Two processes, one broker; what is typed goes to its device, and one that stops does not end the others."""
    words = [sys.executable, "-m", "zapato", "rehearse", "--live", "--jobs", "2", str(site)]
    with subprocess.Popen(
        words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as running:
        assert running.stdout and running.stdin and running.stderr
        names = {path.stem for path in (site / "devices").glob("*.toml")}
        waits = {f"refuge/{name}/state online" for name in names}
        typed = [
            ("porch-light.wall.press", "refuge/porch-light/lamp/on true"),
            ("kettle-plug.power.cut", "refuge/kettle-plug/state offline"),
            ("boot-dryer.message('vent/on/set', 'true')", "refuge/boot-dryer/vent/on true"),
        ]
        for line in running.stdout:
            waits = {wanted for wanted in waits if wanted not in line}
            if not waits and typed:
                text, wanted = typed.pop(0)
                running.stdin.write(f"{text}\n")
                running.stdin.flush()
                waits = {wanted}
            elif not waits:
                break
        running.stdin.write("nobody.x\nporch-light.wall.sing\n")
        out, err = running.communicate(timeout=60)
    assert running.returncode == 0 and f"{len(names)} of {len(names)} devices ran to the end" in out
    assert "nobody.x names no device" in err and "porch-light: wall has no gesture sing" in err, err


FAMILY = """with = [{ name = "box-1", bolt = 26 }, { name = "box-2", bolt = 27 }]
zapato = 1
[device]
name = { with = "name" }
board = "esp32-38pin"
[relay.bolt]
pin = { with = "bolt" }
"""


def test_members_of_a_family_live_and_a_process_that_ends_is_told(put):
    """Without a network and a broker, too; what becomes of a device is known for each."""
    put({"site.toml": '[site]\nname = "refuge"\n', "devices/boxes.toml": FAMILY})
    folder = put({"note.txt": ""}).parent
    designs = resolve_all(all_files([folder]))
    told: queue.Queue = queue.Queue()
    alive = LiveSite(designs, ("127.0.0.1", 1), jobs=2, tell=lambda device, row: told.put((device, row)))
    try:
        until_left = time.monotonic() + 60
        while alive.started(1) and time.monotonic() < until_left:
            pass
        with pytest.raises(Refused, match="names no device"):
            alive.act("box-3.bolt.on")
        alive._processes[0].kill()
        while (row := told.get(timeout=30)[1])["what"] != "failed":
            pass
    finally:
        outcomes = {outcome.name: outcome.failed for outcome in alive.stop()}
    assert "1 devices: box-1" in row["value"] and outcomes == {"box-1": "its process ended", "box-2": ""}


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (["--live", "--broker", "127.0.0.1:1"], "no broker answers"),
        (["--live", "--broker", "here:there"], "HOST:PORT"),
        (["--broker", "127.0.0.1"], "--live"),
        (["--live", "{site}/devices/kettle-plug.toml", "--script", "x.toml"], "one device"),
        (["--live", "{site}/devices/kettle-plug.toml", "--broker", "127.0.0.1:1"], "no broker answers"),
        (["--live", "--script", "{site}/rehearsals/kettle-plug.toml"], "cannot be rehearsed"),
    ],
)
def test_what_cannot_be_live_is_one_line(site, cli, words, says):
    called = cli("rehearse", _porch(site), *(word.format(site=site) for word in words))
    assert called.code in (1, 2) and says in called.err + called.out
    assert "Traceback" not in called.err


def test_virtual_acts_are_refused_live(site, tmp_path):
    path = tmp_path / "s.toml"
    path.write_text('[rehearsal]\nlasts = "5s"\n[[step]]\nat = "1s"\nact = "broker.down"\n')
    with pytest.raises(ZapatoError, match="virtual time"):
        Live(_porch(site), script=path)
    assert zapato.rehearse(_porch(site), path).passed


def test_a_press_stays_a_press_on_a_machine_that_stands_still(site):
    """The board's thread is held up for longer than `hold` asks, in the middle of a press."""
    rows: queue.Queue = queue.Queue()
    live = Live(_porch(site), on_row=rows.put)
    live.start()
    try:
        until(rows, "mqtt", "refuge/porch-light/state")
        live.act("wall.press")
        live.board.clock.post(lambda: time.sleep(1.6))
        until(rows, "mqtt", "refuge/porch-light/wall/released")
    finally:
        result = live.stop()
    said = [r["name"].removeprefix("refuge/porch-light/") for r in result.records if r["what"] == "mqtt"]
    assert "wall/pressed" in said and "wall/held" not in said
    pins = [(r["t"], r["value"]) for r in result.records if r["what"] == "pin" and r["name"] == "GPIO12"]
    up, down = pins[-1][0], max(t for t, level in pins if level == 0 and t < pins[-1][0] - 50)
    assert up - down < 300, pins
