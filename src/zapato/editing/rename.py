"""A part renamed, everywhere at once.

Where a part is named, the check knows: with the part's table called otherwise, every place that still has the old name is a
finding there. Those are changed, too, until nothing is found that was not found before. So a name in a text for people stays,
and one in an expression, a list, a rehearsal, an alert or another device's link does not.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from zapato.checks import check_files, device_files
from zapato.design import Design, resolve
from zapato.design.resolve import OWN, PART_NAME
from zapato.design.script import scripts
from zapato.editing.change import Edit, Texts, applied, line_of, path_of
from zapato.errors import Refused, UnknownName
from zapato.findings import Finding, Report
from zapato.lang.fields import nearest
from zapato.lang.folder import named
from zapato.lang.source import MEMBER, Source
from zapato.record import record

ROUNDS = 200
"""Of one expression the first mistake is told, so a name that stands twice in it takes two rounds."""


@record(frozen=True)
class Renamed:
    """A part renamed.

    Attributes:
        texts: the files as they would be; `write()` puts them on the disk.
        topic: what its topics began with, and will.
    """

    texts: Texts
    topic: tuple[str, str]


def rename(path: Path, old: str, new: str) -> Renamed:
    """Call a part of the device file at `path` otherwise, in all files of its site that name it; nothing is written yet.

    Raises Unreadable; UnknownName where there is no such part; Refused where the new name cannot be, or something would not
    read as before.
    """
    design = _design(path)
    _possible(design, old, new)
    texts, _, rest = _renamed(design, path, old, new)
    if rest:
        message = f"{old} cannot be called {new}: another place in the files would change its meaning"
        raise Refused(message, "correct that first", tuple(rest), dict(rest.texts))
    return Renamed(texts, (f"{design.topic}/{old}", f"{design.topic}/{new}"))


def places_of(path: Path, name: str) -> dict[Path, tuple[Edit, ...]]:
    """Every place that names this part, by file: its tables, and wherever it is read, told or listed. Raises Unreadable, UnknownName."""
    design = _design(path)
    if name not in design.parts:
        raise UnknownName(f"{design.name} has no part {name}")
    # A name of the same length: what is found later in a line stands where it stood.
    names = (name[:-1] + last for last in "qxzjkvwy0123456789" if len(name) > 1 or last.isalpha())
    other = next(name for name in names if name not in design.parts and name not in OWN)
    return {file: tuple(edits) for file, edits in _renamed(design, path, name, other)[1].items()}


def _design(path: Path) -> Design:
    """The device of a file; of a family's file, its first member: they all have the same parts."""
    return resolve(device_files(path)[0])


def _possible(design: Design, old: str, new: str) -> None:
    parts = list(design.parts)
    if old not in design.parts:
        fix = (nearest(old, parts) or (f"parts: {', '.join(parts)}",))[0]
        raise UnknownName(f"{design.name} has no part {old}", fix)
    if not PART_NAME.fullmatch(new):
        raise Refused(
            f'"{new}" cannot be a part\'s name', "1 to 31 of a-z, 0-9 and _, beginning with a letter"
        )
    if new in design.parts or new in OWN:
        taken = f"[{design.parts[new].id}]" if new in design.parts else "the device's own commands"
        raise Refused(f"the name {new} is taken by {taken}", f"such as {new}_2")


def _renamed(design: Design, path: Path, old: str, new: str) -> tuple[Texts, dict[Path, list[Edit]], Report]:
    """The texts with the part called otherwise, the edits that made them, and what would be found that was not before."""
    texts, made = Texts(), dict[Path, list[Edit]]()
    edits = list(_tables(design, design.parts[old].kind.name, old, new))
    owners, files = _concerned(design, path, {file.absolute() for file, _ in edits}, old)
    paths = [design.site.root] if design.site.root else files
    before = {_same(check_file) for check_file in check_files(paths, files)}
    rest = Report(())
    for _ in range(ROUNDS):
        for file in dict.fromkeys(path for path, _ in edits):
            _make(texts, made, file, {edit for edit_file, edit in edits if edit_file == file})
        with texts.tried():
            results = check_files(paths, files)
        rest = Report(
            tuple(finding for finding in results if _same(finding, new, old) not in before),
            texts=results.texts,
        )
        edits = [pair for rest_file in rest for pair in _named(rest_file, texts, old, new)]
        if not edits:
            break
    for script, edits in _topics(design, texts, owners, old, new):
        _make(texts, made, script, edits)
    return texts, made, rest


def _same(finding: Finding, new: str = "", old: str = "") -> tuple[str, ...]:
    """What makes two findings the same but for the part's name."""

    def as_before(text: str) -> str:
        return re.sub(rf"(?<![\w-]){re.escape(new)}(?![\w-])", old, text) if new else text

    return finding.code, as_before(finding.message), finding.place.file, str(finding.place.line)


