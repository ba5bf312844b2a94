"""Work on many devices: one that fails never stops the rest."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Generator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from zapato.cli.terminal import Meter, some, styled
from zapato.errors import Refused, ZapatoError
from zapato.record import record

if TYPE_CHECKING:
    from concurrent.futures import Executor

T = TypeVar("T")
F = TypeVar("F", bound=Callable[..., Any])


def spreading(command: F) -> F:
    """Options of a command that works on many devices: --jobs and --cluster."""
    jobs = click.option(
        "--jobs",
        type=click.IntRange(1),
        help="Processes that work at a time; by default one, or the machine's cores where that pays.",
    )
    cluster = click.option(
        "--cluster",
        metavar="ADDRESS",
        help="Work on a Dask cluster, by its scheduler's address; its workers must see the same disk.",
    )
    return jobs(cluster(command))


@record(frozen=True)
class Workers:
    """Who does the work: processes of this machine, or a cluster's workers."""

    jobs: int | None = None
    cluster: str | None = None

    def several(self, count: int, pays: int | None = None) -> bool:
        """Whether others than this process work on so many devices."""
        from zapato.spread import PAYS, jobs_for

        return bool(self.cluster) or jobs_for(count, self.jobs, pays or PAYS) > 1

    @contextlib.contextmanager
    def executor(self, count: int, pays: int | None = None) -> Generator[Executor | None]:
        """An executor for so many devices; None where this process does it alone. Raises ZapatoError."""
        if self.cluster and self.jobs:
            raise ZapatoError("--jobs and --cluster are two ways to work, not one", "one of them")
        if self.cluster:
            from zapato.cluster import cluster

            with cluster(self.cluster) as executor:
                yield executor
            return
        if self.jobs == 1 or (count == 1 and not self.jobs):
            yield None  # without loading what several processes need
            return
        from zapato.spread import PAYS, jobs_for, processes

        with processes(jobs_for(count, self.jobs, pays or PAYS)) as executor:
            yield executor


def each_device(
    files: Sequence[Path],
    done: str,
    work: Callable[[Path], T],
    tell: Callable[[T], bool],
    *,
    quiet: bool = False,
    workers: Workers | None = None,
) -> int:
    """Do `work` for each file and `tell` what came of it; ends with how many were `done`, the others named. Gives the exit code.

    With a single file an error is left to the caller, as for any other call. `quiet` leaves the last line out.
    What is told of each file is the progress: a second line of it would stand in between. Others than this process may do
    the work; it is told in the order of the files.
    """
    from zapato.spread import spread

    who = workers or Workers()
    if len(files) == 1 and not who.cluster:
        return 0 if tell(work(files[0])) else 1
    failed: list[str] = []
    meter, over = Meter("waiting for workers"), 0

    def waiting() -> None:
        meter.at(over / len(files), f"{over} of {len(files)}")

    try:
        with who.executor(len(files)) as executor:
            for path, find in spread(work, files, executor, waiting):
                if not _good(path, find, tell, meter, quiet):
                    failed.append(path.stem)
                over += 1
    except KeyboardInterrupt:
        click.echo(
            f"{over} of {len(files)} devices done; not: {some([p.stem for p in files[over:]])}", err=True
        )
        raise
    names = some(failed)
    count = f"{len(files) - len(failed)} of {len(files)} devices {done}"
    if not quiet:
        click.echo(count + (f"; {styled('not', fg='red', bold=True)}: {names}" if failed else ""))
    return 1 if failed else 0


def _good(path: Path, find: Callable[[], T], tell: Callable[[T], bool], meter: Meter, quiet: bool) -> bool:
    try:
        try:
            result = find()
        finally:
            meter.done()
        return tell(result)
    except ZapatoError as error:
        show_failed(path, error, quiet)
        return False


def show_failed(path: Path, error: ZapatoError, quiet: bool) -> None:
    """Why one of several was not done; `quiet` keeps standard output free of it."""
    if isinstance(error, Refused):
        from zapato.cli.app import show_refused

        show_refused(error, aside=quiet)
    else:
        click.echo(f"zapato: {path}: {error}" + (f" ({error.fix})" if error.fix else ""), err=True)
