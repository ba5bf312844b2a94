"""current-pin, current-total: more flows through the chip's pins than they bear."""

from collections.abc import Iterator

from zapato.budgets.pin_currents import pin_currents, total
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.units import digits
from zapato.parts.electrical import PIN


def _find(design: Design) -> Iterator[Finding]:
    for pin_current in pin_currents(design):
        if pin_current.load.peak <= pin_current.bears:
            continue
        bare = pin_current.part.get("fed_from", "") == PIN
        fixes = (
            ("a relay board, or a transistor with a diode across the coil, between pin and coil",)
            if bare
            else ("a resistor in series that lets less flow", "a transistor between pin and load")
        )
        yield design.finding(
            "current-pin",
            "error",
            (*pin_current.part.path, "fed_from" if bare else pin_current.load.field),
            f"{pin_current.load.what} of {pin_current.part.id} takes {_ma(pin_current.load.peak)} from {design.called(pin_current.pin)}, which bears {_ma(pin_current.bears)}",
            why=f"the current: {pin_current.load.source}; what the pin bears: {pin_current.pin.source}.",
            fixes=fixes,
            pin=pin_current.pin,
        )


def _find_total(design: Design) -> Iterator[Finding]:
    chip = design.board.chip if design.board else None
    taken = total(design) if chip and chip.total else 0.0
    if chip and taken > chip.total:
        yield design.finding(
            "current-total",
            "error",
            ("device",),
            f"the outputs of this device take {_ma(taken)} together, and the chip gives {_ma(chip.total)}",
            why=f"{chip.sources.get('total', '')}.",
            fixes=(
                "transistors, or a driver chip, between pins and loads",
                "resistors in series that let less flow",
            ),
            of="key",
        )


def _ma(amps: float) -> str:
    return f"{digits(amps * 1000)} mA"


_LED = '[led.l{n}]\npin = {pin}\nresistor = "150ohm"\n'
_MANY = "".join(_LED.format(n=n, pin=pin) for n, pin in enumerate((2, 3, 4, 5, 6, 7, 8)))

RULES = (
    DesignRule(
        code="current-pin",
        family="electrical",
        severities=("error",),
        title="a pin drives more than it bears",
        story="""
A pin is a small transistor: some 10 to 20 mA, for a short time a little more. The coil of a relay takes 30 to 80, an LED without
a resistor as much as the pin can be made to give. Such a pin gets weaker, then fails, and can destroy the chip.
Currents are those of the device file (`current`, `coil`, `resistor`), or the usual ones, which `zapato budget` lists.
""",
        failing=device('[relay.heater]\npin = 26\ncoil = "72mA"\nfed_from = "pin"'),
        mended=device('[relay.heater]\npin = 26\ncoil = "72mA"\nfed_from = "5V"'),
        find=_find,
    ),
    DesignRule(
        code="current-total",
        family="electrical",
        severities=("error",),
        title="all pins together drive more than the chip bears",
        story="""
Each pin bears its own current, and the chip all of them together only so much: its supply pins and the wires inside it are
made for that.
""",
        failing=device(_MANY, "rp2040w-40pin"),
        mended=device(_MANY.replace("150ohm", "680ohm"), "rp2040w-40pin"),
        find=_find_total,
    ),
)
