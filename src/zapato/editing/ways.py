"""Ways out that can be put into the text: a finding's words, turned into edits at its place.

A way out is written for people. Some say exactly what to write: another name, a value in its right form, a key with its
value, a table, a free pin. Those are understood here, each by its form; the others stay words.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterator
from dataclasses import replace

import tomli

from zapato.editing.change import Edit, line_of
from zapato.findings import Finding
from zapato.record import record

PINS = 4
"""Free pins that are offered at the most."""
LIKE = 0.7
"""From here on a name is taken for a slip of another: letters that changed places, one that is missing, one too many. A digit that
differs is none: lamp1 and lamp3 are two lamps."""
_TEXTUAL = frozenset(
    [
        "unknown-key",
        "unknown-kind",
        "unknown-reference",
        "link-unknown",
        "accept-unknown",
        "bad-name",
        "name-taken",
        "wrong-type",
        "missing-key",
    ]
)
"""Findings about how something is written: their ways out change no wire and no part."""


@record(frozen=True)
class WayOut:
    """One way out as edits of the finding's file.

    Attributes:
        title: for people.
        edits: what to change.
        certain: it is about how something is written, and the only way: it may be made without asking.
    """

    title: str
    edits: tuple[Edit, ...]
    certain: bool = False


@record(frozen=True)
class _Spot:
    """A finding's place in its text."""

    finding: Finding
    text: str

    @property
    def line(self) -> str:
        return line_of(self.text, self.finding.place.line)

    @property
    def at(self) -> str:
        """What stands there."""
        place = self.finding.place
        return self.line[place.column - 1 : place.column - 1 + place.width]

    def replaced(self, new: str, old: str = "") -> tuple[Edit, ...]:
        """What stands there replaced, or `old` within it."""
        place = self.finding.place
        offset = self.at.find(old) if old else 0
        return (Edit(place.line, place.column + max(0, offset), len(old) if old else len(self.at), new),)


def ways(finding: Finding, text: str) -> list[WayOut]:
    """The ways out of a finding that can be put into its file's text, best first."""
    spot = _Spot(finding, text)
    fixes = [
        (read, WayOut(title, edits))
        for fix in finding.fixes
        for read in _FORMS
        for title, edits in read(spot, fix)
        if edits
    ]
    if len(fixes) == len(finding.fixes) == 1:
        read, way = fixes[0]
        return [replace(way, certain=finding.code in _TEXTUAL and read in _WRITTEN and _safe(spot, way))]
    return [way for _, way in fixes]


def _safe(spot: _Spot, way: WayOut) -> bool:
    """Another name is a slip of the right one, and a value stays what it is: one that somebody must choose is not for us to choose."""
    edit = way.edits[0]
    old = line_of(spot.text, edit.line)[edit.column - 1 : edit.column - 1 + edit.width]
    if spot.finding.code == "wrong-type":
        return edit.text.strip("\"' ") == old.strip("\"' ")
    if not spot.finding.fixes[0].startswith("did you mean"):
        return True
    pairs = zip(old.split("."), edit.text.split("."), strict=False)
    return re.findall(r"\d", old) == re.findall(r"\d", edit.text) and all(
        difflib.SequenceMatcher(None, one, other).ratio() >= LIKE for one, other in pairs
    )


Found = Iterator[tuple[str, tuple[Edit, ...]]]


def _nearest(spot: _Spot, fix: str) -> Found:
    """did you mean "heater"?"""
    match = re.fullmatch(r'did you mean "([^"]+)"\?', fix)
    if not match or not spot.at:
        return
    new, at = match[1], spot.at
    if at.startswith("["):
        near = difflib.get_close_matches(new, re.findall(r'"([^"]*)"', at), 1, 0)
        yield (f"write {new}", spot.replaced(new, near[0])) if near else ("", ())
    elif at[:1] in ("'", '"'):
        yield f"write {new}", spot.replaced(f"{at[0]}{new}{at[0]}")
    else:
        yield f"write {new}", spot.replaced(new, _meant(at, new))


def _meant(at: str, new: str) -> str:
    """What of "wal.pressed" the name "wall" is for: as many names as it has, and the likest."""
    names, size = at.split("."), new.count(".") + 1
    some = [".".join(names[n : n + size]) for n in range(len(names) - size + 1)] or [at]
    return difflib.get_close_matches(new, some, 1, 0)[0]


def _table_name(spot: _Spot, fix: str) -> Found:
    """[relay.heater]"""
    match = re.fullmatch(r"\[([a-z0-9_]+\.[a-z0-9_]+)\]", fix)
    if match and re.fullmatch(r"[\w.\"'-]+", spot.at) and spot.line.lstrip().startswith("["):
        yield f"write {fix}", spot.replaced(match[1])


def _value(spot: _Spot, fix: str) -> Found:
    """ "20s", or 26"""
    if re.fullmatch(r'"[^"]+"|-?\d+(\.\d+)?|true|false', fix) and "=" in spot.line and spot.at:
        yield f"write {fix}", spot.replaced(fix)


def _unquoted(spot: _Spot, fix: str) -> Found:
    """a number stands without quotes: 30"""
    match = re.fullmatch(r"a number stands without quotes: (\S+)", fix)
    for quote in "'\"":
        if match and f"{quote}{match[1]}{quote}" in spot.at:
            yield f"write {match[1]}", spot.replaced(match[1], f"{quote}{match[1]}{quote}")


