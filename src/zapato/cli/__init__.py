"""The command line: parses arguments, calls one function, renders its result.

Each command is a module of `zapato.cli.commands` with a `COMMAND`. Exit codes: 0 no errors,
1 errors were found, 2 the call itself was wrong, 130 interrupted.
"""

from __future__ import annotations

import gc
import os
import sys

PLAIN = {
    "Ω": "ohm",
    "µ": "u",
    "μ": "u",
    "°": " deg",
    "−": "-",
    "–": "-",
    "—": "-",
    "…": "...",
    "·": ".",
    "→": "->",
    "×": "x",
    "≥": ">=",
    "≤": "<=",
    "²": "2",
}
"""What stands for a sign that the output's code page does not have."""


def main() -> None:
    """Run the command line; the entry point of the console script."""
    gc.set_threshold(
        50_000, 20, 20
    )  # a short run makes next to no garbage, and looking for it takes a tenth of it
    try:
        _streams()
        from zapato.cli.app import run

        code = run(sys.argv[1:])
        if sys.stdout:
            sys.stdout.flush()
    except BrokenPipeError:
        if sys.stdout:
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except KeyboardInterrupt:
        if sys.stderr:
            sys.stderr.write("\ninterrupted\n")
        code = 130
    # An interrupt inside exec of a text, as dataclasses do it, leaves a mark with which `python -m` ends as killed; another exec takes it away.
    exec("")
    gc.freeze()  # what ends with the process need not be searched for cycles: that was a sixth of a cold check
    sys.exit(code)


def _streams() -> None:
    """Output that fits any code page, and any closed stream."""
    import codecs

    def plain(error: UnicodeError) -> tuple[str, int]:
        if not isinstance(error, UnicodeEncodeError):
            raise error
        signs = error.object[error.start : error.end]
        return "".join(PLAIN.get(sign, "?") for sign in signs), error.end

    codecs.register_error("zapato-plain", plain)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        try:
            stream.reconfigure(errors="zapato-plain")
        except (AttributeError, OSError):
            if stream is None:  # closed before the start: what is said goes nowhere
                setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115
