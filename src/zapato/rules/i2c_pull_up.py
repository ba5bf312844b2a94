"""i2c-pull-up: the pull-ups of an I2C bus are too strong for its chips, or too weak for its speed."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.units import digits


def _find(design: Design) -> Iterator[Finding]:
    if not any(True for _ in design.with_role("i2c")):
        return
    from zapato.budgets.buses import SOURCE, i2c
    from zapato.budgets.eseries import above, below
    from zapato.parts.electrical import ohms
    from zapato.parts.segments import root

    def shown(ohm: float) -> str:
        return ohms(float(digits(ohm)))

    for bus in i2c(design):
        if bus.least <= bus.ohm <= bus.most or (bus.guessed and bus.ohm > bus.most):
            continue
        strong = bus.ohm < bus.least
        low, high = above(bus.least), below(max(bus.most, bus.least))
        whose = f"{bus.chips} breakouts with 10 kohm each" if bus.guessed else "its pull-ups"
        yield design.finding(
            "i2c-pull-up",
            "warning",
            (*bus.bus.path, "pull_ups") if not bus.guessed else bus.bus.path,
            f"{whose} make {shown(bus.ohm)} on {bus.bus.id}, "
            + (
                f"less than the {shown(bus.least)} that a chip can pull low"
                if strong
                else f"more than the {shown(bus.most)} with which a line rises in time"
            ),
            why=f"{bus.farad * 1e12:.0f} pF a line at {root(bus.bus).get('speed', 100e3) / 1000:g} kHz ({SOURCE}).",
            fixes=(
                f"{ohms(low)} to {ohms(high)} altogether",
                "a lower `speed`, shorter wires"
                if not strong
                else "pull-ups taken off some of the breakouts",
            ),
            of="value" if not bus.guessed else "key",
        )


RULE = DesignRule(
    code="i2c-pull-up",
    family="buses",
    severities=("warning",),
    title="the pull-ups of an I2C bus do not fit",
    story="""
A chip pulls an I2C line low, a resistor lets it rise. Too strong a resistor, and the chips cannot pull it down; too weak a one, and the line
does not rise in time for the clock. Most breakouts carry 10 kohm each: with many of them on one bus they are too strong together.
Capacitance is counted as 10 pF a chip and 100 pF a metre of wire (`length`).
""",
    failing=device(
        '[i2c.main]\nsda = 21\nscl = 22\nspeed = "400kHz"\npull_ups = "47kohm"\nlength = "1m"\n[sensor.sky]\nchip = "bh1750"\nbus = "main"'
    ),
    mended=device(
        '[i2c.main]\nsda = 21\nscl = 22\nspeed = "400kHz"\npull_ups = "2.2kohm"\nlength = "1m"\n[sensor.sky]\nchip = "bh1750"\nbus = "main"'
    ),
    find=_find,
)
