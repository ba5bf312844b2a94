"""zapato check: every mistake of a device file, at its place, with the way out."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("check")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "json", "sarif"]),
    default="text",
    help="How to print the findings.",
)
def COMMAND(paths: tuple[Path, ...], form: str) -> int:
    """Check device files, or the folders of sites, against their boards.

    Exit code 0: no errors; 1: errors found; 2: the call itself was wrong.
    """
    from zapato.checks import device_files
    from zapato.checks import report as report_of
    from zapato.cli.terminal import progress
    from zapato.design import resolve

    files = [each for given in paths for each in device_files(given)]
    report = report_of(resolve(path) for path in progress(files, "checking"))
    if form != "text":
        import json

        if form == "sarif":
            from zapato.cli.sarif import sarif

            data = sarif(report)
        else:
            data = report.as_dict()
        click.echo(json.dumps(data, indent=2, ensure_ascii=False))
    else:
        from zapato.cli.report import summary, text_of

        click.echo(text_of(report) + summary(report))
    return 0 if report.ok else 1
