"""zapato schema: the language as a JSON Schema."""

from __future__ import annotations

import json
from pathlib import Path

import click


@click.command("schema")
def COMMAND() -> None:
    """Print the JSON Schema (draft 2020-12) of the device file, for editors that complete it."""
    from zapato.design.schema import schema
    from zapato.lang.site import site_of

    site_of(Path("."))  # whose extensions count

    click.echo(json.dumps(schema(), indent=2, ensure_ascii=False))
