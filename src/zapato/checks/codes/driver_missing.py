"""driver-missing: parts that the firmware cannot drive yet."""

from collections.abc import Iterator

from zapato.checks.model import Rule, device
from zapato.design.model import Design
from zapato.findings import Finding


def undriven(design: Design) -> tuple[str, ...]:
    """What of the device the firmware cannot drive yet: parts by their id, "[ethernet]", "tls"."""
    known = [part for part in design.parts.values() if part.kind.name != "sensor" or part.get("chip", "")]
    quiet = [part.id for part in known if not part.driven]
    board = design.board
    if board and board.ethernet and design.ethernet is not None and not (board.rmii or board.spi_ethernet):
        quiet.append("[ethernet]")
    if design.mqtt and design.mqtt.get("tls") and board and board.chip.port == "esp8266":
        quiet.append("tls")
    return tuple(quiet)


def _find(design: Design) -> Iterator[Finding]:
    quiet = undriven(design) if design.board else ()
    if quiet:
        yield design.finding(
            "driver-missing",
            "note",
            ("device",),
            f"the firmware does not drive yet: {', '.join(quiet)}",
            why="the device is checked whole, and zapato build refuses it until these can be driven.",
            of="key",
        )


RULE = Rule(
    code="driver-missing",
    family="reading",
    severities=("note",),
    title="the firmware cannot drive a part yet",
    story="""
The language knows more kinds of parts than the firmware of this version drives. Such a part is
checked like any other, so a design can be made now; the build refuses it by name.
""",
    failing=device("[spi.panel]\nsck = 18\nmosi = 23"),
    mended=device("[led.hall]\npin = 25"),
    find=_find,
)
