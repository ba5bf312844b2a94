"""ethernet-missing: a wired network on a board that has none."""

from collections.abc import Iterator

from zapato.boards import boards
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    board = design.board
    if design.ethernet is None or board is None or board.rmii or board.spi_ethernet:
        return
    having = ", ".join(board.id for board in boards() if board.rmii or board.spi_ethernet)
    fixes = (f"boards with Ethernet: {having}", "[wifi] in place of [ethernet]")
    message = f"the board {board.id} has no Ethernet"
    why = "a wired network needs a chip of its own, on pins that a board has wired to it."
    if board.ethernet:
        message = f"how the Ethernet chip of {board.id} is wired is not known"
        why = "which of its lines is on which pin is not published, and a wrong guess could damage the board."
        fixes = ("measure it, and say it in a board of the site: [spi_ethernet]", *fixes)
    yield design.finding("ethernet-missing", "error", ("ethernet",), message, why=why, fixes=fixes, of="key")


_BODY = '[ethernet]\naddress = "192.168.4.20"\n\n[relay.pump]\npin = {}'

RULE = DesignRule(
    code="ethernet-missing",
    family="network",
    severities=("error",),
    title="the board has no Ethernet",
    story="""
[ethernet] says that the device is wired. The board must carry an Ethernet chip; on any other the
firmware would wait for a link that never comes, and what the radio takes would have to be counted
after all. Where a board has such a chip and nobody has published how it is wired, a board of the site says
it, in a table [spi_ethernet].
""",
    failing=device(_BODY.format(26)),
    mended=device(_BODY.format(4), "esp32-poe"),
    find=_find,
)
