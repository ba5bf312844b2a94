"""card-unfit: a card's file system on a chip that has no memory for it."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

_BODY = (
    "[spi.slot]\nsck = 18\nmosi = 23\nmiso = 19\n\n[number.depth]\n\n"
    '[card.log]\nbus = "slot"\nselect = {}\nkeeps = ["depth.value"]'
)


def _find(design: Design) -> Iterator[Finding]:
    if design.board is None or design.board.chip.port != "esp8266":
        return
    for part in design.with_role("card"):
        yield design.finding(
            "card-unfit",
            "error",
            part.path,
            f"{part.id} asks for a file system on a card, and the {design.board.chip.title} has no memory for it",
            why=(
                "the file system and an open file hold 600 bytes each, and the driver, the table and its texts some "
                "6 KiB more, of 36 KiB for everything."
            ),
            fixes=(
                "a board with an ESP32 or RP2040",
                "publish the values over MQTT instead: zapato hub keeps their history",
            ),
            of="key",
        )


RULE = DesignRule(
    code="card-unfit",
    family="resources",
    severities=("error",),
    title="the chip has no memory for a card's file system",
    story="""
A card as it is bought has FAT, whose tables are read and written in blocks of 512 bytes, two of them at a
time (MicroPython, lib/oofatfs: FATFS and FIL). Beside network and broker the smallest chip has no room
for that.
""",
    failing=device(_BODY.format(4), "esp8266-30pin"),
    mended=device(_BODY.format(27)),
    find=_find,
)
