"""A site's own boards: boards/*.toml beside site.toml. Mistakes in them are findings."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any, cast

from zapato.boards.board import Board
from zapato.boards.catalogue import board_ids, board_of, chip, chip_ids
from zapato.boards.own import SiteBoards
from zapato.findings import Finding
from zapato.lang.document import Document
from zapato.lang.fields import (
    REQUIRED,
    Field,
    Shape,
    Wrong,
    boolean,
    choice,
    named,
    names,
    number,
    span,
    text,
    whole,
)
from zapato.lang.source import Source
from zapato.regex import regex

_ID = r"[a-z][a-z0-9-]{0,39}"
_PLACE = regex(r"[^=\s]+(?:=\d+)?")


def _read_headers(value: object) -> dict[str, list[str]]:
    rows = cast(dict[str, object], value)
    if not isinstance(value, dict) or not rows or not all(isinstance(row, list) for row in rows.values()):
        raise Wrong('takes rows of labels: left = ["3V3", "GND", "D1=5"]')
    for row in rows.values():
        for place in cast(list[object], row):
            if not isinstance(place, str) or not _PLACE.fullmatch(place):
                raise Wrong(f'has {place!r}; a place is "LABEL" or "LABEL=GPIO"')
    return cast(dict[str, list[str]], value)


def _read_pins(value: object) -> list[int]:
    if not isinstance(value, list) or not all(type(number) is int for number in cast(list[object], value)):
        raise Wrong("takes a list of GPIO numbers: [2]")
    return cast(list[int], value)


def _read_table(value: object) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise Wrong("takes a table")
    return cast(dict[str, Any], value)


def _read_resistors(value: object) -> dict[str, str]:
    form = re.compile(r"(up|down) \d+(\.\d+)?(k|M)?ohm")
    rows = cast(dict[str, object], value)
    if not isinstance(value, dict) or not all(
        k.isdigit() and isinstance(v, str) and form.fullmatch(v) for k, v in rows.items()
    ):
        raise Wrong('takes GPIO numbers with a side and a value: { 15 = "down 12kohm" }')
    return cast(dict[str, str], value)


def _read_flash(value: object) -> int:
    if type(value) is not int or not 1 << 18 <= value <= 1 << 28:
        raise Wrong("takes the flash's bytes: 4194304 is 4 MiB")
    return value


def _free_table(name: str, help: str) -> Field:
    return Field(name, _read_table, {"type": "object"}, help, None)


PHYS = ("LAN8720", "LAN8710", "LAN8670", "RTL8201", "IP101", "DP83848", "KSZ8041", "KSZ8081")
ON_SPI = ("W5500", "KSZ8851SNL", "DM9051")
"""Ethernet PHYs that the port's network module knows (network.PHY_…)."""
BOARD = Shape(
    (
        named("id", "its id in device files: chip and shape", _ID, "an id has a-z, 0-9 and -", REQUIRED),
        text("title", "in words", REQUIRED),
        choice("chip", "the silicon on it", *chip_ids(), default=REQUIRED),
        Field("flash", _read_flash, {"type": "integer"}, "bytes of flash", None),
        choice(
            "flash_mode",
            "how the flash is read; dout also where it is inside the chip",
            "qio",
            "qout",
            "dio",
            "dout",
            default="dio",
        ),
        whole("psram", "bytes of external memory", 0),
        text("ethernet", "the Ethernet chip, where there is one", ""),
        text("usb", "what its USB socket leads to", ""),
        names("images", "forms of a whole-flash image: bin, uf2", ("bin",), role=""),
        names("wants", "what a bare module needs on its pins before it starts", (), role=""),
        names("boot_mode", "the steps into boot mode, in words", (), role=""),
        _free_table("supply", "what the 3.3 V rail gives: rail_ma, note"),
        _free_table(
            "rmii", "how the Ethernet PHY is connected: phy, address, mdc, mdio, power, clock, clock_out"
        ),
        _free_table(
            "spi_ethernet",
            "how an Ethernet chip on SPI is connected: phy, sck, mosi, miso, select, interrupt",
        ),
        _free_table("analog", "the range at the analog pins where the board divides it: high, why"),
        Field(
            "resistors", _read_resistors, {"type": "object"}, 'resistors on pins: { 15 = "down 12kohm" }', {}
        ),
        Field("headers", _read_headers, {"type": "object"}, "the rows of pins in physical order", REQUIRED),
        Field("input", lambda value: value, {"type": "array"}, "where it can be fed", ()),
        Field("fitted", lambda value: value, {"type": "array"}, "parts soldered to it", ()),
    )
)
SUPPLY = Shape(
    (
        whole("rail_ma", "what the 3.3 V rail gives, mA", 0),
        text("note", "where that comes from", ""),
    )
)
RMII = Shape(
    (
        choice("phy", "the PHY's part number", *PHYS),
        whole("address", "of its management interface", 0, most=31),
        whole("mdc", "GPIO of the management clock", most=48),
        whole("mdio", "GPIO of the management data", most=48),
        whole("power", "GPIO that switches it on", None, most=48),
        whole("clock", "GPIO of the 50 MHz clock", most=48),
        boolean("clock_out", "the chip makes the clock"),
    )
)
SPI_ETHERNET = Shape(
    (
        choice("phy", "the chip's part number", *ON_SPI),
        *(
            whole(line, f"GPIO of its {line} line", most=48)
            for line in ("sck", "mosi", "miso", "select", "interrupt")
        ),
    )
)
ANALOG = Shape(
    (
        number("high", "the highest voltage that is measured", REQUIRED),
        text("why", "how the board divides it", ""),
    )
)
INPUT = Shape(
    (
        text("name", "as printed on the board, or USB, PoE, mains", REQUIRED),
        span("volts", "operating range and absolute maximum", "V", REQUIRED),
        choice("rail", "the rail that it is itself", "5V", "3V3", default=""),
        text("source", "the source of the range", ""),
        text("note", "what to mind", ""),
    )
)
FITTED = Shape(
    (
        text("name", "how device files can call its pin", REQUIRED),
        text("what", "in words", REQUIRED),
        Field("pins", _read_pins, {"type": "array"}, "the GPIO numbers it uses", REQUIRED),
        text("kind", "the kind of part that it is", ""),
        choice("active", "the level that means on", "high", "low", default=""),
        boolean("taken", "no other part can use its pins"),
        text("why", "the function of each pin", ""),
    )
)


