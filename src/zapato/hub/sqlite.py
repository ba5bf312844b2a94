"""A history in an SQLite file, or in memory."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import threading
from collections.abc import Generator, Iterable
from pathlib import Path
from typing import Any

from zapato.errors import ZapatoError
from zapato.hub.store import Store, Values, number_of
from zapato.hub.values import Plain

VERSION = 1
_TABLES = """
CREATE TABLE IF NOT EXISTS names (id INTEGER PRIMARY KEY, name TEXT UNIQUE NOT NULL);
CREATE TABLE IF NOT EXISTS said (name INTEGER NOT NULL, at REAL NOT NULL, value);
-- A series is read from its index alone: its rows are far apart in the table. Files of versions up to 0.2.0 have an index without the value.
CREATE INDEX IF NOT EXISTS said_by_name ON said (name, at, value);
CREATE TABLE IF NOT EXISTS alerts (name TEXT NOT NULL, at REAL NOT NULL, gone REAL, text TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS kept (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""
_WRITER = """
PRAGMA journal_mode = WAL;
PRAGMA synchronous = FULL;       -- what was acknowledged outlives a power cut
PRAGMA cache_size = -65536;      -- KiB: the ends of thousands of series stay in memory
PRAGMA wal_autocheckpoint = 8000;
"""


class _Changes:
    def __init__(self, database: sqlite3.Connection) -> None:
        self._database = database

    def run(self, statement: str, values: Values = ()) -> int:
        return self._database.execute(statement, tuple(values)).rowcount

    def each(self, statement: str, rows: Iterable[Values]) -> None:
        self._database.executemany(statement, [tuple(row) for row in rows])

    def one(self, query: str, values: Values = ()) -> Any:
        row = self._database.execute(query, tuple(values)).fetchone()
        return row[0] if row else None


class SqliteStore(Store):
    """One process writes; anybody may read beside it. Without a path it is gone with the process."""

    words = {
        "value": "value",
        "latest": "value",  # SQLite takes a bare column from the row that max(at) is of
        "least": "min(value)",
        "most": "max(value)",
        "number": "CASE WHEN typeof(said.value) <> 'text' THEN said.value END",
        "old": "typeof(old.value) <> 'text'",
        "old_end": "(cast(old.at / ? AS INTEGER) + 1) * ?",
        "since": "cast((at - ?) / ? AS INTEGER)",
        "insert": "INSERT INTO said VALUES (?, ?, ?)",
    }

    def __init__(self, path: Path | None, writes: bool) -> None:
        self.path, self.lasting = path, path is not None
        self._lock = threading.Lock()
        self._guard: sqlite3.Connection | None = None
        if path and not writes and not path.is_file():
            raise ZapatoError(f"there is no history at {path}", "zapato hub keeps one while it runs")
        try:
            if path and writes:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.touch(0o600)
                self._guard = _alone(path)
            self._database = sqlite3.connect(path or ":memory:", check_same_thread=False, timeout=10)
            if self._database.execute("PRAGMA user_version").fetchone()[0] > VERSION:
                raise ValueError("a newer hub wrote it")
            if writes:
                self._database.executescript(_WRITER + _TABLES + f"PRAGMA user_version = {VERSION};")
            self._reads, self._reading = self._database, self._lock
            if path:  # who reads does not wait for who writes
                self._reads = sqlite3.connect(path, check_same_thread=False, timeout=10)
                self._reading = threading.Lock()
        except (sqlite3.Error, OSError, ValueError) as error:
            raise ZapatoError(
                f"{path} cannot be used as a history: {error}", "--history FILE names another"
            ) from None

    def rows(self, query: str, values: Values = ()) -> list[tuple[Any, ...]]:
        with self._reading, self._errors_named():
            return self._reads.execute(query, tuple(values)).fetchall()

    @contextlib.contextmanager
    def changing(self) -> Generator[_Changes]:
        with self._lock, self._errors_named():
            try:
                yield _Changes(self._database)
                self._database.commit()
            except BaseException:
                self._database.rollback()
                raise

    def row(self, name: int, at: float, value: Plain) -> Values:
        """Numbers as they are; what else there is as JSON."""
        number = number_of(value)
        if number is None:
            return name, at, json.dumps(value)
        return name, at, float(number) if abs(number) > 2**53 else number

    def plain(self, value: Any) -> Plain:
        return json.loads(value) if isinstance(value, str) else value

    @property
    def used(self) -> float:
        """Bytes of the file's pages that hold something."""
        pages, free, size = (
            self.rows(f"PRAGMA {pragma}")[0][0] for pragma in ("page_count", "freelist_count", "page_size")
        )
        return (pages - free) * size

    def close(self) -> None:
        with self._reading if self._reads is not self._database else contextlib.nullcontext():
            self._reads.close()
        with self._lock:
            self._database.close()
            if self._guard:
                self._guard.close()

    @contextlib.contextmanager
    def _errors_named(self) -> Generator[None]:
        try:
            yield
        except (sqlite3.Error, OverflowError) as error:
            raise ZapatoError(
                f"the history {self.path or ''} cannot be written: {error}", "is the disk full?"
            ) from None


def _alone(path: Path) -> sqlite3.Connection:
    """Holds the right to write until it is closed, or the process ends in whatever way."""
    guard = sqlite3.connect(path.with_name(f"{path.name}.lock"), check_same_thread=False, timeout=0)
    try:
        guard.execute("BEGIN EXCLUSIVE")
    except sqlite3.OperationalError:
        guard.close()
        raise ZapatoError(f"another hub uses {path}", "--history FILE names another") from None
    return guard
