"""Work on many devices: one that fails never stops the rest."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TypeVar

import click

from zapato.cli.terminal import Meter, styled
from zapato.errors import Refused, ZapatoError
from zapato.spread import processes, spread

T = TypeVar("T")
SHOWN = 10
"""Names of failed devices that are told at the most."""


def each_device(
    files: Sequence[Path],
    done: str,
    work: Callable[[Path], T],
    tell: Callable[[T], bool],
    *,
    quiet: bool = False,
    jobs: int = 1,
) -> int:
    """Do `work` for each file and `tell` what came of it; ends with how many were `done`, the others named. Gives the exit code.

    With a single file an error is left to the caller, as for any other call. `quiet` leaves the last line out.
    What is told of each file is the progress: a second line of it would stand in between. With several `jobs` the work
    is done in processes, and told in the order of the files.
    """
    if len(files) == 1:
        return 0 if tell(work(files[0])) else 1
    failed: list[str] = []
    meter, over = Meter("waiting for workers"), 0

    def waiting() -> None:
        meter.at(over / len(files), f"{over} of {len(files)}")

    with processes(jobs) as executor:
        for path, find in spread(work, files, executor, waiting):
            if not _good(path, find, tell, meter, quiet):
                failed.append(path.stem)
            over += 1
    names = ", ".join(failed[:SHOWN]) + (f" and {len(failed) - SHOWN} more" if len(failed) > SHOWN else "")
    count = f"{len(files) - len(failed)} of {len(files)} devices {done}"
    if not quiet:
        click.echo(count + (f"; {styled('not', fg='red', bold=True)}: {names}" if failed else ""))
    return 1 if failed else 0


def _good(path: Path, find: Callable[[], T], tell: Callable[[T], bool], meter: Meter, quiet: bool) -> bool:
    try:
        try:
            found = find()
        finally:
            meter.done()
        return tell(found)
    except ZapatoError as error:
        if isinstance(error, Refused):
            from zapato.cli.app import show_refused

            show_refused(error, aside=quiet)
        else:
            click.echo(f"zapato: {path}: {error}" + (f" ({error.fix})" if error.fix else ""), err=True)
        return False
