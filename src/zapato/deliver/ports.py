"""Serial ports: which there are, and one of them open as a line."""

from __future__ import annotations

import contextlib
import errno
import os
import time
from collections.abc import Generator
from typing import Any

from zapato.errors import NotDelivered
from zapato.record import record

OWN_USB = "the chip's own USB"
BRIDGES = {
    0x10C4: "a serial bridge",
    0x1A86: "a serial bridge",
    0x0403: "a serial bridge",
    0x067B: "a serial bridge",
    0x303A: OWN_USB,
    0x2E8A: OWN_USB,
}
"""What hangs on a port, by the USB vendor's number (USB-IF)."""


@record(frozen=True)
class SerialPort:
    """One serial port.

    Attributes:
        name: what the system calls it.
        what: what hangs on it, in words.
        trouble: why it cannot be opened; empty where it can.
    """

    name: str
    what: str
    trouble: str


def ports() -> list[SerialPort]:
    """The serial ports of this machine, by name."""
    from serial.tools.list_ports import comports

    ports: list[SerialPort] = []
    for comport in sorted(comports(), key=lambda port: str(port.device)):
        what = BRIDGES.get(comport.vid or 0, "a USB device" if comport.vid else "no USB device")
        name = f"{what}, {comport.product}" if comport.product else what
        ports.append(SerialPort(str(comport.device), name, _trouble(str(comport.device))))
    return ports


def _trouble(name: str) -> str:
    try:
        OpenPort(name).close()
    except NotDelivered as error:
        return f"{error} ({error.fix})" if error.fix else str(error)
    return ""


def _lost() -> tuple[type[Exception], ...]:
    """What else than OSError a port raises that went away."""
    try:
        from termios import error
    except ImportError:  # Windows has other ports
        return ()
    return (error,)


LOST = _lost()
AWAKE = 0.1
"""Seconds to wait for an answer awake: who sleeps is woken some ms late, as long as a block of data takes on the line."""


class OpenPort:
    """An open port. Raises NotDelivered with the reason where it cannot be opened, or goes away."""

    def __init__(self, name: str, rate: int = 115_200) -> None:
        import serial

        self.name = name
        try:
            self._port: Any = serial.Serial(name, rate, timeout=0.25, write_timeout=10, exclusive=True)
        except (OSError, ValueError) as error:
            raise _refused(name, error) from None

    @contextlib.contextmanager
    def _there(self) -> Generator[None]:
        """Whatever pyserial raises of a port that went away is one line."""
        try:
            yield
        except (OSError, TypeError, *LOST) as error:
            raise self._gone(error) from None

    def write(self, data: bytes) -> object:
        with self._there():
            return self._port.write(data)

    def read(self, size: int) -> bytes:
        """What is there, up to `size` bytes; waits for the first one as long as its patience says."""
        with self._there():
            awake = time.perf_counter() + min(AWAKE, self._port.timeout)
            while not self._port.in_waiting and time.perf_counter() < awake:
                pass
            data = bytes(self._port.read(1))
            more = min(self._port.in_waiting, size - 1) if data else 0
            return data + bytes(self._port.read(more)) if more > 0 else data

    def set_rate(self, rate: int) -> None:
        try:
            self._port.baudrate = rate
        except (OSError, ValueError, *LOST):
            raise NotDelivered(f"{self.name} does not support {rate} baud", "--rate 115200") from None

    def drop_input(self) -> None:
        with self._there():
            self._port.reset_input_buffer()

    def patience(self, seconds: float) -> None:
        with self._there():
            if seconds != self._port.timeout:  # to set it is dear
                self._port.timeout = seconds

    def lines(self, reset: bool, boot: bool) -> None:
        """Pull the chip's reset and boot pins low, where the board has them on RTS and DTR; others do not care.

        Both change in one step where the system can; else the boot pin changes before reset is let go, and after it is pulled.
        """
        with contextlib.suppress(OSError, *LOST):
            if self._at_once(reset, boot):
                return
            if reset:
                self._port.rts, self._port.dtr = reset, boot
            else:
                self._port.dtr, self._port.rts = boot, reset

    def _at_once(self, reset: bool, boot: bool) -> bool:
        """Set both lines with one call of the system; False where it has none, or the port does not take it."""
        try:
            import fcntl
            import struct
            import termios
        except ImportError:  # Windows
            return False
        try:
            row = bytearray(4)
            fcntl.ioctl(self._port.fileno(), termios.TIOCMGET, row)
            (before,) = struct.unpack("I", row)
            wanted = (termios.TIOCM_RTS * reset) | (termios.TIOCM_DTR * boot)
            after = before & ~(termios.TIOCM_RTS | termios.TIOCM_DTR) | wanted
            fcntl.ioctl(self._port.fileno(), termios.TIOCMSET, struct.pack("I", after))
        except OSError:
            return False
        return True

    @property
    def own_usb(self) -> bool:
        """True where the chip's own USB is at the other end, and not a serial bridge."""
        from serial.tools.list_ports import comports

        return any(
            str(comport.device) == self.name and BRIDGES.get(comport.vid or 0) == OWN_USB
            for comport in comports()
        )

    def reopen(self, seconds: float) -> bool:
        """A port of the chip's own USB goes away when the chip restarts: look for it again; False where it stays away."""
        import serial

        self.close()
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            try:
                self._port = serial.Serial(self.name, 115_200, timeout=0.25, write_timeout=10, exclusive=True)
                return True
            except (OSError, ValueError):
                time.sleep(0.1)
        return False

    def close(self) -> None:
        with contextlib.suppress(OSError, *LOST):
            self._port.close()

    def _gone(self, error: Exception) -> NotDelivered:
        number = getattr(error, "errno", None)
        why = os.strerror(number).lower() if number else "unplugged, or taken by another program"
        return NotDelivered(
            f"{self.name} was disconnected: {why}", "plug it in again, and run the command again"
        )


def _refused(name: str, error: Exception) -> NotDelivered:
    number = getattr(error, "errno", None)
    if number == errno.ENOENT or (not os.path.exists(name) and os.name == "posix"):
        return NotDelivered(f"there is no port {name}", "zapato ports lists those that are there")
    if number == errno.EACCES:
        return NotDelivered(
            f"{name} may not be opened by this user",
            "on Linux the group dialout may: sudo usermod -aG dialout $USER",
        )
    if number in (errno.EBUSY, errno.EAGAIN, errno.EWOULDBLOCK) or "lock" in str(error).lower():
        return NotDelivered(f"another program has {name}", "close it, and run the command again")
    return NotDelivered(f"{name} cannot be opened: {error}")
