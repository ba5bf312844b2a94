"""zapato editor: the language server for editors."""

from __future__ import annotations

import click


@click.command("editor")
def COMMAND() -> int:
    """Serve an editor by the Language Server Protocol, on standard input and output.

    The editor starts it: findings while typing, ways out as quick fixes, the board's free pins, names and units at the cursor,
    renaming. How each editor is told of it: docs/editor.md.
    """
    from zapato.editor import serve

    serve()
    return 0
