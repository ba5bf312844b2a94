"""An SD card on SPI that keeps readings as CSV, where there is no network or beside it.

A row of it is read by machines, not shown: seven digits, `true`, nothing where a value is unknown (`Driver.plain`).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import cast

from zapato.lang.fields import REQUIRED, Field, Wrong, measured, names, pin, whole
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed, supplied_with
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation, WorldInput
from zapato.parts.stimuli import SetAttached

COLUMNS = 16
"""Values in a row at the most."""


def _read_keeps(value: object) -> tuple[tuple[str, ...], ...]:
    """Names of properties, as one page of lines that show their values."""
    rows = cast(list[object], value) if isinstance(value, list) else [value]
    names = [row if isinstance(row, str) else "" for row in rows]
    if not names or not all(re.fullmatch(r"\w+\.\w+", name) for name in names):
        raise Wrong('takes properties: ["cabinet.temperature", "cabinet.humidity"]')
    if len(names) > COLUMNS:
        raise Wrong(f"has {len(names)} columns; {COLUMNS} is the most")
    return (tuple(f"{{{line}}}" for line in names),)


class CardKind(Kind):
    """An SD card that keeps readings as CSV, where there is no network or beside it."""

    terminals = {"select": "CS"}
    name = "card"
    help = "an SD card that keeps readings as CSV, where there is no network or beside it"
    fields = (
        *fed('"3V3"'),
        names("bus", "its SPI bus", REQUIRED, role="bus"),
        pin("select", "its select line"),
        Field(
            "keeps",
            _read_keeps,
            {"type": "array"},
            'the properties of a row: ["cabinet.temperature", "cabinet.humidity"]',
            REQUIRED,
            role="texts",
        ),
        measured("every", "a row every so often", "time", 60_000, least=1000),
        whole(
            "most",
            "largest size of its files together, in MiB; then the oldest file is deleted",
            64,
            least=1,
            most=1024,
        ),
    )
    dates = True
    wiring = (
        "A slot for 3.3 V straight on the bus, CS to the select pin, 10 uF beside it: a card takes 100 mA and more while it is written. "
        "A card of up to 32 GB as it is bought, with FAT. Its files are LOG00001.CSV and so on, sixteen of equal size; the time stands in "
        "the first column, seconds since power-up (+12) while nobody has told it."
    )
    example = '[spi.slot]\nsck = 18\nmosi = 23\nmiso = 19\n\n[sensor.cabinet]\nchip = "dht22"\npin = 27\n\n[card.log]\nbus = "slot"\nselect = 5\nkeeps = ["cabinet.temperature", "cabinet.humidity"]'

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "ready": Property("boolean", unknown=True, help="a card is there, and was written"),
            "rows": Property("number", "count", help="rows that were written since the power came"),
        }

    def needs(self, part: Part) -> Iterable[Need]:
        yield Need("select", "output", rest="high", active="low", circuit="the select input of the card slot")

    def driver(self, part: Part) -> Driver | None:
        if "bus" not in part.linked:
            return None
        bus = part.linked["bus"]
        columns = tuple(line[1:-1] for page in part.pages("keeps") for line in page)
        given = (
            bus.name,
            part.pins["select"].gpio,
            round(bus.get("speed", 1e6)),
            part.get("every", 60_000),
            part.get("most", 64) << 20,
            columns,
        )
        return Driver("card", "Card", given, tells="keeps", plain=True)

    def simulation(self, part: Part) -> Simulation:
        clock = part.linked["bus"].pins.get("sck") if "bus" in part.linked else None
        if clock is None or "select" not in part.pins:
            return Simulation()
        at = (clock.gpio, part.pins["select"].gpio)
        return Simulation(
            stimuli={word: SetAttached(("card", *at), word) for word in ("inserted", "room", "old")},
            inputs={
                "inserted": WorldInput(False),
                "old": WorldInput(True),
                "room": WorldInput.number(100, 0, 60_000),
            },
            cards=(at,),
        )

    def bus(self, part: Part) -> str:
        return "spi"

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the card while it is written", RAIL, 0.1)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied_with(
            part,
            "a card slot",
            2.7,
            5.5,
            "SD Physical Layer Simplified Specification, 6.4.1: VDD 2.7 V to 3.6 V; slots with a regulator take 5 V",
        )


KIND = CardKind()
