"""board-wants: what a bare module needs on its pins before it starts."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    if design.board is None or not design.board.wants:
        return
    yield design.finding(
        "board-wants",
        "note",
        ("device", "board"),
        f"this module starts only with its resistors: {', '.join(design.board.wants)}",
        why=f"the chip reads these pins at power-up, and nothing on the module holds them ({design.board.chip.sources.get('strap', '')}).",
        fixes=("use a carrier board that has these resistors", "solder the resistors to the pads"),
    )


RULE = DesignRule(
    code="board-wants",
    family="pins",
    severities=("note",),
    title="a bare module needs resistors around it",
    story="""
On a development board the boot pins have their resistors. A bare module has none, and without them
it starts by chance. The note names each resistor.
""",
    failing=device("[relay.lamp]\npin = 5", "esp8266-22pad"),
    mended=device("[relay.lamp]\npin = 5", "esp8266-30pin"),
    find=_find,
)
