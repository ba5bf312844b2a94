"""The command line: parses arguments, calls one function, renders its result.

Each command is a module of `zapato.cli.commands` with a `COMMAND`. Exit codes: 0 no errors,
1 errors were found, 2 the call itself was wrong, 130 interrupted.
"""

from __future__ import annotations

import os
import sys


def main() -> None:
    """Run the command line; the entry point of the console script."""
    from zapato.cli.app import run

    try:
        code = run(sys.argv[1:])
        sys.stdout.flush()
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except KeyboardInterrupt:
        sys.stderr.write("\ninterrupted\n")
        code = 130
    sys.exit(code)
