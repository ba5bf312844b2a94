"""The radio of 433 MHz switches: a receiver module that puts codes on a pin, and a transmitter module that sends them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Any

from zapato.lang.fields import Wrong, measured, pin, whole
from zapato.parts.electrical import RAIL, Load, drawing, fed
from zapato.parts.kind import Action, Argument, Driver, Kind, Need, Part, Property, ScanEntry
from zapato.parts.scans import on_remotes
from zapato.parts.simulation import Probe, Simulation, Stimulus, World, WorldInput
from zapato.parts.stimuli import ReadAttached, SetAttached
from zapato.record import record

PULSE = 350
"""us of the shortest pulse: what the encoders' usual resistors make of it (PT2262 datasheet, oscillator; EV1527 datasheet)."""


def read_code(value: object) -> str:
    """The code of a button or a switch: 24 bits as six hexadecimal digits. Raises Wrong."""
    text = value.lower() if isinstance(value, str) else ""
    if not re.fullmatch(r"[0-9a-f]{6}", text):
        raise Wrong(
            'takes a code of 24 bits, six hexadecimal digits: "a3f012"',
            "zapato heard DEVICE --scan lists what came",
        )
    return text


def _read_felt(folder: object, value: object) -> str:
    return read_code(value)


FRAMES = 6
"""Times that a press sends the code; a flick is too short for more than one."""


@record(eq=False)
class CodeHeard(Stimulus):
    """A remote sends a code: the one that is set, or always `code`; for so many frames."""

    gpio: int
    code: str = ""
    times: int = FRAMES

    def put(self, world: World, value: Any, over: int = 0) -> None:
        for remote in world.attached("remote", self.gpio):
            remote.put("code", (self.code or value, self.times))


def sends(part: Part) -> bool:
    """Whether a receiver has a transmitter beside it."""
    return part.values.get("send") is not None


class ReceiverKind(Kind):
    """The radio of 433 MHz switches and hand-held remotes: it hears their codes, and sends them."""

    terminals = {"pin": "DATA", "send": "DATA of the transmitter"}
    name = "receiver"
    help = "the radio of 433 MHz switches and hand-held remotes: it hears their codes, and sends them"
    fields = (
        *fed('"3V3"'),
        pin("pin", "the data output of a receiver module", None),
        pin("send", "the data input of a transmitter module", None),
        measured("level", "the high level of the receiver module", "V", None, most=60),
        whole("pulse", "the shortest pulse that it sends, us", PULSE, least=100, most=1000),
    )
    events = {"received": "a code was received, known or not; once for each press"}
    actions = {
        "scan": Action(
            help="forget what was found, and remember the codes that come from now on",
            needs="a receiver module: pin = PIN",
        ),
        "send": Action(
            (Argument("code", "text"),),
            help="send this code, eight times in a row, as remotes do",
            needs="a transmitter: send = PIN",
        ),
    }
    wiring = (
        "A superheterodyne module at 3.3 V with 17 cm of wire as its antenna: the cheapest ones give noise without end while nobody "
        "sends, and cost the program time. One that wants 5 V needs a divider before the pin. Codes of 24 bits with fixed digits only: "
        "what changes its code with every press cannot be learned."
    )
    example = "[receiver.air]\npin = 27"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "code": Property("text", unknown=True, help="the code that came last, six hexadecimal digits"),
            "sent": Property("text", unknown=True, help="the code that was sent last"),
            "found": Property("text", unknown=True, help="the codes that came since the last scan began"),
        }

    def needs(self, part: Part) -> Iterable[Need]:
        if part.values.get("pin") is not None:
            circuit = "the data output of a receiver module"
            yield Need(
                "pin", "input", interrupt=True, timed=True, circuit=circuit, volts=part.get("level", 0.0)
            )
        if part.values.get("send") is not None:
            circuit = "the data input of a transmitter module"
            yield Need("send", "output", rest="low", active="high", timed=True, circuit=circuit)

    def requires(self, part: Part) -> Iterable[str]:
        return () if part.values.get("send") is not None else ("pin",)

    def actions_of(self, part: Part) -> Mapping[str, Action]:
        able = {"send": sends(part), "scan": part.values.get("pin") is not None}
        return {name: action for name, action in self.actions.items() if able[name]}

    def driver(self, part: Part) -> Driver:
        pins = {key: at.gpio for key, at in part.pins.items()}
        arguments = (pins.get("pin"), pins.get("send"), part.get("pulse", PULSE))
        return Driver("receiver", "Receiver", arguments, data=400)

    def simulation(self, part: Part) -> Simulation:
        sets: dict[str, Stimulus] = {}
        if "pin" in part.pins:
            at = part.pins["pin"].gpio
            sets = {"code": CodeHeard(at), "noise": SetAttached(("remote", at), "noise")}
        reads: dict[str, Probe] = {}
        if "send" in part.pins:
            beside = part.pins["pin"].gpio if "pin" in part.pins else -1
            reads["sent"] = ReadAttached(("plug", part.pins["send"].gpio, beside), "sent")
        return Simulation(
            probes=reads,
            stimuli=sets,
            inputs={"code": WorldInput("a3f012", _read_felt), "noise": WorldInput.number(500, 0, 10_000)},
        )

    def sights(self, part: Part, text: str) -> Iterable[ScanEntry]:
        return on_remotes(part, text)

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the receiver module", RAIL, 0.005)


KIND = ReceiverKind()
