"""The world of one device as a rehearsal changes and reads it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, MutableSequence, Sequence
from functools import partial
from typing import Any, Protocol, cast

from zapato.design.acts import Call
from zapato.design.models import Model
from zapato.parts.simulation import Simulation
from zapato.simulator.board import SimulatedBoard
from zapato.simulator.board_world import BoardWorld
from zapato.simulator.broker import Broker
from zapato.simulator.clock import Clock
from zapato.simulator.debounce import Debounce
from zapato.simulator.models import Running
from zapato.simulator.network import AccessPoint
from zapato.simulator.phone import Phone
from zapato.simulator.steps import Steps, evaluated
from zapato.simulator.trace import Trace


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


class ScenarioRunner:
    """The world of one device's rehearsal, and its steps.

    `simulations` says how the world reaches each part; `page` is the password of the device's own page, `types` the broker, as its
    owner knows them.
    """

    page = ""
    types: Mapping[str, object] | None = None

    def __init__(
        self,
        board: SimulatedBoard,
        air: AccessPoint,
        broker: Messages | None,
        clock: Clock,
        trace: Trace,
        simulations: Mapping[str, Simulation],
        topic: str,
    ) -> None:
        self.board, self.air, self.broker, self.clock, self.trace = board, air, broker, clock, trace
        self.simulations, self.topic = simulations, topic
        self.settling = Debounce(clock, trace, simulations)
        self.world = BoardWorld(board, clock, self.settling)
        self._readers: dict[tuple[str, str], Callable[[], Any]] = {}
        for simulation in simulations.values():
            for probe in simulation.probes.values():
                probe.begin(self.world)
        self.steps = Steps(self, clock, trace)
        clock.watchers.append(self.steps.watch)

    # --- the world

    def put(self, key: str, value: Any, over: int = 0) -> None:
        """Set something of the world: "door.closed", "cabinet.temperature"."""
        part, _, name = key.partition(".")
        self.simulations[part].stimuli[name].put(self.world, value, over)

    def gesture(self, key: str) -> None:
        """A finger on a button: "start.press"."""
        part, _, word = key.partition(".")
        self.simulations[part].gestures[word].put(self.world, None)

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
        from zapato.simulator.files import NO_DEVICE
        from zapato.simulator.wasi import Fault

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
        reader = self._readers.get((part, name)) or self.reader(part, name)
        return reader()

    def reader(self, part: str, name: str) -> Callable[[], Any]:
        """What reads a property; it is found once, for models read after everything that happens."""
        probe = self.simulations[part].probes.get(name)
        reader = (
            partial(self.board.seen.get, (part, name)) if probe is None else partial(probe.read, self.world)
        )
        return self._readers.setdefault((part, name), reader)

    def putter(self, key: str) -> Callable[[float], None]:
        """What sets something of the world, found once as well."""
        part, _, name = key.partition(".")
        return partial(self.simulations[part].stimuli[name].put, self.world)

    def run(self, model: Model) -> None:
        """Begin a model of the world."""
        effects = [(self.value_of(code), effect) for code, effect in model.by]
        Running(model, self.clock, effects, self.putter(model.drives))

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
        return [(part, name) for part, name in reads if name not in self.simulations[part].probes]

    def look(self, reads: Sequence[tuple[str, str]]) -> None:
        self.board.look(tuple(self.own(reads)))

    def looks(self, reads: Sequence[tuple[str, str]]) -> Mapping[str, int]:
        return {"": self.board.looks} if self.own(reads) else {}

    def fresh(self, reads: Sequence[tuple[str, str]], since: Mapping[str, int]) -> bool:
        return not self.own(reads) or self.board.machine is None or self.board.looks > since[""]
