"""zapato hub: find, follow and drive the devices at a broker, and remember what they said."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.cli.hub_run import Asked


@click.command("hub")
@click.argument("site", required=False, type=click.Path(path_type=Path))
@click.option("--broker", metavar="HOST[:PORT]", help="Another broker than the site's.")
@click.option(
    "--serve",
    metavar="ADDRESS[:PORT]",
    help="Also run the broker, at this address of this machine; needs user and password in the site's [mqtt].",
)
@click.option("--demo", is_flag=True, help="The demo site, run in the simulator; nothing is stored.")
@click.option(
    "--web",
    metavar="[ADDRESS:]PORT",
    help="A page on this machine, such as --web 8080; at another address it asks for a token.",
)
@click.option(
    "--do",
    "lines",
    metavar="LINE",
    multiple=True,
    help='Send this command and end: "boot-dryer.vent.on = true".',
)
@click.option("--once", is_flag=True, help="List the devices and end.")
@click.option(
    "--past", metavar="NAME", multiple=True, help="Print the history of device.part.property and end."
)
@click.option("--since", default="24h", show_default=True, metavar="TIME", help="With --past: how far back.")
@click.option(
    "--plot", type=click.Path(path_type=Path), help="With --past: draw it into this PNG, SVG or PDF."
)
@click.option("--history", type=click.Path(path_type=Path), help="The file of the history.")
@click.option(
    "--store",
    metavar="ADDRESS",
    help="Keep the history in PostgreSQL instead: postgresql://USER@HOST/DATABASE; its password from PGPASSWORD or ~/.pgpass.",
)
@click.option("--keep", default="366d", show_default=True, metavar="TIME", help="How long values are stored.")
@click.option(
    "--room",
    default=1024.0,
    show_default=True,
    metavar="MIB",
    help="Its largest size; then the oldest values are deleted.",
)
@click.option("--alerts", type=click.Path(path_type=Path), help="Alerts; the site's alerts.toml by default.")
@click.option(
    "--listen",
    default=2.0,
    show_default=True,
    metavar="SECONDS",
    help="How long to wait for the broker's retained messages.",
)
@click.option("--lasts", type=float, metavar="SECONDS", help="End after so long; else Ctrl-C ends it.")
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "csv", "json"]),
    default="text",
    help="How to print it; CSV with --past.",
)
def COMMAND(**given: object) -> int:
    """Find devices by their descriptions at the broker, follow their values live, set them, call their actions.

    SITE is a folder of devices: its broker is the one that is asked, its devices are described there, and what is heard is kept
    in out/hub.sqlite of it. Without SITE and --broker there is an embedded broker.

    On a terminal a screen of all devices; in a pipe a line for each change. What is typed, or comes through the pipe, is done:
    "device.part.property = value" or "device.part.action 2s".

    Exit code 0: all was done; 1: a device did not do what --do said; 2: the call was wrong.
    """
    from zapato.cli.hub_run import Asked, past, run

    asked: Asked = Asked(**given)  # type: ignore[arg-type]
    return past(asked) if asked.past else run(asked)
