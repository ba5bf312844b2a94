"""A serial link."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from zapato.lang.fields import REQUIRED, boolean, choice, measured, pin, whole
from zapato.parts.kind import Driver, Kind, Need, Part
from zapato.parts.simulation import Simulation, Stimulus, World
from zapato.record import record

PARITY = {"none": None, "even": 0, "odd": 1}
"""As the ports' UART takes it."""


@record(eq=False)
class SerialFault(Stimulus):
    """Something befalls a serial line."""

    gpio: int
    fault: str

    def put(self, world: World, value: Any, over: int = 0) -> None:
        world.serial_fault(self.gpio, self.fault)


class UartKind(Kind):
    """A serial link; with enable, over an RS-485 driver."""

    terminals = {"tx": "RX of the other side", "rx": "TX of the other side", "enable": "DE and RE"}
    name = "uart"
    thing = False
    called = "serial link"
    help = "a serial link; with enable, over an RS-485 driver"
    fields = (
        pin("tx", "the pin that sends; it goes to the other side's RX", None),
        pin("rx", "the pin that receives; it goes to the other side's TX", None),
        whole("baud", "bits a second", REQUIRED, least=50, most=4_000_000),
        choice(
            "parity",
            "the check bit behind each byte; Modbus lines usually have even",
            *PARITY,
            default="none",
        ),
        whole("stop", "stop bits", 1, least=1, most=2),
        pin("enable", "the pin that lets an RS-485 driver send", None),
        boolean("rs485", "an RS-485 driver that turns by itself stands between"),
        measured("level", "the high level of the other side", "V", None, most=60),
        measured("length", "of the cable", "m", None, most=5000),
    )
    wiring = (
        "TX to RX and RX to TX, ground joined; 5 V parts need a level shifter or a divider before "
        "the board's RX. RS-485 needs a driver chip."
    )
    example = "[uart.meter]\ntx = 17\nrx = 16\nbaud = 9600"

    def simulation(self, part: Part) -> Simulation:
        """The line can be shorted, cut, have its two wires swapped, and be right again; nothing arrives meanwhile."""
        at = part.pins.get("rx") or part.pins.get("tx")
        words = {"short": "short", "cut": "cut", "swap": "swap", "mend": ""}
        return (
            Simulation(gestures={word: SerialFault(at.gpio, fault) for word, fault in words.items()})
            if at
            else Simulation()
        )

    def driver(self, part: Part) -> Driver | None:
        pins = {line: at.gpio for line, at in part.pins.items()}
        given: tuple[object, ...] = (
            pins.get("tx"),
            pins.get("rx"),
            part.get("baud", 9600),
            pins.get("enable"),
        )
        parity, stop = PARITY[part.get("parity", "none")], part.get("stop", 1)
        frame = (parity, stop) if (parity, stop) != (None, 1) else ()
        return Driver("bus_uart", "Uart", (*given, *frame))

    def needs(self, part: Part) -> Iterable[Need]:
        if part.values.get("tx") is not None:
            yield Need("tx", "output", controller="uart.tx", circuit="the receive input of another device")
        if part.values.get("rx") is not None:
            volts = part.get("level", 0.0)
            circuit = "the transmit output of another device, which rests high"
            yield Need(
                "rx", "input", rest="high", firm=True, controller="uart.rx", circuit=circuit, volts=volts
            )
        if part.values.get("enable") is not None:
            yield Need("enable", "output", rest="low", active="high", circuit="the driver's enable input")

    def requires(self, part: Part) -> Iterable[str]:
        return () if part.values.get("rx") is not None else ("tx",)


KIND = UartKind()
