"""pin-output-only: a pin that must not be an input is used as one."""

from zapato.checks.rule import Incompatibility, PinRule, device
from zapato.design.design import Design, PinUse

OUTPUTS = {"mcp23017": ("7", "15")}
"""GPA7 and GPB7: an input there can disturb SDA (MCP23017 datasheet, revision D of 2022, Pin descriptions)."""
SOURCE = "MCP23017 datasheet, revision D, 1.0 Device Overview, note on GPA7 and GPB7"


def _incompatibility(use: PinUse, design: Design) -> Incompatibility | None:
    owner, _, number = use.pin.name.rpartition(".")
    part = design.parts.get(owner)
    if part is None or use.need.use == "output" or number not in OUTPUTS.get(part.get("chip", ""), ()):
        return None
    name = "GPA7" if number == "7" else "GPB7"
    return Incompatibility(
        "error",
        f"{use.pin.name} is {name} of the {part.get('chip', '')}, which must be an output, and {use.part.id} reads it",
        "a change at this pin while the bus reads can falsify the data line",
        SOURCE,
        (f'another pin of the expander, such as "{owner}.{int(number) - 1}"',),
    )


_BUS = '[i2c.main]\nsda = 21\nscl = 22\n[expander.io]\nchip = "mcp23017"\nbus = "main"\n[button.bell]\npin = "io.{}"\npull = "up"'

RULE = PinRule(
    code="pin-output-only",
    family="pins",
    severities=("error",),
    title="a pin that must be an output is read",
    story="""
Two pins of the MCP23017, GPA7 (number 7) and GPB7 (number 15), must only be outputs by the maker's newer datasheets: an input that changes
while the register is read can falsify what the bus carries. It works for weeks and then does not.
""",
    failing=device(_BUS.format(7)),
    mended=device(_BUS.format(6)),
    judge=_incompatibility,
)
