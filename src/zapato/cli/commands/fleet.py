"""zapato fleet: who of a site is there."""

from __future__ import annotations

from pathlib import Path

import click

from zapato.cli.about import About

ABOUT = About("Follow", "which devices are there, with which version", "zapato fleet .")


@click.command("fleet")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--broker", metavar="HOST[:PORT]", help="Another broker than the site's.")
@click.option("--listen", default=5.0, show_default=True, metavar="SECONDS", help="How long to listen.")
@click.option(
    "--describe",
    "describes",
    is_flag=True,
    help="Leave each device's Thing Description at the broker, under about.",
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(paths: tuple[Path, ...], broker: str | None, listen: float, describes: bool, form: str) -> int:
    """List devices as they say of themselves: there or not, version, address, for how long, signal, free heap, last trouble.

    Exit code 0: all are there with the version of their files; 1: one is not.
    """
    from zapato.checks import all_files
    from zapato.cli.live import broker_of
    from zapato.cli.terminal import harmless, table
    from zapato.deliver.broker import connected, describe
    from zapato.deliver.fleet import fleet
    from zapato.design import resolve_all

    designs = resolve_all(all_files(paths))
    reached = [each for each in designs if each.mqtt is not None]
    if not reached:
        click.echo("none of these devices speaks MQTT: [mqtt] in site.toml", err=True)
        return 1
    topics = [
        f"{each.topic}/{name}" for each in reached for name in ("state", "vitals", "update/runs", "notes")
    ]
    with connected(reached[0], broker_of(broker), topics) as way:
        members = fleet(reached, way, listen)
        for each in reached if describes else ():
            describe(each, way)
    if form == "json":
        import json

        click.echo(json.dumps([each.as_dict() for each in members], indent=2, ensure_ascii=False))
    else:
        from zapato.lang.units import shown_time

        rows = [
            {
                "device": each.name,
                "state": each.state or "unknown",
                "version": harmless(each.version or ""),
                "file": "" if each.version == each.wanted else each.wanted,
                "address": harmless(each.address),
                "up": "" if each.uptime is None else shown_time(each.uptime * 1000),
                "signal": "" if each.signal is None else f"{each.signal} dBm",
                "free heap": "" if each.heap is None else f"{each.heap / 1024:.1f} KiB",
                "trouble": harmless(each.fault),
            }
            for each in members
        ]
        click.echo(table(rows, droppable="trouble"))
    return 0 if all(each.state == "online" and each.version == each.wanted for each in members) else 1
