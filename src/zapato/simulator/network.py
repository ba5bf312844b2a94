"""The network around a board: an access point, and TCP connections that lead to the broker."""

from __future__ import annotations

import socket
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Protocol

from zapato.simulator.access import Door, Ear
from zapato.simulator.clock import Clock
from zapato.simulator.trace import Trace
from zapato.simulator.wasi import AGAIN, Fault
from zapato.simulator.wires import ERROR, FLIGHT, HUNG_UP, READ, REFUSED, RESET, STREAM, WRITE, Socket

JOINING = 3000
"""ms from connect() to an address, where no port says so."""
NO_HOST, NOT_ACTIVE = -2, 0x0102
BROKER = "192.168.4.2"
GIVEN = "192.168.4.20 255.255.255.0 192.168.4.1 192.168.4.1"
"""Address, mask, router and name server that the access point gives."""
TIME_PORT = 123
SIGNAL = -58
"""dBm at the board."""
NEIGHBOURS = (("col-weather", 1, -71, 3), ("valley-guests", 11, -83, 0), ("", 11, -88, 3))
"""Other networks that are heard."""


class SocketPeer(Protocol):
    """Who answers a connection."""

    def feed(self, data: bytes) -> None: ...

    def closed(self) -> None: ...


class Server(Protocol):
    """Who takes connections: None where it refuses, a peer that never answers where it hangs."""

    def accept(self, wire: TcpSocket) -> SocketPeer | None: ...


class AccessPoint:
    """The access point, for every board of the simulator."""

    def __init__(self, clock: Clock, trace: Trace, known: tuple[str, str] | None) -> None:
        self.clock, self.trace, self.known = clock, trace, known
        self.up = True
        self.wired = False
        """The boards hang on cables."""
        self.stations: list[Station] = []
        self.names_take = 0
        """ms that the look-up of a name takes."""
        self.epoch = datetime(2026, 6, 1, 6, tzinfo=UTC)
        """The moment of the world in which the clock begins."""
        self.tells_time = True
        """False while the time server does not answer."""

    def networks(self) -> list[tuple[str, int, int, int]]:
        """Name, channel, dBm and kind of protection (0: none) of what a radio hears here; a hidden one has no name."""
        own = [(self.known[0], 6, SIGNAL, 3 if self.known[1] else 0)] if self.known and self.up else []
        return [*own, *NEIGHBOURS]

    def utc(self) -> datetime:
        """The time that the time servers of the world have."""
        return self.epoch + timedelta(milliseconds=self.clock.now)

    def set(self, up: bool) -> None:
        """The access point goes away, or comes back."""
        self.up = up
        self.trace.log("net", "wifi", up)
        for station in self.stations:
            if not up:
                station.joined = False
            elif self.wired:
                station.plug_in()


class Station:
    """The board's radio as a client of the access point."""

    def __init__(self, air: AccessPoint, server: Server) -> None:
        self.air, self.server = air, server
        self.active, self.joined, self.tries = False, False, 0
        self.joining = JOINING
        """ms from connect() to an address, or to a cable's link."""
        self.handshake = 0
        """ms that the chip computes for a TLS handshake."""
        self.refused = ""
        """Why joining did not work: "password", "absent", or empty."""
        self.access: tuple[str, str] | None = None
        """Name and password of the board's own access point, while it is open."""
        self.ports: dict[int, Door | Ear] = {}
        """The sockets of the board that listen, by port."""
        self.address = GIVEN
        self.wires: dict[int, Socket] = {}
        self.count = 0
        air.stations.append(self)

    def connect(self, name: str, password: str) -> None:
        """Begin to join; whether it worked shows later. Raises Fault while the radio is off."""
        if not self.active:
            raise Fault(NOT_ACTIVE)
        self.tries += 1
        tries = self.tries
        self.refused = ""
        self.air.clock.after(self.joining, lambda: self._joined((name, password), tries))

    def _joined(self, given: tuple[str, str], tries: int) -> None:
        if tries != self.tries or not self.active:
            return
        known = self.air.known or ("", "")
        if self.air.up and given == known:
            self.joined = True
            self.air.trace.log("net", "joined", True)
        else:
            self.refused = "password" if self.air.up and given[0] == known[0] else "absent"

    def plug_in(self) -> None:
        """A cable needs no name and no password, only somebody at its other end."""
        self.active = True
        self.tries += 1
        tries = self.tries
        self.air.clock.after(self.joining, lambda: self._joined(self.air.known or ("", ""), tries))

    def disconnect(self) -> None:
        self.tries += 1
        self.joined = False

    def signal(self) -> int:
        """dBm. Raises Fault where there is no connection, as the ports do."""
        if not self.joined:
            raise Fault(NOT_ACTIVE)
        return SIGNAL

    def socket(self, kind: int = STREAM) -> int:
        """A new connection's number."""
        self.count += 1
        self.wires[self.count] = TcpSocket(self, self.count) if kind == STREAM else Question(self, self.count)
        return self.count

    def bind(self, number: int, kind: int, port: int) -> None:
        """The socket of this number waits at a port for who comes."""
        made = Door(self, number) if kind == STREAM else Ear(self, number)
        self.wires[number] = self.ports[port] = made

    def accept(self, number: int) -> int | None:
        """The number of the connection that waits longest at a door; None where none does."""
        return self.wires[number].accept()

    def look_up(self, name: str, tell: Callable[[str], None]) -> None:
        """The network's DNS server: every name is the broker's."""
        if self.joined:
            self.air.clock.after(self.air.names_take + 2 * FLIGHT, lambda: tell(BROKER))

    def lose_power(self) -> None:
        """Nobody says goodbye."""
        self.active, self.joined, self.address = False, False, GIVEN
        self.refused, self.access = "", None
        self.ports.clear()
        self.tries += 1
        for wire in list(self.wires.values()):
            wire.vanish()
        self.wires.clear()


