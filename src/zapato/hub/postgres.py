"""A history in PostgreSQL: for more than one machine's disk should hold, and for whoever has a server already.

A server goes away and comes back while the hub runs: a connection that was lost is made anew at the next call, and the
right to write, an advisory lock of the session, is asked for again.
"""

from __future__ import annotations

import contextlib
import json
import threading
from collections.abc import Generator, Iterable
from typing import TYPE_CHECKING, Any, LiteralString, cast
from uuid import uuid4

from zapato.errors import ToolMissing, ZapatoError
from zapato.hub.store import Store, Uncertain, Values, number_of
from zapato.hub.values import Plain

if TYPE_CHECKING:
    import psycopg

SCHEMES = ("postgresql://", "postgres://")
"""How an address begins (libpq, 34.1.1.2, connection URIs)."""
VERSION = "1"
ROW = 92
"""Bytes of a row beside its text: header and pointer 28, name 4 and padding, time 8, number 8, text's head 1, and its entry in the
index, 8 + 4 + 8 + padding (PostgreSQL 15, 73.6 Database Page Layout; 67.4 for B-trees); pages are some nine tenths full."""
WAIT = 10
"""Seconds for a connection, and for a server that does not answer (libpq: connect_timeout, tcp_user_timeout)."""
_TABLES = """
CREATE TABLE IF NOT EXISTS names (id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY, name text UNIQUE NOT NULL);
CREATE TABLE IF NOT EXISTS said (name integer NOT NULL, at double precision NOT NULL, number double precision, text text COLLATE "C" NOT NULL);
CREATE INDEX IF NOT EXISTS said_by_name ON said (name, at);
CREATE INDEX IF NOT EXISTS said_by_time ON said USING brin (at);
CREATE TABLE IF NOT EXISTS alerts (name text NOT NULL, at double precision NOT NULL, gone double precision, text text NOT NULL);
CREATE TABLE IF NOT EXISTS kept (key text PRIMARY KEY, value text NOT NULL);
"""
_LOCK = "hashtext('zapato history'), hashtext(current_schema()::text)"
_OWNER = """
SELECT a.pid, a.application_name FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.locktype = 'advisory' AND l.granted AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
AND l.classid::bigint = (hashtext('zapato history')::bigint & 4294967295)
AND l.objid::bigint = (hashtext(current_schema()::text)::bigint & 4294967295)
"""


class _Changes:
    def __init__(self, cursor: psycopg.Cursor[tuple[Any, ...]]) -> None:
        self._cursor = cursor

    def run(self, statement: str, values: Values = ()) -> int:
        return self._cursor.execute(_sql(statement), values).rowcount

    def each(self, statement: str, rows: Iterable[Values]) -> None:
        self._cursor.executemany(_sql(statement), [*rows])

    def one(self, query: str, values: Values = ()) -> Any:
        row = self._cursor.execute(_sql(query), values).fetchone()
        return row[0] if row else None


