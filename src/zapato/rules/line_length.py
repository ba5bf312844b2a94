"""line-length: a cable is longer than what it carries allows."""

from collections.abc import Iterator

from zapato.budgets.buses import i2c, serial_reach
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding, Severity

FAR = 15.0
"""m beyond which a serial link without drivers is an error; a link with RS-232 drivers goes so far (TIA-232-F, 2.1.3: 2,500 pF)."""
FARAD = 400e-12
"""F of an I2C line at the most (UM10204, table of the I/O stages)."""


def _find(design: Design) -> Iterator[Finding]:
    for part in design.with_role("uart"):
        reach, length = serial_reach(part), part.get("length", 0.0)
        if reach is None or length <= reach:
            continue
        driven = part.values.get("enable") is not None or part.get("rs485", False)
        severity: Severity = "error" if driven or length > FAR else "warning"
        yield design.finding(
            "line-length",
            severity,
            (*part.path, "length"),
            f"{part.id} is {length:g} m long, and {'RS-485' if driven else 'a serial link without drivers'} reaches {reach:g} m at {part.get('baud', 9600)} bits a second",
            why="a longer cable rounds the edges until bits are lost (TIA-485-A; TIA TSB-89: 10^8 bit m/s)."
            if driven
            else "the pin drives the cable's capacitance alone, and both ends must share one ground.",
            fixes=((f"baud = {round(1e8 / length, -2):.0f} or less",) if driven and length <= 1200 else ("an RS-485 driver at both ends, with `enable`, or rs485 = true where it turns by itself",)),
        )  # fmt: skip
    for bus in i2c(design):
        if bus.farad > FARAD:
            yield design.finding(
                "line-length",
                "warning",
                (*bus.bus.path, "length") if bus.bus.values.get("length") else bus.bus.path,
                f"a line of {bus.bus.id} has {bus.farad * 1e12:.0f} pF, and the bus bears {FARAD * 1e12:.0f} pF",
                why=f"{bus.chips + 1} pins of 10 pF, and {bus.length:g} m of wire with 100 pF a metre (UM10204, I2C-bus specification).",
                fixes=("shorter wires", "a second bus, or a buffer between (a differential one for metres)"),
                of="value" if bus.bus.values.get("length") else "key",
            )


_UART = '[uart.meter]\ntx = 17\nrx = 16\nbaud = 9600\nlength = "{}"'

RULE = DesignRule(
    code="line-length",
    family="buses",
    severities=("error", "warning"),
    title="the cable is longer than its signals go",
    story="""
A pin alone drives a serial line of some 2 m; more works on the bench and fails beside a motor. RS-485 goes 1,200 m at low rates, and as
far as the product of rate and length stays below 10^8 bit m/s. An I2C line may have 400 pF: some 3 m of cable, less each chip.
`zapato budget` shows the figures.
""",
    failing=device(_UART.format("300m")),
    mended=device(_UART.format("1m")),
    find=_find,
)