def _concerned(design: Design, path: Path, tables: set[Path], old: str) -> tuple[set[str], list[Path]]:
    """The devices whose part it is, by name, and the device files that may name it: theirs, and those that hear it.

    A family's members, and the devices that use the piece with the part's table, all have it.
    """
    root = design.site.root
    if root is None:
        return {design.name}, device_files(path)
    heard = re.compile(rf"(?<![\w-])([a-z][a-z0-9-]*)\.{re.escape(old)}(?![\w-])")
    texts = {device_file: Source.read(device_file).text for device_file in device_files(root)}
    own = {
        path for path, text in texts.items() if _file(path) in tables or any(t.name in text for t in tables)
    }
    own |= {file for file in texts if _file(file) == _file(path)}
    owners = {name for name, device_path in named(root / "devices").items() if device_path in own} | {
        design.name
    }
    hearing = {path for path, text in texts.items() if owners & {*heard.findall(text)}}
    return owners, [path for path in texts if path in own | hearing]


def _file(path: Path) -> Path:
    """The file of a device; of a family's member, its family's."""
    return (path.parent if MEMBER in str(path) else path).absolute()


def _tables(design: Design, kind: str, old: str, new: str) -> Iterable[tuple[Path, Edit]]:
    """The part's table, in the device file and in its pieces."""
    document = design.document
    sources = {
        origin.name: origin for origin in (document.source, *(one for one, _ in document.origins.values()))
    }
    for source in sources.values():
        table = source.data.get(kind)
        if isinstance(table, dict) and old in table:
            yield from ((source.path, edit) for edit in _heads(source, kind, old, new))


def _heads(source: Source, kind: str, old: str, new: str) -> set[Edit]:
    """The part's own table, and the tables within it: [meter.mains], [[meter.mains.registers]]."""
    place = source.place((kind, old), "key")
    first = line_of(source.text, place.line).rfind(old, 0, place.column - 1 + place.width)
    head = re.compile(rf"\s*(?:\[\[?\s*)?{re.escape(kind)}\s*\.\s*({re.escape(old)})(?![\w-])")
    rows = (
        (n, match.start(1))
        for n, line in enumerate(source.text.split("\n"), 1)
        if (match := head.match(line))
    )
    return {Edit(line, at + 1, len(old), new) for line, at in ((place.line, first), *rows)}


def _named(finding: Finding, texts: Texts, old: str, new: str) -> Iterable[tuple[Path, Edit]]:
    """The places within a finding's own that have the old name."""
    place, path = finding.place, path_of(finding.place.file)
    if not path.is_file():
        return
    line = line_of(texts.of(path), place.line)
    stretch = line[place.column - 1 : place.column - 1 + place.width]
    matches = re.finditer(rf"(?<![\w-]){re.escape(old)}(?![\w-])", stretch)
    if match := next((match for match in matches if _is_code(stretch, match.start())), None):
        yield path, Edit(place.line, place.column + match.start(), len(old), new)


def _is_code(stretch: str, at: int) -> bool:
    """Whether a word is part of an expression: of a text for people only what stands in braces is."""
    before = stretch[:at]
    quoted = before.count("'") % 2 == 1
    if "{" not in stretch:
        return not quoted
    call = re.match(r"\s*\w+\(", stretch) is not None  # notify('…{lamp.on}…'), and not the text alone
    return before.rfind("{") > before.rfind("}") or (call and not quoted)


def _topics(
    design: Design, texts: Texts, owners: set[str], old: str, new: str
) -> Iterable[tuple[Path, list[Edit]]]:
    """Topics of the part in rehearsals, which are texts to the check: message('lamp/on/set', 'true'); in a rehearsal of several
    devices the device's name stands before the part's."""
    root = design.site.root
    if root is None:
        return
    own = owners | {path.stem for path in scripts(design)}
    topic = re.compile(
        rf"(?:message|retained|published)\(\s*['\"](?:([a-z][a-z0-9-]*)/)?({re.escape(old)})(?=/)"
    )
    for path in sorted((root / "rehearsals").glob("*.toml")):
        edits = [
            Edit(number, match.start(2) + 1, len(old), new)
            for number, line in enumerate(texts.of(path).split("\n"), 1)
            for match in topic.finditer(line)
            if (match[1] in owners if match[1] else path.stem in own)
        ]
        if edits:
            yield path, edits


def _make(texts: Texts, made: dict[Path, list[Edit]], path: Path, edits: Iterable[Edit]) -> None:
    edits = list(edits)
    texts.put(path, applied(texts.of(path), edits))
    made.setdefault(path.absolute(), []).extend(edits)
