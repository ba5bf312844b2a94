"""What hangs on a board beside its pins and buses: serial lines, displays that are looked at, things that advertise nearby."""

from __future__ import annotations

import math
from collections.abc import Iterator
from random import Random

from zapato.boards.board import Board as BoardFacts
from zapato.boards.port import Port
from zapato.parts.simulation import PeerAt
from zapato.simulator.beacons import BluetoothAir
from zapato.simulator.cards import Cards
from zapato.simulator.clock import Clock
from zapato.simulator.interrupts import Interrupts
from zapato.simulator.pins import Pins
from zapato.simulator.radio import NO_BUS_ANSWER
from zapato.simulator.remotes import Plug, Remote
from zapato.simulator.serial import Serial, peer
from zapato.simulator.sounds import Sounding
from zapato.simulator.trace import Trace
from zapato.simulator.vm import Machine
from zapato.simulator.wasi import Fault
from zapato.simulator.wires import READ

SETTLED = 300
"""ms that a display's picture must stand to be told."""
ADVERTISED = 1 << 16
"""What stands for the radio among the pins whose interrupt fired."""
OFFSET = 1 / 64
"""Of full scale, how far beside zero a digital microphone rests here: not a data sheet's figure, but more than none."""
FILLED = 1 << 17
"""What the number of a microphone begins with, among the pins whose interrupt fired."""
SERIAL = 1 << 18
"""What the number of a serial line begins with, among those of sockets."""


