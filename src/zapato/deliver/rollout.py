"""A new version for many devices: one first, then a part, then the rest, and a stop where too many fail."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

from zapato.errors import AlreadyThere, ZapatoError
from zapato.record import record

PART = 4
"""The second wave is one device in so many."""
AT_ONCE = 4
"""Devices that are served at the same time: each asks for its pieces and waits, so one broker has room for more."""

Tell = Callable[[str, float], None]


@record
class Turn:
    """One device's turn.

    Attributes:
        name: whose.
        wave: 1 for the first device, 2 for the part, 3 for the rest.
        state: "waiting", "running", "done", "there" (it has this version already), "failed", or "left" where it
            was stopped before.
        text: what is told of it last.
        share: how much of it is done, from 0 to 1.
    """

    name: str
    wave: int
    state: str = "waiting"
    text: str = ""
    share: float = 0.0

    def as_dict(self) -> dict[str, object]:
        return dict(vars(self))


def waves(names: Sequence[str]) -> list[Turn]:
    """Whose turn it is when: the first, a quarter of them, the rest."""
    part = -(-len(names) // PART)
    return [Turn(name, 1 if at == 0 else 2 if at <= part else 3) for at, name in enumerate(names)]


def roll_out(
    turns: Sequence[Turn],
    deliver: Callable[[str, Tell, Callable[[], bool]], str],
    *,
    failures: int = 1,
    changed: Callable[[Turn], None] = lambda turn: None,
) -> None:
    """Give every device its turn, wave by wave; `deliver(name, tell, goes_on)` brings one to its version.

    It gives what is to be told of that, and ends soon after `goes_on()` is False. Ends where `failures` devices have failed:
    who runs goes on to its end, the others are left. `changed` hears of every change, in any thread. Ctrl-C stops those
    who run; what `deliver` raises beside ZapatoError is raised when they have ended.
    """
    lock, failed, stopped = threading.Lock(), 0, threading.Event()

    def say(turn: Turn, state: str, text: str, share: float | None = None) -> None:
        with lock:
            turn.state, turn.text = state, text
            turn.share = turn.share if share is None else share
            changed(turn)

    def one(turn: Turn) -> None:
        nonlocal failed
        if failed >= failures or stopped.is_set():
            return
        say(turn, "running", "")
        try:
            text = deliver(
                turn.name, lambda what, share: say(turn, "running", what, share), lambda: not stopped.is_set()
            )
            say(turn, "done", text, 1.0)
        except AlreadyThere as error:
            say(turn, "there", str(error), 1.0)
        except ZapatoError as error:
            with lock:
                failed += 1
            say(turn, "failed", f"{error}{f' ({error.fix})' if error.fix else ''}")

    for wave in (1, 2, 3):
        with ThreadPoolExecutor(AT_ONCE) as pool:
            try:
                for done in [pool.submit(one, turn) for turn in turns if turn.wave == wave]:
                    done.result()
            except BaseException:
                stopped.set()
                raise
    for turn in turns:
        if turn.state == "waiting":
            say(turn, "left", f"stopped after {failed} failed")
