"""card-boot-pin: a card's pull-up holds a pin high that the chip reads low at reset."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

LINES = ("miso", "mosi", "select")
"""Lines of a slot that carry a pull-up: DAT0 and CMD on the module, CS inside the card."""
SOURCE = "SD Physical Layer Simplified Specification, 6.3: pull-ups of 10 kohm to 100 kohm on CMD and DAT; 50 kohm inside the card on DAT3"


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("card"):
        bus = part.linked.get("bus")
        pins = {**(bus.pins if bus else {}), **part.pins}
        for line in LINES:
            pin = pins.get(line)
            if (
                pin is None
                or pin.boot is None
                or pin.boot.level != "low"
                or pin.boot.when not in ("start", "download")
            ):
                continue
            owner = part if line in part.pins else bus
            assert owner
            start = pin.boot.when == "start"
            yield design.finding(
                "card-boot-pin",
                "error" if start else "warning",
                (*owner.path, line),
                f"{design.called(pin)} must be low at reset, and the pull-up of {part.id} on {line.upper()} holds it high",
                why=f"{pin.boot.why} ({pin.source}; {SOURCE}).",
                fixes=(
                    "another pin for this line",
                    "" if start else "pull the card out while the program is written",
                ),
                pin=pin,
            )


_BODY = '[spi.slot]\nsck = 18\nmosi = 23\nmiso = {}\n\n[number.depth]\n\n[card.log]\nbus = "slot"\nselect = 27\nkeeps = ["depth.value"]'

RULE = DesignRule(
    code="card-boot-pin",
    family="pins",
    severities=("error", "warning"),
    title="a card's pull-up holds a boot pin at the wrong level",
    story="""
An SD card has pull-ups on its lines, inside it and on its slot. On the ESP32 GPIO12 decides at reset between 3.3 V and 1.8 V for the
flash: held high by a card's data line the board does not start as long as the card is in. GPIO2 must be low for the serial writer.
""",
    failing=device(_BODY.format(12)),
    mended=device(_BODY.format(19)),
    find=_find,
)
