"""A board that MicroPython is on already, on a pseudo-terminal: its prompt in raw mode, run by the real VM over its own files."""

from __future__ import annotations

import contextlib
import os
import select
import threading
from collections.abc import Callable

from zapato.record import record
from zapato.simulator.board import Reset, SimulatedBoard

GREETING = b"raw REPL; CTRL-B to exit\r\n>"


class _Gone(Exception):
    """The board's cable, or power, is gone."""


@record
class PromptChip:
    """The board, with a program running or none, until somebody takes it by its prompt.

    Attributes:
        board: as in the simulator; its files outlive this.
        boot: what happens when it starts anew; gives the lines that are said.
        garble: a byte of what comes is harmed at this count of bytes.
        gone: the cable comes out at this one. 0 never.
        deaf: a program that does not let itself be interrupted.
    """

    board: SimulatedBoard
    boot: Callable[[], list[str]] | None = None
    garble: int = 0
    gone: int = 0
    deaf: bool = False

    def __post_init__(self) -> None:
        import tty

        self._master, slave = os.openpty()
        tty.setraw(slave)
        self.name, self._slave = os.ttyname(slave), slave
        self.count, self.started = 0, False
        self._stopped = threading.Event()
        self._failed = False
        self.board.code, self.board.ran = self._next, self._ran
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._stopped.set()
        self._thread.join(5)
        for end in (self._master, self._slave):
            with contextlib.suppress(OSError):
                os.close(end)

    def _read(self) -> int:
        """The next byte that comes. Raises _Gone."""
        while not select.select([self._master], [], [], 0.05)[0]:
            if self._stopped.is_set():
                raise _Gone
        byte = os.read(self._master, 1)[0]
        self.count += 1
        if self.count == self.gone:
            os.close(self._slave)
            raise _Gone
        return byte ^ 0x10 if self.count == self.garble else byte

    def _say(self, data: bytes) -> None:
        with contextlib.suppress(OSError):
            os.write(self._master, data)

    def _serve(self) -> None:
        with contextlib.suppress(_Gone, OSError):
            while True:
                while self._read() != 1 or self.deaf:
                    pass
                self._say(b"\r\n" + GREETING)
                self._first = True
                try:
                    self.board.hear = self._say
                    self.board.run("prompt")
                except Reset:
                    self.board.hear = None
                    self.board.power_off()
                    self.started = True
                    for text in self.boot() if self.boot else []:
                        self._say(text.encode() + b"\r\n")

    def _next(self) -> bytes:
        """The next text to run: all up to its end; interrupts are answered, the greeting said again."""
        if not self._first:
            self._say(b"\x04>")
        self._first = False
        text = bytearray()
        while (byte := self._read()) != 4:
            if byte == 3:
                text.clear()
            elif byte == 1:
                text.clear()
                self._say(b"\r\n" + GREETING)
            else:
                text.append(byte)
        self._say(b"OK")
        return bytes(text)

    def _ran(self) -> None:
        self._say(b"\x04")
