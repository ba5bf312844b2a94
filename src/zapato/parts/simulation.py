"""What stands in for a part in rehearsals, and the world around it that a bundle's stand-in speaks to."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import field
from pathlib import Path
from typing import Any, Protocol, TypeVar

from zapato.lang.fields import Wrong
from zapato.record import record

T = TypeVar("T")


@record(eq=False)
class WorldInput:
    """Something of the world around a part that is none of its properties.

    Attributes:
        example: a value, which says its type.
        read: turns what a rehearsal says, in a file of this folder, into what the simulator takes; raises Wrong.
    """

    example: bool | float | str
    read: Callable[[Path, Any], Any] = lambda folder, value: value

    @staticmethod
    def number(example: float, low: float, high: float) -> WorldInput:
        """A number between two others."""

        def read(folder: Path, value: float) -> float:
            if not low <= value <= high:
                raise Wrong(f"is {value:g}; it must be {low:g} to {high:g}")
            return value

        return WorldInput(example, read)


class Attached(Protocol):
    """Something that hangs on a board beside its pins: a controller on a serial line, a card, a beacon nearby."""

    def put(self, name: str, value: Any, over: int = 0) -> None:
        """Set one of its values, at once or evenly over so many ms."""
        ...

    def do(self, word: str) -> None:
        """Something happens to it."""
        ...

    def read(self, name: str) -> Any:
        """One of its values."""
        ...


class World(Protocol):
    """What stands outside a board in a rehearsal."""

    @property
    def now(self) -> int:
        """ms since the rehearsal began."""
        ...

    def after(self, ms: int, call: Callable[[], None]) -> None:
        """Call this later."""
        ...

    def watch(self, call: Callable[[], None]) -> None:
        """Call this after everything that happens."""
        ...

    def keep(self, key: Hashable, make: Callable[[], T]) -> T:
        """An object of a bundle's own: made when it is first asked for, the same one for the whole rehearsal."""
        ...

    def level(self, gpio: int) -> int:
        """The level at a pin, 0 or 1."""
        ...

    def share(self, gpio: int) -> float:
        """The share of the time in which a pin is high, 0 to 1: the duty cycle where it is modulated."""
        ...

    def lights(self, gpio: int) -> bytes:
        """The last frame that the strip on this pin was sent."""
        ...

    def contact(self, gpio: int, level: int) -> None:
        """A contact at a pin moves to this level, and bounces."""
        ...

    def touch(self, part: str, gpio: int, level: int, finger: bool = False) -> None:
        """A part's contact moves, by a finger or by itself; the trace says where the program cannot count it."""
        ...

    def drive(self, gpio: int, level: int) -> None:
        """Something outside drives a pin, without bouncing."""
        ...

    def loosen(self, gpio: int, loose: bool) -> None:
        """The wire of a pin comes off, or is back."""
        ...

    def apply(self, kind: str, *where: object, value: Any, over: int = 0) -> None:
        """What an input feels, at once or evenly over so many ms: ("volts", gpio), V; ("i2c", sda, address, name)."""
        ...

    def applied(self, kind: str, *where: object) -> Any:
        """What an input feels now; None where nothing was ever set."""
        ...

    def chip(self, line: int, address: int, name: str) -> None:
        """A chip is on the bus with this data line (on SPI: clock line, and select pin as the address)."""
        ...

    def on_wire(self, gpio: int, number: bytes, make: Callable[[], Any]) -> None:
        """A chip of this serial number is on the one-wire line of a pin."""
        ...

    def befall(self, gpio: int, whom: object, fault: str) -> None:
        """A line (`whom` None) or a chip on it (its address or number) fails: "short", "cut", "silent", …; "" mends it."""
        ...

    def hold_clock(self, sda: int, scl: int, low: bool) -> None:
        """The clock line of an I2C bus goes to ground, or is free again."""
        ...

    def serial_fault(self, gpio: int, fault: str) -> None:
        """What is wrong with the serial line on this pin: "short", "cut", "swap"; "" mends it."""
        ...

    def attached(self, kind: str, *where: Any) -> Sequence[Attached]:
        """What hangs there: ("serial", pin), ("beacon", address), ("sound", pin), ("card", clock, select), ("remote", pin), ("plug", pin, pin)."""
        ...


class Stimulus:
    """Something that a rehearsal sets, or does, from outside. `place` is the line and the chip there that can fail, where it is one."""

    place: tuple[int, object] | None = None

    def put(self, world: World, value: Any, over: int = 0) -> None:
        """Set it, at once or evenly over so many ms; `value` is None for a gesture."""
        raise NotImplementedError


class Probe:
    """Where the truth of a property is measured."""

    def begin(self, world: World) -> None:
        """The rehearsal begins."""

    def read(self, world: World) -> Any:
        """Its value now."""
        raise NotImplementedError


@record(eq=False)
class ChipAt:
    """A chip that is on an I2C bus from the beginning.

    Attributes:
        line, address, name: its bus's data line, its address there, and which it is.
        pins: the pins that it offers, number -> line.
        interrupt: the line that it interrupts.
        volts: what it runs on.
        reset: the line at its reset input.
    """

    line: int
    address: int
    name: str
    pins: Mapping[int, int]
    interrupt: int | None = None
    volts: float = 3.3
    reset: int | None = None


@record(eq=False)
class PeerAt:
    """What is at the other end of a serial line: the class Peer in sim.py of this bundle.

    Attributes:
        bundle: whose.
        line: the line's pin.
        enable: the pin of its RS-485 driver, or None.
        given: arguments of the class, after the line.
    """

    bundle: str
    line: int
    enable: int | None
    given: tuple[Any, ...]


@record(eq=False)
class Simulation:
    """How the simulator stands in for a part.

    Attributes:
        probes: property -> where the truth is measured; a property that is absent is read from the running firmware.
        stimuli: property -> what of the world changes when a rehearsal sets it.
        inputs: how the value of a stimulus is read, where it is no property of the part or has bounds of its own.
        gestures: word -> a gesture, such as a button's "press".
        chips: chips that are on an I2C bus from the beginning.
        peers: who is at the other end of serial lines.
        settles: ms that a contact must stand before it is counted, and ms after that in which it is not counted again.
        cards: SD cards in their slots: clock line and select pin of the bus.
        beacons: what advertises nearby: address, and the pattern of its bytes or None.
    """

    probes: Mapping[str, Probe] = field(default_factory=dict[str, Probe])
    stimuli: Mapping[str, Stimulus] = field(default_factory=dict[str, Stimulus])
    inputs: Mapping[str, WorldInput] = field(default_factory=dict[str, WorldInput])
    gestures: Mapping[str, Stimulus] = field(default_factory=dict[str, Stimulus])
    chips: tuple[ChipAt, ...] = ()
    peers: tuple[PeerAt, ...] = ()
    beacons: tuple[tuple[str, object], ...] = ()
    cards: tuple[tuple[int, int], ...] = ()
    settles: tuple[int, int] = (0, 0)
