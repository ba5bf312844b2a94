"""The hub without a screen: a line for each change, or a page."""

from __future__ import annotations

import contextlib
import json
import queue
import sys
import threading
import time
from collections.abc import Callable, Generator, Iterator
from typing import TYPE_CHECKING

import click

from zapato.cli.terminal import harmless, is_terminal, styled
from zapato.errors import ZapatoError
from zapato.hub import Service
from zapato.hub.hub import HubEvent, shown

if TYPE_CHECKING:
    from zapato.cli.hub_run import Asked

COLORS = {"alert": "red", "over": "green", "event": "cyan", "thing": "yellow", "gone": "yellow"}


def in_a_pipe(service: Service, asked: Asked) -> int:
    """What is known, then changes as they come, until the time is over or Ctrl-C; lines of standard input are done."""
    changes: queue.SimpleQueue[HubEvent] = queue.SimpleQueue()
    service.hub.listen(changes.put)
    _typed(service)
    for row in service.hub.table():
        changes.put(HubEvent("thing", row["name"], row["label"], time.time()))
        for prop in row["properties"]:
            if prop["at"] is not None:
                changes.put(HubEvent("value", f"{row['name']}.{prop['name']}", prop["value"], prop["at"]))
    with _till_interrupted():
        for change in _until(asked, changes):
            text = line(change) if asked.form == "text" else json.dumps(change.as_dict(), ensure_ascii=False)
            click.echo(text)
    return 0


@contextlib.contextmanager
def _till_interrupted() -> Generator[None]:
    """Ctrl-C is how it ends."""
    try:
        yield
    except KeyboardInterrupt:
        click.echo(err=True)


def _until(
    asked: Asked, changes: queue.SimpleQueue[HubEvent], runs: Callable[[], bool] = lambda: True
) -> Iterator[HubEvent]:
    """What is in the queue, until the time is over, or it runs no longer."""
    until = None if asked.lasts is None else time.monotonic() + asked.lasts
    while (until is None or time.monotonic() < until) and runs():
        with contextlib.suppress(queue.Empty):
            yield changes.get(timeout=0.2)


def line(change: HubEvent) -> str:
    """A change for people."""
    when = time.strftime("%H:%M:%S", time.localtime(change.at))
    word = styled(f"{change.what:<6}", fg=COLORS.get(change.what))
    sign = " = " if change.what == "value" else "  "
    value = (
        ""
        if change.value is None
        else sign + shown(change.value, change.name if change.what == "value" else "")
    )
    return f"{when}  {word}  {harmless(change.name + value)}"


def _typed(service: Service) -> None:
    """Do the lines of standard input, in a thread of its own."""

    def read() -> None:
        for line in sys.stdin or ():
            if line.strip() and not line.lstrip().startswith("#"):
                try:
                    service.do(line)
                except ZapatoError as wrong:
                    click.echo(
                        harmless(f"zapato: {wrong}" + (f" ({wrong.fix})" if wrong.fix else "")), err=True
                    )

    if sys.stdin and not sys.stdin.closed and not is_terminal(sys.stdin):
        threading.Thread(target=read, daemon=True).start()


def on_a_page(service: Service, asked: Asked) -> int:
    """The page, until Ctrl-C; alerts are printed, too."""
    from zapato.hub.web import Page

    page = Page(service, asked.web or "")
    page.start()
    click.echo(f"the hub's page: {page.address}")
    changes: queue.SimpleQueue[HubEvent] = queue.SimpleQueue()
    service.hub.listen(lambda change: changes.put(change) if change.what in ("alert", "over") else None)
    with _till_interrupted():
        for change in _until(asked, changes, lambda: page.runs):
            click.echo(line(change))
    page.stop()
    return 0
