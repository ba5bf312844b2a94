"""One board in the simulator: answers what its program asks of pins, buses, radio and time.

The machine modules in the VM call `host.call(name, data)`; each name is a method here called `on_<name>`
(dots become underscores). Times, interrupts and what is waiting go straight into a few words of the
VM's memory, so that most of the program's questions need no call at all.

Calls with whole numbers go by number (`NUMBERED`): no text is made, so reading a pin leaves nothing on the program's heap. Handlers
run between one call of the board and the next, never between an answer and the bytes that belong to it (`world.fetch`).
"""

from __future__ import annotations

import json
import struct
from collections.abc import Callable, Mapping
from dataclasses import field
from datetime import datetime
from random import Random
from typing import Any

from zapato.boards.board import Board as BoardFacts
from zapato.boards.port import port
from zapato.firmware.compile import names_of
from zapato.firmware.layout import FOLDERS, SLOTS
from zapato.firmware.program import LATER
from zapato.firmware.shorten import port_names
from zapato.parts.simulated import SpiExchange, SpiStandIn
from zapato.record import record
from zapato.simulator.attached_devices import AttachedDevices
from zapato.simulator.buses import Buses
from zapato.simulator.clock import Clock
from zapato.simulator.files import Flash, MemoryFile, NoDevice
from zapato.simulator.heap import HeapMeter, HeapUse
from zapato.simulator.interrupts import Interrupts
from zapato.simulator.network import AccessPoint, Server, Station
from zapato.simulator.onewire import WireLine
from zapato.simulator.peripherals import Peripherals
from zapato.simulator.pins import REFUSED, Pins
from zapato.simulator.radio import Radio
from zapato.simulator.sdk import Remembered
from zapato.simulator.trace import Trace
from zapato.simulator.vm import CALL, OWN_CALLS, Machine, Stopped
from zapato.simulator.wasi import Fault, Opened
from zapato.simulator.world import Quantities

TICKS = 1 << 30
"""Where the ports' counters of ms and us begin anew (py/mpconfig.h, MICROPY_PY_TIME_TICKS_PERIOD)."""
OFFSET = TICKS - 60_000
"""The counter wraps around a minute after the start, as it does in the field."""
SLACK = 64 * 1024
"""Bytes of VM heap beside the program's; what the machine modules leave of it is taken away before the program starts."""
BUDGET = 1 << 34
"""Instructions until a program that never waits is stopped: some seconds of this machine, minutes of the chip."""
FED = 16
"""Bytes into the shared words at which the program says that it fed the watchdog."""
REACTION = 100
"""ms after an interrupt within which a pin that is written counts as the reaction to it."""


NUMBER_COST, TEXT_COST = 2_500, 12_000
"""Instructions that a module of the board takes for a call of the host where the port has C code; measured with Pin.value and UART.write."""
NUMBERED = [
    "set",
    "get",
    "busy",
    "sleep",
    "interrupt",
    "wait",
    "adc",
    "full",
    "pwm",
    "dac",
    "touch",
    "pulse",
    "wire_reset",
    "wire_write",
    "wire_read",
    "uart_done",
    "watch",
    "joined",
    "ready",
]
"""Calls that take and give whole numbers, as machine_modules/world.py counts them."""


class Reset(Exception):
    """The program restarted the board."""


@record
class Effort:
    """Instructions (of WebAssembly) that the program spent, as figures that repeat exactly.

    Attributes:
        starting: from power-up until it waited first.
        turns: how often it waited.
        turning: spent between waits, altogether.
        reacting: from an interrupt's delivery to the next pin that it wrote, the most.
        computed: us that all of it takes on the chip, at the rate that its file has (`speed`).
        lost: interrupts that found no place in the port's queue.
    """

    starting: int = 0
    turns: int = 0
    turning: int = 0
    reacting: int = 0
    computed: int = 0
    lost: int = 0


_SHARED = struct.Struct("<IIII").pack
"""Words that the VM reads without asking: see machine_modules/world.py."""


