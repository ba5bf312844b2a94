"""zapato fleet: who of a site is there."""

from __future__ import annotations

from pathlib import Path

import click


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
    reached = [design for design in designs if design.mqtt is not None]
    if not reached:
        click.echo("none of these devices speaks MQTT: [mqtt] in site.toml", err=True)
        return 1
    topics = [
        f"{design.topic}/{name}" for design in reached for name in ("state", "vitals", "update/runs", "notes")
    ]
    with connected(reached[0], broker_of(broker), topics) as link:
        members = fleet(reached, link, listen)
        for design in reached if describes else ():
            describe(design, link)
    if form == "json":
        import json

        click.echo(json.dumps([member.as_dict() for member in members], indent=2, ensure_ascii=False))
    else:
        from zapato.lang.units import shown_time

        rows = [
            {
                "device": member.name,
                "state": member.state or "unknown",
                "version": harmless(member.version or ""),
                "file": "" if member.version == member.wanted else member.wanted,
                "address": harmless(member.address),
                "up": "" if member.uptime is None else shown_time(member.uptime * 1000),
                "signal": "" if member.signal is None else f"{member.signal} dBm",
                "free heap": "" if member.heap is None else f"{member.heap / 1024:.1f} KiB",
                "trouble": harmless(member.fault),
            }
            for member in members
        ]
        click.echo(table(rows, droppable="trouble"))
    return 0 if all(member.state == "online" and member.version == member.wanted for member in members) else 1
