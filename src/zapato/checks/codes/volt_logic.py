"""volt-logic: a part puts a higher level on the pin than the chip bears."""

from zapato.checks.model import Objection, Rule, device
from zapato.design.model import Design, PinUse


def _objection(use: PinUse, design: Design) -> Objection | None:
    if design.board is None or not use.need.volts:
        return None
    chip = design.board.chip
    most = use.pin.bears or chip.input_most
    if use.pin.gpio >= 0 and use.need.volts < chip.input_high:
        message = f"{use.part.id} puts {use.need.volts:g} V on {design.called(use.pin)}, which reads high from {chip.input_high:g} V on"
        why = "a level below the threshold reads low, or now this and now that"
        return Objection(
            "error", message, why, chip.sources.get("levels", ""), ("a level shifter between them",)
        )
    if use.need.volts <= most:
        return None
    message = f"{use.part.id} puts {use.need.volts:g} V on {design.called(use.pin)}, which bears {most:g} V"
    source = use.pin.source if use.pin.bears else chip.sources.get("levels", "")
    why = "a level above the supply flows through the pin's protection into it"
    fixes = (
        "a level shifter between them",
        f"a divider: 10 kΩ in series, {_lower(use.need.volts, most)} kΩ to ground",
    )
    return Objection("error", message, why, source, fixes)


def _lower(volts: float, most: float) -> str:
    """The lower resistor, in kΩ, that brings `volts` to 3.3 V behind 10 kΩ, rounded down to E12 steps."""
    wanted = 10 * 3.3 / (volts - 3.3)
    steps = (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2, 10, 12, 15, 18, 22, 27, 33, 39, 47)
    return f"{max((s for s in steps if s <= wanted), default=steps[0]):g}"


RULE = Rule(
    code="volt-logic",
    family="electrical",
    severities=("error",),
    title="the part's level is higher than the chip bears",
    story="""
The chips of the catalogue run at 3.3 V and bear about 3.6 V at their pins. A motion sensor with a
5 V output, the TX of a 5 V meter or a 12 V contact line needs a level shifter, a divider or an
optocoupler in between; a 1.8 V part needs a shifter, too, since its high is no high to the chip. State the part's high level with `level`, and it is checked.
""",
    failing=device('[motion.path]\npin = 27\nlevel = "5V"'),
    mended=device('[motion.path]\npin = 27\nlevel = "3.3V"'),
    objection=_objection,
)
