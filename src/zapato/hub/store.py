"""Where a history is: a database with the few words of SQL in which those that can hold one differ."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, ClassVar, Protocol

from zapato.errors import ZapatoError
from zapato.hub.values import Plain

Values = Sequence[object]


class Changes(Protocol):
    """An open transaction: statements with a `?` for each value."""

    def run(self, statement: str, values: Values = ()) -> int:
        """Run a statement; gives how many rows it touched."""
        ...

    def each(self, statement: str, rows: Iterable[Values]) -> None:
        """Run a statement for each of the rows."""
        ...

    def one(self, query: str, values: Values = ()) -> Any:
        """The first value of the first row, or None."""
        ...


class Store(ABC):
    """An open database; every call is safe from any thread, and raises ZapatoError where the database does not do it.

    Attributes:
        words: what stands in braces in a statement of the history:
            `value`, the column that `plain` reads; `latest`, that of a group's last row; `least`, `most`, its smallest and largest as a
            text; `number`, the value where it is a number, or NULL; `since`, the number of the stretch of `?` seconds that a row is in,
            counted from `?`; `old` and `old_end`, whether a row of `old` is a number, and where its stretch of `?` seconds (said twice)
            ends; `insert`, the statement that takes a row of `row`.
        lasting: False where all is gone with the process.
        remote: True where a connection can be lost.
    """

    words: ClassVar[Mapping[str, str]]
    lasting = True
    remote = False

    @abstractmethod
    def rows(self, query: str, values: Values = ()) -> list[tuple[Any, ...]]:
        """What a query gives. Nobody who reads waits for who writes."""

    @abstractmethod
    def changing(self) -> AbstractContextManager[Changes]:
        """A transaction: all of it is written when it ends, or nothing where something raises."""

    @abstractmethod
    def row(self, name: int, at: float, value: Plain) -> Values:
        """What `insert` takes for a value."""

    @abstractmethod
    def plain(self, value: Any) -> Plain:
        """The value of a column."""

    @property
    @abstractmethod
    def used(self) -> float:
        """Bytes of what is kept."""

    @abstractmethod
    def close(self) -> None:
        """Give the database back."""


class Uncertain(ZapatoError):
    """The connection was lost while a transaction ended: nobody knows whether it was written."""


def number_of(value: Plain) -> int | float | None:
    """The value where it is a number; truths are none."""
    return value if isinstance(value, (int, float)) and not isinstance(value, bool) else None
