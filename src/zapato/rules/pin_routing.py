"""pin-routing: the chip's bus controllers do not reach this pin, or not these pins together."""

from collections.abc import Iterator

from zapato.boards.board import Chip
from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse
from zapato.findings import Finding


def reachable(chip: Chip, controller: str) -> set[int] | None:
    """The pins that some controller of the chip reaches for a function such as "uart.tx"; None where all."""
    routes = chip.routes.get(controller)
    return None if routes is None else {gpio for pins in routes.values() for gpio in pins}


def controllers(chip: Chip, uses: list[PinUse]) -> set[int] | None:
    """The controllers that reach all these pins at once; None where any does."""
    numbers: set[int] | None = None
    for use in uses:
        routes = chip.routes.get(use.need.controller)
        if routes is not None:
            own = {number for number, pins in routes.items() if use.pin.gpio in pins}
            numbers = own if numbers is None else numbers & own
    return numbers


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    if not use.need.controller or design.board is None:
        return None
    chip = design.board.chip
    reached = reachable(chip, use.need.controller)
    if reached is None or use.pin.gpio in reached:
        return None
    function = use.need.controller.replace(".", " ")
    message = (
        f"no controller of the {chip.title} reaches {design.called(use.pin)} as {function} for {use.part.id}"
    )
    return Incompatibility(
        "error",
        message,
        chip.why.get("routing", "the controllers are wired to fixed pins"),
        chip.routes_source,
    )


def _find(design: Design) -> Iterator[Finding]:
    if design.board is None or not design.board.chip.routes:
        return
    chip = design.board.chip
    for part in design.parts.values():
        uses = [use for use in design.uses if use.part is part and use.need.controller]
        alone = [controllers(chip, [use]) for use in uses]
        if uses and controllers(chip, uses) == set() and all(reached != set() for reached in alone):
            first, last = uses[0], uses[-1]
            pairs = _pairs(chip, uses)
            yield design.finding(
                "pin-routing",
                "error",
                last.path,
                f"{design.called(first.pin)} and {design.called(last.pin)} belong to different controllers, so they cannot be one {part.kind.name}",
                why=f"{chip.why.get('routing', '')} ({chip.routes_source}).",
                fixes=(f"pins that go with {design.called(first.pin)}: {pairs}",) if pairs else (),
                pin=last.pin,
            )


def _pairs(chip: Chip, uses: list[PinUse]) -> str:
    """The pins that would do for the last use, given the first."""
    own = controllers(chip, uses[:1]) or set()
    routes = chip.routes.get(uses[-1].need.controller, {})
    return ", ".join(str(gpio) for number in sorted(own) for gpio in routes.get(number, ()))


RULE = PinRule(
    code="pin-routing",
    family="pins",
    severities=("error",),
    title="the bus controllers do not reach these pins",
    story="""
Serial, SPI and I2C controllers are circuits of their own inside the chip. On the ESP32 family a
switchboard connects them to nearly any pin. On the RP2040 and the ESP8266 each controller reaches
fixed pins only, and the pins of one bus must belong to the same controller: UART 0 sends on GPIO0,
12 or 16 and receives on GPIO1, 13 or 17, and never with a pin of UART 1.
""",
    failing=device("[uart.meter]\ntx = 4\nrx = 1\nbaud = 9600", "rp2040w-40pin"),
    mended=device("[uart.meter]\ntx = 4\nrx = 5\nbaud = 9600", "rp2040w-40pin"),
    find=_find,
    judge=_incompatibility,
)
