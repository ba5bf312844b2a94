"""zapato rename: a part called otherwise, in every file that names it."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("rename")
@click.argument("device", type=click.Path(path_type=Path))
@click.argument("old")
@click.argument("new")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
def COMMAND(device: Path, old: str, new: str, dry_run: bool) -> int:
    """Rename the part OLD of a device to NEW: its table, links, lists, rehearsals, alerts, and the links of other devices of the site.

    All places or none: where something would not read as before, nothing is changed. Texts for people, such as labels and notices,
    stay as they are.

    Exit code 0: renamed; 1: it cannot be; 2: the call itself was wrong.
    """
    from zapato.cli.changes import count, show
    from zapato.editing import rename
    from zapato.errors import ZapatoError

    if device.is_dir():
        message = f"{device} is a folder, and a part belongs to one device"
        raise ZapatoError(message, f"zapato rename {device / 'devices'}/NAME.toml {old} {new}")
    renaming = rename(device, old, new)
    places = show(renaming.texts)
    where = f"{count(places, 'line')} in {count(len(renaming.texts.changed), 'file')}"
    if not dry_run:
        renaming.texts.write()
    click.echo(f"{where} {'would change' if dry_run else 'changed'}: {old} is now called {new}")
    click.echo(
        f"topics: {renaming.topic[0]}/… becomes {renaming.topic[1]}/…; what listens there outside this site needs the new ones"
    )
    return 0
