"""serial-missing: several chips on a one-wire line, and one of them does not say which it is."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    for bus in design.with_role("onewire"):
        on_it = [part for part in design.parts.values() if part.linked.get("bus") is bus]
        if len(on_it) < 2:
            continue
        for part in on_it:
            if not part.values.get("serial"):
                others = ", ".join(part_on_line.name for part_on_line in on_it if part_on_line is not part)
                yield design.finding(
                    "serial-missing",
                    "error",
                    part.path,
                    f"{part.id} shares {bus.name} with {others}, and does not say which chip it is",
                    why="all chips of a one-wire line hear every call; only its serial number tells one from the others (DS18B20 datasheet, 64-Bit Lasered ROM Code).",
                    fixes=("serial = the 16 digits that the scan in the log shows; zapato heard writes them into the file", "a line of its own"),
                    of="key",
                )  # fmt: skip


_LINE = '[onewire.boiler]\npin = 25\npull_up = "4.7kohm"\n[sensor.flow]\nchip = "ds18b20"\nbus = "boiler"\nserial = "28ff641e0f43c451"\n[sensor.back]\nchip = "ds18b20"\nbus = "boiler"\n'

RULE = DesignRule(
    code="serial-missing",
    family="buses",
    severities=("error",),
    title="one of several chips on a line has no serial number",
    story="""
With one sensor on a one-wire line its number need not be known: whoever answers is meant. With two, both would answer. The program then
reads neither and says so, so `check` reports it first.
""",
    failing=device(_LINE),
    mended=device(_LINE + 'serial = "28ff641e0f43c50f"'),
    find=_find,
)
