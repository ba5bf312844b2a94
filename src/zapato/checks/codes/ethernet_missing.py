"""ethernet-missing: a wired network on a board that has none."""

from collections.abc import Iterator

from zapato.boards import boards
from zapato.checks.model import Rule, device
from zapato.design.model import Design
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    if design.ethernet is None or design.board is None or design.board.ethernet:
        return
    having = ", ".join(board.id for board in boards() if board.ethernet)
    yield design.finding(
        "ethernet-missing",
        "error",
        ("ethernet",),
        f"the board {design.board.id} has no Ethernet",
        why="a wired network needs a chip of its own, on pins that a board has wired to it.",
        fixes=(f"boards with Ethernet: {having}", "[wifi] in place of [ethernet]"),
        of="key",
    )


_BODY = '[ethernet]\naddress = "192.168.4.20"\n\n[relay.pump]\npin = {}'

RULE = Rule(
    code="ethernet-missing",
    family="network",
    severities=("error",),
    title="the board has no Ethernet",
    story="""
[ethernet] says that the device is wired. The board must carry an Ethernet chip; on any other the
firmware would wait for a link that never comes, and what the radio takes would have to be counted
after all.
""",
    failing=device(_BODY.format(26)),
    mended=device(_BODY.format(4), "esp32-poe"),
    find=_find,
)