class PostgresStore(Store):
    """The tables of a history in a schema of a database, the first of the connection's search path. One process writes there at a time."""

    remote = True
    words = {
        "value": "text",
        "latest": "(array_agg(text ORDER BY at DESC))[1]",
        "least": "min(text)",
        "most": "max(text)",
        "number": "said.number",
        "old": "old.number IS NOT NULL",
        "old_end": "(floor(old.at / ?) + 1) * ?",
        "since": "floor((at - ?) / ?)",
        "insert": "INSERT INTO said VALUES (?, ?, ?, ?)",
    }

    def __init__(self, address: str, writes: bool) -> None:
        self.shown = without_password(address)
        self._address, self._writes = address, writes
        self._me = f"zapato-{uuid4().hex[:12]}"
        self._lock, self._reading = threading.Lock(), threading.Lock()
        self._writer: psycopg.Connection[tuple[Any, ...]] | None = None
        self._reader: psycopg.Connection[tuple[Any, ...]] | None = None
        if writes:
            with self.changing():
                pass
        version = self.rows("SELECT value FROM kept WHERE key = 'version'") if self._has_tables() else []
        if not writes and not version:
            raise ZapatoError(f"there is no history at {self.shown}", "zapato hub keeps one while it runs")
        if version and version[0][0] != VERSION:
            raise ZapatoError(
                f"{self.shown} cannot be used as a history: a newer hub wrote it", "update Zapato"
            )

    def rows(self, query: str, values: Values = ()) -> list[tuple[Any, ...]]:
        with self._reading, self._errors_named():
            for again in (True, False):
                if self._reader is None or self._reader.closed:
                    self._reader = self._connected(autocommit=True)
                try:
                    return self._reader.execute(_sql(query), values).fetchall()
                except self._lost:
                    self._reader.close()
                    if not again:
                        raise
        raise AssertionError

    @contextlib.contextmanager
    def changing(self) -> Generator[_Changes]:
        with self._lock, self._errors_named():
            connection = self._own()
            try:
                with connection.cursor() as cursor:
                    yield _Changes(cursor)
            except BaseException:
                with contextlib.suppress(*self._lost):
                    connection.rollback()
                raise
            try:
                connection.commit()
            except self._lost as error:
                connection.close()
                raise Uncertain(f"the history {self.shown} was cut off: {_words(error)}") from None

    def row(self, name: int, at: float, value: Plain) -> Values:
        """The value as JSON, and beside it as a number where it is one."""
        number = number_of(value)
        return name, at, None if number is None else float(number), json.dumps(value)

    def plain(self, value: Any) -> Plain:
        return json.loads(value) if isinstance(value, str) else value

    @property
    def used(self) -> float:
        """Bytes of the rows that are there: what was deleted the server uses again, but does not give back."""
        return float(self.rows(f"SELECT coalesce(sum({ROW} + octet_length(text)), 0) FROM said")[0][0])

    def close(self) -> None:
        for lock, connection in ((self._reading, self._reader), (self._lock, self._writer)):
            with lock:
                if connection:
                    connection.close()

    @property
    def _lost(self) -> tuple[type[Exception], ...]:
        """What is raised where the connection is gone."""
        import psycopg

        return psycopg.OperationalError, psycopg.InterfaceError

    def _connected(self, autocommit: bool) -> psycopg.Connection[tuple[Any, ...]]:
        psycopg = _library()
        try:
            return psycopg.connect(
                self._address,
                autocommit=autocommit,
                connect_timeout=WAIT,
                tcp_user_timeout=WAIT * 1000,
                keepalives_idle=WAIT,
                application_name=self._me,
            )
        except psycopg.ProgrammingError:  # it quotes what it cannot read, which may be the password
            raise ZapatoError(
                f"the history {self.shown} cannot be used: its address cannot be read",
                "--store postgresql://USER@HOST:PORT/DATABASE; %25 for a % in it",
            ) from None

    def _own(self) -> psycopg.Connection[tuple[Any, ...]]:
        """The connection that writes, with the right to."""
        if self._writer is None or self._writer.closed:
            connection = self._connected(autocommit=False)
            try:
                self._claim(connection)
                connection.execute(_sql(_TABLES))
                connection.execute(
                    _sql("INSERT INTO kept VALUES ('version', ?) ON CONFLICT DO NOTHING"), (VERSION,)
                )
                connection.commit()
            except BaseException:
                connection.close()
                raise
            self._writer = connection
        return self._writer

    def _claim(self, connection: psycopg.Connection[tuple[Any, ...]]) -> None:
        """Take the right to write, also from a connection of this very process that the server has not missed yet."""
        for _ in range(2):
            if (connection.execute(_sql(f"SELECT pg_try_advisory_lock({_LOCK})")).fetchone() or [False])[0]:
                return
            for pid, name in connection.execute(_sql(_OWNER)).fetchall():
                if name == self._me:
                    connection.execute(_sql("SELECT pg_terminate_backend(?, 5000)"), (pid,))
        raise ZapatoError(
            f"another hub uses {self.shown}",
            "a schema of its own: ?options=-csearch_path%3DNAME in the address",
        )

    def _has_tables(self) -> bool:
        return self.rows("SELECT to_regclass('kept') IS NOT NULL AND to_regclass('said') IS NOT NULL")[0][0]

    @contextlib.contextmanager
    def _errors_named(self) -> Generator[None]:
        psycopg = _library()
        try:
            yield
        except psycopg.Error as error:
            raise ZapatoError(
                f"the history {self.shown} cannot be used: {_words(error)}", "--store ADDRESS, --history FILE"
            ) from None


def _library() -> Any:
    try:
        import psycopg
    except ImportError:
        raise ToolMissing(
            "a history in PostgreSQL needs psycopg", 'pip install "zapato[postgresql]"'
        ) from None
    return psycopg


def _sql(statement: str) -> LiteralString:
    """A statement of this program with the library's mark for a value; nothing of a user's is ever part of one."""
    return cast("LiteralString", statement.replace("%", "%%").replace("?", "%s"))


def _words(error: Exception) -> str:
    """What the server said, on one line."""
    return " ".join(str(error).split("\n")[0].split()) or type(error).__name__


def without_password(address: str) -> str:
    """The address as it may be shown: without what libpq would take a password from."""
    where, _, path = address.partition("://")[2].partition("?")[0].rpartition("@")[2].partition("/")
    user = address.partition("://")[2].partition("/")[0].rpartition("@")[0].partition(":")[0]
    return f"postgresql://{user + '@' if user else ''}{where}/{path}"
