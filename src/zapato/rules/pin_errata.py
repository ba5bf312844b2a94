"""pin-errata: a pin sees edges that are not there, by the chip's own list of faults."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

GLITCHING = (36, 39)
SOURCE = "ESP32 Series SoC Errata, 3.11: GPIO36 and GPIO39 are pulled down for some 80 ns when the converter or the touch sensor is powered"


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    board = design.board
    if board is None or board.chip.id != "esp32" or use.pin.gpio not in GLITCHING or not use.need.interrupt:
        return None
    users = [use.part.id for use in design.uses if use.need.use in ("analog", "touch")]
    if not users:
        return None
    return Incompatibility(
        "warning",
        f"{design.called(use.pin)} goes low for a moment whenever {users[0]} is measured, and {use.part.id} counts edges there",
        "each time the converter is switched on the pin is pulled down for some 80 ns",
        SOURCE,
        ("100 nF from the pin to ground, where its edges are slow",),
    )


RULE = PinRule(
    code="pin-errata",
    family="pins",
    severities=("warning",),
    title="the pin sees edges that are not there",
    story="""
A fault of the ESP32 that its maker lists: when the analog converter, the touch sensor or the Hall sensor is switched on, GPIO36 and GPIO39
are pulled down for some 80 ns. An interrupt there sees an edge. Other pins do not have it.
""",
    failing=device(
        '[sensor.flow]\nchip = "pulse"\npin = 36\npull = "none"\n[sensor.tank]\nchip = "analog"\npin = 34'
    ),
    mended=device('[sensor.flow]\nchip = "pulse"\npin = 25\n[sensor.tank]\nchip = "analog"\npin = 34'),
    judge=_incompatibility,
)
