"""coil-diode: a coil hangs on a pin, and nothing takes its current when it is switched off."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.electrical import PIN


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("relay"):
        if part.get("fed_from", "") == PIN and not part.get("diode", False):
            yield design.finding(
                "coil-diode",
                "error",
                (*part.path, "fed_from"),
                f"the coil of {part.id} hangs on the pin, and no diode takes its current when it is switched off",
                why="the current of a coil cannot stop at once: without a way round it drives the pin far below ground or above its supply.",
                fixes=("use a relay board, or a transistor with its diode, and remove fed_from", "solder a diode across the coil, cathode to plus, and write diode = true"),
            )  # fmt: skip


RULE = DesignRule(
    code="coil-diode",
    family="electrical",
    severities=("error",),
    title="a coil without a diode on a pin",
    story="""
When a coil is switched off its current flows on for a moment, wherever it can. A diode across the coil gives it a way; without one the
voltage rises until something else does, mostly the pin. Relay boards have the diode. For a bare coil of a few mA on a pin (a reed relay)
it is fitted beside it: `diode = true` says so.
""",
    failing=device('[relay.reed]\npin = 26\ncoil = "8mA"\nfed_from = "pin"'),
    mended=device('[relay.reed]\npin = 26\ncoil = "8mA"\nfed_from = "pin"\ndiode = true'),
    find=_find,
)
