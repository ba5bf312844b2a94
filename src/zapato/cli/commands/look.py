"""zapato look: the pin map, the wiring and the budgets beside the file, as it is edited."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("look")
@click.argument("device", type=click.Path(path_type=Path))
@click.option(
    "--port", type=click.IntRange(0, 65535), default=0, help="Port of the page; any that is free by default."
)
@click.option("--open", "opens", is_flag=True, help="Open it in the browser.")
def COMMAND(device: Path, port: int, opens: bool) -> int:
    """Serve a page that follows a device file: findings, pin map, wiring, links and budgets, anew after every save.

    It is on this machine's loopback address alone, and ends with Ctrl-C.
    """
    from zapato.errors import ZapatoError
    from zapato.pages.follow import Followed
    from zapato.pages.serve import LookPage

    if device.is_dir():
        raise ZapatoError(
            f"{device} is a folder, and a page follows one device file",
            f"zapato look {device / 'devices'}/NAME.toml",
        )
    page = LookPage(Followed(device), port)
    click.echo(f"{page.address} follows {device}; Ctrl-C ends it")
    if opens:
        click.launch(page.address)
    try:
        page.run(lambda: click.echo(f"saved: {device}", err=True))
    except KeyboardInterrupt:
        click.echo(err=True)
    return 0
