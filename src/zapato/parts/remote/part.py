"""A button of a hand-held remote, or a switched plug, by its 433 MHz code."""

from __future__ import annotations

from collections.abc import Mapping

from zapato.lang.fields import REQUIRED, Field, names
from zapato.parts.kind import Action, Driver, Kind, Part, Property
from zapato.parts.receiver.part import CodeHeard, read_code, sends
from zapato.parts.simulation import Simulation


class RemoteKind(Kind):
    """A button of a hand-held remote, or a switched plug, by its 433 MHz code."""

    name = "remote"
    help = "a button of a hand-held remote, or a switched plug, by its 433 MHz code"
    fields = (
        names("receiver", "the radio that hears or reaches it, [receiver.…]", REQUIRED, role="bus"),
        Field("code", read_code, {"type": "string"}, "its code, six hexadecimal digits", REQUIRED),
    )
    events = {"pressed": "its code came", "released": "its code has stopped coming"}
    actions = {"send": Action(help="send its code", needs="a transmitter: send = PIN at its receiver")}
    identified_by = "code"
    wiring = "Nothing to wire: zapato heard DEVICE --scan, press it, and the code is there."
    example = '[receiver.air]\npin = 27\n\n[remote.hall]\nreceiver = "air"\ncode = "a3f012"'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "down": Property("boolean", help="it is pressed at this moment, as far as its code keeps coming")
        }

    def actions_of(self, part: Part) -> Mapping[str, Action]:
        return self.actions if "receiver" in part.linked and sends(part.linked["receiver"]) else {}

    def driver(self, part: Part) -> Driver | None:
        if "receiver" not in part.linked:
            return None
        return Driver("remote", "Remote", (part.linked["receiver"].name, part.get("code", "")))

    def simulation(self, part: Part) -> Simulation:
        at = part.linked["receiver"].pins.get("pin") if "receiver" in part.linked else None
        if at is None:
            return Simulation()
        code = part.get("code", "")
        return Simulation(gestures={"press": CodeHeard(at.gpio, code), "flick": CodeHeard(at.gpio, code, 1)})

    def bus(self, part: Part) -> str:
        return "receiver"


KIND = RemoteKind()
