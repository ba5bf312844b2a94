"""feed-unknown: a part hangs on a rail or supply that does not exist."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.fields import nearest
from zapato.parts.electrical import INPUT, PIN, RAIL


def _find(design: Design) -> Iterator[Finding]:
    supplies = [part.name for part in design.with_role("supply")]
    for part in design.parts.values():
        feed = part.get("fed_from", "")
        known = [RAIL, INPUT, *supplies, *([PIN] if part.has_role("relay") else [])]
        if feed and feed not in known:
            yield design.finding(
                "feed-unknown",
                "error",
                (*part.path, "fed_from"),
                f'{part.id} hangs on "{feed}", and there is no such rail or supply',
                fixes=nearest(feed, known) or (f"there are: {', '.join(known)}",),
            )


RULE = DesignRule(
    code="feed-unknown",
    family="electrical",
    severities=("error",),
    title="a part hangs on a supply that does not exist",
    story="""
`fed_from` names what a part draws its current from: "3V3", what the board gives at 3.3 V; "5V", what feeds the board; or a
`[supply.name]` of the device file. A relay's coil may hang on "pin" itself, which is a mistake of its own.
""",
    failing=device(
        '[supply.bench]\nvoltage = "5V"\n[strip.rack]\nchip = "ws2812b"\npin = 13\ncount = 8\nlevel = "5V"\nfed_from = "bnech"'
    ),
    mended=device(
        '[supply.bench]\nvoltage = "5V"\n[strip.rack]\nchip = "ws2812b"\npin = 13\ncount = 8\nlevel = "5V"\nfed_from = "bench"'
    ),
    find=_find,
)
