"""What was said, kept: values, events and alerts, in an SQLite file or in PostgreSQL."""

from __future__ import annotations

import json
import math
from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from hashlib import blake2b
from pathlib import Path
from types import MappingProxyType
from typing import Any
from uuid import uuid4

from zapato.hub.store import Changes, Store, Uncertain
from zapato.hub.values import Plain
from zapato.record import record

DAY = 86_400.0
KEPT = Path("out") / "hub.sqlite"
"""Where the history of a site is, in its folder."""
THINNED = 300.0
"""s: of what is old one number in so long is kept."""
PARTS = 50
"""Into so many stretches of the same length a history is cut that has to become smaller."""
TAKEN = 3000
"""Numbers of messages that are remembered: more than are written in one go, and than a broker usually sends before it waits for an answer."""
_KEEP = "INSERT INTO kept VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value"
_ID = "(SELECT id FROM names WHERE name = ?)"


@record(frozen=True)
class HistoryRow:
    """One thing that was said: when (s since 1970), by what ("device.part.property"), and the value."""

    at: float
    name: str
    value: Plain


@record(frozen=True)
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
    """An open history: of a file, of a database (`postgresql://...`), or, without either, gone with the process.

    One process writes; anybody may read beside it. Every call is safe from any thread.
    Raises ZapatoError where it cannot be used, or another process writes it.
    """

    def __init__(self, where: Path | str | None = None, *, writes: bool = True) -> None:
        self._store = opened(where, writes)
        self._ids: dict[str, int] = {}
        self._puts, self._self = 0, uuid4().hex
        self._uncertain = False
        """The last `put` may have been written, or not: the connection was lost while it ended."""
        self._taken = _unpacked(self.saved("taken", "")) if writes else array("H")

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
        rows, numbers = list(rows), (self._taken + array("H", taken))[-TAKEN:]
        mark = self._mark(rows, about) if self._store.remote else ""
        try:
            with self._store.changing() as changes:
                if not (self._uncertain and changes.one("SELECT value FROM kept WHERE key = 'put'") == mark):
                    self._put(changes, rows, numbers, about, mark)
        except BaseException as error:
            self._uncertain |= isinstance(
                error, Uncertain
            )  # and stays so until this one, or another, is written
            self._ids.clear()
            raise
        self._uncertain, self._taken = False, numbers
        self._puts += 1

    def _mark(self, rows: Sequence[HistoryRow], about: Mapping[str, str]) -> str:
        """What tells this `put` from every other one, and is the same when it is tried again."""
        content = repr([*((row.name, row.at, row.value) for row in rows), *sorted(about.items())])
        return f"{self._self} {self._puts} {blake2b(content.encode('utf-8', 'replace'), digest_size=16).hexdigest()}"

    def _put(
        self,
        changes: Changes,
        rows: Sequence[HistoryRow],
        numbers: array[int],
        about: Mapping[str, str],
        mark: str,
    ) -> None:
        if numbers:
            changes.run(_KEEP, ("taken", f'"{numbers.tobytes().hex()}"'))
        if mark:
            changes.run(_KEEP, ("put", mark))
        for topic, text in about.items():
            key = f"about:{topic}"
            if text:
                changes.run(_KEEP, (key, json.dumps(text)))
            else:
                changes.run("DELETE FROM kept WHERE key = ?", (key,))
        new = [self._store.row(self._id(changes, row.name), at, row.value) for at, row in _in_order(rows)]
        if new:
            changes.each(self._store.words["insert"], new)

    def forget_taken(self) -> None:
        """The broker knows no session any more: it begins to count its messages anew."""
        self._write(_KEEP, ("taken", '""'))
        self._taken = array("H")

    def was_taken(self, number: int) -> bool:
        """Whether a message of this number is among those that were written last."""
        return number in self._taken

    def _id(self, changes: Changes, name: str) -> int:
        if name not in self._ids:
            changes.run("INSERT INTO names (name) VALUES (?) ON CONFLICT (name) DO NOTHING", (name,))
            self._ids[name] = changes.one("SELECT id FROM names WHERE name = ?", (name,))
        return self._ids[name]

    def last(self) -> dict[str, HistoryRow]:
        """The last thing that each name said."""
        # By name, from the end of its series: a join looked at all that was ever said.
        query = (
            "SELECT names.name, (SELECT max(said.at) FROM said WHERE said.name = names.id),"
            " (SELECT said.{value} FROM said WHERE said.name = names.id ORDER BY said.at DESC LIMIT 1) FROM names"
        )
        said: list[tuple[str, float | None, Plain]] = [*self._said(query)]
        return {name: HistoryRow(at, name, value) for name, at, value in said if at is not None}

    def names(self) -> list[str]:
        """Every name that ever said something."""
        return [name for (name,) in self._store.rows("SELECT name FROM names ORDER BY name")]

    def latest(self, name: str) -> list[HistoryRow]:
        """The last thousand values of a name, the newest first."""
        query = f"SELECT '', at, {{value}} FROM said WHERE name = {_ID} ORDER BY at DESC LIMIT 1000"
        return [HistoryRow(at, name, value) for _, at, value in self._said(query, (name,))]

    def series(self, name: str, since: float, until: float, most: int = 400) -> list[Point]:
        """What a name said between two moments, thinned to `most` stretches of time.

        The value that held at `since` comes first, where there was one.
        """
        before = f"SELECT '', at, {{value}} FROM said WHERE name = {_ID} AND at < ? ORDER BY at DESC LIMIT 1"
        points = [Point(since, value, value, value, 0) for _, _, value in self._said(before, (name, since))]
        within = f"FROM said WHERE name = {_ID} AND at BETWEEN ? AND ?"
        of = (name, since, until)
        if self._store.rows(f"SELECT count(*) {within}", of)[0][0] <= most:
            rows = self._said(f"SELECT '', at, {{value}} {within} ORDER BY at", of)
            return points + [Point(at, value, value, value) for _, at, value in rows]
        query = self._worded(
            "SELECT max(at), {latest}, avg({number}), min({number}), max({number}), {least}, {most}, count(*)"
            f" {within} GROUP BY {{since}} ORDER BY 1"
        )
        width = max((until - since) / most, 1e-3)
        plain = self._store.plain
        for at, last, mean, low, high, first, final, count in self._store.rows(query, (*of, since, width)):
            if mean is None:  # texts and truths: the last one, the first and the last in their order
                mean, low, high = plain(last), plain(first), plain(final)
            points.append(Point(at, mean, low, high, count))
        return points

    def prune(self, before: float) -> int:
        """Forget what was said before; the last value of each name stays. Gives how many rows went."""
        older = "DELETE FROM said WHERE at < ? AND at < (SELECT max(at) FROM said AS late WHERE late.name = said.name)"
        with self._store.changing() as changes:
            gone = changes.run(older, (before,))
            changes.run("DELETE FROM alerts WHERE gone IS NOT NULL AND gone < ?", (before,))
        return gone

    def thin(self, before: float, width: float = THINNED) -> int:
        """Of the numbers that were said before, keep the last in each `width` seconds; texts, truths and events stay. Gives how many rows went.

        What an earlier call with this width went through is not looked at again.
        """
        query = self._worded(
            "DELETE FROM said AS old WHERE old.at >= ? AND old.at < ? AND {old} AND EXISTS"
            " (SELECT 1 FROM said WHERE said.name = old.name AND said.at > old.at AND said.at < {old_end}"
            " AND said.at + 0 < ? AND {number} IS NOT NULL)"  # + 0: of two upper ends the index is to take the near one
        )
        mark = f"thinned:{width:g}"
        done = self.saved(mark, 0.0)
        since = done - width if done <= before else 0.0  # else a clock was ahead: all of it is looked at
        with self._store.changing() as changes:
            gone = changes.run(query, (since, before, width, width, before))
            changes.run(_KEEP, (mark, json.dumps(before)))
        return gone

    def bound(self, most: float) -> int:
        """Forget the oldest until no more than `most` bytes are in use; the last value of each name stays. Gives how many rows went."""
        if self.used <= most:
            return 0
        first, last = self._store.rows("SELECT min(at), max(at) FROM said")[0]
        gone = 0
        for part in range(1, PARTS + 1) if first is not None else ():
            gone += self.prune(first + (last - first) * part / PARTS + 1e-6)
            if self.used <= most:
                break
        return gone

    @property
    def used(self) -> float:
        """Bytes of what is kept."""
        return self._store.used

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
            for name, at, gone, text in self._store.rows(query, (most,))
        ]

    def standing(self) -> list[dict[str, Any]]:
        """The alerts that have not gone back, the newest first."""
        query = "SELECT name, at, text FROM alerts WHERE gone IS NULL ORDER BY at DESC"
        return [{"name": name, "at": at, "text": text} for name, at, text in self._store.rows(query)]

    def keep(self, key: str, value: object) -> None:
        """Keep a small thing for the next start."""
        self._write(_KEEP, (key, json.dumps(value)))

    def saved(self, key: str, default: Any = None) -> Any:
        rows = self._store.rows("SELECT value FROM kept WHERE key = ?", (key,))
        return json.loads(rows[0][0]) if rows else default

    def descriptions(self) -> dict[str, str]:
        """The descriptions that were kept, by their topic."""
        query = "SELECT substr(key, 7), value FROM kept WHERE key LIKE ? ORDER BY key"
        return {topic: str(json.loads(value)) for topic, value in self._store.rows(query, ("about:%",))}

    @property
    def session(self) -> str:
        """The name under which the broker knows who keeps this history; "" where it is gone with the process."""
        if not self._store.lasting:
            return ""
        session_id = self.saved("session")
        if not session_id:
            session_id = f"zapato-hub-{uuid4().hex[:8]}"
            self.keep("session", session_id)
        return str(session_id)

    def close(self) -> None:
        self._store.close()

    def _write(self, statement: str, values: tuple[object, ...]) -> None:
        with self._store.changing() as changes:
            changes.run(statement, values)

    def _worded(self, query: str) -> str:
        return query.format_map(self._store.words)

    def _said(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[str, float, Plain]]:
        rows = self._store.rows(self._worded(query), values)
        return [(name, at, self._store.plain(value)) for name, at, value in rows]


def _in_order(rows: Sequence[HistoryRow]) -> Iterator[tuple[float, HistoryRow]]:
    """Rows with their times: what a name says several times at one moment comes a hair later each time, so that the last stays the last."""
    before: dict[str, tuple[float, float]] = {}
    for row in rows:
        said, written = before.get(row.name, (-math.inf, 0.0))
        at = math.nextafter(written, math.inf) if row.at == said else row.at
        before[row.name] = row.at, at
        yield at, row


def opened(where: Path | str | None, writes: bool) -> Store:
    """The store at a place: an address of a database, or a file."""
    if isinstance(where, str):
        from zapato.hub.postgres import PostgresStore

        return PostgresStore(where, writes)
    from zapato.hub.sqlite import SqliteStore

    return SqliteStore(where, writes)


def _unpacked(text: str | list[int]) -> array[int]:
    """The numbers of messages that were kept (16 bits, MQTT 3.1.1, 2.3.1); a list is what earlier versions wrote."""
    return array("H", text if isinstance(text, list) else bytes.fromhex(text))
