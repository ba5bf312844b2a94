"""zapato budget: what a device takes of what there is."""

from __future__ import annotations

from pathlib import Path

import click

from zapato.budgets.row import TOPICS
from zapato.lang.units import digits


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
    budgets = [budget(on_a_board(design)) for design in resolve_all(files)]
    if topic:
        budgets = [
            Budget(budget.design, tuple(row for row in budget.rows if row.topic in topic))
            for budget in budgets
        ]
    if form == "json":
        rows = [{"device": budget.design.name, **row.as_dict()} for budget in budgets for row in budget.rows]
        click.echo(json.dumps(rows, indent=2, ensure_ascii=False))
    else:
        for number, device_budget in enumerate(budgets):
            if len(budgets) > 1:
                click.echo(f"{chr(10) if number else ''}{device_budget.design.name}")
            click.echo(budget_text(device_budget))
            if sources:
                source_lines = dict.fromkeys(
                    f"  {row.of}: {row.what}: {row.source}" for row in device_budget.rows if row.source
                )
                click.echo("\n".join(source_lines))
        if len(budgets) > 1:
            click.echo(
                f"\nthe site says up to {digits(of_site([budget.design for budget in budgets]), 2)} values a second (of {SITE:g})"
            )
    if out:
        from zapato.draw import budget_chart, save

        save(budget_chart(budgets[0]), out)
        click.echo(f"{out}: the budgets of {budgets[0].design.name}", err=form == "json")
    return 1 if any(budget.over for budget in budgets) else 0
