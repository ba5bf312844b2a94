"""Device files checked again whenever something is saved: what came, what went."""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path

from zapato.checks.gather import all_files
from zapato.errors import Unreadable
from zapato.findings import Finding, Report
from zapato.lang.site import site_of
from zapato.record import record

Stamp = tuple[int, int]
SUFFIXES = (".toml", ".csv", ".py", ".json", ".pem", ".wav")
"""Files that a site is made of."""


@record(frozen=True)
class Changed:
    """What a look found.

    Attributes:
        files: those that were saved, made or removed since the last look; none at the first.
        came, went: findings that were not there before, and those that are no longer. One that only moved to another line is neither.
        report: all that stands now.
    """

    files: tuple[Path, ...]
    came: tuple[Finding, ...]
    went: tuple[Finding, ...]
    report: Report


class Follower:
    """Checks what is at these paths, and again when a file of their sites was saved."""

    def __init__(self, paths: Sequence[Path]) -> None:
        self._paths = list(paths)
        self._stamps: dict[Path, Stamp] = {}
        self._report: Report | None = None

    def look(self) -> Changed | None:
        """What changed since the last look; None where nothing did. Raises Unreadable at the first where a path leads to no file."""
        from zapato.checks import check_files

        stamps, before = dict(_stamps(self._paths)), self._report
        changed = [p for p in {**self._stamps, **stamps} if self._stamps.get(p) != stamps.get(p)]
        if before is not None and not changed:
            return None
        try:
            report = check_files(self._paths, all_files(self._paths))
        except Unreadable:
            if before is None:
                raise
            return None  # a file is just being replaced: the next look finds it
        self._stamps, self._report = stamps, report
        if before is None:
            return Changed((), report.findings, (), report)
        return Changed(tuple(changed), _more(report, before), _more(before, report), report)


def _more(some: Report, others: Report) -> tuple[Finding, ...]:
    """The findings of one report that the other does not have."""
    known = Counter(map(_key, others))
    findings: list[Finding] = []
    for finding in some:
        if known[_key(finding)]:
            known[_key(finding)] -= 1
        else:
            findings.append(finding)
    return tuple(findings)


def _key(finding: Finding) -> tuple[str, ...]:
    """What stays of a finding while lines move."""
    message = re.sub(r"\bline \d+|:\d+\b", "", finding.message)
    return finding.code, finding.severity, finding.place.file, finding.device, message


def _stamps(paths: Iterable[Path]) -> Iterator[tuple[Path, Stamp]]:
    """When the files of these paths' sites changed, and their sizes."""
    folders: dict[Path, None] = {}
    for path in paths:
        root = None
        with suppress(Unreadable):
            root = site_of(path).root
        folders[root or (path if path.is_dir() else path.absolute().parent)] = None
    for folder in folders:
        for name in _files(folder):
            with suppress(OSError):
                about = os.stat(name)
                yield Path(name), (about.st_mtime_ns, about.st_size)


def _files(folder: Path) -> Iterator[str]:
    """The files of a site: beside site.toml, and in its folders, not in what was built there."""
    for where, below, names in os.walk(folder):
        below[:] = [
            folder for folder in below if folder not in ("out", "build") and not folder.startswith((".", "_"))
        ]
        yield from (f"{where}{os.sep}{name}" for name in names if name.endswith(SUFFIXES))
