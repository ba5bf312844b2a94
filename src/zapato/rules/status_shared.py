"""status-shared: an LED that shows the status by itself is driven by something else, too."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.source import Keys


def _drivers(design: Design, name: str) -> Iterator[tuple[Keys, str]]:
    """What else drives the LED: where it stands, and what it is."""
    for link in design.links:
        if any(command.part == name for command in link.commands):
            yield ("link", link.number - 1, "do"), f"link {link.number}"
    for part in design.with_role("group"):
        if name in part.values.get("of", ()):
            yield (*part.path, "of"), part.id


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("led"):
        if part.get("shows", "") != "status":
            continue
        for path, what in _drivers(design, part.name):
            yield design.finding(
                "status-shared",
                "warning",
                path,
                f"{what} drives {part.id}, which shows the status by itself: its blink code goes on, so the other state is never visible",
                why="the status is shown anew with every beat of its blink code.",
                fixes=("another LED for one of the two", f"no shows at {part.id}"),
            )


RULE = DesignRule(
    code="status-shared",
    family="links",
    severities=("warning",),
    title="an LED has two masters",
    story="""
An LED with `shows = "status"` blinks a code: no network, no broker, a fault. A link or a group that switches the same LED is undone at the
next beat, and a group that asks whether all of its parts are on never gets a true answer.
""",
    failing=device(
        '[led.state]\npin = 16\nshows = "status"\n[button.bell]\npin = 33\npull = "up"\n[[link]]\nwhen = "bell.pressed"\ndo = "state.on"'
    ),
    mended=device(
        '[led.state]\npin = 16\nshows = "status"\n[led.lamp]\npin = 17\n[button.bell]\npin = 33\npull = "up"\n[[link]]\nwhen = "bell.pressed"\ndo = "lamp.on"'
    ),
    find=_find,
)
