"""Many devices at once: alive at one mosquitto on this machine, or in one virtual time; what broker and hub carry.

usage: python benchmarks/many.py live [DEVICES] | virtual [DEVICES [MINUTES]] | hub
"""

from __future__ import annotations

import json
import os
import re
import resource
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import paho.mqtt.client as paho

from zapato.demo.copy import copy_site
from zapato.descriptions import thing
from zapato.design import Design, resolve
from zapato.design.script import read_script
from zapato.firmware.program import compile_device
from zapato.hub import History, Service
from zapato.hub.hub import OutgoingMessage
from zapato.simulator.live_site import LiveSite
from zapato.simulator.rehearse import default_script

KINDS = ("boot-dryer", "gear-locker", "kettle-plug", "porch-light")
SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "127.0.0.1"\nport = {port}\nqos = 1\n[time]\nzone = "Europe/Vienna"\nlatitude = 46.96\nlongitude = 11.08\n'
TICKS = os.sysconf("SC_CLK_TCK")


def main(words: list[str]) -> int:
    what, *numbers = words or ["live"]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        if what == "virtual":
            virtual(folder, int(numbers[0]) if numbers else 1000, float(numbers[1]) if numbers[1:] else 6)
        elif what == "hub":
            hub_alone(folder)
        else:
            live(folder, int(numbers[0]) if numbers else 200)
    return 0


def site_of(folder: Path, count: int, port: int) -> list[Design]:
    """So many devices, copies of the demo's with names of their own."""
    for _ in copy_site(folder / "demo"):
        pass
    for name in ("devices", "rehearsals"):
        (folder / name).mkdir()
    (folder / "site.toml").write_text(SITE.format(port=port))
    for number in range(count):
        kind = KINDS[number % len(KINDS)]
        for part in ("devices", "rehearsals"):
            text = (
                (folder / "demo" / part / f"{kind}.toml")
                .read_text()
                .replace(f'"{kind}"', f'"{kind}-{number}"')
            )
            # a dryer listens to the locker beside it
            text = re.sub(r"gear-locker\.(?=door|online|offline)", f"gear-locker-{number + 1}.", text)
            (folder / part / f"{kind}-{number}.toml").write_text(text)
    return [resolve(path) for path in sorted((folder / "devices").glob("*.toml"))]


def mosquitto(folder: Path) -> tuple[subprocess.Popen[bytes], int]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (folder / "m.conf").write_text(
        f"listener {port} 127.0.0.1\nallow_anonymous true\nmax_queued_messages 0\n"
    )
    tool = shutil.which("mosquitto") or "/usr/sbin/mosquitto"
    process = subprocess.Popen([tool, "-c", str(folder / "m.conf")], stderr=subprocess.DEVNULL)
    until(lambda: _answers(port), 10)
    return process, port


