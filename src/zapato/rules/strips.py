"""strip-order, strip-slow, strip-drop, strip-level-shift: strips of addressable LEDs that are too long, or fed or told the wrong way."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding, Severity

HIGH = 0.7
"""The share of its supply from which on a strip reads a high level (WS2812B datasheet, V_IH)."""


def _slow(design: Design) -> Iterator[Finding]:
    for part in design.with_role("strip"):
        from zapato.budgets.strips import OWN_PACE, frame_time, split
        from zapato.parts.strip.part import order

        count, colours = part.get("count", 1), len(order(part))
        took = frame_time(count, colours)
        if took > 1 / OWN_PACE:
            yield design.finding(
                "strip-slow",
                "warning",
                (*part.path, "count"),
                f"a frame of {count} LEDs takes {took * 1000:.0f} ms: {1 / took:.0f} a second, so effects are not smooth",
                why=f"{8 * colours} bits at 800 kHz are {10 * colours} us an LED, one after the other (WS2812B datasheet, data transfer time).",
                fixes=(
                    f"split over {split(count, OWN_PACE, colours)} pins for {OWN_PACE:g} frames a second, over {split(count, colours=colours)} for 60",
                ),
            )


def _drop(design: Design) -> Iterator[Finding]:
    if not any(True for _ in design.with_role("strip")):
        return
    from zapato.budgets.strips import DROP, NEEDS, strips

    for strip in strips(design):
        if strip.lost <= DROP:
            continue
        end, fed = min(strip.volts), strip.part.get("feeds", 1)
        where = "fed at one end" if fed == 1 else f"fed at {fed} places"
        severity: Severity = (
            "error" if strip.supply <= 6 and end < NEEDS and strip.part.values.get("length") else "warning"
        )
        dark = f", and its LEDs need {NEEDS} V" if strip.supply <= 6 and end < NEEDS else ""
        yield design.finding(
            "strip-drop",
            severity,
            strip.part.path,
            f"{where}, {strip.part.id} has {max(0.0, end):.1f} of {strip.supply:g} V left at its worst place at its limit{dark}",
            why=f"{strip.amps:.1f} A flow through two copper rails of 0.06 ohm a metre; the far end turns red, then dark.",
            fixes=(
                *(
                    (f"feeds = {strip.feeds}: fed in at {strip.feeds} places, evenly, both ends among them",)
                    if strip.feeds > fed
                    else ()
                ),
                *(
                    (f"wires of {strip.wire:g} mm2 from the supply",)
                    if strip.wire
                    else ("a supply nearer to the strip",)
                ),
                "a lower `limit`",
            ),
            of="key",
        )


def _level(design: Design) -> Iterator[Finding]:
    board = design.board
    for part in design.with_role("strip"):
        from zapato.parts.strip.part import runs_on

        logic = part.get("level", board.chip.logic if board else 3.3)
        supply = min(runs_on(part), 5.0)
        fitted = board.fitted_on.get(part.pins["pin"].gpio) if board and "pin" in part.pins else None
        if fitted and fitted.is_for("strip"):
            continue  # the board's maker has seen to it
        if logic < HIGH * supply:
            yield design.finding(
                "strip-level-shift",
                "warning",
                (*part.path, "pin"),
                f"{part.id} wants {HIGH * supply:.1f} V for a high level, and the pin gives {logic:g} V",
                why="a strip reads high from 0.7 of its own supply on (WS2812B datasheet, V_IH); below that it works on the bench and flickers on the wall.",
                fixes=(
                    'a 74HCT gate at 5 V between pin and strip, then level = "5V"',
                    'the strip at 4.5 V: supply = "4.5V"',
                ),
            )


def _white(design: Design) -> Iterator[Finding]:
    for part in design.with_role("strip"):
        from zapato.parts.strip.part import order

        chip = part.get("chip", "ws2812b")
        if "w" in order(part) and chip != "sk6812":
            yield design.finding(
                "strip-order",
                "error",
                (*part.path, "order"),
                f"a {chip} has no white LED, and order is {order(part)}",
                why="with a fourth colour each LED would take the bytes of the next: colours run along the strip.",
                fixes=(f'order = "{order(part)[:3]}"', 'chip = "sk6812", where the strip has white LEDs'),
            )


_FED = '[supply.strip]\nvoltage = "5V"\ncurrent = "40A"\n'
_STRIP = '[strip.rack]\nchip = "ws2812b"\npin = 13\ncount = {count}\nfed_from = "strip"\nlimit = {limit}\nlevel = "5V"\nlength = "{length}m"'

RULES = (
    DesignRule(
        code="strip-order",
        family="electrical",
        severities=("error",),
        title="a fourth colour for a chip that has three",
        story="""
Each LED of a strip takes its bytes from the wire and hands on the rest: three of them, or four where a white LED stands beside red, green
and blue, as an SK6812 can have it (its 32-bit kind). One byte too many for each, and the colours run along the strip.
""",
        failing=device(_FED + _STRIP.format(count=20, limit=1, length=1) + '\norder = "grbw"'),
        mended=device(_FED + _STRIP.format(count=20, limit=1, length=1) + '\norder = "rgb"'),
        find=_white,
    ),
    DesignRule(
        code="strip-slow",
        family="electrical",
        severities=("warning",),
        title="a frame of the strip takes too long",
        story="""
A strip gets its data LED by LED: 30 us each and a pause at the end. Up to 1,300 LEDs on one pin the device draws its own effects in time,
25 frames a second; for movement that is smooth for everybody it is 540.
""",
        failing=device(_FED + _STRIP.format(count=1500, limit=1, length=5)),
        mended=device(_FED + _STRIP.format(count=600, limit=1, length=5)),
        find=_slow,
    ),
    DesignRule(
        code="strip-drop",
        family="electrical",
        severities=("error", "warning"),
        title="the far end of the strip gets too little voltage",
        story="""
The copper of a strip is thin: some 0.06 ohm a metre on each of its two rails. At full white 60 LEDs take 3.6 A, so of 5 V a metre leaves
4.8, two metres 4.1, three metres less than the LEDs need: blue goes first, then green, and the end turns red. The voltage is worked out
LED by LED, at the strip's brightness limit and with its `length`.
""",
        failing=device(_FED + _STRIP.format(count=300, limit=60, length=5)),
        mended=device(_FED + _STRIP.format(count=300, limit=3, length=5)),
        find=_drop,
    ),
    DesignRule(
        code="strip-level-shift",
        family="electrical",
        severities=("warning",),
        title="3.3 V of data into a strip of 5 V",
        story="""
The strip takes a level for high from 0.7 of its own supply on: 3.5 V at 5 V. A pin gives 3.3 V. Many strips work all the same, on a short
wire, when they are warm, until they do not. A gate of the 74HCT family at 5 V reads from 2 V on and gives 5 V; say so with `level = "5V"`.
""",
        failing=device('[strip.rack]\nchip = "ws2812b"\npin = 13\ncount = 8'),
        mended=device('[strip.rack]\nchip = "ws2812b"\npin = 13\ncount = 8\nlevel = "5V"'),
        find=_level,
    ),
)