class TcpSocket(Socket):
    """One TCP connection: a file to the VM, bytes that travel to the peer and back."""

    def __init__(self, station: Station, number: int) -> None:
        super().__init__(number)
        self.station = station
        self.clock = station.air.clock
        self.alive, self.open, self.failed, self.ended = False, False, False, False
        self.into = bytearray()
        self.peer: SocketPeer | None = None

    @property
    def flags(self) -> int:
        mask = (READ if self.into or self.ended else 0) | (WRITE if self.open else 0)
        return (mask & self.watched) | (ERROR | HUNG_UP if self.failed else 0)

    def connect(self, host: str, port: int) -> None:
        """Every address leads to the one server of the simulator."""
        self.alive = True
        if self.station.joined:
            self.clock.after(2 * FLIGHT, self._answered)

    def _answered(self) -> None:
        if not self.alive or not self.station.joined:
            return
        self.peer = self.station.server.accept(self)
        self.open, self.failed = self.peer is not None, self.peer is None

    def write(self, data: bytes) -> int:
        if self.failed or self.ended:
            raise Fault(RESET)
        if not self.open:
            raise Fault(AGAIN)
        if self.station.joined:
            self.clock.after(FLIGHT, lambda: self._arrive(data))
        return len(data)

    def secure(self, host: str, authority: bytes, verify: bool) -> None:
        """TLS in the simulator's own wire is its time alone, two round trips (RFC 5246, 7.3) and what the chip computes: who is there is not in doubt."""
        self.open = False

        def agreed() -> None:
            self.open = self.peer is not None

        self.clock.after(4 * FLIGHT + self.station.handshake, agreed)

    def _arrive(self, data: bytes) -> None:
        if self.peer and self.station.joined:
            self.peer.feed(data)

    def deliver(self, data: bytes) -> None:
        """From the peer to the program."""

        def land() -> None:
            if self.alive and self.station.joined:
                self.into.extend(data)

        self.clock.after(FLIGHT, land)

    def read(self, size: int) -> bytes:
        if self.into:
            data = bytes(self.into[:size])
            del self.into[:size]
            return data
        if self.failed:
            raise Fault(REFUSED)
        if self.ended:
            return b""
        raise Fault(AGAIN)

    def hang_up(self) -> None:
        """The peer ends the connection."""
        if self.open:
            self.open, self.ended, self.peer = False, True, None
            self.clock.after(0, lambda: None)  # whoever waits looks

    def vanish(self) -> None:
        self.alive, self.open, self.peer = False, False, None

    def close(self) -> None:
        peer, reached = self.peer, self.station.joined
        self.station.wires.pop(self.number, None)
        self.vanish()
        if peer and reached:
            peer.closed()


class Question(TcpSocket):
    """A UDP socket on its way to who knows names (RFC 1035) or the time (RFC 4330): questions out, answers in."""

    def send_to(self, data: bytes, port: int) -> None:
        self.alive = True
        if port == TIME_PORT:
            if self.station.joined and self.station.air.tells_time:
                self.clock.after(2 * FLIGHT, lambda: self._land(time_answer(data, self.station.air.utc())))
            return
        end, labels = 12, list[bytes]()
        while data[end]:
            labels.append(data[end + 1 : end + 1 + data[end]])
            end += 1 + data[end]
        end += 5

        def tell(address: str) -> None:
            record = b"\xc0\x0c\0\1\0\1\0\0\0\x3c\0\4" + socket.inet_aton(address) if address else b""
            counts = bytes((0, 1, 0, bool(address), 0, 0, 0, 0))
            self._land(data[:2] + b"\x81\x80" + counts + data[12:end] + record)

        self.station.look_up(b".".join(labels).decode("utf-8", "replace"), tell)

    def _land(self, answer: bytes) -> None:
        if self.alive and self.station.joined and not self.into:
            self.into.extend(answer)


def time_answer(question: bytes, now: datetime) -> bytes:
    """What a time server answers: stratum 2, the question's own stamp, and the time (RFC 4330, section 4)."""
    seconds = (now - datetime(1900, 1, 1, tzinfo=UTC)).total_seconds()
    stamp = (round(seconds * 1000) * (1 << 32) // 1000 & (1 << 64) - 1).to_bytes(8, "big")
    return bytes((0x24, 2, 6, 0xEC)) + bytes(12) + stamp + question[40:48] + stamp + stamp