@record
class SimulatedBoard(Radio, AttachedDevices, Peripherals, Buses):
    """The board of one device.

    Attributes:
        facts: the board and its chip.
        data: the files of its data partition as it is delivered, by path.
        machine_modules: the simulator's own modules, by file name.
        seed: of the program's own randomness.
        places: turns the places that a printed line names into those of our sources.
        wanted: the program's properties that the runner wants to see.
        seen: as last seen.
    """

    facts: BoardFacts
    data: Mapping[str, bytes]
    machine_modules: Mapping[str, bytes]
    seed: int
    clock: Clock
    trace: Trace
    random: Random
    air: AccessPoint
    server: Server
    places: Callable[[str], str] = str
    flash: Flash = field(default_factory=Flash)
    heap: HeapUse = field(default_factory=HeapUse)
    effort: Effort = field(default_factory=Effort)

    def __post_init__(self) -> None:
        chip = self.facts.chip
        self.port, self._speed = port(chip.port), chip.speed
        self.quantities = Quantities(self.clock)
        self.interrupts = Interrupts(self.clock, self.port.interrupts.queue)
        self.pins = Pins(chip, self.clock, self.trace, self.random, self.interrupts)
        self.pins.on_write = self._wrote
        self.pins.modulation_outlives = self.port.pwm.outlives
        self.station = Station(self.air, self.server)
        self.station.joining, self.station.handshake = self.port.time.join, self.port.time.tls
        self.sdk = Remembered() if self.port.radio.remembers else None
        self.access_named = ("", "")
        self.wires: dict[int, WireLine] = {}
        self.pads: dict[int, int] = {}
        self.lights: dict[int, bytes] = {}
        """The last frame of each strip: it outlives the program, as the strip has its own supply."""
        self.buses: dict[int, dict[int, Any]] = {}
        self.faults: dict[tuple[int, object], str] = {}
        """By data line and address; of an SPI bus by clock line and select pin."""
        self.exchanges: dict[tuple[int, int], SpiStandIn] = {}
        self.attach()
        self.machine: Machine | None = None
        self.knows_time = False
        self.rtc = datetime(2000, 1, 1)
        """What the chip's own clock showed when the rehearsal began."""
        self._begin_crossing()
        self.flash.fill(self.data, FOLDERS)
        files = {"board": self.machine_modules, "sim": {"seed": str(self.seed).encode()}}
        self._disk = self.flash.disk(files, self._device)

    def _begin_crossing(self) -> None:
        """What goes to and fro between the program and its board."""
        self.wanted: tuple[tuple[str, str], ...] = ()
        self.seen: dict[tuple[str, str], Any] = {}
        self.looks = 0
        """How often the program's properties were seen."""
        self._ready: list[tuple[int, int]] = []
        """Sockets that became ready, with what for."""
        self.ctrl_c = False
        """Somebody at the console interrupts the program."""
        self._peek, self._asked = False, 0
        self._shared = 0
        self._words: memoryview | None = None
        self._unfinished_line = b""
        self.pipe = b""
        self._methods: dict[str, Callable[[bytes], object]] = {}
        self._numbered: list[Callable[..., int | None]] = [getattr(self, f"do_{name}") for name in NUMBERED]
        self._crash: list[str] = []
        self._irq_at, self._irq_time = -1, 0
        self._turn_at = 0
        self._cause = self._why = self.port.reset.power
        self._moment: tuple[int, int] | None = None
        """When the handler that runs was called, ms and us."""
        self._handled: tuple[int, int] | None = None
        """The pin of the handler that runs, and its level at the edge."""
        self._computed = 0
        """Instructions whose time has gone by."""
        self._collecting = False
        self.hear: Callable[[bytes], None] | None = None
        """Who hears what is printed, instead of the trace."""
        self.code: Callable[[], bytes] = bytes
        self.ran: Callable[[], None] = lambda: None
        """At the prompt: the next text to run, and that it has run."""
        self._patience, self._fed, self._began = 0, 0, 0
        self._strain = 0.0
        """ms by which the flash may have taken longer since the watchdog was fed than it took here."""
        self._measured: dict[int, tuple[int, tuple[int, int]]] = {}

    # --- power

    def run(self, module: str = "power_up") -> tuple[str, str]:
        """Power up and run the program (or another of the simulator's modules); gives the error and traceback that ended it.

        Raises what ends a run from outside: Reset, and what the script raises.
        """
        self.pins.power_on()
        self.flash.power_on()
        self._unfinished_line, self._crash, self._shared, self._words = b"", [], 0, None
        self._irq_at, self._turn_at, self._patience = -1, 0, 0
        self._computed, self._collecting, self._moment, self._handled = 0, False, None, None
        self._why, self._cause = self._cause, self.port.reset.power
        self._meter = HeapMeter(self.heap)
        self.uart_keys.clear()
        self.pads.clear()
        memory = self.facts.chip.heap * 33 // 32 + SLACK  # the collector's own tables are part of it
        self.machine = Machine(
            self.facts.chip.port,
            (self.port.nesting + OWN_CALLS) * CALL,
            memory,
            self._disk,
            self._call,
            self._say,
            {"MICROPYPATH": "/board"},
            self._number,
            self._collecting_begins,
            self._collected,
        )
        self.clock.go(self.clock.now + self.port.time.boot)
        self.start_radio()
        try:
            self.machine.run(module)
        except Stopped:
            if self._patience:  # it computed without end, and the watchdog looked on
                self.clock.go(self.clock.now + self._patience)
            raise
        finally:
            self.machine = None
            self.seen.clear()
            self.effort.lost = self.interrupts.lost
        error = self._crash[0] if self._crash else "the VM ended"
        return error, "\n".join(self._crash[1:]).strip() or error

    def power_off(self) -> None:
        """Everything but the flash forgets."""
        self.pins.power_off()
        for line in self.wires.values():
            line.power_on()
        for bus in self.buses.values():
            for chip in bus.values():
                getattr(chip, "power_on", lambda: None)()
        self.station.lose_power()
        self.detach()
        self._measured.clear()

    # --- the crossing

    def _call(self, name: str, data: bytes) -> str:
        self._compute(TEXT_COST)
        if self._patience:
            self._was_fed()
        method = self._methods.get(name) or self._method(name)
        answer = method(data)
        self._share()
        return "" if answer is None else str(answer)

    def _compute(self, cost: int = 0) -> None:
        """The time that the program's instructions took goes by; its handlers run between them, but not while it collects.

        `cost` are instructions of the board's own module that the port does not have.
        """
        if not self._computed or not self.machine:
            return
        spent, speed = self.machine.spent, self._speed
        us = max(0, spent - self._computed) * 1000 // speed
        # What a call took less than its discount is no credit for the next one.
        self._computed = min(self._computed + us * speed // 1000, spent) + cost
        if not us:
            return
        self.effort.computed += us
        if self.clock.within(us):  # nearly always, so without the way around it
            return
        if self._collecting:
            self.clock.busy(us)
        else:
            self.interrupts.between_instructions(self.clock.busy, us)

    def _collecting_begins(self) -> None:
        self._compute()
        self._collecting = True

    def _collected(self, table: bytes) -> None:
        """A collection takes its time by what is in use: the board's own modules are a part of that in the VM, and none on the chip."""
        share = self._meter.collected(table)
        if self._computed and self.machine:
            self._computed += int((self.machine.spent - self._computed) * (1 - share))
        self._compute()
        self._collecting = False

    def _number(self, what: int, a: int, b: int, c: int, d: int) -> int:
        self._compute(NUMBER_COST)
        if self._patience:
            self._was_fed()
        answer = self._numbered[what](a, b, c, d)
        self._share()
        return answer or 0

    def _method(self, name: str) -> Callable[[bytes], object]:
        method = self._methods[name] = getattr(self, f"on_{name}")
        return method

    def _share(self) -> None:
        """Put time and waiting interrupts into the VM's memory."""
        if self.machine and self._shared:
            now, micro = self._moment or (self.clock.now, self.clock.micro)
            counted = now + OFFSET
            ms, us, waiting = counted % TICKS, (counted * 1000 + micro) % TICKS, len(self.interrupts.waiting)
            words = self._words
            if words is None:
                self.machine.memory.write(self._shared, _SHARED(ms, us, waiting, now // 1000))
            else:  # one by one: that takes half as long
                words[0], words[1], words[2], words[3] = ms, us, waiting, now // 1000

    def _device(self, name: str) -> Opened | None:
        if name == "sim/pipe":
            return _Pipe(self)
        if name == "sim/wanted":
            return MemoryFile(json.dumps([self._asked, *self.wanted]).encode())
        if name.startswith("net/"):
            wire = self.station.wires.get(int(name[4:]))
            if wire:
                return wire
            raise Fault(9)
        return None

    def _say(self, data: bytes) -> None:
        if self.hear:
            self.hear(data.replace(b"\n", b"\r\n"))
            return
        *lines, self._unfinished_line = (self._unfinished_line + data).split(b"\n")
        for line in lines:
            text = self.places(line.decode("utf-8", "replace").rstrip("\r"))
            if self._crash:
                self._crash.append(text)
            else:
                self.trace.log("print", "", text)

    # --- start and end

    def on_here(self, data: bytes) -> None:
        """Where the VM keeps the words that are shared."""
        self._shared = int(data)
        self._words = self.machine.memory.words(self._shared, 6) if self.machine else None

    def on_modules(self, data: bytes) -> int:
        """What the machine modules took; gives the heap that the program is to have."""
        self.heap.machine_modules = int(data)
        self._began = self.machine.spent if self.machine else 0
        return self.facts.chip.heap

    def on_names(self, data: bytes) -> int:
        """Bytes of the tables of names that this program makes its chip's interpreter have.

        They grow in pools, each twice the last; the last in the ROM says 10 (py/qstr.c, MICROPY_ALLOC_QSTR_ENTRIES_INIT;
        tools/mpy-tool.py for the frozen modules' names), so they have 20, 40, 80 … places of 7 bytes (pointer, hash of 2, length)
        behind a head of 24 (py/qstr.h). Those of this VM are as large as the machine modules made them, so they are taken from it
        beforehand and counted here.
        """
        self._began = self.machine.spent if self.machine else 0
        known = port_names().union(
            *(names_of(machine_module) for machine_module in self.machine_modules.values())
        )
        loaded = (data for path, data in self.data.items() if _resident(path))
        left = len({name for module in loaded for name in names_of(module)} - known)
        size, pool = 0, 20
        while left > 0:
            size, left, pool = size + 7 * pool + 24, left - pool, 2 * pool
        return size

    def on_loaded(self, data: bytes) -> None:
        """The program has loaded, and is about to collect."""
        self._meter.loaded()

    def on_absent(self, data: bytes) -> str:
        """The name of this number that the port lacks; empty where there is none."""
        number = int(data)
        return self.port.absent[number] if number < len(self.port.absent) else ""

    def on_rate(self, data: bytes) -> int:
        """Hz of the processor as the port leaves it."""
        return self.facts.chip.mhz * 1_000_000

    def on_collect_at(self, data: bytes) -> int:
        """When the port collects by itself: bytes allocated since the last time; -1 for when it must."""
        self._computed = self.machine.spent if self.machine else 0
        share = self.facts.chip.collect_share
        return int(self.facts.chip.heap * share) if share else -1

    def on_crash(self, data: bytes) -> None:
        self._crash = [data.decode()]

    def on_reset(self, data: bytes) -> None:
        raise self._restarted()

    def _restarted(self) -> Reset:
        """The restart that keeps the power; the next program can ask for it."""
        self._cause = self.port.reset.restart
        return Reset()

    def on_cause(self, data: bytes) -> int:
        """Why the program began; asked for "power", the number that stands for a power-up."""
        return self.port.reset.power if data else self._why

    def on_code(self, data: bytes) -> None:
        """The prompt waits for the next text."""
        self.pipe = self.code()
        self._allow()

    def on_ran(self, data: bytes) -> None:
        """It has run; what is printed from here on is its error."""
        self.ran()

    # --- the watchdog

    def on_watchdog(self, data: bytes) -> None:
        """The program starts the watchdog, ms. Raises Fault where the port takes no such period."""
        wanted, dog = int(data), self.port.watchdog
        if not dog.least <= wanted <= dog.most:
            raise Fault(REFUSED["invalid period"])
        patience = min(wanted, dog.patience)
        if self.machine:
            self.machine.allow(4 * patience * self._speed)
        self._patience, self._fed, self._strain = patience, self.clock.now, 0.0
        power = self.machine

        def look() -> None:
            if self.machine is power and self._patience:
                left = self._fed + self._patience - self.clock.now
                if left <= self._strain:
                    raise self._bitten()
                self.clock.after(max(1, int(left - self._strain)), look)

        self.clock.after(patience, look)

    def _bitten(self) -> Reset:
        """The watchdog restarts the board."""
        self.trace.log("power", "watchdog", True)
        self._cause = self.port.reset.watchdog
        return Reset()

    # --- time

    def do_wait(self, timeout: int, again: int, *_: int) -> int:
        """Wait in poll() so many ms, -1 without end; 1 where the program is to be looked at, 3 at Ctrl-C, else 0; where sockets became ready
        2 and, four times that, the first of them as `do_ready` says it.

        `again`: the same poll() goes on waiting, after a handler of an interrupt ran.
        """
        self._count(again)
        until = self.clock.now + timeout if timeout >= 0 else 1 << 60
        self.interrupts.between_instructions(self.clock.go, until, self._due)
        self._resume()
        if self.ctrl_c:
            self.ctrl_c = False
            return 3
        if self._peek:
            return 1
        self._ready = [(number, wire.flags) for number, wire in self.station.wires.items() if wire.flags]
        if self.serials:
            self._ready += self.waiting()
        return 4 * self.do_ready() + 2 if self._ready else 0

    def do_ready(self, *_: int) -> int:
        """The next socket that became ready: what for, 256 where there are more, 512 times its number."""
        number, flags = self._ready.pop(0)
        return number << 9 | (256 if self._ready else 0) | flags

    def _due(self) -> bool:
        if self._peek or self.ctrl_c or self.interrupts.waiting:
            return True
        # Asked at each event: a loop, because a generator for one or two sockets takes longer.
        for wire in self.station.wires.values():
            if wire.flags:
                return True
        return bool(self.serials) and any(line.into for line in self.serials.values())

    def _was_fed(self) -> None:
        """Look whether the program fed its watchdog."""
        if not self.machine:
            return
        if self._words is not None:
            fed = self._words[FED // 4]
            if fed:
                self._words[FED // 4] = 0
        else:
            fed = int.from_bytes(self.machine.memory.read(self._shared + FED, 4), "little")
            self.machine.memory.write(self._shared + FED, bytes(4))
        if fed:
            self._fed, self._strain = self.clock.now, 0.0
            self._allow()

    def do_sleep(self, ms: int, *_: int) -> int:
        """Let so many ms go by, or fewer where an interrupt comes; gives how many are left."""
        until = self.clock.now + ms
        self.interrupts.between_instructions(self.clock.go, until, self.interrupts.__bool__)
        self._resume()
        return max(0, until - self.clock.now)

    def do_busy(self, us: int, *_: int) -> None:
        self.clock.busy(us)

    def _count(self, again: int) -> None:
        if not self.machine:
            return
        spent = self.machine.spent
        if not self._turn_at:
            self.effort.starting = max(self.effort.starting, spent - self._began)
        else:
            self.effort.turns += not again  # the same turn where poll() only went on waiting
            self.effort.turning += spent - self._turn_at

    def _allow(self) -> None:
        """Instructions until the program is stopped as one that neither waits nor feeds its watchdog."""
        if self.machine:
            most = 4 * self._patience * self._speed
            self.machine.allow(min(BUDGET, most) if self._patience else BUDGET)

    def _resume(self) -> None:
        self._allow()
        if self.machine:
            self._turn_at = self.machine.spent

    def do_interrupt(self, *_: int) -> int:
        """The next interrupt whose handler is to run: the pin; -1 where none waits. While the handler runs, time and the pin are as they were at its moment."""
        self._moment = self._handled = None
        if not self.interrupts.waiting:
            return -1
        fired = self.interrupts.waiting.popleft()
        self._moment = fired.moment
        if fired.level is not None:
            self._handled = fired.number, fired.level
        if self.machine:
            self._irq_at, self._irq_time = self.machine.spent, self.clock.now
        return fired.number

    # --- the runner's look into the program

    def look(self, wanted: tuple[tuple[str, str], ...]) -> None:
        """Have these properties told at every turn from now on, and once now."""
        self.wanted, self._peek = wanted, bool(wanted)
        self._asked += 1

    def on_seen(self, data: bytes) -> None:
        """The values of what was wanted, the number of the question first; other things may be wanted since."""
        number, *values = json.loads(data) if data else [self._asked, *(None for _ in self.wanted)]
        if number != self._asked:
            return
        self.seen.clear()  # the same dictionary for good: who reads a property has its get()
        self.seen.update(zip(self.wanted, values, strict=False))
        self._peek = False
        self.looks += 1

    def _wrote(self, gpio: int, level: int) -> None:
        if self._irq_at >= 0 and self.machine and self.clock.now - self._irq_time <= REACTION:
            self.effort.reacting = max(self.effort.reacting, self.machine.spent - self._irq_at)
        self._irq_at = -1

    # --- buses

    def on_spi_controller(self, data: bytes) -> None:
        """A controller takes these pins, where the chip has it and its routing allows it."""
        number, *gpios = map(int, data.split())
        chip = self.facts.chip
        routes = zip((chip.routes.get(f"spi.{line}") for line in ("sck", "mosi", "miso")), gpios, strict=True)
        free = any(gpio < 0 for gpio in gpios) or not any(
            r and gpio not in r.get(number, ()) for r, gpio in routes
        )
        if not free or not 0 <= number <= chip.resources.spi:
            raise Fault(1)

    def on_spi(self, data: bytes) -> None:
        """Bytes out, and as many in, of the chip whose select line is low; nobody drives the line where there is none."""
        head, _, sent = data.partition(b"\n")
        sck, rate, mode = map(int, head.split())
        self.clock.busy(len(sent) * 8_000_000 // rate)
        chips = self.buses.get(sck, {})
        chosen = [select for select in chips if self.pins.line(select).level == 0]
        if len(chosen) != 1:
            self.pipe = b"\xff" * len(sent)
            return
        select = chosen[0]
        if (sck, select) not in self.exchanges:
            chip = chips[select]
            exchange = chip if isinstance(chip, SpiStandIn) else SpiExchange(chip)
            self.exchanges[sck, select] = exchange
            self.pins.line(select).on_change = exchange.end
        wanted = getattr(chips[select], "mode", 0)
        if mode == wanted:
            self.pipe = self.exchanges[sck, select].move(sent)
        else:  # sampled on the other edge: both sides see their bits one place late
            self.pipe = _late(self.exchanges[sck, select].move(_late(sent)))


def _late(data: bytes) -> bytes:
    """Bits that are sampled on the wrong edge of the clock."""
    return (int.from_bytes(data, "big") >> 1).to_bytes(len(data), "big")


def _resident(path: str) -> bool:
    """Whether a file of the data partition is a module that stays in memory."""
    slot, _, name = path.partition("/")
    module = name.removesuffix(".mpy")
    return slot == SLOTS[0] and module != name and "/" not in name and module not in LATER


class _Pipe(NoDevice):
    """Bytes that a bus gave, for the shim to read."""

    def __init__(self, board: SimulatedBoard) -> None:
        self.board = board

    def read(self, size: int) -> bytes:
        pipe = self.board.pipe
        self.board.pipe = pipe[size:]
        return pipe[:size]