def _address(spot: _Spot, fix: str) -> Found:
    """a free one: 192.168.4.2"""
    match = re.fullmatch(r"a free one: ([\d.]+)", fix)
    if match and spot.at.startswith('"'):
        yield f"write {match[1]}", spot.replaced(f'"{match[1]}"')


def _pins(spot: _Spot, fix: str) -> Found:
    """free pins that can do this: 16, 17, 4 (D2)"""
    match = re.fullmatch(
        r"(?:free pins that can do this|pins that go with \S+): (.+?)(?: and \d+ more)?", fix
    )
    if not match or not re.fullmatch(r'"[^"]*"|\d+', spot.at):
        return
    for pin_label in match[1].split(", ")[:PINS]:
        number, _, label = pin_label.partition(" (")
        named = spot.at.startswith('"') and label
        written = f'"{label.rstrip(")")}"' if named else number
        yield f"pin {pin_label}", spot.replaced(written)


def _only(spot: _Spot, fix: str) -> Found:
    """there are: probe"""
    match = re.fullmatch(r"there (?:are|is): ([a-z][a-z0-9_]*)", fix)
    if match and re.fullmatch(r'"[^"]*"', spot.at):
        yield f"write {match[1]}", spot.replaced(f'"{match[1]}"')


def _such(spot: _Spot, fix: str) -> Found:
    """such as warn.blink('2s')"""
    match = re.fullmatch(r"such as ([a-z_][\w.]*)(\(.*\))", fix)
    if match and spot.at == match[1] and "…" not in fix:
        yield f"write {match[1]}{match[2]}", spot.replaced(match[1] + match[2])


def _first_line(spot: _Spot, fix: str) -> Found:
    """first line: zapato = 1"""
    if match := re.fullmatch(r"first line: (.+)", fix):
        yield f"put {match[1]} first", (Edit(1, 1, 0, f"{match[1]}\n\n" if spot.text.strip() else match[1]),)


def _key(spot: _Spot, fix: str) -> Found:
    """speed = "100kHz", and what people add behind it"""
    match = re.match(r"([a-z_]+) = (.+)", fix)
    value = _toml(match[2]) if match else ""
    if match and value:
        yield f"write {match[1]} = {value}", _set(spot, match[1], value)


def _new_table(spot: _Spot, fix: str) -> Found:
    """add [i2c.main] with sda and scl"""
    if match := re.fullmatch(r"add (\[[a-z0-9]+\.[a-z0-9_]+\]) with ([a-z]+(?:(?:, | and )[a-z]+)*)", fix):
        keys = "".join(f'{key} = "auto"\n' for key in re.split(r", | and ", match[2]))
        last = spot.text.count("\n") + 1
        gap = "" if spot.text.endswith("\n\n") else "\n" if spot.text.endswith("\n") else "\n\n"
        yield (
            f"add {match[1]}",
            (Edit(last, len(line_of(spot.text, last)) + 1, 0, f"{gap}{match[1]}\n{keys}"),),
        )


def _toml(words: str) -> str:
    """The value that a way out begins with; empty where it is none, or stands for one that people must choose."""
    for cut in (r"$", r": ", r", and ", r", ", r" where ", r" for ", r" and "):
        value = re.split(cut, words, maxsplit=1)[0].strip()
        try:
            tomli.loads(f"v = {value}")
        except tomli.TOMLDecodeError:
            continue
        return "" if re.search(r'…|NAME|"name"|<', value) else value
    return ""


def _set(spot: _Spot, key: str, value: str) -> tuple[Edit, ...]:
    """The key of the finding's table given this value, or added below what the finding is about."""
    lines, row = spot.text.split("\n"), spot.finding.place.line - 1
    if row >= len(lines):
        return ()
    top = next((n for n in range(row, -1, -1) if lines[n].lstrip().startswith("[")), None)
    if top is None:
        return ()
    end = next((n for n in range(top + 1, len(lines)) if lines[n].lstrip().startswith("[")), len(lines))
    for n in range(top + 1, end):
        if match := re.match(rf"\s*{key}\s*=\s*", lines[n]):
            old = _toml_at(lines[n][match.end() :])
            return (Edit(n + 1, match.end() + 1, len(old), value),) if old else ()
    behind = row if row > top else top
    return (Edit(behind + 1, len(lines[behind]) + 1, 0, f"\n{key} = {value}"),)


def _toml_at(rest: str) -> str:
    """The value at the beginning of the rest of a line, without its comment; empty where it goes over several lines."""
    for end in range(len(rest), 0, -1):
        part = rest[:end].rstrip()
        try:
            tomli.loads(f"v = {part}")
        except tomli.TOMLDecodeError:
            continue
        bare = re.sub(r"\s+#.*$", "", part) if "#" in part else part
        try:
            return bare if tomli.loads(f"v = {bare}") == tomli.loads(f"v = {part}") else part
        except tomli.TOMLDecodeError:
            return part
    return ""


_WRITTEN = (_nearest, _table_name, _value, _unquoted, _first_line)
"""Forms that say how something is written. The others choose a pin, a wire or a value."""
_FORMS: tuple[Callable[[_Spot, str], Found], ...] = (
    _nearest,
    _table_name,
    _value,
    _unquoted,
    _address,
    _pins,
    _only,
    _such,
    _first_line,
    _key,
    _new_table,
)
