"""zapato budget: what a device takes of what there is."""

from __future__ import annotations

from pathlib import Path

import click

from zapato.budgets.row import TOPICS
from zapato.cli.about import About
from zapato.lang.units import digits

ABOUT = About(
    "Check",
    "currents, buses, memory, time against limits",
    "zapato budget devices/porch-light.toml",
)


@click.command("budget")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--topic", type=click.Choice(TOPICS), multiple=True, help="These alone.")
@click.option("--sources", is_flag=True, help="Also print the source of each figure.")
@click.option(
    "--out", type=click.Path(path_type=Path), help="Draw it: a .png, .svg or .pdf file, of one device."
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(
    paths: tuple[Path, ...], topic: tuple[str, ...], sources: bool, out: Path | None, form: str
) -> int:
    """Work out supply, pin currents, strips, analog inputs, buses, traffic, flash and heap, each with its formula.

    Exit code 0: nothing passes its limit; 1: something does.
    """
    import json

    from zapato.budgets.traffic import SITE, of_site
    from zapato.budgets.whole import Budget, budget
    from zapato.checks import all_files
    from zapato.cli.pictures import budget_text, on_a_board
    from zapato.design import resolve_all

    files = all_files(paths)
    if out and len(files) > 1:
        raise click.UsageError("--out draws one device: name one")
    found = [budget(on_a_board(each)) for each in resolve_all(files)]
    if topic:
        found = [Budget(each.design, tuple(row for row in each.rows if row.topic in topic)) for each in found]
    if form == "json":
        rows = [{"device": each.design.name, **row.as_dict()} for each in found for row in each.rows]
        click.echo(json.dumps(rows, indent=2, ensure_ascii=False))
    else:
        for number, each in enumerate(found):
            if len(found) > 1:
                click.echo(f"{chr(10) if number else ''}{each.design.name}")
            click.echo(budget_text(each))
            if sources:
                told = dict.fromkeys(
                    f"  {row.of}: {row.what}: {row.source}" for row in each.rows if row.source
                )
                click.echo("\n".join(told))
        if len(found) > 1:
            click.echo(
                f"\nthe site says up to {digits(of_site([each.design for each in found]), 2)} values a second (of {SITE:g})"
            )
    if out:
        from zapato.draw import budget_chart, save

        save(budget_chart(found[0]), out)
        click.echo(f"{out}: the budgets of {found[0].design.name}", err=form == "json")
    return 1 if any(each.over for each in found) else 0
