"""onewire-pull-up: the resistor of a one-wire line is missing or does not fit."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.electrical import ohms

LEAST, MOST = 1_000.0, 10_000.0
_SOURCE = "DS18B20 datasheet, Hardware Configuration: an external pull-up of about 5 kohm"


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("onewire"):
        ohm = part.values.get("pull_up")
        why = f"no part of a one-wire bus ever drives the line high; the resistor does ({_SOURCE})."
        fixes = ('fit 4.7 kohm from the data line to 3.3 V, and say pull_up = "4.7kohm"',)
        if ohm is None:
            message = f"{part.id} names no pull-up resistor, and the line needs one"
            yield design.finding(
                "onewire-pull-up", "warning", part.path, message, why=why, fixes=fixes, of="key"
            )
        elif not LEAST <= ohm <= MOST:
            size = "small" if ohm < LEAST else "large"
            message = f"a pull-up of {ohms(ohm)} is too {size} for a one-wire line"
            yield design.finding(
                "onewire-pull-up", "warning", (*part.path, "pull_up"), message, why=why, fixes=fixes
            )


RULE = DesignRule(
    code="onewire-pull-up",
    family="buses",
    severities=("warning",),
    title="the one-wire line needs its pull-up resistor",
    story="""
On a one-wire bus every part only ever pulls the line low; a resistor to 3.3 V brings it back up.
The chip's internal pull-up (some tens of kilo-ohms) is too weak for the edges. 4.7 kohm is usual;
with long lines or many sensors somewhat less. Some breakouts carry the resistor already: measure,
and say so with pull_up.
""",
    failing=device("[onewire.outlet]\npin = 27"),
    mended=device('[onewire.outlet]\npin = 27\npull_up = "4.7kohm"'),
    find=_find,
)
