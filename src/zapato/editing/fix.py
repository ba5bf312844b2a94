"""Mistakes of writing mended: each certain way out tried, and kept where the check finds less than before."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from pathlib import Path

from zapato.checks import check_files, device_files, together
from zapato.checks.result import look_at
from zapato.editing.change import Texts, applied, line_of, path_of
from zapato.editing.ways import WayOut, ways
from zapato.findings import Finding, Report
from zapato.lang.folder import settled
from zapato.record import record

NAMES = ("link-unknown", "unknown-key", "unknown-reference")
"""What a misspelt name can hide on its own line: another one."""
MOST = 200
"""Ways out that one call makes at the most."""


@record(frozen=True)
class Fixed:
    """What was mended.

    Attributes:
        made: each finding that is gone, the way out, and its line before and after.
        texts: the files as they are now; `write()` puts them on the disk.
        left: what the check still finds.
    """

    made: tuple[tuple[Finding, WayOut, str, str], ...]
    texts: Texts
    left: Report


def fix(paths: Iterable[Path]) -> Fixed:
    """Make the ways out of findings about how something is written, as far as each is the only one. Raises Unreadable.

    A way out is kept where its finding is gone after it, and nothing else is found that was not before. What would change a wire,
    a part or what a device does is left to people.
    """
    texts = Texts()
    made: list[tuple[Finding, WayOut, str, str]] = []
    files = {file: None for path in paths for file in device_files(path)}
    for file in _suspects(list(files)):
        made += _fix_one(file, texts)
    with texts.tried():
        left = check_files(list(files), list(files))
    return Fixed(tuple(made), texts, left)


def _suspects(files: list[Path]) -> list[Path]:
    """The files that are worth a try: those of which something is found, and of each site the first, for what is wrong with the site itself.

    A try checks one file with its neighbours: with all files the time would grow with the square of the site's size.
    """
    with settled():
        looked = [look_at(path) for path in files]
        findings = list(together(looked).findings)
    places, names = {finding.place.file for finding in findings}, {finding.device for finding in findings}
    first = {device.root: device.path for device in reversed(looked)}
    return [
        device.path
        for device in looked
        if device.source in places
        or device.device in names
        or device.findings
        or first[device.root] == device.path
    ]


def _fix_one(file: Path, texts: Texts) -> list[tuple[Finding, WayOut, str, str]]:
    made: list[tuple[Finding, WayOut, str, str]] = []
    tried: set[tuple[str, str, int]] = set()
    while len(made) < MOST:
        step = _step(file, texts, tried)
        if step is None:
            break
        made.append(step)
    return made


def _step(
    file: Path, texts: Texts, tried: set[tuple[str, str, int]]
) -> tuple[Finding, WayOut, str, str] | None:
    """The next way out that holds, made."""
    before = _found(file, texts)
    for finding in before:
        key = (finding.code, finding.message, finding.place.line)
        if key in tried:
            continue
        tried.add(key)
        path = path_of(finding.place.file)
        if not path.is_file():
            continue
        text = texts.of(path)
        for way in (way for way in ways(finding, text) if way.certain):
            texts.put(path, applied(text, way.edits))
            if _better(before, _found(file, texts), finding, way):
                line = way.edits[0].line
                return finding, way, line_of(text, line), line_of(texts.of(path), line)
            texts.put(path, text)
    return None


def _found(file: Path, texts: Texts) -> list[Finding]:
    with texts.tried():
        return list(check_files([file], [file]))


def _better(before: list[Finding], after: list[Finding], gone: Finding, way: WayOut) -> bool:
    """The finding is gone, and what came is only what it had hidden: a word on its line, or what stands in a table of no kind."""

    def counts(findings: list[Finding]) -> Counter[tuple[str, str]]:
        return Counter((f.code, f.message) for f in findings if f.severity != "note")

    more, lines = counts(after) - counts(before), {edit.line for edit in way.edits}
    hidden = gone.code == "unknown-kind" or all(
        finding.place.line in lines and finding.code in NAMES
        for finding in after
        if (finding.code, finding.message) in more
    )
    return hidden and counts(after)[gone.code, gone.message] < counts(before)[gone.code, gone.message]
