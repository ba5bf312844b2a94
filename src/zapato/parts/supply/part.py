"""A supply: what feeds the board, or parts beside it. Nothing of it runs on the device."""

from __future__ import annotations

from zapato.lang.fields import REQUIRED, boolean, measured, span, text, whole
from zapato.parts.kind import Kind


class SupplyKind(Kind):
    """A power supply or a battery, for the budgets and the wiring sheet."""

    name = "supply"
    help = "a power supply or a battery, for the budgets and the wiring sheet"
    fields = (
        measured("voltage", "what it gives", "V", REQUIRED, least=0.5, most=60),
        measured("current", "its continuous current", "A", None, least=0.001, most=200),
        boolean("board", "it feeds the board, in place of a USB port"),
        text("input", 'the board\'s input that it feeds, where it has several: "VIN", "3V3"'),
        text("from", "the supply that it converts from, for a step-down or step-up converter"),
        whole("efficiency", "of a converter, %", 85, least=30, most=99),
        span("range", "its voltage from empty to full, where it is a battery", "V"),
        measured("battery", "the capacity, where it is a battery", "Ah", None, least=0.001, most=1000),
    )
    passive = True
    wiring = (
        "Its ground joined with the board's and with that of everything it feeds. Mains on its input: in an "
        "enclosure, apart from all that carries low voltage."
    )
    example = '[supply.strip]\nvoltage = "5V"\ncurrent = "10A"'


KIND = SupplyKind()
