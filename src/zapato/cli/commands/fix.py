"""zapato fix: mistakes of writing mended in the files."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("fix")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
def COMMAND(paths: tuple[Path, ...], dry_run: bool) -> int:
    """Correct what is only written wrongly: a misspelt name, a number in quotes, the missing first line.

    A change is made only where there is a single way out and the check finds fewer mistakes after it. Pins, wires and values are never
    changed. What is left is listed as `zapato check` does. A second call changes nothing.

    Exit code 0: no errors are left; 1: some are.
    """
    from zapato.cli.changes import count, show
    from zapato.cli.report import brief_text, summary, totals
    from zapato.editing import fix
    from zapato.errors import ZapatoError

    if "-" in map(str, paths):
        raise ZapatoError("- is standard input, and fix changes files", "zapato fix FILE")
    fixed = fix(paths)
    show(fixed.texts)
    for finding, _, _, _ in fixed.made:
        click.echo(f"  {finding.code}: {finding.message}")
    if not dry_run:
        fixed.texts.write()
    made = count(len(fixed.made), "mistake")
    click.echo(
        f"{made} {'would be corrected' if dry_run else 'corrected'}"
        if fixed.made
        else "nothing can be corrected automatically"
    )
    if len(fixed.left):
        click.echo("\nleft:\n" + brief_text(fixed.left) + totals(fixed.left) + summary(fixed.left), nl=False)
        click.echo()
    return 0 if fixed.left.ok else 1
