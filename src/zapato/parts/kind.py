"""The shapes of kinds and parts: what a part has, needs, offers, and how it is driven.

What only some devices need stands around a part (`Driver.wraps`) and replaces a method of its object: the part itself, and chips
without room, carry nothing of it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import field, replace
from functools import cached_property
from types import MappingProxyType
from typing import Any, Literal, TypeVar

from zapato.boards.board import Level, Pin
from zapato.lang.fields import AUTO, Field, Shape, names, text
from zapato.parts.electrical import Load, Passive, Supplied
from zapato.parts.offered import offered_pin
from zapato.parts.simulation import Simulation
from zapato.record import record

ValueType = Literal["boolean", "number", "text"]
Use = Literal["output", "input", "analog", "line", "touch", "dac"]
"""How a pin is used: driven, read, measured, an open-drain data line (both ways), touch, analog out."""

T = TypeVar("T")


@record(eq=False)
class Property:
    """What a part can be read for, and sometimes set for.

    Attributes:
        type: "boolean", "number" or "text".
        unit: a unit of the SenML registry (RFC 8428, section 12.1; RFC 8798), or "".
        settable: may be set by links and over MQTT.
        unknown: has no value until the part was first read.
        low: the least value; None where there is none.
        high: the highest value; None where there is none.
        options: the values that it can have, where they are words.
        pattern: a regular expression that its texts match as a whole, "" for any; `help` then says how they are written.
        help: one sentence for the reference.
        wanted: is there only where a link or another part reads it.
    """

    type: ValueType
    unit: str = ""
    settable: bool = False
    unknown: bool = False
    low: float | None = None
    high: float | None = None
    options: tuple[str, ...] = ()
    help: str = ""
    wanted: bool = False
    pattern: str = ""

    @property
    def bounds(self) -> str:
        """The range in words: "5 to 30", "at least 5", "at most 30", how a text is written, or "" where all is taken."""
        if self.pattern:
            return f"written {self.help}"
        if self.low is not None and self.high is not None:
            return f"{self.low:g} to {self.high:g}"
        if self.low is not None:
            return f"at least {self.low:g}"
        return f"at most {self.high:g}" if self.high is not None else ""

    def takes(self, value: object) -> bool:
        """True where a constant lies within the range, is one of the options and matches the pattern."""
        if self.options and value not in self.options:
            return False
        if self.pattern and isinstance(value, str) and not re.fullmatch(self.pattern, value):
            return False
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            return True
        return not (
            (self.low is not None and value < self.low) or (self.high is not None and value > self.high)
        )


@record(eq=False)
class Argument:
    """One argument of an action. It has the range and options of the part's property of the same name, where there is one.

    Attributes:
        name: as links and messages give it.
        type: "time" is a text such as "2s".
        unit: a unit of the SenML registry, or "" for the one of the property of the same name.
        optional: the action can be told without it.
    """

    name: str
    type: Literal["boolean", "number", "text", "time"]
    unit: str = ""
    optional: bool = False


@record(eq=False)
class Action:
    """What a part can be told.

    Attributes:
        arguments: in their order.
        undo: the action that takes it back; "" where there is none.
        help: one sentence for the reference.
        needs: what a part must have for it, in words; "" where every part of the kind can do it.
    """

    arguments: tuple[Argument, ...] = ()
    undo: str = ""
    help: str = ""
    needs: str = ""


@record(eq=False)
class Need:
    """What one pin of a part must be able to do, and what the part's circuit does to it.

    Attributes:
        field: the key of the device file that names the pin.
        use: how the pin is used.
        pull: the internal resistor wanted, or "".
        interrupt: the part cannot do without an edge interrupt.
        pwm: the part modulates the pin.
        rest: the level the circuit holds while nobody drives the pin, or None where it floats.
        firm: that level comes from a resistor on the part, so it stands at power-up for sure.
        operated: the level while somebody operates the part (a pressed button, an open door).
        active: the level that switches the part on, for outputs.
        clicks: the part must not be switched on by accident at power-up (a relay, a motor).
        volts: the level the part's circuit puts on the pin, V; 0 where it is the chip's own.
        controller: the bus function wanted of the pin, such as "i2c.sda".
        circuit: the circuit in words, for reasons.
        timed: edges must come within microseconds, as only a pin of the chip itself can make or see them.
        usual: the level that the part's circuit holds most of the time, where nobody operates it.
        rate: pulses a second of a modulated pin, Hz.
    """

    field: str
    use: Use
    pull: str = ""
    interrupt: bool = False
    pwm: bool = False
    rest: Level | None = None
    firm: bool = False
    operated: Level | None = None
    active: Level | None = None
    controller: str = ""
    circuit: str = ""
    clicks: bool = False
    volts: float = 0.0
    timed: bool = False
    usual: Level | None = None
    rate: float = 0.0

    @property
    def plain(self) -> bool:
        """True where a pin that another chip offers will do: it is only switched, read or measured."""
        return self.use in ("output", "input", "analog") and not (self.timed or self.pwm or self.interrupt)


Wrap = tuple[str, str, tuple[object, ...]]
"""An object around a driver: module, class, arguments after the device and the part."""


@record(eq=False)
class Driver:
    """The object that the plan makes on the device.

    Attributes:
        module: its MicroPython module. What that module imports comes along by itself.
        cls: its class in that module.
        arguments: plain values, after the device and the part's name.
        data: bytes of heap that this part's own size asks for, such as a strip's colours.
        through: what each value goes through, as arguments of the runtime's Through.
        gives: another word for its one value.
        sets: attributes that it gets beside its arguments.
        wraps: objects that stand around it: their module and class, and arguments after the device and the part.
        watches: the field whose expression it is told to watch, once every part is there.
        tells: the field whose texts it is given as functions, and what they read.
        plain: these functions give the values themselves, each text being one in braces.
        also: modules that the program made of the device file needs for it, beside those.
        writes: times a day that it writes to the flash by the clock, whether something changed or not.
    """

    module: str
    cls: str
    arguments: tuple[object, ...] = ()
    data: int = 0
    through: tuple[tuple[object, ...] | None, ...] = ()
    gives: str = ""
    sets: Mapping[str, object] = field(default_factory=dict[str, object])
    wraps: tuple[Wrap, ...] = ()
    watches: str = ""
    tells: str = ""
    plain: bool = False
    also: tuple[str, ...] = ()
    writes: int = 0


@record(eq=False)
class ScanEntry:
    """One thing that a scan met.

    Attributes:
        address: as the device says it.
        keys: what the table of a part for it says of the place, such as bus and address.
        may_be: the kinds and chips that it may be.
        words: what else is known of it.
    """

    address: str
    keys: Mapping[str, object]
    may_be: tuple[tuple[str, str], ...] = ()
    words: str = ""


NOWHERE = offered_pin("nowhere", 0)
"""In place of a pin that is not known yet."""


@record
class Part:
    """One thing the device has.

    Attributes:
        kind: what it is.
        name: unique in the device.
        values: the fields of its table, read; a field with a mistake is absent.
        pins: field -> the pin it stands on, filled in by the design.
        linked: "field.name" -> a part that it refers to, filled in by the design.
        asked: its properties that links and other parts read, filled in by the design.
    """

    kind: Kind
    name: str
    values: Mapping[str, Any]
    pins: dict[str, Pin] = field(default_factory=dict[str, Pin])
    linked: dict[str, Part] = field(default_factory=dict[str, "Part"])
    asked: set[str] = field(default_factory=set[str])

    def has_role(self, role: str) -> bool:
        """Whether it is of this kind, or its kind can stand for one."""
        return self.kind.has_role(role)

    @property
    def id(self) -> str:
        """ "kind.name", as in the file's table."""
        return f"{self.kind.name}.{self.name}"

    @property
    def path(self) -> tuple[str, str]:
        """The way to its table in the document."""
        return (self.kind.name, self.name)

    @property
    def label(self) -> str:
        """The name for people."""
        return self.values.get("label") or self.name.replace("_", " ").capitalize()

    def get(self, name: str, default: T) -> T:
        """A field's value, or `default` where it is absent or was wrong."""
        value = self.values.get(name)
        return default if value is None else value

    def pages(self, name: str) -> tuple[tuple[str, ...], ...]:
        """A field's texts, pages of lines."""
        pages: tuple[tuple[str, ...], ...] = self.values.get(name) or ()
        return pages

    @property
    def autos(self) -> tuple[str, ...]:
        """The fields whose pin the solver is to choose."""
        return tuple(f.name for f in self.fields if f.role == "pin" and self.values.get(f.name) == AUTO)

    def at(self, field: str) -> int | tuple[str, int]:
        """Where a pin is, as the plan writes it: its GPIO number, or owner and number of an offered one."""
        pin = self.pins[field]
        owner, _, number = pin.name.rpartition(".")
        return pin.gpio if pin.gpio >= 0 else (owner, int(number))

    @property
    def unplaced(self) -> set[str]:
        """The fields whose pin it asks for and does not have: the solver is to choose it, or there is a mistake in it."""
        asked = {need.field for need in self.needs}
        must = (*self.kind.requires(self), *(f.name for f in self.fields if f.required))
        by_name = self.shape.by_name
        asked |= {name for name in must if by_name[name].role == "pin"}
        return asked - self.pins.keys()

    @property
    def placed(self) -> bool:
        """True where every pin that it asks for is there."""
        return not self.unplaced

    @property
    def simulation(self) -> Simulation:
        """How the simulator stands in for it.

        Where a pin is not known yet, its own or that of a bus it hangs on, a rehearsal is read all the same: then what the
        world can do to the part is there by its words, on a pin that no board has.
        """
        whole = all(part.placed for part in self._reached({}).values())
        return self.kind.simulation(self if whole else self._somewhere({}))

    def _reached(self, known: dict[str, Part]) -> dict[str, Part]:
        """It, and what it refers to, however far."""
        if self.name not in known:
            known[self.name] = self
            for other in self.linked.values():
                other._reached(known)
        return known

    def _somewhere(self, known: dict[str, Part]) -> Part:
        """It, and what it refers to, with every pin that they ask for."""
        if self.name not in known:
            pins = {**self.pins, **dict.fromkeys(self.unplaced, NOWHERE)}
            made = known[self.name] = replace(self, pins=pins, linked={})
            made.linked.update((field, other._somewhere(known)) for field, other in self.linked.items())
        return known[self.name]

    @property
    def shape(self) -> Shape:
        """The shape of its table."""
        return self.kind.shape_of(self.values)

    @property
    def fields(self) -> tuple[Field, ...]:
        """The fields that it can have, without those that every part has."""
        more = self.kind.more(self.values)
        return (*self.kind.fields, *more) if more else self.kind.fields

    @property
    def properties(self) -> Mapping[str, Property]:
        return self.kind.properties(self)

    @cached_property
    def needs(self) -> tuple[Need, ...]:
        """What its pins must be able to do; it follows from its values alone, which do not change."""
        return tuple(self.kind.needs(self))


