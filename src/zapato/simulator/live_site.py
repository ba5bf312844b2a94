"""Many devices in real time at one broker: each its own program in its own VM, spread over processes of this machine."""

from __future__ import annotations

import contextlib
import multiprocessing
import multiprocessing.connection
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from functools import partial
from math import ceil
from pathlib import Path
from typing import Any

from zapato.design import Design
from zapato.errors import Refused
from zapato.record import record
from zapato.simulator.live_run import Listener, Live

FILES = 8
"""Open files of a device, more or less: its selector, its bell's two ends, its connection, and some to spare."""
SHOWN = ("power", "crash", "act")
"""What of a device is passed on; its messages come from the broker."""
AT_ONCE = 4
"""Devices for each core that start at a time: most of a start is waiting for the network."""
START = 10.0
"""Seconds that a device may take to start before the next one does."""
SHARE = 75
"""Devices of one process at the most, where nobody says how many processes: its threads take turns, and with hundreds most of the time goes there."""
END = 30.0
"""Seconds that a process may take to pull its plugs."""
Tell = Callable[[str, Mapping[str, Any]], None]
"""Hears of a device's name, or "", and a row: t (ms), what, name, value."""


@record(frozen=True)
class LiveDevice:
    """What became of one device: it runs, or what kept it from it (`failed`), or what ended its program (`crash`)."""

    name: str
    failed: str = ""
    crash: str = ""

    @property
    def good(self) -> bool:
        return not (self.failed or self.crash)

    def as_dict(self) -> dict[str, object]:
        return {"device": self.name, "failed": self.failed or None, "crash": self.crash or None}


class LiveSite:
    """The devices of a site, alive at one broker until they are stopped.

    `broker` is (host, port); `jobs` the processes that they are spread over, by default the machine's cores, and more where each would
    have more than 75. `tell` hears, in
    other threads, of power-ups, crashes and acts.
    """

    def __init__(
        self,
        designs: Sequence[Design],
        broker: tuple[str, int],
        *,
        jobs: int | None = None,
        tell: Tell = lambda device, row: None,
    ) -> None:
        self.devices = {design.name: LiveDevice(design.name) for design in designs}
        self._tell, self._lock = tell, threading.Lock()
        self._ready = threading.Condition(self._lock)
        self._left = set(self.devices)
        several = multiprocessing.get_context("spawn")
        self._turns = several.BoundedSemaphore(
            AT_ONCE * (os.cpu_count() or 1)
        )  # kept: processes look for it by its name
        count = max(1, min(jobs or max(os.cpu_count() or 1, ceil(len(designs) / SHARE)), len(designs)))
        self._pipes: list[multiprocessing.connection.Connection] = []
        self._at: dict[str, multiprocessing.connection.Connection] = {}
        self._processes: list[Any] = []
        self._threads: list[threading.Thread] = []
        self._ending = False
        ends: list[multiprocessing.connection.Connection] = []
        for number in range(count):
            own, other = several.Pipe()
            share = designs[number::count]
            given = (
                [(design.name, design.document.source.own) for design in share],
                broker,
                other,
                self._turns,
            )
            ends.append(other)
            self._processes.append(several.Process(target=_work, args=given, daemon=True))
            self._pipes.append(own)
            self._at |= dict.fromkeys((design.name for design in share), own)
            self._threads.append(threading.Thread(target=self._follow, args=(own,), daemon=True))
        for process, other in zip(self._processes, ends, strict=True):
            process.start()
            other.close()  # so that its end is noticed here
        for thread in self._threads:
            thread.start()

    def started(self, seconds: float) -> int:
        """Wait so long, or until every device has its power or cannot have it; gives how many are still to come."""
        with self._ready:
            self._ready.wait_for(lambda: not self._left, seconds)
            return len(self._left)

    def act(self, text: str) -> None:
        """Do one act of a device, written DEVICE.part.gesture. Raises Refused."""
        name, _, rest = text.partition(".")
        if name not in self._at or not rest:
            from zapato.lang.fields import nearest

            near = nearest(name, list(self._at)) or (f"devices: {', '.join(list(self._at)[:12])}",)
            raise Refused(f"{text} names no device of these", f"DEVICE.part.gesture; {near[0]}")
        try:
            self._at[name].send((name, rest.strip()))
        except OSError:
            raise Refused(f"{name} does not run: its process ended") from None

    def stop(self) -> list[LiveDevice]:
        """Pull every plug; what became of each."""
        self._ending = True
        for pipe in self._pipes:
            with contextlib.suppress(OSError):
                pipe.send(None)
        until = time.monotonic() + END
        for process in self._processes:
            process.join(max(0.0, until - time.monotonic()))
            if process.is_alive():
                process.terminate()
        for thread in self._threads:
            thread.join(END)
        return list(self.devices.values())

    def _follow(self, pipe: multiprocessing.connection.Connection) -> None:
        """What one process says, until it ends."""
        with contextlib.suppress(EOFError, OSError):
            while True:
                name, row = pipe.recv()
                self._noted(name, row)
                self._tell(name, row)
        with self._ready:
            lost = [name for name, own in self._at.items() if own is pipe and self.devices[name].good]
            if not self._ending:
                self.devices |= {name: LiveDevice(name, failed="its process ended") for name in lost}
            self._left.difference_update(lost)
            self._ready.notify_all()
        if lost and not self._ending:
            self._tell(
                "",
                {
                    "t": 0,
                    "what": "failed",
                    "name": "",
                    "value": f"a process ended, with {len(lost)} devices: {', '.join(lost[:8])}",
                },
            )

    def _noted(self, name: str, row: Mapping[str, Any]) -> None:
        what = row["what"]
        with self._ready:
            if what == "failed":
                self.devices[name] = LiveDevice(name, failed=str(row["value"]))
            elif what == "crash":
                self.devices[name] = LiveDevice(name, crash=str(row["name"]))
            if what in ("failed", "power") and name in self._left:
                self._left.discard(name)
                self._ready.notify_all()


