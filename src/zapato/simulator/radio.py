"""What a board's radio, cable and sockets answer to its program."""

from __future__ import annotations

import json
import re

from zapato.boards.board import Board as BoardFacts
from zapato.boards.port import Port
from zapato.simulator.clock import Clock
from zapato.simulator.network import NOT_ACTIVE, AccessPoint, Station
from zapato.simulator.sdk import ACCESS_POINT, SECTORS, STATION, Remembered
from zapato.simulator.trace import Trace
from zapato.simulator.wasi import Fault

NO_BUS_ANSWER = 19
CERTIFICATE = -9984
"""Mbed TLS: a certificate that does not hold; the ports hold its dates against a clock that begins years ago."""


class Radio:
    """The part of a board that reaches others; `pipe` are bytes that the shim reads next."""

    facts: BoardFacts
    port: Port
    sdk: Remembered | None
    access_named: tuple[str, str]
    clock: Clock
    trace: Trace
    air: AccessPoint
    station: Station
    knows_time: bool
    pipe: bytes

    def on_wifi_active(self, data: bytes) -> int:
        if data:
            self.station.active = data == b"1"
            if self.sdk:
                self.sdk.switch(STATION, self.station.active)
        return int(self.station.active)

    def on_wifi_connect(self, data: bytes) -> None:
        name, _, password = data.decode("utf-8", "replace").partition("\n")
        if self.sdk:
            self.sdk.keep(station=(name, password))
        self.station.connect(name, password)

    def on_cable(self, data: bytes) -> None:
        """A PHY on the chip's Ethernet controller; only where the board has one, wired as the program says."""
        phy, chip = self.facts.rmii, self.facts.spi_ethernet
        wired = f"{phy.phy} {phy.address} {phy.mdc} {phy.mdio} {phy.clock}" if phy else ""
        if chip:
            wired = f"{chip.phy} {chip.sck} {chip.select} {chip.interrupt}"
        if data.decode() != wired:
            raise Fault(NO_BUS_ANSWER)
        self.air.wired = True
        self.station.plug_in()

    def on_wifi_address(self, data: bytes) -> str:
        """Its address; one of its own where the program gives one."""
        if data:
            self.station.address = data.decode()
        return self.station.address

    def on_wifi_country(self, data: bytes) -> None:
        self.trace.log("net", "country", data.decode())

    def on_wifi_disconnect(self, data: bytes) -> None:
        self.station.disconnect()

    def do_joined(self, *_: int) -> int:
        return int(self.station.joined)

    def on_wifi_signal(self, data: bytes) -> int:
        return self.station.signal()

    def on_wifi_refused(self, data: bytes) -> str:
        """Why joining did not work; nothing of a wrong password where the port goes on trying."""
        refused = self.station.refused
        return "" if refused == "password" and not self.port.radio.status_clears else refused

    def on_wifi_scan(self, data: bytes) -> None:
        """What the radio hears, all channels one after the other: JSON in the pipe, too long for an answer."""
        if not self.station.active:
            raise Fault(NOT_ACTIVE)
        self.clock.busy(self.port.time.scan * 1000)
        self.pipe = json.dumps(self.air.networks()).encode()

    def on_access(self, data: bytes) -> int:
        """The board's own access point opens, or closes; gives whether it is open."""
        if data:
            if self.sdk:
                self.sdk.switch(ACCESS_POINT, data == b"1")
            self._open(data == b"1")
        return int(self.station.access is not None)

    def on_access_named(self, data: bytes) -> None:
        """Its name and password."""
        name, _, key = data.decode("utf-8", "replace").partition("\n")
        self.access_named = name, key
        if self.sdk:
            self.sdk.keep(access=self.access_named)
        if self.station.access is not None:
            self._open(True)

    def _open(self, opens: bool) -> None:
        opened = self.access_named if opens else None
        if opened != self.station.access:
            self.station.access = opened
            self.trace.log("net", "access point", opened[0] if opened else "")

    def start_radio(self) -> None:
        """What the radio does by itself at power-up."""
        self.access_named = ("board", "")
        if not self.sdk:
            return
        self.access_named = self.sdk.access
        self._open(bool(self.sdk.mode & ACCESS_POINT))
        self.station.active = bool(self.sdk.mode & STATION)
        if self.station.active and self.sdk.station[0]:
            self.station.connect(*self.sdk.station)

    def on_flash_size(self, data: bytes) -> int:
        return self.facts.flash

    def on_flash_erase(self, data: bytes) -> None:
        """A sector of the whole flash: only the SDK's own may be erased here without harm to the program."""
        sector = self.facts.flash // 4096 - 1 - int(data)
        if not self.sdk or not 0 <= sector < SECTORS:
            raise Fault(5)
        self.clock.busy(round(self.port.time.erase * 1000))
        self.sdk.erase(sector)

    def on_port(self, data: bytes) -> str:
        return self.facts.chip.port

    def on_board(self, data: bytes) -> str:
        """What the vendor's image calls the board: its own name, and the chip's at the end."""
        return f"Generic board with {self.facts.chip.id.upper()}"

    def on_bind(self, data: bytes) -> None:
        self.station.bind(*map(int, data.split()))

    def on_accept(self, data: bytes) -> int | None:
        return self.station.accept(int(data))

    def on_resolve(self, data: bytes) -> None:
        if not self.station.joined:
            raise Fault(-2)
        if not re.fullmatch(rb"[0-9.]+", data):
            self.clock.busy(self.air.names_take * 1000)

    def on_socket(self, data: bytes) -> int:
        return self.station.socket(int(data))

    def on_sendto(self, data: bytes) -> None:
        head, _, sent = data.partition(b"\n")
        number, _, port = head.split()
        self.station.wires[int(number)].send_to(sent, int(port))

    def on_connect(self, data: bytes) -> None:
        number, host, port = data.decode("utf-8", "replace").split()
        self.station.wires[int(number)].connect(host, int(port))

    def on_tls_pieces(self, data: bytes) -> str:
        """Bytes of the program's heap that a TLS connection takes, each piece."""
        return " ".join(map(str, self.port.tls.pieces))

    def on_tls(self, data: bytes) -> None:
        head, _, authority = data.partition(b"\n")
        number, verify, host = head.decode("utf-8", "replace").split()
        if not self.knows_time:
            raise Fault(CERTIFICATE)
        self.station.wires[int(number)].secure(host, authority, verify != "0")

    def do_watch(self, number: int, mask: int, *_: int) -> None:
        if wire := self.station.wires.get(number):
            wire.watched = mask

    def on_close(self, data: bytes) -> None:
        if wire := self.station.wires.get(int(data)):
            wire.close()