def _answers(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


def until(look, seconds: float) -> bool:
    end = time.monotonic() + seconds
    while not look():
        if time.monotonic() > end:
            return False
        time.sleep(0.02)
    return True


def used(pid: int) -> float:
    """Seconds of processor that a process took (proc(5))."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / TICKS


@dataclass
class Told:
    """What a run showed: devices online, s from a set value to the device saying it, of each."""

    online: int
    waits: list[float]


def live(folder: Path, count: int) -> Told:
    """Every program in real time, spread over the machine's cores; the hub in this process."""
    broker, port = mosquitto(folder)
    designs = site_of(folder, count, port)
    print(f"{count} devices; compiling ...", flush=True)
    for each in designs:
        compile_device(each)
    service = Service(("127.0.0.1", port), History(folder / "h.sqlite"))
    service.start()
    for each in designs:
        service.say(OutgoingMessage(f"{each.topic}/about", json.dumps(thing(each)), retain=True))
    until(lambda: len(service.hub.things) == count, 60)
    begun = time.monotonic()
    site = LiveSite(designs, ("127.0.0.1", port))
    online = lambda: sum(service.hub.online(n) is True for n in service.hub.things)  # noqa: E731
    there = until(lambda: online() == count, 900)
    print(f"all online: {there}, after {time.monotonic() - begun:.1f} s", flush=True)
    time.sleep(3)
    pids = {"broker": broker.pid, "hub": os.getpid()}
    pids |= {f"devices {n + 1}": process.pid or 0 for n, process in enumerate(site._processes)}
    memory = sum(resident(pid) for name, pid in pids.items() if name.startswith("devices"))
    print(f"{memory / count / 1024:.2f} MB a device with its share of its process", flush=True)
    before, said, span = {n: used(p) for n, p in pids.items()}, service.count, 20.0
    time.sleep(span)
    shares = {name: (used(pid) - before[name]) / span for name, pid in pids.items()}
    print(
        "at rest:",
        ", ".join(f"{n} {share:.1%} of a core" for n, share in shares.items()),
        f"{(service.count - said) / span:.1f} messages/s",
        flush=True,
    )
    waits = answers(service, designs)
    print(
        f"set to said, one after the other over {len(waits)} devices: median {statistics.median(waits):.0f} ms, most {max(waits):.0f} ms",
        flush=True,
    )
    lost = burst(service, designs)
    print(f"all devices switched at once: all said so after {lost[0]:.2f} s, {lost[1]} did not", flush=True)
    told = Told(online(), [ms / 1000 for ms in waits])
    bad = [outcome for outcome in site.stop() if not outcome.good]
    print(f"{len(bad)} devices failed or crashed: {bad[:3]}")
    service.stop()
    broker.terminate()
    return told


def resident(pid: int) -> int:
    """KiB of a process in memory (proc(5))."""
    return int(re.search(r"VmRSS:\s+(\d+)", Path(f"/proc/{pid}/status").read_text())[1])  # type: ignore[index]


SWITCHES = {
    "boot-dryer": "vent",
    "gear-locker": "rescue_light",
    "kettle-plug": "kettle",
    "porch-light": "lamp",
}


def _switch(design: Design) -> str:
    return f"{design.name}.{SWITCHES[design.name.rpartition('-')[0]]}.on"


def answers(service: Service, designs: list[Design]) -> list[float]:
    """How long from a set value to the device saying it, ms, one device after the other."""
    found = []
    for each in designs:
        name, done = _switch(each), threading.Event()
        stop = service.hub.listen(
            lambda c, name=name, done=done: done.set() if c.name == name and c.value is True else None
        )
        begun = time.perf_counter()
        service.say(service.hub.write(name, True))
        if done.wait(10):
            found.append((time.perf_counter() - begun) * 1000)
        stop()
    return found


def burst(service: Service, designs: list[Design]) -> tuple[float, int]:
    names = {_switch(each) for each in designs}
    begun = time.perf_counter()
    for name in names:
        service.say(service.hub.write(name, False))
    off = lambda: sum(service.hub.readings[name].value is False for name in names)  # noqa: E731
    until(lambda: off() == len(names), 30)
    return time.perf_counter() - begun, len(names) - off()


def virtual(folder: Path, count: int, minutes: float) -> None:
    """Every program in one virtual time, the hub hearing what its broker passes on."""
    from zapato.hub.hub import Hub
    from zapato.simulator.site_simulation import SiteSimulation

    designs = site_of(folder, count, 1883)
    print(f"{count} devices; compiling ...", flush=True)
    history, hub, rows = History(folder / "h.sqlite"), Hub(), []
    for each in designs:
        hub.hear(f"{each.topic}/about", json.dumps(thing(each)).encode(), True, 0)
    together = SiteSimulation(designs, {d.name: read_script(default_script(d), d) for d in designs})
    together.broker.listeners.append(
        lambda topic, payload: rows.extend(hub.hear(topic, payload, False, together.turns.now / 1000))
    )
    begun = time.monotonic()
    together.run(
        round(minutes * 60_000),
        lambda share: print(f"\r{share:4.0%} after {time.monotonic() - begun:.0f} s", end="", flush=True),
    )
    took = time.monotonic() - begun
    online = sum(hub.online(each.name) is True for each in designs)
    begun = time.monotonic()
    for at in range(0, len(rows), 500):
        history.put(rows[at : at + 500])
    crashed = [each.crash for each in together.members.values() if each.crash]
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"\n{minutes:g} min of {count} devices in {took:.0f} s, {peak:.0f} MB; {online} online, {len(crashed)} crashed; hub: {len(rows)} values kept in {time.monotonic() - begun:.1f} s"
    )


def hub_alone(folder: Path) -> None:
    """How fast values of QoS 1 are kept, against a bare client that acknowledges and does nothing else, in the same run."""
    broker, port = mosquitto(folder)
    designs = site_of(folder, 200, port)
    service = Service(("127.0.0.1", port), History(folder / "h.sqlite"))
    service.start()
    for each in designs:
        service.say(OutgoingMessage(f"{each.topic}/about", json.dumps(thing(each)), retain=True))
    until(lambda: len(service.hub.things) == len(designs), 60)
    most = 10_000
    begun, said = time.perf_counter(), service.count
    flood(port, designs, most)
    until(lambda: service.count - said >= most, 120)
    kept = time.perf_counter() - begun
    service.stop()
    heard = [0]
    bare = paho.Client(paho.CallbackAPIVersion.VERSION2)
    bare.on_message = lambda *given: heard.__setitem__(0, heard[0] + 1)
    bare.on_connect = lambda client, *rest: client.subscribe("refuge/+/+/on", 1)
    bare.connect("127.0.0.1", port)
    bare.loop_start()
    time.sleep(1)
    heard[0] = 0
    begun = time.perf_counter()
    flood(port, designs, most)
    until(lambda: heard[0] >= most, 120)
    alone = time.perf_counter() - begun
    bare.loop_stop()
    broker.terminate()
    print(
        f"{most} values of QoS 1 from {len(designs)} devices: kept on disk in {kept:.2f} s ({most / kept:.0f}/s); a bare client hears them in {alone:.2f} s: ratio {kept / alone:.2f}, limit 4"
    )


def flood(port: int, designs: list[Design], count: int) -> None:
    client = paho.Client(paho.CallbackAPIVersion.VERSION2)
    client.max_inflight_messages_set(200)
    client.connect("127.0.0.1", port)
    client.loop_start()
    last = None
    for number in range(count):
        each = designs[number % len(designs)]
        part = SWITCHES[each.name.rpartition("-")[0]]
        last = client.publish(f"{each.topic}/{part}/on", "true" if number // len(designs) % 2 else "false", 1)
    if last:
        last.wait_for_publish(60)
    client.disconnect()
    client.loop_stop()


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
