"""zapato ports: the serial ports of this machine."""

from __future__ import annotations

import click


@click.command("ports")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(form: str) -> int:
    """List the serial ports: what hangs on each, and why one cannot be opened."""
    from zapato.cli.terminal import table
    from zapato.deliver.ports import ports

    rows = [{"name": port.name, "what": port.what, "trouble": port.trouble} for port in ports()]
    if form == "json":
        import json

        click.echo(json.dumps(rows, indent=2))
    elif rows:
        click.echo(
            table([{"port": r["name"], "what": r["what"], "opens": r["trouble"] or "yes"} for r in rows])
        )
    else:
        click.echo(
            "there is no serial port; a board hangs on USB by a cable that carries data, not power alone"
        )
    return 0
