"""zapato topics: every topic of a device, with an example to paste."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("topics")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "csv", "json", "asyncapi", "thing"]),
    default="text",
    help="How to print it: a table, CSV, JSON, an AsyncAPI 3.0 document, or the W3C Thing Description; the last two of one device.",
)
def COMMAND(paths: tuple[Path, ...], form: str) -> int:
    """List what devices say and hear over MQTT: topic, direction, payload, unit, retained, QoS and an example."""
    import json

    from zapato.checks import all_files
    from zapato.cli.terminal import table
    from zapato.design import resolve_all
    from zapato.topics import topics

    designs = resolve_all(all_files(paths))
    if form in ("asyncapi", "thing"):
        from zapato.descriptions import asyncapi, thing

        if len(designs) > 1:
            raise click.UsageError(f"--format {form} describes one device: name one")
        made = asyncapi(designs[0]) if form == "asyncapi" else thing(designs[0])
        click.echo(json.dumps(made, indent=2, ensure_ascii=False))
        return 0
    listed = [(design.name, topic) for design in designs for topic in topics(design)]
    if form == "json":
        click.echo(
            json.dumps(
                [{"device": name, **topic.as_dict()} for name, topic in listed], indent=2, ensure_ascii=False
            )
        )
        return 0
    rows: list[dict[str, object]] = [
        {
            "topic": topic.name,
            "": "says" if topic.way == "from" else "hears",
            "payload": topic.payload,
            "example": topic.example,
            "qos": topic.qos if topic.way == "from" else "",
            "retained": "yes" if topic.retained else "",
        }
        for _, topic in listed
    ]
    if form == "csv":
        click.echo(_csv(rows), nl=False)
    elif rows:
        click.echo(table(rows, droppable="payload"))
    else:
        click.echo("none of these devices speaks MQTT: [mqtt] in site.toml")
    return 0


def _csv(rows: list[dict[str, object]]) -> str:
    """RFC 4180; the direction has a name there."""
    import csv
    import io

    held = io.StringIO()
    writer = csv.writer(held)
    writer.writerow(("topic", "direction", "payload", "example", "qos", "retained"))
    writer.writerows([*row.values()] for row in rows)
    return held.getvalue()
