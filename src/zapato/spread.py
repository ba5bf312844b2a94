"""Work on many devices: one after the other, or on any executor. What comes of it comes in their order, whatever ran where.

Work is begun up to 32 devices ahead. Workers are spawned, not forked (the VM has threads), and leave Ctrl-C to the process that
began them.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import sys
import threading
from collections import deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from concurrent.futures import (
    BrokenExecutor,
    CancelledError,
    Executor,
    Future,
    InvalidStateError,
    ProcessPoolExecutor,
    wait,
)
from functools import partial
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

from zapato.errors import ZapatoError

T = TypeVar("T")
Item = TypeVar("Item", Path, tuple[Path, ...])
"""What is worked on at a time: a device file, or some of them."""
AHEAD = 32
"""Devices that wait for a worker at the most: thousands of futures would only take memory."""
LOOK = 0.5
"""Seconds between two looks at work that is waited for."""
PAYS = 4
"""Devices from which on processes of their own pay: starting one takes about as long as a small rehearsal."""


def spread(
    work: Callable[[Item], T],
    items: Iterable[Item],
    executor: Executor | None = None,
    waiting: Callable[[], object] = lambda: None,
) -> Iterator[tuple[Item, Callable[[], T]]]:
    """Each item with a call that gives what `work` made of it, or raises what it raised.

    Without an executor the work is done at that call; with one it has been begun before, so `work` and what it gives
    must be able to go to another process. A worker that dies ends nobody else: those that it had are a ZapatoError each.
    Whatever ends the iteration early ends what has not begun, too. `waiting` is called twice a second while a result is
    waited for.
    """
    if executor is None:
        yield from ((item, partial(work, item)) for item in items)
        return
    begun: deque[tuple[Item, Future[T]]] = deque()
    rest = iter(items)
    try:
        while True:
            begun.extend((item, _begin(executor, work, item)) for item in islice(rest, AHEAD - len(begun)))
            if not begun:
                return
            item, future = begun.popleft()
            yield item, partial(_outcome, future, item, waiting, getattr(executor, "gone", _never))
    finally:
        for _, future in begun:
            future.cancel()


def _begin(executor: Executor, work: Callable[[Item], T], item: Item) -> Future[T]:
    try:
        return executor.submit(work, item)
    except RuntimeError as error:  # nobody takes work any more
        lost: Future[T] = Future()
        lost.set_exception(BrokenExecutor(str(error)))
        return lost


def _outcome(
    future: Future[T], item: Path | tuple[Path, ...], waiting: Callable[[], object], gone: Callable[[], bool]
) -> T:
    try:
        while not wait([future], LOOK).done:
            if gone():
                raise BrokenExecutor
            waiting()
        return future.result()
    except (BrokenExecutor, CancelledError, *_lost_by()):
        raise ZapatoError(
            f"{item.stem if isinstance(item, Path) else 'it'} was not done: its worker ended",
            "run it again; --jobs 1 works without workers",
        ) from None


def _never() -> bool:
    return False


def _lost_by() -> tuple[type[BaseException], ...]:
    """What a cluster calls work whose workers ended, one after the other."""
    module = sys.modules.get("distributed")
    return (module.KilledWorker,) if module else ()


def chunks(paths: Sequence[Path], size: int) -> Iterator[tuple[Path, ...]]:
    """So many paths at a time."""
    return (tuple(paths[at : at + size]) for at in range(0, len(paths), size))


def jobs_for(count: int, asked: int | None, pays: int = PAYS) -> int:
    """How many processes suit so many devices: what was asked, else one for fewer than `pays`, the machine's cores for more."""
    if asked:
        return max(1, min(asked, count))
    return 1 if count < pays else min(os.cpu_count() or 1, count)


def _quiet_end(hook: threading.ExceptHookArgs, before: Callable[[threading.ExceptHookArgs], Any]) -> None:
    """The pool's own thread stumbles over cancelled work when its workers are ended (Python before 3.12, `terminate_broken`)."""
    if hook.exc_type is not InvalidStateError:
        before(hook)


@contextlib.contextmanager
def processes(jobs: int) -> Generator[Executor | None]:
    """An executor of so many processes; None for one, which is this one.

    Ctrl-C is for this process alone; whatever ends it early ends its workers, in the middle of what they do.
    """
    if jobs <= 1:
        yield None
        return
    alone = multiprocessing.get_context("spawn")
    pool = ProcessPoolExecutor(
        jobs, mp_context=alone, initializer=signal.signal, initargs=(signal.SIGINT, signal.SIG_IGN)
    )
    try:
        yield pool
    except BaseException:
        threading.excepthook = partial(_quiet_end, before=threading.excepthook)
        for active_child in multiprocessing.active_children():
            active_child.terminate()
        raise
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
