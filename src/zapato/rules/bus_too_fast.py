"""bus-too-fast: the bus has a faster clock than one of its chips takes."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.bus_chip import BusChip, chip_of
from zapato.parts.kind import Part
from zapato.parts.segments import on_clock
from zapato.parts.sensors import chip

SPI_MOST = {
    "bme280": (10e6, "BME280 datasheet, SPI timings"),
    "bmp280": (10e6, "BMP280 datasheet, SPI timings"),
    "card": (25e6, "SD Physical Layer Simplified Specification, 6.6.6: 25 MHz at default speed"),
}
"""Chips on SPI: the fastest clock, Hz."""


def _most(part: Part) -> tuple[float, str]:
    name = part.get("chip", "")
    known = chip_of(part, BusChip) or (chip(name) if name and part.has_role("sensor") else None)
    return (known.bus_most, known.source) if known else (0, "")


def _spi_most(part: Part) -> tuple[float, str]:
    known = SPI_MOST.get(part.get("chip", "") or part.kind.name)
    return known or _most(part)


def _find(design: Design) -> Iterator[Finding]:
    for bus in (*design.with_role("i2c"), *design.with_role("spi")):
        if bus.kind.upstream(bus):
            continue  # it has the clock of that one
        most_of = _most if bus.has_role("i2c") else _spi_most
        speed = bus.get("speed", 100e3 if bus.has_role("i2c") else 1e6)
        on_it = on_clock(bus, design.parts.values())
        rates = [(*most_of(part), part) for part in on_it if most_of(part)[0]]
        slowest = min(rates, key=lambda row: row[0], default=None)
        if slowest and speed > slowest[0]:
            most, source, part = slowest
            yield design.finding(
                "bus-too-fast",
                "error",
                (*bus.path, "speed"),
                f"{bus.name} runs at {speed / 1000:g} kHz, and the {part.get('chip', '') or part.kind.name} of {part.name} takes {most / 1000:g} kHz",
                why=f"every chip on the bus hears every message, so the slowest one sets the clock ({source}).",
                fixes=(f'speed = "{most / 1000:g}kHz"', "a second bus for the slow chip"),
            )


_BODY = '[i2c.main]\nsda = 21\nscl = 22\nspeed = "{}"\n\n[expander.io]\nchip = "pcf8574"\nbus = "main"'

RULE = DesignRule(
    code="bus-too-fast",
    family="buses",
    severities=("error",),
    title="the bus is faster than one of its chips",
    story="""
All chips of an I2C bus listen to the same clock. One that is too slow for it misses bits, answers to
addresses that were never sent, or holds the bus. The bus runs at what its slowest chip takes.
""",
    failing=device(_BODY.format("400kHz")),
    mended=device(_BODY.format("100kHz")),
    find=_find,
)
