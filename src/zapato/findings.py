"""Findings: what a check has to say, where, why, and the way out."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import field
from typing import TYPE_CHECKING, Literal, get_args

from zapato.record import record
from zapato.regex import regex

if TYPE_CHECKING:
    import pandas

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = get_args(Severity)


@record(frozen=True)
class Place:
    """A stretch of a line in a file.

    Attributes:
        file: as the user named it.
        line: from 1.
        column: from 1, in characters.
        width: in characters.
    """

    file: str
    line: int = 1
    column: int = 1
    width: int = 1


_LONG = 200
_ENDLESS = regex(r"\S{120,}")
"""A word that nobody reads to its end: a message shows how a value of 5,000 digits begins."""


@record(frozen=True)
class Finding:
    """One result of a check.

    Attributes:
        code: a kebab-case slug; `zapato explain CODE` tells its story.
        severity: error (it cannot work), warning (it may bite) or note (worth knowing).
        place: where in which file.
        message: what is wrong, one sentence.
        why: the physical or formal reason, with its source; empty where the message says it all.
        fixes: ways out, computed for this case, best first.
        part: the part concerned, as "kind.name"; empty for the device or the site.
        pin: the pin concerned, as the chip names it; empty where there is none.
        accepted: the reason given with `because`, where the author accepted the finding.
        device: the name of the device concerned; empty for the site.
        row: of a member of a family, where its row stands: "tables/lockers.csv:8".
    """

    code: str
    severity: Severity
    place: Place
    message: str
    why: str = ""
    fixes: tuple[str, ...] = ()
    part: str = ""
    pin: str = ""
    accepted: str = ""
    device: str = ""
    row: str = ""

    def __post_init__(self) -> None:
        if len(self.message) > _LONG:
            object.__setattr__(self, "message", _ENDLESS.sub(lambda word: word[0][:80] + "…", self.message))

    def __str__(self) -> str:
        return f"{self.place.file}:{self.place.line}:{self.place.column}: {self.severity} {self.code}: {self.message}"

    def as_dict(self) -> dict[str, object]:
        """The finding as plain data, in the order of the JSON output."""
        row: dict[str, object] = {
            "code": self.code,
            "severity": self.severity,
            "file": self.place.file,
            "line": self.place.line,
            "column": self.place.column,
            "device": self.device or None,
            "part": self.part or None,
            "pin": self.pin or None,
            "message": self.message,
            "why": self.why,
            "fixes": list(self.fixes),
        }
        more = {"accepted": self.accepted, "row": self.row}
        return row | {key: value for key, value in more.items() if value}


def _order(finding: Finding) -> tuple[str, int, int, int, str]:
    place = finding.place
    return place.file, place.line, place.column, SEVERITIES.index(finding.severity), finding.code


@record(frozen=True)
class Report:
    """The findings of one call, in the order of files and lines.

    Attributes:
        findings: those that stand.
        accepted: those that the author silenced with `accept`; counted, never forgotten.
        devices: names of the devices that were checked.
        texts: the lines of each file a finding points into, by file name.
    """

    findings: tuple[Finding, ...]
    accepted: tuple[Finding, ...] = ()
    devices: tuple[str, ...] = ()
    texts: Mapping[str, str] = field(default_factory=dict[str, str], repr=False)

    @staticmethod
    def of(
        findings: Iterable[Finding], devices: Iterable[str] = (), texts: Mapping[str, str] | None = None
    ) -> Report:
        """A report of these findings, sorted, the accepted ones set apart, duplicates once."""
        unique = sorted(dict.fromkeys(findings), key=_order)
        standing = tuple(f for f in unique if not f.accepted)
        accepted = tuple(f for f in unique if f.accepted)
        return Report(standing, accepted, tuple(devices), texts or {})

    @property
    def counts(self) -> dict[Severity, int]:
        """How many findings stand, by severity."""
        findings = [f.severity for f in self.findings]
        return {severity: findings.count(severity) for severity in SEVERITIES}

    @property
    def ok(self) -> bool:
        """True where no finding of severity error stands."""
        return not any(f.severity == "error" for f in self.findings)

    def only(self, codes: Iterable[str] = (), devices: Iterable[str] = ()) -> Report:
        """The report without findings of other codes and devices; empty means all."""
        wanted, named = set(codes), set(devices)

        def keep(finding: Finding) -> bool:
            return (not wanted or finding.code in wanted) and (not named or finding.device in named)

        return Report(
            tuple(filter(keep, self.findings)), tuple(filter(keep, self.accepted)), self.devices, self.texts
        )

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.findings)

    def __len__(self) -> int:
        return len(self.findings)

    def as_dict(self) -> dict[str, object]:
        """The report as plain data: what `--format json` prints."""
        counts: dict[str, object] = {**self.counts, "accepted": len(self.accepted)}
        return {"findings": [f.as_dict() for f in (*self.findings, *self.accepted)], "counts": counts}

    @property
    def frame(self) -> pandas.DataFrame:
        """The findings as a table, one row each, columns as in the JSON output."""
        import pandas

        return pandas.DataFrame([f.as_dict() for f in self.findings])
