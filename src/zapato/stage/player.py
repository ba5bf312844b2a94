"""The world of one device as a rehearsal changes and reads it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, MutableSequence, Sequence
from typing import Any, Protocol, cast

from zapato.design.acts import Call
from zapato.design.models import Model
from zapato.parts.model import Bench
from zapato.parts.remote import FRAMES
from zapato.stage.board import Board
from zapato.stage.broker import Broker
from zapato.stage.clock import Clock
from zapato.stage.models import Curtain, Running
from zapato.stage.network import Air
from zapato.stage.onewire import rom_of
from zapato.stage.outside import World
from zapato.stage.phone import Phone
from zapato.stage.settling import Settling
from zapato.stage.steps import Steps, evaluated
from zapato.stage.trace import Trace
from zapato.stage.world import divided

TOUCH = 200
"""ms of a finger on a touch pad."""
TAP_GAP = 120
"""ms between two taps of one gesture."""


class Messages(Protocol):
    """The way to the broker: what the device said, and what the script says to it."""

    @property
    def seen(self) -> MutableSequence[tuple[str, str]]: ...

    def message(self, topic: str, payload: str, retain: bool = False) -> None: ...


class PowerCut(Exception):
    """The power goes for so many ms."""

    def __init__(self, ms: int) -> None:
        super().__init__(ms)
        self.ms = ms


class Player:
    """The world of one device's rehearsal, and its steps.

    `benches` says how the world reaches each part; `page` is the password of the device's own page, `types` the broker, as its
    owner knows them.
    """

    page = ""
    types: Mapping[str, object] | None = None

    def __init__(
        self,
        board: Board,
        air: Air,
        broker: Messages | None,
        clock: Clock,
        trace: Trace,
        benches: Mapping[str, Bench],
        topic: str,
    ) -> None:
        self.board, self.air, self.broker, self.clock, self.trace = board, air, broker, clock, trace
        self.benches, self.topic = benches, topic
        self._curtains: dict[tuple[int, int], Curtain] = {}
        for bench in benches.values():
            for kind, *at in (each for each in bench.reads.values() if isinstance(each, list)):
                if kind == "travel":
                    self._curtain(*cast(list[int], at))
                elif kind == "sent":
                    board.plug(*cast(list[int], at))
        self.world = World(board, clock)
        self.settling = Settling(clock, trace, benches)
        self.steps = Steps(self, clock, trace)
        clock.watchers.append(self.steps.watch)

    # --- the world

    def put(self, key: str, value: Any, over: int = 0) -> None:
        """Set something of the world: "door.closed", "cabinet.temperature"."""
        part, _, name = key.partition(".")
        how = self.benches[part].sets[name]
        if not isinstance(how, list):
            how.put(self.world, value, over)
            return
        kind, *at = cast(list[Any], how)
        if kind == "contact":
            gpio, active = at
            self._touch(part, gpio, active if value else 1 - active)
        elif kind == "i2c":
            sda, address, chip, what = at
            self.board.chip_on(sda, address, chip)
            self.board.quantities["i2c", sda, address, what].set(value, over)
        elif kind == "dht":
            self.board.quantities["dht", at[0], at[1]].set(value, over)
        elif kind == "onewire":
            rom = rom_of(at[1], at[2])
            felt = self.board.quantities["onewire", at[0], rom]
            self.board.wire(at[0]).add(rom, felt.get)
            felt.set(value, over)
        elif kind == "ntc":
            self.board.quantities["volts", at[0]].set(divided(value, *at[1:]), over)
        elif kind == "travel":
            self._curtain(*at).place = float(value)
        elif kind == "peer":
            for each in self.board.serial(at[0]).peers:
                each.put(at[1], value)
        elif kind == "beacon":
            self.board.ether.beacons[at[0]].put(at[1], value)
        elif kind == "sound":
            sound = self.board.sound(at[0])
            sound.play(value) if at[1] == "plays" else sound.loudness.set(value, over)
        elif kind == "card":
            self.board.card(at[0], at[1]).put(at[2], value)
        elif kind == "remote":
            remote = self.board.remote(at[0])
            remote.press(value, FRAMES) if at[1] == "code" else remote.hiss(value)
        elif kind == "pulses":
            self.board.pulses(at[0], value or 0)
        else:
            self.board.quantities[kind, at[0]].set(value if value is None else value / at[1], over)

    def gesture(self, key: str) -> None:
        """A finger on a button: "start.press"."""
        part, _, word = key.partition(".")
        how = self.benches[part].acts[word]
        if not isinstance(how, list):
            how.put(self.world, None)
            return
        kind, *rest = cast(list[Any], how)
        if kind == "finger":
            pad = self.board.quantities["touch", rest[0]]
            pad.set(True)
            self.clock.after(TOUCH, lambda: pad.set(False))
            return
        if kind == "peer":
            for each in self.board.serial(rest[0]).peers:
                each.do(rest[1])
            return
        if kind == "remote":
            self.board.remote(rest[0]).press(*rest[1:])
            return
        if kind == "fault":
            gpio, whom, fault = rest
            self.board.befall(gpio, rom_of(*cast(list[str], whom)) if isinstance(whom, list) else whom, fault)
            return
        if kind == "clock":
            self.board.hold_clock(*rest)
            return
        if kind == "serial":
            self.board.serial(rest[0]).fault = rest[1]
            return
        if kind == "wire":
            self.board.pins.line(rest[1]).loosen(rest[0])
            return
        gpio, active = rest[-2:]
        count, length = (1, rest[0]) if kind == "tap" else (rest[0], rest[1])
        for ms in range(0, count * (length + TAP_GAP), length + TAP_GAP):
            self.clock.after(ms, lambda: self._touch(part, gpio, active, True))
            self.clock.after(ms + length, lambda: self._touch(part, gpio, 1 - active))

    def _touch(self, part: str, gpio: int, level: int, finger: bool = False) -> None:
        """A contact moves."""
        self.settling.moved(part, level, finger)
        self.board.pins.contact(gpio, level)

    def cut(self, ms: int) -> None:
        raise PowerCut(ms)

    def message(self, topic: str, payload: str, retain: bool = False) -> None:
        if self.broker:
            self.broker.message(topic, payload, retain)

    def wifi(self, up: bool) -> None:
        self.air.set(up)

    def server(self, word: str, value: Any) -> None:
        """The broker is another way."""
        cast(Broker, self.broker).be(word, value)

    def fill_in(self, name: str, password: str) -> None:
        """Somebody with a phone gives the page of the board's access point a network."""

        def refused(words: str) -> None:
            self.trace.log("page", "settings", words)

        Phone(self.board.station, self.clock, self.page, self.types).fill_in(name, password, refused)

    def lookup(self, ms: int) -> None:
        """Names take so long to be looked up."""
        self.air.names_take = ms

    def tells_time(self, answers: bool) -> None:
        """The time server answers, or not."""
        self.air.tells_time = answers

    def flash(self, works: bool) -> None:
        """The flash refuses to be written, or works again."""
        from zapato.stage.files import NO_DEVICE
        from zapato.stage.wasi import Fault

        def refuse(name: str) -> None:
            raise Fault(NO_DEVICE)

        self.board.flash.before_write = (lambda name: None) if works else refuse

    def tear(self, ms: int) -> None:
        """The power goes in the middle of the next writing."""
        self.board.flash.torn = PowerCut(ms)

    def act(self, call: Call) -> None:
        """Do one act."""
        getattr(self, call.name)(*call.arguments)

    # --- what expectations read

    def read(self, part: str, name: str) -> Any:
        """A property: measured on the pin where that can be, else as the program has it."""
        probe = self.benches[part].reads.get(name)
        if probe is not None and not isinstance(probe, list):
            return probe.read(self.world)
        how = cast(list[Any], probe)
        if how and how[0] == "peer":
            return self.board.serial(how[1]).peers[0].read(how[2])
        if how:
            return self._measured(*how)
        return self.board.seen.get((part, name))

    def _curtain(self, opens: int, closes: int, active: int, travel: int) -> Curtain:
        key = opens, closes
        if key not in self._curtains:
            line = self.board.pins.line
            self._curtains[key] = Curtain(self.clock, line(opens), line(closes), active, travel)
        return self._curtains[key]

    def run(self, model: Model) -> None:
        """Begin a model of the world."""
        effects = [(self.value_of(code), effect) for code, effect in model.by]
        Running(model, self.clock, effects, self.put)

    def _measured(self, kind: str, gpio: int, active: int = 1, *more: int) -> Any:
        if kind == "travel":
            return round(self._curtain(gpio, active, *more).place, 1)
        if kind == "sent":
            return self.board.plug(gpio, active).sent
        line = self.board.pins.line(gpio)
        if kind == "lights":
            return any(self.board.lights.get(gpio, b""))
        if kind == "level":
            return line.level == active
        part = float(line.level) if line.duty is None else line.duty
        share = round(100 * (part if active else 1 - part), 1)
        return share > 0 if kind == "lit" else share

    def published(self, name: str, payload: str | None = None) -> bool:
        """Whether the device published this since the last act."""
        full = f"{self.topic}/{name}"
        seen = self.broker.seen if self.broker else ()
        return any(t == full and payload in (None, p) for t, p in seen)

    # --- what steps ask of it

    def begun(self) -> None:
        if self.broker:
            self.broker.seen.clear()

    def value_of(self, code: str) -> Callable[[], Any]:
        return evaluated(code, self)

    def own(self, reads: Iterable[tuple[str, str]]) -> list[tuple[str, str]]:
        """Those that only the program knows."""
        return [(part, name) for part, name in reads if name not in self.benches[part].reads]

    def look(self, reads: Sequence[tuple[str, str]]) -> None:
        self.board.look(tuple(self.own(reads)))

    def looks(self, reads: Sequence[tuple[str, str]]) -> Mapping[str, int]:
        return {"": self.board.looks} if self.own(reads) else {}

    def fresh(self, reads: Sequence[tuple[str, str]], since: Mapping[str, int]) -> bool:
        return not self.own(reads) or self.board.machine is None or self.board.looks > since[""]
