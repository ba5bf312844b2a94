"""zapato draw: pin map, wiring sheet, budgets and links as pictures, tables and lists."""

from __future__ import annotations

from pathlib import Path

import click

WHAT = ("pins", "wires", "links", "budget")


@click.command("draw")
@click.argument("path", type=click.Path(path_type=Path))
@click.option(
    "--what", type=click.Choice([*WHAT, "all"]), default="all", show_default=True, help="What to draw."
)
@click.option(
    "--out",
    type=click.Path(path_type=Path),
    help="A .png, .svg or .pdf file; with --what all a file for each, called after it. Without it the same as text.",
)
@click.option("--shopping", type=click.Path(path_type=Path), help="Write the list of what to buy, as CSV.")
@click.option(
    "--cables",
    type=click.Path(path_type=Path),
    help="Write the wires to make, with voltage, colour and cross-section, as CSV.",
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it as text."
)
def COMMAND(
    path: Path, what: str, out: Path | None, shopping: Path | None, cables: Path | None, form: str
) -> int:
    """Draw a device: the board's pins by use and hazard, every wire, what follows what, and the budgets.

    Without --out the same stands in the terminal: the pins and the wires as tables, what to buy, and the way into the loader.
    """
    from zapato.cli.pictures import as_data, as_text, cable_list, on_a_board, shopping_list, write_pictures
    from zapato.design import resolve
    from zapato.errors import ZapatoError
    from zapato.lang.files import write

    if path.is_dir():
        raise ZapatoError(
            f"{path} is a folder, and one device is drawn", "name its file; zapato report draws a whole site"
        )
    design = on_a_board(resolve(path))
    chosen = WHAT if what == "all" else (what,)
    for at, made, what_it_is in (
        (shopping, shopping_list, "what to buy"),
        (cables, cable_list, "the wires to make"),
    ):
        if at:
            write(at, made(design).encode())
            click.echo(f"{at}: {what_it_is}")
    if out:
        for picture in write_pictures(design, chosen, out, one=what != "all"):
            click.echo(f"{picture}")
    elif form == "json":
        import json

        click.echo(json.dumps(as_data(design, chosen), indent=2, ensure_ascii=False))
    elif not shopping and not cables:
        click.echo(as_text(design, chosen))
    return 0
