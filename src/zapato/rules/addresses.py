"""address-taken, address-unsupported: chips on a bus that cannot be told apart, or not have their address."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.kind import Part
from zapato.parts.segments import connected

_BUS = "[i2c.main]\nsda = 21\nscl = 22\n\n"


def _address(part: Part) -> int | None:
    """The address a part has: the one given, else its chip's usual one."""
    own = part.kind.addresses(part)
    return part.get("address", own[0] if own else None)


def _taken(design: Design) -> Iterator[Finding]:
    seen: list[tuple[Part, int, Part]] = []
    for part in design.parts.values():
        bus, address = part.linked.get("bus"), _address(part)
        if bus is None or address is None or not bus.has_role("i2c"):
            continue
        heard = [row for row in seen if connected(row[0], bus)]
        seen.append((bus, address, part))
        where, other = next(((its, them) for its, taken, them in heard if taken == address), (bus, None))
        if other:
            used = {taken for _, taken, _ in heard}
            free = [f"0x{address:02x}" for address in part.kind.addresses(part) if address not in used]
            at = bus.name if where is bus else f"{bus.name} and {where.name}, which are connected"
            yield design.finding(
                "address-taken",
                "error",
                (*part.path, "address"),
                f"{part.id} and {other.id} both have the address 0x{address:02x} on {at}",
                why="both chips would answer at once (NXP UM10204, The I2C-bus protocol: each device has a unique address).",
                fixes=(
                    f"address = {free[0]}, set by the pins of its breakout"
                    if free
                    else "a second bus for it, or a channel of a multiplexer",
                    "" if free else f"[i2c.{bus.name}_2]",
                ),
            )


def _unsupported(design: Design) -> Iterator[Finding]:
    for part in design.parts.values():
        given, own = part.values.get("address"), part.kind.addresses(part)
        if given is not None and own and given not in own:
            can = ", ".join(f"0x{address:02x}" for address in own)
            yield design.finding(
                "address-unsupported",
                "error",
                (*part.path, "address"),
                f"a {part.get('chip', '')} cannot have the address 0x{given:02x}",
                why="the address is fixed in the chip, except for what its address pins select.",
                fixes=(f"addresses it can have: {can}",),
            )


RULES = (
    DesignRule(
        code="address-taken",
        family="buses",
        severities=("error",),
        title="two chips have the same address on one bus",
        story="""
All chips of an I2C bus hear every message and answer to their address. Two with the same address
answer at once and corrupt each other's bits. Most chips have a pin that selects another address;
where all are used up, the second chip needs a second bus, or a channel of a multiplexer. A chip
in a channel hears what is said on the multiplexer's own bus, too, but nothing of other channels.
""",
        failing=device(
            _BUS
            + '[sensor.inside]\nchip = "bme280"\nbus = "main"\n\n[sensor.outside]\nchip = "bme280"\nbus = "main"'
        ),
        mended=device(
            _BUS
            + '[sensor.inside]\nchip = "bme280"\nbus = "main"\n\n[sensor.outside]\nchip = "bme280"\nbus = "main"\naddress = 0x77'
        ),
        find=_taken,
    ),
    DesignRule(
        code="address-unsupported",
        family="buses",
        severities=("error",),
        title="the chip cannot have this address",
        story="""
The address of a chip is fixed in its silicon; one or more pins select among a few. An address
outside that range never answers. Addresses stand in hexadecimal in datasheets: 23 is not 0x23.
""",
        failing=device(_BUS + '[sensor.daylight]\nchip = "bh1750"\nbus = "main"\naddress = 23'),
        mended=device(_BUS + '[sensor.daylight]\nchip = "bh1750"\nbus = "main"\naddress = 0x23'),
        find=_unsupported,
    ),
)
