"""A change of a text: stretches of lines replaced, and the texts of files as they would be."""

from __future__ import annotations

from collections.abc import Generator, Iterable
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from zapato.errors import Unwritable
from zapato.lang.edit import save
from zapato.lang.source import Source, here, shown
from zapato.lang.unsaved import unsaved


@dataclass(frozen=True, slots=True, order=True)
class Edit:
    """One stretch of one line replaced. Lines and columns count from 1, in characters; a width of 0 inserts."""

    line: int
    column: int
    width: int
    text: str


def applied(text: str, edits: Iterable[Edit]) -> str:
    """The text with all of these made; they must not overlap."""
    lines = text.split("\n")
    for edit in sorted(set(edits), reverse=True):
        while edit.line > len(lines):
            lines.append("")
        line, at = lines[edit.line - 1], edit.column - 1
        lines[edit.line - 1] = line[:at] + edit.text + line[at + edit.width :]
    return "\n".join(lines)


class Texts:
    """The texts of files as a change would leave them, begun from the disk, or from what somebody types."""

    def __init__(self) -> None:
        self._before: dict[Path, str] = {}
        self._now: dict[Path, str] = {}

    def of(self, path: Path) -> str:
        """The text of this file. Raises Unreadable."""
        path = path.absolute()
        if path not in self._now:
            self._before[path] = self._now[path] = Source.read(path).text
        return self._now[path]

    def put(self, path: Path, text: str) -> None:
        """Its new text."""
        self.of(path)
        self._now[path.absolute()] = text

    @contextmanager
    def tried(self) -> Generator[None]:
        """Within it the files read as changed; one that is as it was is read from the disk, with whatever is wrong with its bytes."""
        with unsaved({path: text for path, (_, text) in self.changed.items()}):
            yield

    @property
    def changed(self) -> dict[Path, tuple[str, str]]:
        """Text before and after, of the files that differ."""
        return {
            path: (self._before[path], text) for path, text in self._now.items() if text != self._before[path]
        }

    def write(self) -> None:
        """Put all that differ on the disk, or none of it. Raises Unwritable.

        The file that was asked for comes last: after a cut of the power the same call does the rest.
        """
        for path, (before, _) in self.changed.items():
            if Source.read(path).text != before:
                raise Unwritable(
                    f"{shown(path)} was changed meanwhile, and nothing is written", "call it again"
                )
        done: list[Path] = []
        try:
            for path, (_, text) in reversed(self.changed.items()):
                save(Source.read(path), text)
                done.append(path)
        except Unwritable:
            for path in done:
                with suppress(Unwritable):
                    save(Source.read(path), self._before[path])
            raise


def path_of(file: str) -> Path:
    """The file that a finding names."""
    return here() / file


def line_of(text: str, number: int) -> str:
    """A line of a text, from 1; empty beyond its end."""
    lines = text.split("\n")
    return lines[number - 1] if 0 < number <= len(lines) else ""
