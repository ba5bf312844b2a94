"""Ports: what the vendor's MicroPython has, refuses, begins with and takes time for on a family of chips.

One data file a port, `ports/<id>.toml`; each table names where its rows were read (file and function of the port's
source, a datasheet, or "from memory"). The simulated board, the runtime's type check and the checks read the same file.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

import tomli

from zapato.record import record

_HERE = Path(__file__).parent / "ports"


@record(eq=False)
class PortInterrupts:
    """How the port runs a pin's handler.

    Attributes:
        hard: `Pin.irq(hard=True)` works.
        queue: places in the scheduler's queue of soft handlers.
    """

    hard: bool
    queue: int
    source: str


@record(eq=False)
class PortWatchdog:
    """The watchdog, in ms.

    Attributes:
        timeout: what the runtime asks for.
        least, most: what `machine.WDT` takes.
        patience: after how long without `feed()` the chip may reset.
    """

    timeout: int
    least: int
    most: int
    patience: int
    source: str


@record(eq=False)
class PortSerial:
    """The serial controllers.

    Attributes:
        console: the controller that the console reads, or -1.
        defaults: controller -> (tx, rx) that it takes where a program names no pin.
        buffer_fixed: controllers that refuse `rxbuf`.
    """

    console: int
    defaults: Mapping[int, tuple[int, int]]
    buffer_fixed: tuple[int, ...]
    source: str


@record(eq=False)
class PortPwm:
    """Whether a pin's modulation goes on after the pin was made a plain output."""

    outlives: bool
    source: str


@record(eq=False)
class PortRadio:
    """What the radio does by itself.

    Attributes:
        access_point: one is open after the flash was erased.
        remembers: names and passwords stay in the flash, and the radio joins by itself at power-up.
        scan_feeds: the watchdog is fed during a scan.
        status_clears: a wrong password is told by `status()`, also while the port tries again.
    """

    access_point: bool
    remembers: bool
    scan_feeds: bool
    status_clears: bool
    source: str


@record(eq=False)
class PortTls:
    """What TLS takes of the program's heap while a connection is open: bytes of each piece."""

    pieces: tuple[int, ...]
    source: str


@record(eq=False)
class PortReset:
    """What `machine.reset_cause()` gives after a power-up, after `machine.reset()`, after the watchdog."""

    power: int
    restart: int
    watchdog: int
    source: str


@record(eq=False)
class PortTime:
    """How long things take, ms.

    Attributes:
        boot: from power-up to main.py.
        join: from connect() to an address.
        scan: all channels.
        tls: a handshake.
        erase, erase_most: a sector of 4 KiB, typically and at the most.
        program, program_most: a page of 256 bytes.
    """

    boot: int
    join: int
    scan: int
    tls: int
    erase: float
    erase_most: float
    program: float
    program_most: float
    source: str


@record(eq=False)
class Port:
    """One port of MicroPython.

    Attributes:
        nesting: calls of the program within each other that fit on the chip's stack, and its source.
        absent: dotted names that other ports have and this one does not ("machine.Pin.PULL_DOWN").
    """

    id: str
    title: str
    interrupts: PortInterrupts
    watchdog: PortWatchdog
    serial: PortSerial
    pwm: PortPwm
    radio: PortRadio
    tls: PortTls
    reset: PortReset
    time: PortTime
    nesting: int
    nesting_source: str
    absent: tuple[str, ...]
    absent_source: str


@cache
def port_ids() -> tuple[str, ...]:
    """The ids of the ports, in order."""
    return tuple(sorted(path.stem for path in _HERE.glob("*.toml")))


@cache
def port(name: str) -> Port:
    """The port with this id."""
    return port_of(tomli.loads((_HERE / f"{name}.toml").read_text("utf-8")))


def port_of(data: Mapping[str, Any]) -> Port:
    """A port from the values of its data file."""
    serial: Mapping[str, Any] = data["serial"]
    defaults = {int(number): (int(tx), int(rx)) for number, (tx, rx) in serial["defaults"].items()}
    return Port(
        data["id"],
        data["title"],
        PortInterrupts(**data["interrupts"]),
        PortWatchdog(**data["watchdog"]),
        PortSerial(serial["console"], defaults, tuple(serial["buffer_fixed"]), serial["source"]),
        PortPwm(**data["pwm"]),
        PortRadio(**data["radio"]),
        PortTls(tuple(data["tls"]["pieces"]), data["tls"]["source"]),
        PortReset(**data["reset"]),
        PortTime(**data["time"]),
        data["nesting"]["calls"],
        data["nesting"]["source"],
        tuple(data["absent"]["names"]),
        data["absent"]["source"],
    )
