"""The workers of an existing cluster as an executor like any other."""

from __future__ import annotations

import contextlib
import logging
from collections.abc import Callable, Generator, Iterable
from concurrent.futures import BrokenExecutor, Executor, Future
from pathlib import Path
from typing import Any, TypeVar, cast

from zapato.errors import ZapatoError
from zapato.lang.source import seen_from
from zapato.record import record

T = TypeVar("T")
CONNECT = 5
"""Seconds in which a scheduler must answer."""


@record
class There:
    """Work done on another machine of a cluster: paths are absolute, and seen from where the work was asked for."""

    work: Callable[[Any], Any]
    folder: Path

    def __call__(self, item: Path | tuple[Path, ...]) -> Any:
        if not self.folder.is_dir():
            message = f"a worker of the cluster has no folder {self.folder}"
            raise ZapatoError(message, "the site must stand on a disk that all workers share")
        with seen_from(self.folder):
            return self.work(item)


class Cluster(Executor):
    """The workers of a Dask cluster, which see the same disk."""

    def __init__(self, client: Any) -> None:
        self._client, self._inner, self._folder = client, client.get_executor(pure=False), Path.cwd()

    def gone(self) -> bool:
        """Whether the scheduler is away for good; what waits for it would wait for ever."""
        return self._client.status not in ("running", "connecting")

    def submit(self, fn: Callable[..., T], /, *args: Any, **kwargs: Any) -> Future[T]:
        if self._client.status != "running":
            raise BrokenExecutor("the scheduler went away")
        given = map(_absolute, cast(Iterable[Path | tuple[Path, ...]], args))
        return self._inner.submit(There(fn, self._folder), *given, **kwargs)


@contextlib.contextmanager
def cluster(address: str) -> Generator[Executor]:
    """The workers of the Dask scheduler at this address (the extra `cluster`: pip install zapato[cluster]).

    What is begun is given up where the block ends early. Raises ZapatoError where the extra is missing, or nobody answers.
    """
    try:
        import distributed
    except ImportError:
        raise ZapatoError(
            "--cluster needs the package distributed", "pip install 'zapato[cluster]'"
        ) from None
    logging.getLogger("distributed").setLevel(logging.CRITICAL)  # what goes wrong is told by us
    at = address if "://" in address else f"tcp://{address}"
    try:
        client: Any = distributed.Client(at, timeout=CONNECT, set_as_default=False)  # type: ignore[no-untyped-call]
    except (OSError, ValueError, TimeoutError) as error:
        raise ZapatoError(f"no scheduler answers at {address}: {error}", "--cluster HOST:PORT") from None
    try:
        if not client.scheduler_info()["workers"]:
            raise ZapatoError(f"the scheduler at {address} has no workers", "dask worker " + address)
        yield Cluster(client)
    finally:
        client.close(timeout=CONNECT)


def _absolute(item: Path | tuple[Path, ...]) -> Path | tuple[Path, ...]:
    return item.absolute() if isinstance(item, Path) else tuple(path.absolute() for path in item)
