"""A report in SARIF 2.1.0 (OASIS Standard, 27 March 2020), for editors and code hosts."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zapato import __version__
from zapato.checks import rule, rules
from zapato.findings import Finding, Report

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"


def sarif(report: Report) -> dict[str, Any]:
    """The report as a SARIF log with one run."""
    findings = (*report.findings, *report.accepted)
    codes = sorted({finding.code for finding in findings})
    driver = {"name": "zapato", "semanticVersion": __version__, "rules": [_rule(code) for code in codes]}
    results = [_result(finding, codes.index(finding.code)) for finding in findings]
    run = {"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}
    return {"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}


def _rule(code: str) -> dict[str, Any]:
    if code not in rules():
        return {"id": code}
    known = rule(code)
    return {
        "id": code,
        "shortDescription": {"text": known.title},
        "fullDescription": {"text": known.story.strip()},
    }


def _result(finding: Finding, index: int) -> dict[str, Any]:
    place = finding.place
    text = ". ".join(
        part.rstrip(".")
        for part in (finding.message, finding.why, *(f"Way out: {fix}" for fix in finding.fixes))
        if part
    )
    region = {"startLine": place.line, "startColumn": place.column, "endColumn": place.column + place.width}
    result: dict[str, Any] = {
        "ruleId": finding.code,
        "ruleIndex": index,
        "level": finding.severity,
        "message": {"text": f"{text}."},
        "locations": [
            {"physicalLocation": {"artifactLocation": {"uri": _uri(place.file)}, "region": region}}
        ],
    }
    if finding.accepted:
        result["suppressions"] = [{"kind": "inSource", "justification": finding.accepted}]
    return result


def _uri(file: str) -> str:
    path = Path(file)
    if path.is_absolute():
        return path.as_uri()
    from urllib.parse import quote

    return quote(path.as_posix())
