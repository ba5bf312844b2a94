"""Several devices in one virtual time, with one broker: each runs its own program in its own VM."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from random import Random

from zapato.design import Design
from zapato.design.script import Script
from zapato.firmware.program import Program, compile_device
from zapato.record import record
from zapato.simulator.board import SimulatedBoard
from zapato.simulator.broker import KEPT, Broker
from zapato.simulator.clock import End
from zapato.simulator.network import AccessPoint
from zapato.simulator.rehearse import play_out, prepare, refuse, staged
from zapato.simulator.result import Crash
from zapato.simulator.scenario import ScenarioRunner
from zapato.simulator.scheduler import Scheduler, TurnClock
from zapato.simulator.trace import Trace


@record
class SimulatedDevice:
    """One device among others.

    Attributes:
        design, clock, board, air, trace: it, and what is around it, in its own clock.
        runner: does acts to its world, and reads it.
        crash: how its program ended, where it did.
    """

    design: Design
    clock: TurnClock
    board: SimulatedBoard
    air: AccessPoint
    trace: Trace
    runner: ScenarioRunner
    crash: Crash | None = None


class SiteSimulation:
    """Devices that are alive at once; `worlds` are their worlds at the beginning, by name, as their rehearsals have them.

    Attributes:
        turns: the common time.
        broker: theirs.
        trace: what belongs to no device alone.
        members: the devices by name.
    """

    def __init__(
        self,
        designs: Sequence[Design],
        worlds: Mapping[str, Script],
        *,
        seed: int = 1,
        programs: Mapping[str, Program] | None = None,
    ) -> None:
        self.turns = Scheduler()
        self.trace = Trace(self.turns.world)
        self.broker = Broker(self.turns.world, self.trace, KEPT * max(1, len(designs)))
        random = Random(seed)
        self.members: dict[str, SimulatedDevice] = {}
        for design in designs:
            refuse(design)
            program = (programs or {}).get(design.name) or compile_device(design)
            script = worlds.get(design.name) or Script(design.document)
            self.members[design.name] = self._member(design, program, script, Random(random.getrandbits(30)))

    def _member(self, design: Design, program: Program, script: Script, random: Random) -> SimulatedDevice:
        clock = TurnClock(self.turns)
        trace = Trace(clock)
        board, air = staged(design, program, script, clock, trace, self.broker, random)
        world = Script(script.document, world=script.world, models=script.models)
        runner = prepare(design, world, board, air, None)
        return SimulatedDevice(design, clock, board, air, trace, runner)

    def run(self, lasts: int, progress: Callable[[float], None] | None = None) -> None:
        """Power all up, and let `lasts` ms go by."""

        def end() -> None:
            raise End

        def tell() -> None:
            if progress:
                progress(self.turns.now / lasts)
                self.turns.world.after(max(1, lasts // 100), tell)

        tell()
        self.turns.world.at(lasts, end)
        self.turns.run([self._work(member) for member in self.members.values()])

    @staticmethod
    def _work(member: SimulatedDevice) -> Callable[[], None]:
        def work() -> None:
            board = member.board
            member.crash = play_out(board, board.clock, member.trace)

        return work