@lru_cache(maxsize=8)
def read_boards(stamped: tuple[tuple[Path, int], ...]) -> SiteBoards:
    """The boards in these files, each with the moment of its last change."""
    boards: dict[str, Board] = {}
    findings: list[Finding] = []
    texts: dict[str, str] = {}
    for path, _ in stamped:
        document = Document.of(Source.read(path))
        made = read_board(document)
        if made and made.id in (*board_ids(), *boards):
            document.found("name-taken", ("id",), f"a board called {made.id} is there already")
        elif made:
            boards[made.id] = made
        findings.extend(document.findings)
        texts[document.source.name] = document.source.text
    return SiteBoards(boards, tuple(findings), texts)


def read_board(document: Document) -> Board | None:
    """The board of a document, or None with findings in it."""
    before = len(document.findings)
    values = document.read(BOARD, document.data, ())
    shapes = {"supply": SUPPLY, "rmii": RMII, "spi_ethernet": SPI_ETHERNET, "analog": ANALOG}
    for name, shape in shapes.items():
        if values.get(name) is not None:
            values[name] = document.read(shape, values[name], (name,))
    for name, shape in (("fitted", FITTED), ("input", INPUT)):
        values[name] = _rows(document, name, shape)
    if "chip" in values:
        _gpios(document, values)
    if any(f.severity == "error" for f in document.findings[before:]):
        return None
    return board_of({key: value for key, value in values.items() if value is not None})


def _rows(document: Document, name: str, shape: Shape) -> list[dict[str, Any]]:
    raw = document.data.get(name, [])
    tables: list[dict[str, Any]] = []
    for index, entry in enumerate(cast(list[Any], raw) if isinstance(raw, list) else [raw]):
        if isinstance(entry, dict):
            tables.append(document.read(shape, cast(dict[str, Any], entry), (name, index)))
        else:
            document.found("wrong-type", (name,), f"{name} stands in double brackets: [[{name}]]")
    return tables


def _gpios(document: Document, values: Mapping[str, Any]) -> None:
    """Every GPIO number must be one of the chip's; a label stands once."""
    silicon = chip(values["chip"])
    seen: set[str] = set()
    for side, row in cast(dict[str, list[str]], values.get("headers", {})).items():
        for index, place in enumerate(row):
            label, _, gpio = place.partition("=")
            path = ("headers", side, index)
            if gpio and int(gpio) not in silicon.pins:
                document.found("pin-absent", path, f"the {silicon.title} has no GPIO{gpio}")
            if gpio and label.lower() in seen:
                document.found("name-taken", path, f"the label {label} stands twice")
            seen |= {label.lower()} if gpio else set()
    for index, part in enumerate(values["fitted"]):
        for at, gpio in enumerate(part.get("pins", ())):
            if gpio not in silicon.pins:
                document.found(
                    "pin-absent", ("fitted", index, "pins", at), f"the {silicon.title} has no GPIO{gpio}"
                )
