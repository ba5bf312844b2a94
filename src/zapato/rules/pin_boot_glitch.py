"""pin-boot-glitch: an output is switched on, or flickers, between power-up and the program's first line."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

_DOES = {
    "pull-up": "its internal pull-up is on",
    "high": "it is driven high",
    "pull-down": "its internal pull-down is on",
    "low": "it is driven low",
}


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    need, pin = use.need, use.pin
    if need.use != "output" or need.active is None or pin.console or need.field == "select":
        return None
    if _own_fitted(use, design):
        return _at_the_boards_own(use, design)
    severity = "warning" if need.clicks else "note"
    name = design.called(pin)
    if pin.reset == "signal":
        message = f"{name} sends pulses while the board starts, and {use.part.id} follows them"
        return Incompatibility(
            severity, message, "the chip's boot program uses this pin before the runtime is there", pin.source
        )
    if pin.reset_level != need.active:
        return None
    weak = pin.reset.startswith("pull")
    if weak and need.clicks and need.active == "low":
        return None  # 45 kohm to ground are no match for an input that is pulled up, and give an optocoupler 0.05 of its 2 mA
    does = (
        f"is pulled {need.active} from power-up on, which can switch"
        if weak
        else f"is {need.active} from power-up on, which switches"
    )
    message = f"{name} {does} {use.part.id} on until the program runs"
    why = f"from reset until the program sets the pin {_DOES[pin.reset]}"
    other = "low" if need.active == "high" else "high"
    return Incompatibility(
        severity, message, why, pin.source, (f'a part that is active {other}, with active = "{other}"',)
    )


def _at_the_boards_own(use: PinUse, design: Design) -> Incompatibility | None:
    """A relay that the maker put on a pin which is driven at power-up: it clicks, whatever the file says."""
    need, pin = use.need, use.pin
    pulses = pin.reset == "signal"
    if not need.clicks or not (pulses or (pin.reset == "high" and need.active == "high")):
        return None
    does = "sends pulses while the board starts" if pulses else "is high from power-up on"
    return Incompatibility(
        "warning",
        f"{design.called(pin)} {does}, and {use.part.id} is on until the program runs; the board's maker put it there",
        "from reset until the program sets the pin the chip drives it",
        pin.source,
        ("leave what must not start by itself off this relay, and use it for something harmless",),
    )


def _own_fitted(use: PinUse, design: Design) -> bool:
    """A part that the board's maker put on this pin: it cannot be moved."""
    fitted = design.board.fitted_on.get(use.pin.gpio) if design.board else None
    return fitted is not None and fitted.is_for(*use.part.kind.all_roles)


RULE = PinRule(
    code="pin-boot-glitch",
    family="pins",
    severities=("warning", "note"),
    title="the output is on, or flickers, while the board starts",
    story="""
Between power-up and the first line of the program pass some hundred milliseconds. The runtime sets
safe levels before anything else, but until then each pin does what the chip lays down: it floats,
is pulled up or down, or carries boot messages. A relay that is closed by a high level clicks on a
pin that is pulled up at reset. For a lamp that is a flash; for a gate or a pump it may matter.
""",
    failing=device("[relay.gate]\npin = 14"),
    mended=device("[relay.gate]\npin = 26"),
    judge=_incompatibility,
)
