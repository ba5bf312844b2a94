"""A rollout as it goes on: a table that is kept current on a terminal, a line for each end in a pipe."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING

import click

from zapato.cli.terminal import harmless, is_terminal, plain, styled

if TYPE_CHECKING:
    from rich.console import RenderableType
    from rich.live import Live

    from zapato.deliver.rollout import Turn

ENDS = {"done": "green", "there": "green", "failed": "red", "left": "yellow"}


class Rollout:
    """Shows turns; use it as a context while they change."""

    def __init__(self, turns: Sequence[Turn]) -> None:
        self.turns = turns
        self.live: Live | None = None
        if is_terminal(sys.stdout) and not plain():
            from rich.live import Live

            self.live = Live(get_renderable=self._table, refresh_per_second=4)

    def shown(self) -> AbstractContextManager[object]:
        """While it goes on."""
        return self.live or nullcontext()

    def changed(self, turn: Turn) -> None:
        """One of them did something."""
        if self.live is None and turn.state in ENDS:
            word = styled(turn.state, fg=ENDS[turn.state])
            click.echo(
                f"wave {turn.wave}  {turn.name}: {word}{f'  {harmless(turn.text)}' if turn.text else ''}"
            )

    def _table(self) -> RenderableType:
        from rich.table import Table
        from rich.text import Text

        made = Table(box=None, pad_edge=False)
        for name in ("wave", "device", "state", "", "told last"):
            made.add_column(name, no_wrap=name != "told last")
        for turn in self.turns:
            bar = "" if turn.state in ("waiting", "left") else f"{turn.share:4.0%}"
            made.add_row(
                str(turn.wave),
                turn.name,
                Text(turn.state, ENDS.get(turn.state, "")),
                bar,
                Text(harmless(turn.text)),
            )
        return made
