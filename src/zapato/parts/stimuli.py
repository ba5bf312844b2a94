"""What kinds share of the world around a part: contacts and fingers, quantities, chips on buses, faults of lines; levels that are measured."""

from __future__ import annotations

from typing import Any

from zapato.parts.kind import Part
from zapato.parts.simulation import Probe, Simulation, Stimulus, World
from zapato.record import record

TAP_GAP = 120
"""ms between two taps of one gesture."""
FAULTS = {"short": "short", "cut": "cut", "mend": ""}
"""What a rehearsal can do to a line: to ground, apart, and right again."""

AILS = {"fall_silent": "silent", "garbage": "garbage", "answer": ""}
"""What a rehearsal can do to a chip on a bus or a line."""


@record(eq=False)
class Contact(Stimulus):
    """A contact of a part: operated or not, as the world says."""

    part: str
    gpio: int
    active: int

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.touch(self.part, self.gpio, self.active if value else 1 - self.active)


@record(eq=False)
class Press(Stimulus):
    """A finger on a contact: so often, for so many ms each."""

    part: str
    gpio: int
    active: int
    times: int
    length: int

    def put(self, world: World, value: Any, over: int = 0) -> None:
        for ms in range(0, self.times * (self.length + TAP_GAP), self.length + TAP_GAP):
            world.after(ms, lambda: world.touch(self.part, self.gpio, self.active, True))
            world.after(ms + self.length, lambda: world.touch(self.part, self.gpio, 1 - self.active))


@record(eq=False)
class LooseWire(Stimulus):
    """The wire of a pin comes off, or is back."""

    gpio: int
    loose: bool

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.loosen(self.gpio, self.loose)


@record(eq=False)
class SetQuantity(Stimulus):
    """A quantity of the world; the input feels what is said, divided by `per`."""

    kind: str
    gpio: int
    per: float = 1

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.apply(self.kind, self.gpio, value=value if value is None else value / self.per, over=over)


@record(eq=False)
class OnBus(Stimulus):
    """What a chip on an I2C or SPI bus feels; `line` is the bus's data line, or its clock on SPI."""

    line: int
    address: int
    chip: str
    what: str
    selected: bool = False

    @property
    def place(self) -> tuple[int, object] | None:  # type: ignore[override]
        return None if self.selected else (self.line, self.address)

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.chip(self.line, self.address, self.chip)
        world.apply("i2c", self.line, self.address, self.what, value=value, over=over)


@record(eq=False)
class ChipFault(Stimulus):
    """A line, or a chip on it, fails or works again."""

    gpio: int
    whom: object
    fault: str

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.befall(self.gpio, self.whom, self.fault)


@record(eq=False)
class SetAttached(Stimulus):
    """A value of something attached to the board: `where` as `World.attached` takes it."""

    where: tuple[Any, ...]
    name: str

    def put(self, world: World, value: Any, over: int = 0) -> None:
        for attached in world.attached(*self.where):
            attached.put(self.name, value, over)


@record(eq=False)
class ActOnAttached(Stimulus):
    """Something happens to what is attached to the board."""

    where: tuple[Any, ...]
    word: str

    def put(self, world: World, value: Any, over: int = 0) -> None:
        for attached in world.attached(*self.where):
            attached.do(self.word)


@record(eq=False)
class PinLevel(Probe):
    """True while a pin has its active level."""

    gpio: int
    active: int

    def read(self, world: World) -> bool:
        return world.level(self.gpio) == self.active


@record(eq=False)
class Share(Probe):
    """The share of the time in which a pin is active, %."""

    gpio: int
    active: int

    def read(self, world: World) -> Any:
        part = world.share(self.gpio)
        return round(100 * (part if self.active else 1 - part), 1)


@record(eq=False)
class Lit(Share):
    """True while a pin is active for some of the time."""

    def read(self, world: World) -> bool:
        return super().read(world) > 0


@record(eq=False)
class ReadAttached(Probe):
    """A value of the first thing that is attached there."""

    where: tuple[Any, ...]
    name: str

    def begin(self, world: World) -> None:
        world.attached(*self.where)

    def read(self, world: World) -> Any:
        return world.attached(*self.where)[0].read(self.name)


def line_faults(gpio: int, cut: str = "cut") -> dict[str, Stimulus]:
    """What a rehearsal can do to a line; `cut` is what the line then reads as."""
    return {word: ChipFault(gpio, None, cut if word == "cut" else fault) for word, fault in FAULTS.items()}


def line_simulation(part: Part, field: str) -> Simulation:
    """The stand-in for a bus whose data line is this field's pin."""
    return Simulation(gestures=line_faults(part.pins[field].gpio)) if field in part.pins else Simulation()
