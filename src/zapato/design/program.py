"""What of the runtime a design needs on its device."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from zapato.design.design import Design, once
from zapato.design.scope import HOURS
from zapato.design.serial import serial_controllers
from zapato.lang.expressions import Expression, compile_expression
from zapato.lang.hours import CLOCK
from zapato.lang.source import Keys
from zapato.parts.kind import Driver, Part
from zapato.parts.modules import with_imports


@once
def drivers(design: Design) -> dict[str, Driver]:
    """The driver of each part that has one, by the part's name."""
    driver_of = {part.name: part.kind.driver(part) for part in design.parts.values() if part.placed}
    controllers = serial_controllers(design)
    return {
        name: replace(driver, arguments=_with_number(driver.arguments, controllers[name].number))
        if name in controllers
        else driver
        for name, driver in driver_of.items()
        if driver
    }


def _with_number(arguments: tuple[object, ...], number: int) -> tuple[object, ...]:
    """A serial link's controller stands behind its pins and rate, before the form of its bytes."""
    return (*arguments[:4], number, *arguments[4:])


def follows(part: Part) -> str:
    """The condition that a part is on by, all the time; "" where it has none."""
    condition: str = part.get(part.kind.follows, "") if part.kind.follows else ""
    return "" if condition in part.kind.words else condition


@once
def expressions(design: Design) -> list[tuple[Keys, Expression]]:
    """Every expression that the program weighs by itself, with its place: conditions of links and of parts."""
    return [*_expressions(design)]


def _expressions(design: Design) -> Iterator[tuple[Keys, Expression]]:
    for link in design.links:
        yield from ((("link", link.number - 1, key), expression) for key, expression in link.expressions)
    for part in design.parts.values():
        for field in part.fields:
            written = part.values.get(field.name) if field.role == "condition" else None
            if written and written not in part.kind.words:
                yield (*part.path, field.name), compile_expression(written, design.scope)


def timed(design: Design) -> Iterator[tuple[Keys, bool]]:
    """The places that need the time of day, and whether they need the sun, too."""
    for link in design.links:
        if link.at:
            yield ("link", link.number - 1, "at"), any(moment.of != CLOCK for moment in link.at)
    for path, expression in expressions(design):
        calls = [arguments for name, arguments in expression.calls if name in HOURS]
        if calls:
            yield (
                path,
                any(
                    not argument.startswith(f"({CLOCK},")
                    for call in calls
                    for argument in call
                    if "," in argument
                ),
            )
    for part in design.parts.values():
        if part.get("daily", False):
            yield (*part.path, "daily"), False
        if part.kind.dates and design.time is not None:
            yield part.path, False
        if part.kind.tells_time:
            yield (*part.path, "chip"), False
    if dated(design):
        yield ("mqtt", "tls"), False


def dated(design: Design) -> bool:
    """True where the device speaks TLS: the ports hold a certificate's dates against the chip's clock (MBEDTLS_HAVE_TIME_DATE)."""
    return bool((design.mqtt or {}).get("tls"))


def offered(design: Design) -> bool:
    """True where some part stands on a pin that another part offers."""
    return any(use.pin.gpio < 0 for use in design.uses)


def looked_up(host: str) -> bool:
    """True for a name that a DNS server knows: no address, and no name of the link (RFC 6762)."""
    return not re.fullmatch(r"[0-9.]*", host) and not host.endswith(".local")


def driver_modules(driver: Driver) -> frozenset[str]:
    """The MicroPython modules of a driver: its own, those of what stands around it, and what all these import."""
    own = (driver.module, *(module for module, _, _ in driver.wraps), *driver.also)
    through = ("treatment",) if any(driver.through) else ()
    return frozenset[str]().union(*(with_imports(module) for module in (*own, *through)))


@once
def runtime_modules(design: Design) -> tuple[str, ...]:
    """The runtime modules that this device needs, and no others, sorted."""
    modules = {"loop", "values"}
    for driver in drivers(design).values():
        modules |= driver_modules(driver)
    if any(True for _ in timed(design)):
        modules |= {"clock", "names"}
        if any(part.kind.dates for part in design.parts.values()):
            modules.add("dates")
    if any(link.every and not link.alone for link in design.links):
        modules.add("link_repeated")
    if design.links:
        modules.add("links")
    if any(follows(part) for part in design.parts.values()):
        modules.add("follow")
    commanded = [command.code for link in design.links for command in link.commands]
    if any("show(" in code for code in commanded):
        modules.add("texts")
    if any("unknown()" in code for code in commanded):
        modules.add("unknown")
    if design.heard:
        modules.add("remote_part")
    return tuple(sorted(modules | set(network_modules(design))))


def network_modules(design: Design) -> Iterator[str]:
    """The modules of the way to others."""
    if design.wifi is None and design.ethernet is None:
        return
    yield "net"
    if design.ethernet is not None:
        yield "net_lan"
        yield "net_lan_rmii" if design.board and design.board.rmii else "net_lan_spi"
    elif design.address:
        yield "net_fixed"
    about = design.mqtt
    if about is None:
        return
    yield "mqtt"
    if about.get("tls"):
        yield from ("mqtt_tls", "dates")
    if about.get("report") == "senml" or about.get("apart"):
        yield "report"
    if looked_up(str(about.get("host") or "")):
        yield "names"
