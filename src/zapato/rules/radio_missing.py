"""radio-missing: a chip that has no Bluetooth is to listen for it."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

_BODY = "[radio.air]\nweakest = -85"


def _find(design: Design) -> Iterator[Finding]:
    board = design.board
    for part in design.with_role("radio") if board and not board.chip.bluetooth else ():
        yield design.finding(
            "radio-missing",
            "error",
            part.path,
            f"the {board.chip.title if board else 'chip'} has no Bluetooth radio",
            why="beacons and battery sensors advertise over Bluetooth LE, which this chip cannot hear.",
            fixes=("a board with bluetooth: zapato boards --needs bluetooth",),
            of="key",
        )
    more = list(design.with_role("radio"))[1:]
    for part in more:
        message = f"[{part.id}] is a second radio, and the chip has one"
        yield design.finding(
            "radio-missing", "error", part.path, message, fixes=("one [radio.…] for all beacons",), of="key"
        )


RULE = DesignRule(
    code="radio-missing",
    family="resources",
    severities=("error",),
    title="the chip has no Bluetooth radio",
    story="""
Beacons, tags and thermometers on a battery advertise over Bluetooth LE, not over Wi-Fi. The ESP8266 and the ESP32-S2 have no radio for
it; the other chips of the catalogue do. One radio listens for all beacons of a device.
""",
    failing=device(_BODY, "esp8266-30pin"),
    mended=device(_BODY),
    find=_find,
)
