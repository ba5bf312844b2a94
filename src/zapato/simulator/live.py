"""The live simulation: the same program and machine modules, on this machine's clock and with its real sockets.

What is due happens at its own moment, however late this machine is: the program is shown each event before the next, so that a
press of 50 ms stays one where the machine stood still for a second.
"""

from __future__ import annotations

import contextlib
import errno
import heapq
import json
import selectors
import socket
import ssl
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from random import Random
from typing import Any

from zapato.boards.board import Board as BoardFacts
from zapato.firmware.layout import SETTINGS
from zapato.simulator.board import Reset, SimulatedBoard
from zapato.simulator.clock import Clock, End
from zapato.simulator.network import AccessPoint, Question, Station
from zapato.simulator.result import Crash
from zapato.simulator.scenario import PowerCut
from zapato.simulator.secured import Secured
from zapato.simulator.trace import Trace
from zapato.simulator.wasi import AGAIN, Fault
from zapato.simulator.wires import READ, STREAM, WRITE, Socket

ABORTED = 103
REST, RESTS = 0.25, 3
"""Seconds of a wait, and how many of them, after which a program counts as started."""
LONGEST = 60.0
"""Seconds of one wait at the most; whatever is posted, an end too, ends it sooner."""


class LiveClock(Clock):
    """Real time in ms; waiting watches the real sockets. What is due happens at its own moment, however late this machine is."""

    def __init__(self) -> None:
        super().__init__()
        self._begun = time.monotonic()
        self.selector = selectors.DefaultSelector()
        self.ended = threading.Event()
        self.rested = threading.Event()
        """Set when the program has nothing to do for a while: it has started."""
        self._rests = 0
        self._posted: deque[Callable[[], object]] = deque()
        self._bell, ear = socket.socketpair()
        for device in (self._bell, ear):
            device.setblocking(False)
        self.selector.register(ear, selectors.EVENT_READ, _Ear(ear))

    def post(self, call: Callable[[], object]) -> None:
        """Do `call` in the board's thread, soon; from any thread."""
        self._posted.append(call)
        with contextlib.suppress(OSError):  # it rings already
            self._bell.send(b"!")

    def close(self) -> None:
        """Give back what waits."""
        self._bell.close()
        self.selector.close()

    def within(self, us: int) -> bool:
        """In real time this machine's own time counts, not the chip's."""
        return True

    def _follow(self) -> None:
        """Go to the next moment that is due, and do what happens then; where nothing is, to this machine's."""
        passed = self._passed
        if self._queue and self._queue[0][0] <= passed * 1000:
            when, _, call = heapq.heappop(self._queue)
            if when > self.now:
                self.now, self.micro = when, 0
            call()
        else:
            self._reach(passed)

    def _reach(self, passed: float) -> None:
        self.now, self.micro = max((self.now, self.micro), divmod(int(passed * 1_000_000), 1000))

    @property
    def _passed(self) -> float:
        """Seconds since the beginning."""
        return time.monotonic() - self._begun

    def go(self, limit: int, ready: Callable[[], bool] | None = None) -> bool:
        while True:
            if self.ended.is_set():
                raise End
            self._follow()
            while self._posted:
                self._posted.popleft()()
            self._watch()
            if ready and ready():
                return True
            if self.now >= limit:
                return False
            until = min(limit, self._queue[0][0] if self._queue else limit)
            self._wait(min(LONGEST, max(0.0, until / 1000 - self._passed)))

    def _wait(self, seconds: float) -> None:
        self._rests += seconds > REST
        if self._rests > RESTS:
            self.rested.set()
        for key, _ in self.selector.select(seconds):
            key.data.noticed()

    def busy(self, us: int) -> None:
        time.sleep(us / 1e6)
        passed = self._passed
        if not self._queue or self._queue[0][0] > passed * 1000:
            self._reach(passed)


class _Ear:
    """Hears that something was posted."""

    def __init__(self, end: socket.socket) -> None:
        self.end = end

    def noticed(self) -> None:
        with contextlib.suppress(OSError):
            self.end.recv(64)


