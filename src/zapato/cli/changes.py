"""Changed lines of files, as people read them."""

from __future__ import annotations

import difflib
from typing import TYPE_CHECKING

import click

from zapato.cli.terminal import styled, veiled
from zapato.lang.source import shown

if TYPE_CHECKING:
    from zapato.editing import Texts


def show(texts: Texts) -> int:
    """Print the lines that differ, below their file, the old one before the new one; gives how many there are."""
    places = 0
    for path, (before, after) in texts.changed.items():
        click.echo(shown(path))
        rows = difflib.SequenceMatcher(
            None, old := before.split("\n"), new := after.split("\n"), autojunk=False
        )
        for word, begin, end, to_begin, to_end in rows.get_opcodes():
            if word == "equal":
                continue
            for number, line in enumerate(old[begin:end], begin + 1):
                click.echo(f"  {number:>4} {styled(f'- {veiled(line)}', fg='red')}")
            for number, line in enumerate(new[to_begin:to_end], to_begin + 1):
                click.echo(f"  {number:>4} {styled(f'+ {veiled(line)}', fg='green')}")
            places += max(end - begin, to_end - to_begin)
    return places


def count(number: int, word: str) -> str:
    """ "1 line", "3 lines"."""
    return f"{number} {word}{'' if number == 1 else 's'}"
