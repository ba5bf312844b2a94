"""What was said, kept: an SQLite file of values, events and alerts."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import threading
from array import array
from collections.abc import Generator, Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType
from typing import Any
from uuid import uuid4

from zapato.errors import ZapatoError
from zapato.hub.values import Plain

DAY = 86_400.0
KEPT = Path("out") / "hub.sqlite"
"""Where the history of a site is, in its folder."""
VERSION = 1
_TABLES = """
CREATE TABLE IF NOT EXISTS names (id INTEGER PRIMARY KEY, name TEXT UNIQUE NOT NULL);
CREATE TABLE IF NOT EXISTS said (name INTEGER NOT NULL, at REAL NOT NULL, value);
CREATE INDEX IF NOT EXISTS said_by_name ON said (name, at);
CREATE TABLE IF NOT EXISTS alerts (name TEXT NOT NULL, at REAL NOT NULL, gone REAL, text TEXT NOT NULL);
CREATE TABLE IF NOT EXISTS kept (key TEXT PRIMARY KEY, value TEXT NOT NULL);
"""
_KEEP = "INSERT OR REPLACE INTO kept VALUES (?, ?)"
THINNED = 300.0
"""s: of what is old one number in so long is kept."""
TAKEN = 3000
"""Numbers of messages that are remembered: more than are written in one go, and than a broker usually sends before it waits for an answer."""


@dataclass(frozen=True)
class HistoryRow:
    """One thing that was said: when (s since 1970), by what ("device.part.property"), and the value."""

    at: float
    name: str
    value: Plain


@dataclass(frozen=True)
class Point:
    """A stretch of a series: its time (s since 1970), the mean or the last value, and the lowest and highest."""

    at: float
    value: Plain
    low: Plain
    high: Plain
    count: int = 1

    def as_dict(self) -> dict[str, object]:
        return {"at": self.at, "value": self.value, "low": self.low, "high": self.high, "count": self.count}


class History:
    """An open history; without a path it is gone with the process.

    One process writes; anybody may read beside it. Every call is safe from any thread.
    Raises ZapatoError where the file cannot be used, or another process writes it.
    """

    def __init__(self, path: Path | None = None, *, writes: bool = True) -> None:
        self.path, self._lock, self._ids = path, threading.Lock(), dict[str, int]()
        self._guard: sqlite3.Connection | None = None
        if path and not writes and not path.is_file():
            raise ZapatoError(f"there is no history at {path}", "zapato hub keeps one while it runs")
        try:
            if path and writes:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.touch(0o600)
                self._guard = _alone(path)
            self._db = sqlite3.connect(path or ":memory:", check_same_thread=False, timeout=10)
            if self._db.execute("PRAGMA user_version").fetchone()[0] > VERSION:
                raise ValueError("a newer hub wrote it")
            if writes:
                self._db.execute("PRAGMA journal_mode = WAL")
                self._db.execute("PRAGMA synchronous = FULL")  # what was acknowledged outlives a power cut
                self._db.execute(
                    "PRAGMA cache_size = -65536"
                )  # KiB: the ends of thousands of series stay in memory
                self._db.execute("PRAGMA wal_autocheckpoint = 8000")
                self._db.executescript(_TABLES)
                self._db.execute(f"PRAGMA user_version = {VERSION}")
            self._reads, self._reading = self._db, self._lock
            if path:  # who reads does not wait for who writes
                self._reads, self._reading = (
                    sqlite3.connect(path, check_same_thread=False, timeout=10),
                    threading.Lock(),
                )
            self._taken = _unpacked(self.kept("taken", "")) if writes else array("H")
        except (sqlite3.Error, OSError, ValueError) as error:
            raise ZapatoError(
                f"{path} cannot be used as a history: {error}", "--history FILE names another"
            ) from None

    def put(
        self,
        rows: Iterable[HistoryRow],
        taken: Iterable[int] = (),
        about: Mapping[str, str] = MappingProxyType({}),
    ) -> None:
        """Write these, all or none, and only come back when they are on the disk. Raises ZapatoError.

        `taken` are the numbers of the messages that they came in, so that one that comes twice is known (`was_taken`).
        `about` are descriptions by topic, so that after a restart what comes first is understood; an empty one is forgotten.
        """
        with self._lock, _told(self.path):
            try:
                numbers = (self._taken + array("H", taken))[-TAKEN:]
                if numbers:
                    self._db.execute(_KEEP, ("taken", f'"{numbers.tobytes().hex()}"'))
                for topic, text in about.items():
                    gone = "DELETE FROM kept WHERE key = ?"
                    key = f"about:{topic}"
                    self._db.execute(_KEEP, (key, json.dumps(text))) if text else self._db.execute(
                        gone, (key,)
                    )
                self._db.executemany(
                    "INSERT INTO said VALUES (?, ?, ?)",
                    [(self._id(row.name), row.at, _stored(row.value)) for row in rows],
                )
                self._db.commit()
                self._taken = numbers
            except BaseException:
                self._db.rollback()
                self._ids.clear()
                raise

    def forget_taken(self) -> None:
        """The broker knows no session any more: it begins to count its messages anew."""
        with self._lock, _told(self.path):
            self._db.execute(_KEEP, ("taken", '""'))
            self._db.commit()
            self._taken = array("H")

    def was_taken(self, number: int) -> bool:
        """Whether a message of this number is among those that were written last."""
        return number in self._taken

    def _id(self, name: str) -> int:
        if name not in self._ids:
            self._db.execute("INSERT OR IGNORE INTO names (name) VALUES (?)", (name,))
            self._ids[name] = self._db.execute("SELECT id FROM names WHERE name = ?", (name,)).fetchone()[0]
        return self._ids[name]

    def last(self) -> dict[str, HistoryRow]:
        """The last thing that each name said."""
        query = "SELECT name, max(at), value FROM said GROUP BY name"
        names: dict[int, str] = dict(self._rows("SELECT id, name FROM names"))  # type: ignore[arg-type]
        return {
            names[n]: HistoryRow(at, names[n], _plain(value))
            for n, at, value in self._rows(query)
            if n in names
        }

    def names(self) -> list[str]:
        """Every name that ever said something."""
        return [name for (name,) in self._rows("SELECT name FROM names ORDER BY name")]

    def latest(self, name: str) -> list[HistoryRow]:
        """The last thousand values of a name, the newest first."""
        query = "SELECT at, value FROM said WHERE name = (SELECT id FROM names WHERE name = ?) ORDER BY at DESC LIMIT 1000"
        return [HistoryRow(at, name, _plain(value)) for at, value in self._rows(query, (name,))]

    def series(self, name: str, since: float, until: float, most: int = 400) -> list[Point]:
        """What a name said between two moments, thinned to `most` stretches of time.

        The value that held at `since` comes first, where there was one.
        """
        of = "(SELECT id FROM names WHERE name = ?)"
        before = self._rows(
            f"SELECT at, value FROM said WHERE name = {of} AND at < ? ORDER BY at DESC LIMIT 1", (name, since)
        )
        points = [Point(since, _plain(v), _plain(v), _plain(v), 0) for _, v in before]
        count = self._rows(
            f"SELECT count(*) FROM said WHERE name = {of} AND at BETWEEN ? AND ?", (name, since, until)
        )
        if count[0][0] <= most:
            rows = self._rows(
                f"SELECT at, value FROM said WHERE name = {of} AND at BETWEEN ? AND ? ORDER BY at",
                (name, since, until),
            )
            return points + [Point(at, _plain(v), _plain(v), _plain(v)) for at, v in rows]
        width = max((until - since) / most, 1e-3)
        number = "CASE WHEN typeof(value) IN ('integer', 'real') THEN value END"
        query = (
            f"SELECT max(at), value, avg({number}), min({number}), max({number}), min(value), max(value), count(*)"
            f" FROM said WHERE name = {of} AND at BETWEEN ? AND ? GROUP BY cast((at - ?) / ? AS INTEGER) ORDER BY 1"
        )
        for at, last, mean, low, high, first, final, count in self._rows(
            query, (name, since, until, since, width)
        ):
            if mean is None:  # texts and truths: the last one, the first and the last in their order
                mean, low, high = _plain(last), _plain(first), _plain(final)
            points.append(Point(at, mean, low, high, count))
        return points

    def prune(self, before: float) -> int:
        """Forget what was said before; the last value of each name stays. Gives how many rows went."""
        with self._lock, _told(self.path):
            gone = self._db.execute(
                "DELETE FROM said WHERE at < ? AND rowid NOT IN"
                " (SELECT rowid FROM (SELECT rowid, max(at) FROM said GROUP BY name))",
                (before,),
            ).rowcount
            self._db.execute("DELETE FROM alerts WHERE gone IS NOT NULL AND gone < ?", (before,))
            self._db.commit()
        return gone

    def thin(self, before: float, width: float = THINNED) -> int:
        """Of the numbers that were said before, keep the last in each `width` seconds; texts, truths and events stay. Gives how many rows went."""
        with self._lock, _told(self.path):
            gone = self._db.execute(
                "DELETE FROM said WHERE at < ? AND typeof(value) IN ('integer', 'real') AND rowid NOT IN"
                " (SELECT rowid FROM (SELECT rowid, max(at) FROM said WHERE at < ?"
                " AND typeof(value) IN ('integer', 'real') GROUP BY name, cast(at / ? AS INTEGER)))",
                (before, before, width),
            ).rowcount
            self._db.commit()
        return gone

    def bound(self, most: float) -> int:
        """Forget the oldest until no more than `most` bytes are in use; the last value of each name stays. Gives how many rows went."""
        gone = 0
        while self.used > most:
            oldest = self._rows(
                "SELECT at FROM said ORDER BY at LIMIT 1 OFFSET (SELECT count(*) / 20 FROM said)"
            )
            removed = self.prune(oldest[0][0] + 1e-6) if oldest else 0
            if not removed:
                break
            gone += removed
        return gone

    @property
    def used(self) -> int:
        """Bytes of the file that hold something."""
        pages, free, size = (
            self._rows(f"PRAGMA {pragma}")[0][0] for pragma in ("page_count", "freelist_count", "page_size")
        )
        return (pages - free) * size

    def raised(self, name: str, at: float, text: str) -> None:
        """Note that an alert was told."""
        self._write("INSERT INTO alerts VALUES (?, ?, NULL, ?)", (name, at, text))

    def gone(self, name: str, at: float) -> None:
        """Note that it is over."""
        self._write("UPDATE alerts SET gone = ? WHERE name = ? AND gone IS NULL", (at, name))

    def alerts(self, most: int = 100) -> list[dict[str, Any]]:
        """The alerts, the newest first: name, at, gone (or None), text."""
        query = "SELECT name, at, gone, text FROM alerts ORDER BY at DESC LIMIT ?"
        return [
            {"name": name, "at": at, "gone": gone, "text": text}
            for name, at, gone, text in self._rows(query, (most,))
        ]

    def standing(self) -> list[dict[str, Any]]:
        """The alerts that have not gone back, the newest first."""
        query = "SELECT name, at, text FROM alerts WHERE gone IS NULL ORDER BY at DESC"
        return [{"name": name, "at": at, "text": text} for name, at, text in self._rows(query)]

    def keep(self, key: str, value: object) -> None:
        """Keep a small thing for the next start."""
        self._write(_KEEP, (key, json.dumps(value)))

    def kept(self, key: str, default: Any = None) -> Any:
        rows = self._rows("SELECT value FROM kept WHERE key = ?", (key,))
        return json.loads(rows[0][0]) if rows else default

    def descriptions(self) -> dict[str, str]:
        """The descriptions that were kept, by their topic."""
        query = "SELECT substr(key, 7), value FROM kept WHERE key LIKE 'about:%' ORDER BY key"
        return {topic: str(json.loads(value)) for topic, value in self._rows(query)}

    @property
    def session(self) -> str:
        """The name under which the broker knows who keeps this history; "" where it is gone with the process."""
        if self.path is None:
            return ""
        session_id = self.kept("session")
        if not session_id:
            session_id = f"zapato-hub-{uuid4().hex[:8]}"
            self.keep("session", session_id)
        return str(session_id)

    def close(self) -> None:
        with self._reading if self._reads is not self._db else contextlib.nullcontext():
            self._reads.close()
        with self._lock:
            self._db.close()
            if self._guard:
                self._guard.close()

    def _write(self, query: str, values: tuple[object, ...]) -> None:
        with self._lock, _told(self.path):
            self._db.execute(query, values)
            self._db.commit()

    def _rows(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        with self._reading, _told(self.path):
            return self._reads.execute(query, values).fetchall()


def _alone(path: Path) -> sqlite3.Connection:
    """Holds the right to write until it is closed, or the process ends in whatever way."""
    guard = sqlite3.connect(path.with_name(f"{path.name}.lock"), check_same_thread=False, timeout=0)
    try:
        guard.execute("BEGIN EXCLUSIVE")
    except sqlite3.OperationalError:
        guard.close()
        raise ZapatoError(f"another hub uses {path}", "--history FILE names another") from None
    return guard


@contextlib.contextmanager
def _told(path: Path | None) -> Generator[None]:
    try:
        yield
    except (sqlite3.Error, OverflowError) as error:
        raise ZapatoError(
            f"the history {path or ''} cannot be written: {error}", "is the disk full?"
        ) from None


def _unpacked(text: str | list[int]) -> array[int]:
    """The numbers of messages that were kept (16 bits, MQTT 3.1.1, 2.3.1); a list is what earlier versions wrote."""
    return array("H", text if isinstance(text, list) else bytes.fromhex(text))


def _stored(value: Plain) -> object:
    """Numbers as they are; what else there is as JSON."""
    number = isinstance(value, (int, float)) and not isinstance(value, bool)
    return float(value) if number and abs(value) > 2**53 else value if number else json.dumps(value)  # type: ignore[arg-type,operator]


def _plain(value: Any) -> Plain:
    return json.loads(value) if isinstance(value, str) else value
