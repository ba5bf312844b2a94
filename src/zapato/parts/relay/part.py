"""A relay: a contact that the board opens and closes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from zapato.lang.fields import boolean, measured, names, text, whole
from zapato.parts.electrical import (
    COIL,
    DRIVER,
    INPUT,
    OWN,
    PIN,
    Load,
    Supplied,
    coil_source,
    coil_supplied,
    usual,
)
from zapato.parts.kind import Driver, Kind, Need, Part, Property, Wrap
from zapato.parts.simulation import Simulation
from zapato.parts.switched import (
    PULSE,
    SWITCHING,
    active_number,
    drive_need,
    level_simulation,
    longest,
    longest_on,
    on_property,
    start_level,
    switched_pin,
)

DEAD = 100
"""ms between two relays that exclude each other, where `dead_time` does not say otherwise."""


def _limits(part: Part) -> tuple[Wrap, ...]:
    given = (part.get("shortest_on", 0), part.get("shortest_off", 0), part.get("most_per_hour", 0))
    return (("limits", "Limited", given),) if any(given) else ()


class RelayKind(Kind):
    """A contact that the board opens and closes."""

    name = "relay"
    help = "a contact that the board opens and closes"
    fields = (
        *switched_pin("the relay"),
        text(
            "follows",
            "a condition such as stairs.on: it switches whenever that changes, and as it is at power-up",
            role="condition",
        ),
        names("excludes", "relays that must be open while this one is closed"),
        measured(
            "dead_time", "from its opening to the closing of one that it excludes", "time", DEAD, most=60_000
        ),
        measured("shortest_on", "once closed it stays so for this long", "time", None),
        measured("shortest_off", "once open it stays so for this long, at power-up, too", "time", None),
        longest_on(),
        whole("most_per_hour", "closes no more often than this within any hour", None, least=1, most=60),
        measured("coil_voltage", "rated voltage of its coil", "V", None, least=1, most=400),
        measured("coil", "the current of its coil", "A", None, least=0.001, most=5),
        measured("current", "current that the input of its driver takes from the pin", "A", None, most=1),
        measured("switches", "the voltage at its contact, for the wiring sheet", "V", None, most=1000),
        measured(
            "contact",
            "the current that its contact bears, as printed on it",
            "A",
            None,
            least=0.001,
            most=1000,
        ),
        measured("load", "the current of what it switches", "A", None, most=1000),
        boolean("diode", "a diode across its coil, where that hangs on the pin"),
        text(
            "fed_from",
            'what feeds its coil: "5V", "3V3", a supply, or "pin" for a bare coil on the pin',
            INPUT,
        ),
    )
    terminals = {"pin": "IN"}
    follows = "follows"
    actions = {**SWITCHING, "pulse": PULSE}
    wiring = (
        "The pin drives the input of a relay board or a transistor, never a bare coil: a coil "
        "takes 30 to 80 mA and a pin gives a few. Boards with an optocoupler and an input marked "
        'IN mostly switch on with a low level: `active = "low"`. The board\'s ground and the relay '
        "board's ground are joined; its coil supply (often 5 V) is its own. Mains on the "
        "contacts: only inside an enclosure, with the board's supply isolated from it."
    )
    example = '[relay.heater]\npin = 26\nstart = "off"'

    def loads(self, part: Part) -> Iterable[Load]:
        feed, coil = part.get("fed_from", INPUT), part.get("coil", COIL)
        on_pin = feed == PIN
        yield Load("the coil", feed, 0, coil / 2, coil, coil_source(part), "pin" if on_pin else "")
        if not on_pin:
            own = OWN if part.values.get("current") else usual("4 mA for the input of a relay board")
            taken = part.get("current", DRIVER)
            yield Load("the input of its driver", PIN, 0, taken / 2, taken, own, "pin")

    def supplied(self, part: Part) -> Supplied | None:
        return coil_supplied(part)

    def apart(self, part: Part) -> float:
        return part.get("switches", 0.0)

    def properties(self, part: Part) -> Mapping[str, Property]:
        return on_property(part)

    def needs(self, part: Part) -> Iterable[Need]:
        if active_number(part):
            return drive_need(part, "a relay driver whose input is loaded to ground", clicks=True)
        return drive_need(part, "a relay board whose input is pulled up to its supply", clicks=True)

    def driver(self, part: Part) -> Driver:
        gpio, active = part.at("pin"), active_number(part)
        keeps = part.get("start", "off") == "last"
        starts_on = start_level(part) == active
        excludes = tuple(sorted(p.name for key, p in part.linked.items() if key.startswith("excludes.")))
        arguments = (gpio, active, starts_on, *([excludes] if excludes else []))
        wraps = (*_limits(part), *longest(part))
        dead = part.get("dead_time", DEAD)
        sets: dict[str, object] = {} if dead == DEAD or not excludes else {"dead": dead}
        # What excludes nothing is a plain output: a small chip is spared the rest.
        module, name = ("relay", "Relay") if excludes else ("output", "Output")
        if keeps:
            return Driver(f"{module}_persisted", f"Persisted{name}", arguments, sets=sets, wraps=wraps)
        return Driver(module, name, arguments, sets=sets, wraps=wraps)

    def simulation(self, part: Part) -> Simulation:
        return level_simulation(part)


KIND = RelayKind()
