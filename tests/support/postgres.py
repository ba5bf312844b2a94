"""A real PostgreSQL server for a while, in a folder of its own."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from pathlib import Path


def tool(name: str) -> str:
    """A program of the server; Debian keeps them out of the path."""
    beside = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"))
    return shutil.which(name) or str(beside[-1])


class PostgresServer:
    """Started when it is made. It refuses to run as root, so there it runs as its own user."""

    def __init__(self) -> None:
        self._user = pwd.getpwnam("postgres").pw_uid if os.getuid() == 0 else None
        self._folder = Path(tempfile.mkdtemp(prefix="zapato-postgres-"))
        if self._user is not None:
            os.chown(self._folder, self._user, -1)
        self._run("initdb", "-N", "-A", "trust", "-U", "refuge", "-D", str(self._folder / "data"))
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.port = free.getsockname()[1]
        self.start()

    @property
    def address(self) -> str:
        return f"postgresql://refuge@127.0.0.1:{self.port}/postgres"

    def start(self) -> None:
        options = f"-p {self.port} -k {self._folder} -c fsync=off -c listen_addresses=127.0.0.1"
        self._run("pg_ctl", "-D", str(self._folder / "data"), "-o", options, "-w", "-l", str(self._folder / "log"), "start")  # fmt: skip

    def stop(self, how: str = "immediate") -> None:
        """As a cut of the power by default: nobody is told."""
        self._run("pg_ctl", "-D", str(self._folder / "data"), "-m", how, "-w", "stop")

    def schema(self, name: str) -> str:
        """The address of a schema that is made for it."""
        import psycopg

        with psycopg.connect(self.address, autocommit=True) as way:
            way.execute(f'CREATE SCHEMA "{name}"')  # type: ignore[arg-type]
        return f"{self.address}?options=-csearch_path%3D{name}"

    def close(self) -> None:
        self.stop()
        shutil.rmtree(self._folder, ignore_errors=True)

    def _run(self, name: str, *words: str) -> None:
        done = subprocess.run([tool(name), *words], user=self._user, cwd="/", stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)  # fmt: skip
        assert done.returncode == 0, done.stderr.decode()