class LiveWire(Socket):
    """One real TCP connection, or a real socket that listens."""

    def __init__(self, station: LiveStation, number: int, real: socket.socket | None = None) -> None:
        super().__init__(number)
        self.station = station
        self.socket = real or socket.socket()
        self.socket.setblocking(False)
        self._selector = station.clock.selector
        self._own = getattr(selectors, "PollSelector", selectors.SelectSelector)()
        self._secured: Secured | None = None

    def accept(self) -> int | None:
        try:
            real, _ = self.socket.accept()
        except BlockingIOError:
            return None
        return self.station.take(real)

    def connect(self, host: str, port: int) -> None:
        code = self.socket.connect_ex((host, port))
        if code not in (0, errno.EINPROGRESS, errno.EWOULDBLOCK):
            raise Fault(111)

    @property
    def watched(self) -> int:
        return self._watched

    @watched.setter
    def watched(self, mask: int) -> None:
        events = (selectors.EVENT_READ if mask & READ else 0) | (selectors.EVENT_WRITE if mask & WRITE else 0)
        for selector in (self._selector, self._own):
            if self._watched:
                selector.unregister(self.socket)
            if events:
                selector.register(self.socket, events, self)
        self._watched = mask

    @property
    def flags(self) -> int:
        if not self._watched:
            return 0
        masks = sum(mask for _, mask in self._own.select(0))
        waits = bool(self._secured and self._secured.waiting)
        return (READ if waits or masks & selectors.EVENT_READ else 0) | (
            WRITE if masks & selectors.EVENT_WRITE else 0
        )

    def noticed(self) -> None:
        """Something can be done with it; the flags say what."""

    def secure(self, host: str, authority: bytes, verify: bool) -> None:
        """From here on everything goes through TLS."""
        try:
            self._secured = Secured(host, authority, verify)
        except (ssl.SSLError, ValueError) as error:
            raise self._refused(error) from None

    def _refused(self, error: Exception) -> Fault:
        """What TLS found wrong is told in the trace; the program gets an error number."""
        self.station.air.trace.log("net", "tls", str(error))
        return Fault(ABORTED)

    def read(self, size: int) -> bytes:
        if not self._secured:
            return self._received(size)
        try:
            self._fill(self._secured)
            data = self._secured.read(size)
            self._drain(self._secured)
        except ssl.SSLError as error:
            self._drain(self._secured)
            raise self._refused(error) from None
        if data is None:
            raise Fault(AGAIN)
        return data

    def write(self, data: bytes) -> int:
        if not self._secured:
            return self._sent(data)
        try:
            self._fill(self._secured)
            count = self._secured.write(data)
            self._drain(self._secured)
        except ssl.SSLError as error:
            self._drain(self._secured)
            raise self._refused(error) from None
        if count is None:
            raise Fault(AGAIN)
        return count

    def _fill(self, secured: Secured) -> None:
        """What has come in goes into TLS."""
        with contextlib.suppress(BlockingIOError):
            while True:
                data = self.socket.recv(4096)
                secured.came(data)
                if not data:
                    return

    def _drain(self, secured: Secured) -> None:
        """What TLS says goes out; a handshake's few bytes find room."""
        if data := secured.leaving():
            with contextlib.suppress(OSError):
                self.socket.sendall(data)

    def _received(self, size: int) -> bytes:
        try:
            return self.socket.recv(size)
        except BlockingIOError:
            raise Fault(AGAIN) from None
        except OSError as error:
            raise Fault(error.errno or 104) from None

    def _sent(self, data: bytes) -> int:
        try:
            return self.socket.send(data)
        except BlockingIOError:
            raise Fault(AGAIN) from None
        except OSError as error:
            raise Fault(error.errno or 104) from None

    def close(self) -> None:
        self.watched = 0
        self.station.wires.pop(self.number, None)
        self.socket.close()

    def vanish(self) -> None:
        self.close()


