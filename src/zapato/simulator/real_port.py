"""A real serial port at the end of a live board's line: what the board says goes out of it, what comes in is heard."""

from __future__ import annotations

import contextlib
import threading
from typing import Any

from zapato.errors import ZapatoError
from zapato.simulator.live import LiveClock
from zapato.simulator.serial import Serial


class RealPort:
    """`path` names the port. Raises ZapatoError where it cannot be opened."""

    def __init__(self, line: Serial, path: str, baud: int) -> None:
        import serial

        self.line, self._clock = line, line.clock
        try:
            self._port = serial.Serial(path, baud, timeout=0.1)
        except (OSError, ValueError) as error:
            raise ZapatoError(f"{path} cannot be opened: {error}", "zapato ports lists them") from None
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        with contextlib.suppress(OSError, TypeError):  # the port is gone, or closed
            while True:
                data = self._port.read(1)
                if data:
                    self._came(data + self._port.read(self._port.in_waiting))

    def _came(self, data: bytes) -> None:
        assert isinstance(self._clock, LiveClock)
        self._clock.post(lambda: self.line.came(data))

    def hear(self, data: bytes) -> None:
        with contextlib.suppress(OSError):
            self._port.write(data)

    def put(self, name: str, value: Any, over: int = 0) -> None:
        raise ZapatoError("what is at a real port is left as it is")

    def read(self, name: str) -> Any:
        return None

    def do(self, word: str) -> None:
        """Nothing here can be told to it."""

    def close(self) -> None:
        """Let go of the port."""
        self._port.close()
