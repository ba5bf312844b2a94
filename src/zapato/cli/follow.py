"""zapato check --watch: a check after every save, and what it changed."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.report import brief_text, summary
from zapato.cli.terminal import styled
from zapato.lang.source import shown

if TYPE_CHECKING:
    from zapato.checks.follow import Changed
    from zapato.findings import Finding

PAUSE = 0.3
"""Seconds between two looks at the files' dates."""
SIGNS = {"+": "yellow", "-": "green"}


def follow(paths: Sequence[Path], only: Sequence[str], devices: Sequence[str]) -> int:
    """Tell what the check finds, and after every save what came and went, until Ctrl-C. Gives the exit code of the last check."""
    from zapato.checks.follow import Follower

    follower, code = Follower(paths), 0
    try:
        while True:
            if changed := follower.look():
                code = _show_change(changed, only, devices)
            time.sleep(PAUSE)
    except KeyboardInterrupt:
        click.echo(err=True)
    return code


def _show_change(changed: Changed, only: Sequence[str], devices: Sequence[str]) -> int:
    report = changed.report.only(only, devices)
    if changed.files:
        names = ", ".join(shown(file) for file in changed.files[:4])
        more = f" and {len(changed.files) - 4} more" if len(changed.files) > 4 else ""
        click.echo(f"{time.strftime('%H:%M:%S')}  {names}{more}")
        for sign, findings in (("+", changed.came), ("-", changed.went)):
            for finding in findings:
                if (not only or finding.code in only) and (not devices or finding.device in devices):
                    click.echo(_line(sign, finding))
    else:
        click.echo(brief_text(report), nl=False)
    click.echo(summary(report))
    return 0 if report.ok else 1


def _line(sign: str, finding: Finding) -> str:
    """A finding with its way out, after the sign that tells whether it came or went."""
    fix_text = f" ({finding.fixes[0]})" if sign == "+" and finding.fixes else ""
    place = finding.place
    where = f"{place.file}:{place.line}:{place.column}: " if sign == "+" else f"{place.file}: "
    text = f"{where}{finding.severity} {finding.code}: {finding.message}{fix_text}"
    return f"{styled(sign, fg=SIGNS[sign], bold=True)} {text}"