class LiveStation(Station):
    """The board's radio, which is this machine's network: joined at once."""

    clock: LiveClock

    def __init__(self, air: AccessPoint, clock: LiveClock) -> None:
        super().__init__(air, None)  # type: ignore[arg-type]
        self.clock = clock
        self.time_server = ""

    def connect(self, name: str, password: str) -> None:
        given, known = (name, password), self.air.known or (name, password)
        self.joined = self.air.up and given == known
        self.refused = "" if self.joined else "password" if name == known[0] and self.air.up else "absent"

    def socket(self, kind: int = STREAM) -> int:
        if kind == STREAM:
            return self.take(None)
        self.count += 1
        self.wires[self.count] = Question(self, self.count)
        return self.count

    def take(self, real: socket.socket | None) -> int:
        """A new connection's number."""
        self.count += 1
        self.wires[self.count] = LiveWire(self, self.count, real)
        return self.count

    def bind(self, number: int, kind: int, port: int) -> None:
        """A socket that listens is a real one of the loopback address, at a port that is free; the trace tells which."""
        if kind != STREAM:
            super().bind(number, kind, port)
            return
        real = socket.create_server(("127.0.0.1", 0))
        self.wires[number] = LiveWire(self, number, real)
        self.air.trace.log("net", "page", f"http://127.0.0.1:{real.getsockname()[1]}/")

    def look_up(self, name: str, tell: Callable[[str], None]) -> None:
        if name == self.time_server:  # this machine's own clock answers
            self.clock.post(lambda: tell("127.0.0.1"))
            return

        def ask() -> None:
            try:
                address = socket.gethostbyname(name)
            except OSError:
                address = ""
            self.clock.post(lambda: tell(address))

        threading.Thread(target=ask, daemon=True).start()


class LiveBoard:
    """A device's program running in a thread of its own until it is stopped.

    `data` are the files of its data partition, by path; `known` are name and password of the one network that
    lets it in, any where it is None. `keeps`: whether its trace keeps what happens.
    """

    def __init__(
        self,
        facts: BoardFacts,
        data: Mapping[str, bytes],
        machine_modules: Mapping[str, bytes],
        on_row: Callable[[Mapping[str, Any]], None] | None = None,
        places: Callable[[str], str] = str,
        known: tuple[str, str] | None = None,
        keeps: bool = True,
    ) -> None:
        self.clock = LiveClock()
        self.trace = Trace(self.clock, on_row, keeps)
        self.air = AccessPoint(self.clock, self.trace, known)
        self.air.epoch = datetime.now(UTC)
        self.board = SimulatedBoard(
            facts,
            data,
            machine_modules,
            1,
            self.clock,
            self.trace,
            Random(1),
            self.air,
            None,  # type: ignore[arg-type]
            places,
        )
        self.air.stations.clear()
        self.board.station = station = LiveStation(self.air, self.clock)
        station.time_server = str(json.loads(data.get(SETTINGS, b"{}")).get("time") or "")
        self.crash: Crash | None = None
        self.over = threading.Event()
        """Set when the program, or the script, came to its end."""
        self._thread = threading.Thread(target=self._run, daemon=True)

    def start(self) -> None:
        """Power up."""
        self._thread.start()

    def stop(self) -> None:
        """Pull the plug: nobody says goodbye."""
        self.clock.ended.set()
        self.clock.post(lambda: None)
        if self._thread.is_alive():
            self._thread.join(10)
        self.clock.close()

    def _run(self) -> None:
        dark = 0
        try:
            while True:
                try:
                    if dark:
                        ms, dark = dark, 0
                        self.clock.go(self.clock.now + ms)
                    self.trace.log("power", "on", True)
                    error, traceback = self.board.run()
                    self.crash = Crash(error, traceback, self.clock.now / 1000)
                    self.trace.log("crash", error, traceback)
                    return
                except Reset:
                    self.trace.log("power", "reset", True)
                except PowerCut as cut:
                    self.trace.log("power", "on", False)
                    dark = cut.ms
                self.board.power_off()
        except End:
            self.board.power_off()
        finally:
            self.over.set()