COMMON: tuple[Field, ...] = (
    text("label", "the name for people; the part's name where absent"),
    names("accept", "codes of findings that the author accepts here", role=""),
    text("because", "why they are accepted"),
)
"""Fields that every part may have."""


class Kind:
    """A kind of part: everything the program knows about it, in one place. A kind sets what it is and overrides what it does.

    Attributes:
        name: the first word of its table, `[relay.heater]`.
        help: one sentence for the reference.
        fields: its keys, beside those every part has.
        events: what links and MQTT can wait for, beside changes of its properties.
        actions: what links and MQTT can have it do.
        words: what may stand in a field of role "condition" beside an expression.
        follows: the field whose condition it is on by, all the time; "" where it has none.
        identified_by: the key that tells it from others on the same bus, where that is no I2C address.
        called: what people call one of it, where others name it as their bus.
        dates: it puts the time of day beside what it keeps, where the site knows its zone.
        tells_time: it knows the time of day without a network.
        says: what it says with an event, as JSON; {} where nothing.
        passive: nothing of it runs on the device.
        terminals: what its own terminals are called, by the key of the pin.
        rows: the key whose table grows by the rows of the CSV file that its `table` names; "" where it has none.
        roles: kinds for which it can stand: rules, budgets and wiring treat it as one of them, so it has their fields.
        late: its object on the device is made after all others, because it only reads them.
        thing: it is a thing that is bought, no line between others.
        wiring: how it is wired, for the reference.
        example: a table that passes `check`, for the reference.
    """

    name: str
    help: str
    fields: tuple[Field, ...] = ()
    events: Mapping[str, str] = MappingProxyType({})
    actions: Mapping[str, Action] = MappingProxyType({})
    words: tuple[str, ...] = ()
    follows: str = ""
    identified_by: str = ""
    called: str = ""
    dates: bool = False
    tells_time: bool = False
    says: Mapping[str, str] = MappingProxyType({})
    passive: bool = False
    terminals: Mapping[str, str] = MappingProxyType({})
    rows: str = ""
    roles: tuple[str, ...] = ()
    late: bool = False
    thing: bool = True
    wiring: str = ""
    example: str = ""

    def __init__(self) -> None:
        self.shape = Shape((*self.fields, *COMMON), self.whose)
        self._shapes: dict[tuple[Field, ...], Shape] = {}

    def __repr__(self) -> str:
        return f"<kind {self.name}>"

    # --- what the language has of it

    def properties(self, part: Part) -> Mapping[str, Property]:
        """What links and MQTT can read, and sometimes set."""
        return {}

    def requires(self, part: Part) -> Iterable[str]:
        """Further fields that this part must have, by what its other fields say."""
        return ()

    def more(self, table: Mapping[str, Any]) -> tuple[Field, ...]:
        """The fields that a table has beside, by what it says (those of its chip)."""
        return ()

    def every_more(self) -> Mapping[str, tuple[Field, ...]]:
        """All fields that `more` can give, by whose they are."""
        return {}

    def gives(self, part: Part) -> ValueType:
        """The type that the expression in its field of role "condition" must have."""
        return "boolean"

    def actions_of(self, part: Part) -> Mapping[str, Action]:
        """What this part can be told: the kind's actions, fewer where it lacks what one needs."""
        return self.actions

    def argument_of(self, part: Part, argument: Argument) -> Property | None:
        """The property whose unit, range and options an argument has; None where it takes anything of its type."""
        return part.properties.get(argument.name)

    def often(self, part: Part) -> Mapping[str, float]:
        """ms between two values that it says, by property; for events, too."""
        every = part.values.get("every")
        return dict.fromkeys(part.properties, float(every)) if every else {}

    # --- pins and buses

    def needs(self, part: Part) -> Iterable[Need]:
        """What its pins must be able to do."""
        return ()

    def offers(self, part: Part) -> Mapping[str, Pin]:
        """Pins that other parts can stand on, by the word after the dot in "io.3"."""
        return {}

    def bus(self, part: Part) -> str:
        """The kind of bus that its field of role "bus" must name; "" where it hangs on none."""
        return "i2c"

    def addresses(self, part: Part) -> tuple[int, ...]:
        """The I2C addresses it can have, the usual one first."""
        return ()

    def upstream(self, part: Part) -> Part | None:
        """The bus that this bus is connected to by a chip on it; None for a bus of the board's own."""
        return None

    def line(self, part: Part) -> int | None:
        """The number of a bus's data line, of its clock line on SPI; None while its pins are not known."""
        pin = part.pins.get("sda") or part.pins.get("sck")
        return pin.gpio if pin else None

    def ends(self, part: Part) -> Mapping[str, str]:
        """Where the wires of a bus begin, by what the line is called."""
        names = [self.terminals.get(key, key.upper()) for key in part.pins]
        return {name: f"{part.name} {name}" for name in names}

    def sights(self, part: Part, text: str) -> Iterable[ScanEntry]:
        """What stands in its property `found`, for one that scans."""
        return ()

    # --- the device, and a rehearsal

    def driver(self, part: Part) -> Driver | None:
        """The object that drives it on the device."""
        return None

    def simulation(self, part: Part) -> Simulation:
        """How the simulator stands in for it; `Part.simulation` calls it, with every pin that the part asks for."""
        return Simulation()

    # --- electrical facts

    def loads(self, part: Part) -> Iterable[Load]:
        """The currents that it draws, and where from."""
        return ()

    def supplied(self, part: Part) -> Supplied | None:
        """What it may be supplied with; None where nobody has stated it."""
        return None

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        """Small parts that are wired beside it, at this logic level (V)."""
        return ()

    def apart(self, part: Part) -> float:
        """What its contacts carry that is kept apart from low voltage, V; 0 where nothing."""
        return 0.0

    # --- what follows from these

    def shape_of(self, table: Mapping[str, Any]) -> Shape:
        """The shape of a table that says this much."""
        more = self.more(table)
        if not more:
            return self.shape
        known = self._shapes.get(more)
        if known is None:
            known = self._shapes[more] = Shape((*self.fields, *more, *COMMON), self.whose)
        return known

    def whose(self, key: str) -> str:
        """The chips whose field it is, where it is one that only some tables of the kind have; "" where it is none."""
        owners = [
            owner for owner, fields in self.every_more().items() if key in {field.name for field in fields}
        ]
        return ", ".join(owners)

    @property
    def whole_shape(self) -> Shape:
        """Every field that any of its tables can have, for schema and reference."""
        more = {field.name: field for fields in self.every_more().values() for field in fields}
        return Shape((*self.fields, *more.values(), *COMMON))

    def has_role(self, role: str) -> bool:
        """Whether it is this kind, or can stand for it."""
        return role == self.name or role in self.roles

    @property
    def all_roles(self) -> tuple[str, ...]:
        """Its own name, and the kinds for which it can stand."""
        return (self.name, *self.roles)


def opposite(level: Level) -> Level:
    """The other level."""
    return "low" if level == "high" else "high"
