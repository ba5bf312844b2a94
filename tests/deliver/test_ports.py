"""An open serial port: its lines, its patience, and what happens when it goes away and comes back."""

import errno
import struct
import termios
from types import SimpleNamespace

import pytest

from zapato.deliver.ports import OpenPort, ports
from zapato.errors import NotDelivered


class Wire:
    """pyserial's port as far as it is used; every line that is set is noted."""

    def __init__(self, *given, **more) -> None:
        self.timeout, self.waiting, self.open = more["timeout"], b"", True
        self.noted = []

    def __setattr__(self, name: str, value: object) -> None:
        if name in ("rts", "dtr", "timeout") and "noted" in vars(self):
            self.noted.append((name, value))
        object.__setattr__(self, name, value)

    @property
    def in_waiting(self) -> int:
        return len(self.waiting)

    def read(self, size: int) -> bytes:
        data, self.waiting = self.waiting[:size], self.waiting[size:]
        return data

    def fileno(self) -> int:
        return 7

    def close(self) -> None:
        self.open = False


@pytest.fixture
def port(monkeypatch):
    monkeypatch.setattr("serial.Serial", Wire)
    return OpenPort("/dev/ttyUSB0")


RTS, DTR, OTHERS = termios.TIOCM_RTS, termios.TIOCM_DTR, termios.TIOCM_CTS | termios.TIOCM_CAR


@pytest.mark.parametrize("before", [OTHERS, OTHERS | RTS, OTHERS | DTR, OTHERS | RTS | DTR])
@pytest.mark.parametrize(("reset", "boot"), [(0, 0), (0, 1), (1, 0), (1, 1)])
def test_both_lines_change_at_once_and_no_other(port, monkeypatch, before, reset, boot):
    calls = []

    def ioctl(number, what, row):
        calls.append((number, what, struct.unpack("I", row)[0]))
        if what == termios.TIOCMGET:
            row[:] = struct.pack("I", before)

    monkeypatch.setattr("fcntl.ioctl", ioctl)
    port.lines(bool(reset), bool(boot))
    assert calls == [(7, termios.TIOCMGET, 0), (7, termios.TIOCMSET, OTHERS | RTS * reset | DTR * boot)]
    assert port._port.noted == []


@pytest.mark.parametrize(
    ("reset", "boot", "order"),
    [(True, False, ["rts", "dtr"]), (False, True, ["dtr", "rts"]), (False, False, ["dtr", "rts"])],
)
def test_one_after_the_other_where_the_system_cannot(port, monkeypatch, reset, boot, order):
    """The boot pin stands when reset is let go, and changes only after reset is pulled."""

    def ioctl(*given):
        raise OSError(errno.ENOTTY, "not a terminal")

    monkeypatch.setattr("fcntl.ioctl", ioctl)
    port.lines(reset, boot)
    assert port._port.noted == [(name, {"rts": reset, "dtr": boot}[name]) for name in order]


def test_what_is_there_is_read_up_to_a_size(port):
    port._port.waiting = b"abcdef"
    assert port.read(4) == b"abcd" and port.read(1) == b"e" and port.read(9) == b"f"
    port.patience(0.0)
    assert port.read(9) == b""


def test_patience_is_set_where_it_changes(port):
    for seconds in (0.25, 0.5, 0.5, 0.25):
        port.patience(seconds)
    assert port._port.noted == [("timeout", 0.5), ("timeout", 0.25)]


@pytest.mark.parametrize("call", ["write", "read", "drop_input", "patience"])
def test_a_port_that_goes_away_is_one_line(port, call):
    given = {"write": b"x", "read": 1, "patience": 3.0}

    class Gone:
        timeout = 0.1
        in_waiting = property(lambda self: self.write())

        def __setattr__(self, name, value):
            self.write()

        def write(self, *data):
            raise OSError(errno.EIO, "input/output error")

        reset_input_buffer = write

    port._port = Gone()
    with pytest.raises(NotDelivered, match="/dev/ttyUSB0 was disconnected: input/output error") as told:
        getattr(port, call)(*([given[call]] if call in given else []))
    assert "plug it in again" in told.value.fix


def test_a_port_is_opened_again_when_it_is_back(port, monkeypatch):
    first, tries = port._port, []

    def back(*given, **more):
        tries.append(given)
        if len(tries) < 3:
            raise OSError(errno.ENOENT, "not there")
        return Wire(*given, **more)

    monkeypatch.setattr("serial.Serial", back)
    assert port.reopen(30) and not first.open and port._port is not first
    assert tries == [("/dev/ttyUSB0", 115_200)] * 3
    tries[:] = []
    assert not port.reopen(0) and tries == []


@pytest.mark.parametrize(
    ("vendor", "words", "own"),
    [
        (0x10C4, "a serial bridge", False),
        (0x1A86, "a serial bridge", False),
        (0x0403, "a serial bridge", False),
        (0x067B, "a serial bridge", False),
        (0x303A, "the chip's own USB", True),
        (0x2E8A, "the chip's own USB", True),
        (0x1234, "a USB device", False),
        (None, "no USB device", False),
    ],
)
def test_what_hangs_on_a_port_by_its_vendors_number(port, monkeypatch, vendor, words, own):
    rows = [
        SimpleNamespace(device="/dev/ttyUSB0", vid=vendor, product=None),
        SimpleNamespace(device="/dev/ttyUSB1", vid=0x2E8A, product="a board"),
    ]
    monkeypatch.setattr("serial.tools.list_ports.comports", lambda: rows[::-1])
    assert [row.what for row in ports()] == [words, "the chip's own USB, a board"]
    assert port.own_usb == own
