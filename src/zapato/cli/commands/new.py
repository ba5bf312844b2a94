"""zapato new: a starter file that passes check."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("new")
@click.argument("name")
@click.option("--board", required=True, help="The board it runs on; `zapato boards` lists them.")
@click.option("--label", default="", help="The name for people.")
@click.option("--room", default="", help="Where it is.")
@click.option(
    "--site",
    "folder",
    default=".",
    type=click.Path(path_type=Path),
    help="The site's folder.",
    show_default=True,
)
def COMMAND(name: str, board: str, label: str, room: str, folder: Path) -> None:
    """Start a device NAME: a commented device file that passes check, and an update key.

    Where the folder is no site yet, site.toml and secrets.toml are begun, too. Nothing is overwritten.
    """
    from zapato.starter import start_device

    for path, made in start_device(folder, name, board, label, room):
        click.echo(f"{'wrote' if made else 'kept '} {path}")
