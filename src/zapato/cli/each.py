"""Work on many devices: one that fails never stops the rest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import click

from zapato.cli.terminal import styled
from zapato.errors import Refused, ZapatoError

SHOWN = 10
"""Names of failed devices that are told at the most."""


def each_device(files: Sequence[Path], done: str, work: Callable[[Path], bool], quiet: bool = False) -> int:
    """Do `work` for each file; ends with how many were `done`, the others named. Gives the exit code.

    With a single file an error is left to the caller, as for any other call. `quiet` leaves the last line out.
    What `work` writes for each file is the progress: a second line of it would stand in between.
    """
    if len(files) == 1:
        return 0 if work(files[0]) else 1
    failed: list[str] = []
    for path in files:
        try:
            good = work(path)
        except ZapatoError as error:
            good = False
            if isinstance(error, Refused):
                from zapato.cli.app import show_refused

                show_refused(error)
            else:
                click.echo(f"zapato: {path}: {error}" + (f" ({error.fix})" if error.fix else ""), err=True)
        if not good:
            failed.append(path.stem)
    names = ", ".join(failed[:SHOWN]) + (f" and {len(failed) - SHOWN} more" if len(failed) > SHOWN else "")
    count = f"{len(files) - len(failed)} of {len(files)} devices {done}"
    if not quiet:
        click.echo(count + (f"; {styled('not', fg='red', bold=True)}: {names}" if failed else ""))
    return 1 if failed else 0
