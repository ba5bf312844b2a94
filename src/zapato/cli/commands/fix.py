"""zapato fix: mistakes of writing mended in the files."""

from __future__ import annotations

from pathlib import Path

import click

from zapato.cli.about import About

ABOUT = About("Check", "mistakes of writing mended in the files", "zapato fix devices/porch-light.toml")


@click.command("fix")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
def COMMAND(paths: tuple[Path, ...], dry_run: bool) -> int:
    """Mend what is only written wrongly: a misspelt name, a number in quotes, the missing first line.

    A change is made where there is one way out alone and the check finds less after it. Pins, wires and values are yours: what is
    left is told as `zapato check` tells it. A second call changes nothing.

    Exit code 0: no errors are left; 1: some are.
    """
    from zapato.cli.changes import count, show
    from zapato.cli.report import brief_text, summary, totals
    from zapato.editing import fix

    found = fix(paths)
    show(found.texts)
    for finding, _, _, _ in found.made:
        click.echo(f"  {finding.code}: {finding.message}")
    if not dry_run:
        found.texts.write()
    made = count(len(found.made), "mistake")
    click.echo(
        f"{made} {'would be mended' if dry_run else 'mended'}" if found.made else "nothing to mend by itself"
    )
    if len(found.left):
        click.echo("\nleft:\n" + brief_text(found.left) + totals(found.left) + summary(found.left), nl=False)
        click.echo()
    return 0 if found.left.ok else 1
