"""fitted-unreached: something on the board that the vendors' image has no driver for."""

from collections.abc import Iterator, Mapping

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

UNREACHED: Mapping[str, str] = {
    "camera": "pictures need a camera driver, and the vendors' MicroPython image has none"
}
"""Fitted parts that the firmware leaves alone, and why."""


def _find(design: Design) -> Iterator[Finding]:
    fitted = design.board.fitted_on.values() if design.board else ()
    for fitted_part in {part.name: part for part in fitted if part.name in UNREACHED}.values():
        yield design.finding(
            "fitted-unreached",
            "note",
            ("device", "board"),
            f"{fitted_part.what} of this board is out of the firmware's reach",
            why=f"{UNREACHED[fitted_part.name]}. Its pins stay taken; the board's other parts, such as lamp and LED, run.",
        )


RULE = DesignRule(
    code="fitted-unreached",
    family="pins",
    severities=("note",),
    title="something on the board that the firmware cannot reach",
    story="""
The firmware runs on the vendors' own MicroPython image. A camera needs a driver that is not in it, so
no device file can ask for pictures; what else such a board has, its lamp, its status LED, its free
pins, works like on any other board.
""",
    failing=device("[led.lamp]\npin = 4", "esp32-camera"),
    mended=device("[led.lamp]\npin = 4", "esp32-38pin"),
    find=_find,
)
