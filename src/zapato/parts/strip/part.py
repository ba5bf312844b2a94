"""A strip of addressable LEDs on one data pin."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from itertools import permutations

from zapato.lang.fields import choice, measured, pin, text, whole
from zapato.parts.electrical import INPUT, OWN, Load, Passive, Supplied, fed, usual
from zapato.parts.kind import Action, Argument, Driver, Kind, Need, Part, Property, ValueType
from zapato.parts.simulation import Probe, Simulation, World
from zapato.parts.switched import ON, SWITCHING, longest_on, with_longest
from zapato.record import record

ORDERS = {"ws2812b": "grb", "sk6812": "grb", "ws2811": "rgb", "ws2815": "grb"}
"""In which order the colours come on the wire (WS2812B, SK6812, WS2811 and WS2815 datasheets, Composition of 24 bit data)."""
LISTED = tuple("".join(letters) for letters in permutations("rgb"))
WITH_WHITE = tuple(f"{letters}w" for letters in LISTED)
"""With a white LED beside the coloured ones: 32 bits, white last (SK6812RGBW datasheet, Composition of 32 bit data)."""


def order(part: Part) -> str:
    """The colours in the order of the wire: what its table says, else what is usual for its chip."""
    return part.values.get("order") or ORDERS[part.get("chip", "ws2812b")]


WHITE, DARK = 0.060, 0.001
"""A: one LED at full white, three times 20 mA, and dark, its chip alone."""


TAKES = {"ws2812b": (3.7, 5.5), "sk6812": (3.7, 5.5), "ws2815": (9.0, 13.5)}
"""V at the LEDs (WS2812B-V5, SK6812 and WS2815 datasheets, Electrical parameters); a ws2811 drives strips of 5 V, 12 V and 24 V."""


def runs_on(part: Part) -> float:
    """What a strip runs on: what its table says, else what its chip is usually made for."""
    return part.values.get("supply") or (12.0 if part.get("chip", "") == "ws2815" else 5.0)


@record(eq=False)
class Lights(Probe):
    """True while any LED of the strip on this pin is lit."""

    gpio: int

    def read(self, world: World) -> bool:
        return any(world.lights(self.gpio))


class StripKind(Kind):
    """A strip of addressable LEDs."""

    name = "strip"
    help = "a strip of addressable LEDs"
    fields = (
        pin("pin", "the data pin"),
        whole("count", "LEDs on this pin", least=1, most=4096),
        choice("chip", "the LEDs' driver chip", "ws2812b", "ws2811", "sk6812", "ws2815"),
        choice(
            "order",
            "the colours in the order of the wire, where it is not the usual one of its chip; w is a white LED beside them",
            *LISTED,
            *WITH_WHITE,
            default=None,
        ),
        longest_on(),
        text(
            "follows",
            "a property from 0 to 100 such as hall.level of a microphone: brightness = level x value / 100",
            None,
            most=1000,
            role="condition",
        ),
        whole("limit", "the brightness that it never exceeds, %", 100, least=1, most=100),
        measured(
            "supply",
            "supply voltage of its LEDs; 5 V where absent, 12 V for ws2815",
            "V",
            None,
            least=3,
            most=30,
        ),
        *fed('"5V"', "current of one LED at full white"),
        measured(
            "length",
            "of the strip, for the voltage along it; 60 LEDs a metre where absent",
            "m",
            None,
            least=0.01,
            most=200,
        ),
        whole("feeds", "places where its supply is fed in, evenly; 2 are both ends", 1, least=1, most=50),
        measured("cable", "length of the wires from the supply to the strip", "m", 0.5, most=100),
        measured(
            "level",
            "the high level at its data input, where a level shifter is fitted",
            "V",
            None,
            least=1,
            most=30,
        ),
    )
    terminals = {"pin": "DIN"}
    actions = {**SWITCHING, "show": Action((Argument("effect", "text"),), help="show an effect")}
    wiring = (
        "Data through 330 ohm to the first LED, as near to the board as possible; ground of the "
        "strip's supply joined with the board's. At 5 V the strip wants 3.5 V for a high level: a "
        "74HCT gate between pin and strip, or the first LED at 4.3 V behind a diode. 1000 uF "
        "across the strip's supply; up to 60 mA an LED at full white, fed in again every few "
        "metres."
    )
    example = '[strip.rack]\npin = 13\ncount = 60\nchip = "ws2812b"'

    def loads(self, part: Part) -> Iterable[Load]:
        count, limit = part.get("count", 1), part.get("limit", 100) / 100
        led_current = part.get("current", WHITE)
        source = OWN if part.values.get("current") else usual("60 mA an LED at full white")
        lit = max(led_current * limit, DARK)
        yield Load(
            f"{count} LEDs",
            part.get("fed_from", INPUT),
            DARK * count,
            (DARK + (lit - DARK) / 3) * count,
            lit * count,
            source,
        )

    def supplied(self, part: Part) -> Supplied | None:
        chip, made_for = part.get("chip", "ws2812b"), runs_on(part)
        if chip in TAKES:
            return Supplied(
                f"a strip of {chip}", *TAKES[chip], f"{chip.upper()} datasheet, Electrical parameters"
            )
        low, high = (3.7, 5.5) if made_for == 5 else (made_for * 0.9, made_for * 1.1)
        return Supplied(f"a strip for {made_for:g} V", low, high, OWN)

    def beside(self, part: Part, logic: float) -> Iterable[Passive]:
        if part.get("level", 0.0) > logic:
            yield Passive(
                "gate", "74HCT125", "between pin and strip, at the strip's supply", "3.3 V in, 5 V out", "pin"
            )
        yield Passive(
            "resistor", "330 ohm", "in the data wire, at the first LED", "no echoes on the wire", "pin"
        )
        yield Passive(
            "capacitor",
            "1000 uF",
            "across the strip's supply, where it is fed",
            "bears the switching of all LEDs at once",
            "",
            "-",
        )

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "on": ON,
            "level": Property("number", "%", settable=True, low=0, high=100, help="brightness, 0 to 100 %"),
            "color": Property("text", settable=True, help='as "#rrggbb"', pattern="#[0-9a-fA-F]{6}"),
            "effect": Property(
                "text",
                settable=True,
                options=("still", "breathe", "flow", "sparkle"),
                help="what it shows by itself",
            ),
        }

    def gives(self, part: Part) -> ValueType:
        return "number"

    def driver(self, part: Part) -> Driver:
        count = part.get("count", 1)
        letters = order(part)
        places = tuple("rgbw".index(letter) for letter in letters)
        arguments, data = (part.pins["pin"].gpio, count, places, part.get("limit", 100)), len(letters) * count
        if part.values.get("follows"):
            made = Driver("strip_follows", "FollowingStrip", arguments, data, watches="follows")
        else:
            made = Driver("strip", "Strip", arguments, data)
        return with_longest(made, part)

    def simulation(self, part: Part) -> Simulation:
        if "pin" not in part.pins:
            return Simulation()
        at = part.pins["pin"].gpio
        return Simulation(probes={"on": Lights(at)})

    def needs(self, part: Part) -> Iterable[Need]:
        return [Need("pin", "output", timed=True, circuit="the data input of a strip")]


KIND = StripKind()