def _work(
    devices: Sequence[tuple[str, Path]],
    broker: tuple[str, int],
    pipe: multiprocessing.connection.Connection,
    turns: AbstractContextManager[object],
) -> None:
    """A process: start these devices, do what is asked of them, and pull the plugs at the end.

    Of all processes only so many start a device at a time (`turns`): programs that come too late for their broker and their watchdog
    would start again and again.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for the process that is looked at
    allow_files(len(devices) * FILES)
    _Worker(broker, pipe, turns).run(devices)


class _Worker:
    """The devices of one process."""

    def __init__(
        self,
        broker: tuple[str, int],
        pipe: multiprocessing.connection.Connection,
        turns: AbstractContextManager[object],
    ) -> None:
        self._broker, self._pipe, self._turns = broker, pipe, turns
        self._lock = threading.Lock()
        self._lives: dict[str, Live] = {}
        self._speaker: Listener | None = None

    def run(self, devices: Sequence[tuple[str, Path]]) -> None:
        """Start one after the other, do between two what is asked, and go on doing it until that is to end."""
        runs = True
        for name, path in devices:
            while runs and self._pipe.poll():
                runs = self._goes_on()
            if not runs:
                break
            try:
                self._start(name, path)
            except Exception as error:  # whatever it is, the others start
                self._report_error("failed", name, name, error)
        while runs:
            runs = self._goes_on()
        for live in self._lives.values():
            live.pull()
        if self._speaker:
            self._speaker.close()

    def _start(self, name: str, path: Path) -> None:
        with self._turns:
            live, self._speaker = _started(path, self._broker, self._speaker, partial(self._passed_on, name))
            self._lives[name] = live
            live.start()
            live.board.clock.rested.wait(START)

    def _goes_on(self) -> bool:
        """Do the next thing that is asked; False where that is to end."""
        try:
            asked = self._pipe.recv()
        except (EOFError, OSError):
            return False
        if asked is None:
            return False
        name, text = asked
        try:
            if name not in self._lives:
                raise Refused("it does not run")
            self._lives[name].act(text)
        except Refused as wrong:
            self._report_error("refused", name, text, wrong)
        return True

    # --- what is told to the process that is looked at

    def _say(self, name: str, row: Mapping[str, Any]) -> None:
        with self._lock, contextlib.suppress(OSError):
            self._pipe.send((name, row))

    def _passed_on(self, name: str, row: Mapping[str, Any]) -> None:
        if row["what"] in SHOWN:
            self._say(name, row)

    def _report_error(self, what: str, name: str, text: str, wrong: Exception) -> None:
        fix = getattr(wrong, "fix", "")
        value = f"{name}: {wrong}{f' ({fix})' if fix else ''}"
        self._say(name, {"t": 0, "what": what, "name": text, "value": value})


def _started(
    path: Path,
    broker: tuple[str, int],
    speaker: Listener | None,
    on_row: Callable[[Mapping[str, Any]], None],
) -> tuple[Live, Listener | None]:
    """A device, and the client that speaks for all of its process, made with the first that has a broker."""
    from zapato.design import resolve

    design = resolve(path)
    if speaker is None and design.mqtt is not None:
        speaker = listener(design, broker, (), _unheard)
    return Live(design, broker=broker, on_row=on_row, speaker=speaker or Nobody()), speaker


def _unheard(topic: str, payload: str, retain: bool) -> None:
    """Nobody subscribed."""


class Nobody:
    """Speaks for acts of a device without a broker: nothing of it goes anywhere."""

    def __init__(self) -> None:
        self.seen: list[tuple[str, str]] = []

    def message(self, topic: str, payload: str, retain: bool = False) -> None:
        """Nobody hears it."""


def listener(
    design: Design, broker: tuple[str, int], topics: Sequence[str], heard: Callable[[str, str, bool], None]
) -> Listener:
    """A client with the login and authority of a device of the site."""
    from zapato.design.authority import authority

    table = design.mqtt or {}
    login = str(table.get("user") or ""), str(table.get("password") or "")
    return Listener(topics, *broker, *login, heard, authority(design) if table.get("tls") else b"")


def allow_files(count: int) -> None:
    """As many open files as so many devices need, where the system lets a process ask for them."""
    if sys.platform != "win32":
        import resource

        soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
        wanted = max(soft, count + 256)
        if wanted > soft:
            limit = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
            with contextlib.suppress(OSError, ValueError):
                resource.setrlimit(resource.RLIMIT_NOFILE, (limit, hard))