class AttachedDevices(Cards):
    """The part of a board that these hang on; `pipe` are bytes that the shim reads next."""

    facts: BoardFacts
    port: Port
    clock: Clock
    trace: Trace
    pins: Pins
    interrupts: Interrupts
    machine: Machine | None
    random: Random
    pipe: bytes

    def attach(self) -> None:
        """Nothing was heard or shown yet."""
        self.ether = BluetoothAir(self.clock, self._advertised)
        self.advertised: list[bytes] = []
        self.screens: dict[str, bytes] = {}
        """What displays show that has not stood for long."""
        self.volumes = {}
        """File systems that the program mounted, by their number."""
        self.remotes: dict[int, Remote] = {}
        self.plugs: dict[int, Plug] = {}
        self.sounds: dict[int, Sounding] = {}
        """What microphones hear, by the pin of their signal."""
        self.uart_keys: dict[int, int] = {}
        """The line that each controller has."""
        self.serials: dict[int, Serial] = {}
        """Serial lines, by the pin on which they are received, or sent where there is none."""

    def detach(self) -> None:
        """The power is gone: nobody listens."""
        self.ether.listen(False)
        self.advertised.clear()
        for serial in self.serials.values():
            serial.shut()

    # --- remotes

    def remote(self, gpio: int) -> Remote:
        """What sends to the receiver module on this pin."""
        if gpio not in self.remotes:
            self.remotes[gpio] = Remote(self.pins.line(gpio), self.clock, self.random)
        return self.remotes[gpio]

    def plug(self, gpio: int, beside: int) -> Plug:
        """What hears the transmitter module on this pin; `beside` is the pin of its receiver module, or -1."""
        if gpio not in self.plugs:
            line, near = self.pins.line(gpio), self.remote(beside) if beside >= 0 else None
            self.plugs[gpio] = Plug(
                line, self.clock, lambda code: self.trace.log("sent", line.name, code), near
            )
        return self.plugs[gpio]

    # --- microphones

    def sound(self, gpio: int) -> Sounding:
        """The sound at the microphone on this pin."""
        if gpio not in self.sounds:
            self.sounds[gpio] = Sounding(self.clock)
        return self.sounds[gpio]

    def on_i2s(self, data: bytes) -> None:
        """A controller takes these pins, where the chip has it."""
        number, sck, ws, _ = map(int, data.split())
        chip = self.facts.chip
        if not 0 <= number < chip.resources.i2s or (chip.port == "rp2" and ws != sck + 1):
            raise Fault(1)

    def on_i2s_wait(self, data: bytes) -> None:
        """Tell when so many words are there."""
        gpio, words, rate = map(int, data.split())
        power = self.machine

        def filled() -> None:
            if self.machine is power:
                self.interrupts.announce(FILLED + gpio)

        self.clock.after(math.ceil(words * 1000 / rate), filled)

    def on_i2s_words(self, data: bytes) -> None:
        """The words that are there."""
        gpio, words, rate = map(int, data.split())
        sound = self.sound(gpio)
        first = sound.now - words / rate
        samples = (
            round(32767 * max(-1.0, min(1.0, sound.at(first + n / rate) + OFFSET))) << 16
            for n in range(words)
        )
        self.pipe = b"".join(sample.to_bytes(4, "little", signed=True) for sample in samples)

    # --- displays

    def screen(self, part: str, points: bytes) -> None:
        """A display shows something else; told once it has stood for a moment."""
        fresh = part not in self.screens
        self.screens[part] = points
        if fresh:
            self._screened(part, b"")

    def _screened(self, part: str, before: bytes) -> None:
        points = self.screens[part]
        if points == before:
            self.trace.log("screen", part, points.hex())
            del self.screens[part]
        else:
            self.clock.after(SETTLED, lambda: self._screened(part, points))

    # --- what advertises

    def on_ble(self, data: bytes) -> None:
        """The radio for Bluetooth is switched; where the chip has none there is no such module."""
        if not self.facts.chip.bluetooth:
            raise Fault(NO_BUS_ANSWER)
        if data != b"1":
            self.ether.listen(False)

    def on_ble_scan(self, data: bytes) -> None:
        lasts, interval, window, asks = map(int, data.split())
        self.ether.listen(lasts >= 0, min(1.0, window / max(1, interval)), bool(asks))

    def on_ble_heard(self, data: bytes) -> int:
        """All that waits, each with its length before it."""
        self.pipe = b"".join(bytes((len(row),)) + row for row in self.advertised)
        self.advertised.clear()
        return len(self.pipe)

    def _advertised(self, row: bytes) -> None:
        if self.machine:
            self.advertised.append(row)
            self.interrupts.announce(ADVERTISED)

    # --- serial lines

    def serial(self, key: int) -> Serial:
        """The line that is received on this pin."""
        if key not in self.serials:
            self.serials[key] = Serial(self.clock, lambda name, words: self.trace.log("frame", name, words))
        return self.serials[key]

    def join(self, at: PeerAt) -> None:
        """Somebody is at the other end of a serial line."""
        line, enable = self.serial(at.line), at.enable
        if enable is not None:
            line.loud = lambda: self.pins.line(enable).level == 1
        line.peers.append(peer(at, line))

    def waiting(self) -> Iterator[tuple[int, int]]:
        """The lines on which bytes wait, as poll() tells them."""
        return ((SERIAL + key, READ) for key, line in self.serials.items() if line.into)

    def on_uart(self, data: bytes) -> None:
        """A controller takes its pins, the ones that the program does not name among them, where the chip has it and they lead to it."""
        number, tx, rx, baud, room, bits = map(int, data.split())
        chip, known = self.facts.chip, self.port.serial
        if number not in range(chip.resources.uart) or (room and number in known.buffer_fixed):
            raise Fault(1)
        given = {"tx": tx, "rx": rx}
        if chip.port == "esp8266":
            self._swapped(number, given)
        for line, gpio in given.items():
            routes = chip.routes.get(f"uart.{line}")
            ways = [n for n, pins in (routes or {}).items() if gpio in pins]
            if gpio >= 0 and routes is not None and number not in [n % 100 for n in ways]:
                raise Fault(1)
        lines = {
            line: gpio if gpio >= 0 else unasked
            for (line, gpio), unasked in zip(given.items(), known.defaults[number], strict=True)
        }
        if chip.port == "esp8266" and number == 1:
            lines = {"tx": chip.routes["uart.tx"][1][0], "rx": -1}
        for line, gpio in lines.items():
            if gpio >= 0:
                self._connect(line, gpio)
        key = lines["rx"] if rx >= 0 or (chip.port == "esp8266" and number == 0) else lines["tx"]
        self.uart_keys[number] = key
        self.serial(key).open(baud, hears=key == lines["rx"], bits=bits)

    def _swapped(self, number: int, given: dict[str, int]) -> None:
        """Both controllers of the ESP8266 take these two pairs only, and making either one says which pair controller 0 is on.

        ports/esp8266/machine_uart.c, mp_machine_uart_init_helper: system_uart_swap and system_uart_de_swap.
        """
        pair = tuple(given.values())
        if (pair[0] if pair[0] >= 0 else 1, pair[1] if pair[1] >= 0 else 3) not in ((1, 3), (15, 13)):
            raise Fault(1)
        if number == 1:
            given.update(tx=-1, rx=-1)
            if 0 in self.uart_keys and self.uart_keys[0] != (13 if pair[1] == 13 else 3):
                self.serial(self.uart_keys[0]).shut()

    def _connect(self, line: str, gpio: int) -> None:
        """The controller takes the pin: a sending line rests high, a receiving one drives nothing."""
        at = self.pins.line(gpio)
        if line == "tx":
            at.write(1)
        else:
            at.release()

    def on_uart_key(self, data: bytes) -> int:
        """Which line of the world hangs on this controller."""
        return self.uart_keys[int(data)]

    def on_uart_write(self, data: bytes) -> None:
        head, _, sent = data.partition(b"\n")
        self.serial(int(head)).write(sent)

    def on_uart_flush(self, data: bytes) -> None:
        """Until all that was written is out."""
        self.clock.busy(max(0, self.serial(int(data)).left))

    def do_uart_done(self, key: int, *_: int) -> int:
        return int(self.serial(key).done)

    def on_uart_read(self, data: bytes) -> int:
        key, size = map(int, data.split())
        self.pipe = self.serial(key).read(size)
        return len(self.pipe)
