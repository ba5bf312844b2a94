"""What can stand in the files that speak of no single device: site.toml, secrets.toml, alerts.toml, boards, chips, pieces, tables."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from zapato.boards.board_file import ANALOG, BOARD, FITTED, INPUT, RMII, SPI_ETHERNET, SUPPLY
from zapato.design.alerts import SHAPE as ALERT
from zapato.design.resolve import outline
from zapato.design.site_script import SITE_HEAD
from zapato.editing.cursor import Cursor
from zapato.editing.offers import SCRIPT_TABLES, TABLES, Completion, about, enumerated
from zapato.errors import Unreadable, ZapatoError
from zapato.lang.fields import Field, Shape
from zapato.lang.folder import contents, named
from zapato.lang.site import LAN, MQTT, SITE, TIME, WIFI
from zapato.lang.source import read_bytes
from zapato.parts import kinds
from zapato.parts.described.shapes import CHIP, EXAMPLE, SETTING, STEP, TERM, VALUE
from zapato.parts.kind import Part
from zapato.parts.registers import SHAPE as REGISTER
from zapato.record import record
from zapato.regex import regex

Tables = Mapping[str, tuple[Shape, str]]
"""The tables of a file, and what each is; "" for the keys above the first one."""
_SITE: Tables = {
    "site": (SITE, "the site: its name, the extensions it uses"),
    "wifi": (WIFI, "the network of all devices"),
    "mqtt": (MQTT, "the broker of all devices"),
    "time": (TIME, "the time zone, and where the sun is to rise and set"),
    "lan": (LAN, "fixed addresses"),
}
_BOARD: Tables = {
    "": (BOARD, ""),
    "headers": (Shape(()), 'rows of pins, as they stand on the board: left = ["3V3", "GND", "D4=4"]'),
    "fitted": (FITTED, "what is soldered on: its kind and its pins"),
    "supply": (SUPPLY, "what the 3.3 V rail gives"),
    "rmii": (RMII, "how the Ethernet PHY is connected"),
    "spi_ethernet": (SPI_ETHERNET, "how an Ethernet chip on SPI is connected"),
    "analog": (ANALOG, "the range at the analog pins, where the board divides it"),
    "input": (INPUT, "what the board takes at its supply"),
}
_CHIP: Tables = {
    "": (CHIP, ""),
    "begin": (STEP, "what is written and waited for once"),
    "calibration": (STEP, "words of the chip's memory that are read once"),
    "setting": (SETTING, "what a device file may choose"),
    "step": (STEP, "what is written, waited for and read for each reading"),
    "term": (TERM, "a step of a long formula"),
    "value": (VALUE, "a value, and how it follows from what was read"),
    "example": (EXAMPLE, "bytes, and the values that the datasheet says they are"),
}
_REHEARSAL: Tables = {
    "rehearsal": (SITE_HEAD, "how long the rehearsal of the site is, and with which devices"),
    **{name: known for name, known in SCRIPT_TABLES.items() if name != "rehearsal"},
}
_NAMED = {"alerts.toml": ("when", "silent", "text"), "site.toml": ("act", "expect")}
"""Keys whose texts name devices, parts and properties."""
_GAP = regex(r"with\s*=\s*[\"']([\w-]+)[\"']")
_KEYS = regex(r"^\s*([\w-]+)\s*=", re.MULTILINE)
_SECRET = regex(r"secret\s*=\s*[\"']([\w-]+)[\"']")


@record(frozen=True)
class SiteFile:
    """A file that speaks of no single device.

    Attributes:
        path: where it is.
        root: the folder of its site.
        tables: what can stand in it.
    """

    path: Path
    root: Path
    tables: Tables

    def field(self, at: Cursor) -> Field | None:
        """The field whose key or value the cursor stands in."""
        shape = self._shape(at)
        return shape.by_name.get(at.key or at.whole) if shape else None

    def note(self, at: Cursor) -> str:
        """What is to be said about the place, as Markdown; "" where nothing is."""
        if at.where == "header":
            known = self.tables.get(at.table[0] if at.table else "")
            return f"**{at.table[0]}**: {known[1]}" if known and at.table else ""
        field = self.field(at)
        return f"**{field.name}**: {field.help}" if field else ""

    def offers(self, at: Cursor, text: str, first: bool = True) -> list[Completion]:
        """What can stand at the cursor; `first`: it is in the first line, where a table has its columns."""
        if self.path.name == "secrets.toml":
            return [*_secrets(self.root, text)] if at.where == "key" else []
        if self.path.suffix == ".csv":
            return (
                [*_columns(self.root, self.path, text.split("\n")[0])] if at.where == "key" and first else []
            )
        give = {"header": self._headers, "key": self._keys, "value": self._values, "text": self._texts}
        return [*give[at.where](at)] if at.where in give else []

    def _shape(self, at: Cursor) -> Shape | None:
        known = self.tables.get(at.table[0] if at.table else "")
        return known[0] if known else None

    def _headers(self, at: Cursor) -> Iterator[Completion]:
        for name, (_, help) in self.tables.items():
            if name:
                yield Completion(name, name, "table", help)

    def _keys(self, at: Cursor) -> Iterator[Completion]:
        shape = self._shape(at)
        for field in shape.fields if shape else ():
            yield Completion(
                field.name, f"{field.name} = ", "key", "needed" if field.required else "", field.help
            )

    def _values(self, at: Cursor) -> Iterator[Completion]:
        field = self.field(at)
        if field and field.schema.get("type") == "boolean":
            yield from (Completion(word, word, "value") for word in ("true", "false"))
        for option in enumerated(field.schema) if field else ():
            yield Completion(option, f'"{option}"', "value")

    def _texts(self, at: Cursor) -> Iterator[Completion]:
        field = self.field(at)
        yield from (
            Completion(option, option, "value") for option in (enumerated(field.schema) if field else ())
        )
        if at.inline == "secret":
            yield from (
                Completion(name, name, "value", "in secrets.toml") for name in _known_secrets(self.root)
            )
        if at.key in _NAMED.get(self.path.name, ()):
            yield from _names(self.root, at.word)


def site_file(path: Path, root: Path | None) -> SiteFile | None:
    """What this file is to a site; None where it speaks of a device, or is none of these."""
    if root is None:
        return None
    if path.parent == root:
        own = {
            "site.toml": _SITE,
            "alerts.toml": {"alert": (ALERT, "something that people are told")},
            "secrets.toml": {},
        }
        return SiteFile(path, root, own[path.name]) if path.name in own else None
    if path.suffix == ".csv":
        return SiteFile(path, root, {})
    if path.parent.parent != root:
        return None
    of: dict[str, Tables] = {"boards": _BOARD, "chips": _CHIP}
    if path.name == "site.toml":
        of["rehearsals"] = _REHEARSAL
    tables = _piece() if path.parent.name == "pieces" else of.get(path.parent.name)
    return SiteFile(path, root, tables) if tables else None


def _piece() -> Tables:
    """A piece holds what a device file holds, but for the device itself."""
    parts = {kind.name: (kind.whole_shape, kind.help) for kind in kinds()}
    return {**{name: known for name, known in TABLES.items() if name != "device"}, **parts}


def _secrets(root: Path, text: str) -> Iterator[Completion]:
    """The secrets that files of the site ask for, and this one does not have."""
    have = set(_KEYS.findall(text))
    asked: dict[str, str] = {}
    for file, written in (
        (root / "site.toml", _text(root / "site.toml")),
        *_texts(root / "devices"),
        *_texts(root / "pieces"),
    ):
        asked |= dict.fromkeys(_SECRET.findall(written), file.name)
    for name, file in asked.items():
        if name not in have:
            yield Completion(name, f'{name} = "', "key", f"asked for by {file}")


def _columns(root: Path, path: Path, header: str) -> Iterator[Completion]:
    """The columns that a table can have and does not have yet: what a family's file asks for, or the keys of a meter's registers."""
    have = {column.strip().strip('"') for column in header.split(",")}
    for file, text in _texts(root / "devices"):
        if path.name not in text:
            continue
        asked = [(name, f"asked for by {file.name}") for name in _GAP.findall(text)]
        if not asked:
            asked = [(field.name, field.help) for field in REGISTER.fields]
        for name, help in dict(asked).items():
            if name not in have:
                yield Completion(name, name, "key", help)


def _known_secrets(root: Path) -> list[str]:
    return _KEYS.findall(_text(root / "secrets.toml"))


def _text(path: Path) -> str:
    """A file as the editor has it, else as it is on the disk; "" where it cannot be read."""
    with suppress(Unreadable):
        return read_bytes(path).decode("utf-8", "replace")
    return ""


def _texts(folder: Path) -> Iterator[tuple[Path, str]]:
    """The TOML files of a folder and their texts."""
    return ((file, written.decode("utf-8", "replace")) for file, written in contents(folder))


def _names(root: Path, word: str) -> Iterator[Completion]:
    """Devices of the site, their parts, their properties: as far as what stands there has come."""
    devices = named(root / "devices")
    device, dot, rest = word.partition(".")
    if not dot:
        yield from (Completion(name, f"{name}.", "part", "a device") for name in devices)
        return
    with suppress(ZapatoError):
        parts: Mapping[str, Part] = outline(devices[device]).parts if device in devices else {}
        part, dot, _ = rest.partition(".")
        if not dot:
            for device_part in parts.values():
                yield Completion(
                    device_part.name,
                    f"{device}.{device_part.name}.",
                    "part",
                    device_part.kind.name,
                    device_part.label,
                )
        elif part in parts:
            for name, known in parts[part].properties.items():
                yield Completion(name, f"{device}.{part}.{name}", "property", about(known), known.help)
