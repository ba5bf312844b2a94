"""The shapes of the catalogue: Pin, Chip, Fitted, Board."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import field
from functools import cached_property
from typing import Literal

from zapato.record import record
from zapato.regex import regex

_GPIO = regex(r"(?:gpio|io|gp)?(\d{1,2})", re.IGNORECASE)

Level = Literal["high", "low"]


@record(eq=False)
class Boot:
    """What the chip reads from a pin at reset.

    Attributes:
        level: the level that a normal start needs.
        when: what the other level breaks: "start" (the program does not run), "download" (only
            the serial download mode), "messages" or "timing" (nothing a device needs).
        why: the consequence, in words.
    """

    level: Level
    when: str
    why: str


@record(eq=False)
class Pin:
    """One pin of a chip.

    Attributes:
        gpio: the chip's number.
        name: as messages call it, "GPIO34".
        reads, drives: digital input and output.
        pull_up, pull_down: internal resistors that the runtime can switch on.
        interrupt: announces an edge by itself.
        pwm: can carry the chip's pulse-width modulation.
        adc: "unit.channel" of the analog input, or "".
        adc_radio: the analog input keeps working while the radio is on.
        analog_only: no digital function at all.
        touch, dac, rtc: channel numbers, or None.
        flash: the line of the flash chip that hangs on this pin, or "".
        usb: "D+" or "D-" where the pin carries the chip's own USB, or "".
        console: "tx" or "rx" where the boot messages and the console use it, or "".
        boot: what the chip reads from it at reset, or None.
        reset: what the pin does from power-up until the program sets it: "pull-up", "pull-down",
            "high", "low", "signal" (pulses), "floating", or "" where no source states it.
        drive_ma: what the output can carry, mA.
        source: the section of the datasheet that says all this.
        bears: V at the most, where that is not the chip's own limit; else 0.
        weak_high: its high level is a current source of a fraction of a milliampere, and drives nothing.
    """

    gpio: int
    name: str
    reads: bool
    drives: bool
    pull_up: bool
    pull_down: bool
    interrupt: bool
    pwm: bool
    adc: str
    adc_radio: bool
    analog_only: bool
    touch: int | None
    dac: int | None
    rtc: int | None
    flash: str
    usb: str
    console: str
    boot: Boot | None
    reset: str
    drive_ma: int
    source: str
    bears: float = 0.0
    weak_high: bool = False

    @property
    def reset_level(self) -> Level | None:
        """The level that stands on the pin from power-up, where it is known."""
        if self.reset in ("pull-up", "high"):
            return "high"
        return "low" if self.reset in ("pull-down", "low") else None


@record(eq=False)
class Analog:
    """The range of an analog input at the pin, in volts, its resolution in bits, and the source.

    `exact` is V up to which its maker states the error, 0 where that is the whole range; `off` that error, V, 0 where not stated.
    `leak` is the current that flows into the pin at the most, A; `loads` the ohm of a board's own divider before it; both 0 where there is none.
    """

    low: float
    high: float
    bits: int
    source: str
    exact: float = 0.0
    off: float = 0.0
    leak: float = 0.0
    loads: float = 0.0

    @property
    def aim(self) -> float:
        """V that a divider brings the highest reading to."""
        return self.exact or self.high


@record(eq=False)
class Resources:
    """How many of each the chip has: PWM channels and timers, pulse engines, bus controllers.

    `pwm_least` and `pwm_most` are pulses a second, 0 where not stated. With `pwm_fixed` n, PWM output k belongs to GPIO k and GPIO k + n; else any pin takes any channel.
    """

    pwm_channels: int = 0
    pwm_timers: int = 0
    pulse: int = 0
    i2c: int = 0
    spi: int = 0
    uart: int = 0
    i2s: int = 0
    pwm_fixed: int = 0
    source: str = ""
    pwm_least: float = 0.0
    pwm_most: float = 0.0


@record(eq=False)
class Draw:
    """What the chip itself takes, A: with its radio asleep, receiving, and sending; 0 where not stated."""

    idle: float = 0.0
    typical: float = 0.0
    peak: float = 0.0
    source: str = ""


@record(eq=False)
class Chip:
    """The silicon.

    Attributes:
        port: the MicroPython port that runs on it.
        logic: volts of its high level.
        input_most: volts a pin bears at the most.
        input_high: volts from
            which on an input reads high.
        heap: bytes that the program can count on; a lower bound.
        image: bytes of flash before the data partition; image_1mib: the same in a flash of 1 MiB.
        tail: bytes behind it.
        collect_share: the port collects whenever this share of the heap was allocated; 0 where it sets none.
        pins: by GPIO number.
        why: reasons that checks quote, by topic.
        speed: instructions of the VM that the chip does in a ms, the unkind end.
        draw: what it takes itself.
        total: A that all its outputs give together at the most, 0 where not stated.
        routes: "uart.tx" -> controller number -> the pins it reaches; a function that is absent reaches any pin.
    """

    id: str
    title: str
    port: str
    logic: float
    input_most: float
    pull_ohm: float
    heap: int
    flash: int
    cores: int
    mhz: int
    wifi: str
    bluetooth: bool
    analog: Analog
    resources: Resources
    pins: Mapping[int, Pin]
    sources: Mapping[str, str]
    why: Mapping[str, str]
    routes: Mapping[str, Mapping[int, tuple[int, ...]]] = field(
        default_factory=dict[str, Mapping[int, tuple[int, ...]]]
    )
    routes_source: str = ""
    collect_share: float = 0.0
    image: int = 0
    image_1mib: int = 0
    tail: int = 0
    input_high: float = 0.0
    draw: Draw = field(default_factory=Draw)
    total: float = 0.0
    speed: int = 50_000


@record(eq=False)
class HeaderPin:
    """One place of a header: its label and the pin behind it, or None for supply and ground."""

    label: str
    gpio: int | None


@record(eq=False)
class Fitted:
    """Something soldered to the board.

    Attributes:
        name: how a device file can name its pin.
        what: in words.
        pins: the chip's pins it hangs on.
        active: the level that means on, or "".
        taken: True where nothing else can use the pins.
        why: the function of each pin.
    """

    name: str
    what: str
    pins: tuple[int, ...]
    active: str = ""
    taken: bool = False
    why: str = ""
    kind: str = ""

    def is_for(self, *kinds: str) -> bool:
        """True where a part of one of these kinds is what the fitted part is there for."""
        return not set(kinds).isdisjoint(self.kind.split())


@record(eq=False)
class Rmii:
    """How an Ethernet PHY hangs on the chip's own controller.

    Attributes:
        phy: its part number.
        address: of its management interface.
        mdc, mdio: GPIO of the management lines.
        power: GPIO that switches it on, or None.
        clock: GPIO of the 50 MHz clock.
        clock_out: the chip makes it.
    """

    phy: str
    mdc: int
    mdio: int
    clock: int
    clock_out: bool
    address: int = 0
    power: int | None = None


@record(eq=False)
class SpiEthernet:
    """An Ethernet chip on the chip's last SPI controller.

    Attributes:
        phy: its part number.
        sck, mosi, miso, select, interrupt: GPIO of its lines.
    """

    phy: str
    sck: int
    mosi: int
    miso: int
    select: int
    interrupt: int


@record(eq=False)
class SupplyInput:
    """Where a board can be fed.

    Attributes:
        name: as printed on the board, or "USB", "PoE", "mains".
        low, high: V that it works with, and bears.
        rail: "5V" or "3V3" where it is that rail itself, so that parts on the rail get what is fed in; else "".
        source: the source of the range.
        note: what to mind.
    """

    name: str
    low: float
    high: float
    rail: str = ""
    source: str = ""
    note: str = ""

    def takes(self, low: float, high: float) -> bool:
        """Whether a supply between these voltages suits it."""
        return self.low <= low and high <= self.high

    @property
    def description(self) -> str:
        """The input and its range, in words."""
        return f"{self.name}, {self.low:g} V to {self.high:g} V" + (f"; {self.note}" if self.note else "")


@record(eq=False)
class Board:
    """What carries the chip: labels in physical order, fitted parts, supply, the way into boot mode.

    Attributes:
        headers: the rows of pins in physical order, seen from above, antenna or USB as `layout` says.
        inputs: where it can be fed, the usual one first; empty where nobody has stated them.
        analog: range at the board's analog pins where the board divides it, else the chip's.
        rail_ma: what the 3.3 V rail gives to parts, mA; 0 where no source states it.
        flash_mode: how the flash is read: "dio" on two lines, "dout" also on chips with the flash inside.
        images: forms of a whole-flash image, "bin" or "uf2".
        resistors: GPIO number -> ("up" or "down", ohms) of a resistor that the board has on the pin.
        wants: what a bare module needs on its pins before it starts, in words.
    """

    id: str
    title: str
    chip: Chip
    headers: Mapping[str, tuple[HeaderPin, ...]]
    fitted: tuple[Fitted, ...]
    usb: str
    inputs: tuple[SupplyInput, ...]
    rail_ma: int
    rail_note: str
    boot_mode: tuple[str, ...]
    flash: int
    analog: Analog
    analog_why: str
    flash_mode: str = "dio"
    images: tuple[str, ...] = ("bin",)
    ethernet: str = ""
    rmii: Rmii | None = None
    spi_ethernet: SpiEthernet | None = None
    psram: int = 0
    resistors: Mapping[int, tuple[str, float]] = field(default_factory=dict[int, tuple[str, float]])
    wants: tuple[str, ...] = ()

    @property
    def partition(self) -> tuple[int, int]:
        """Where the data partition begins under the vendor's usual image, and its bytes; 0 where there is no room."""
        chip = self.chip
        at = chip.image_1mib if self.flash <= 1 << 20 else chip.image
        return at, max(0, self.flash - at - chip.tail)

    @cached_property
    def brings_out(self) -> frozenset[str]:
        """The labels of its headers in upper case, supply and ground among them."""
        return frozenset(place.label.upper() for row in self.headers.values() for place in row)

    def input(self, name: str) -> SupplyInput | None:
        """An input by its name."""
        return next(
            (supply_input for supply_input in self.inputs if supply_input.name.lower() == name.lower()), None
        )

    @property
    def bridge(self) -> bool:
        """True where a serial bridge on the board hangs on the console's pins."""
        return "serial bridge" in self.usb

    @cached_property
    def labels(self) -> Mapping[str, int]:
        """Label in lower case -> GPIO number; the first place counts where a pin comes out twice."""
        gpios: dict[str, int] = {}
        for row in self.headers.values():
            for place in row:
                if place.gpio is not None:
                    gpios.setdefault(place.label.lower(), place.gpio)
        for part in self.fitted:
            if len(part.pins) == 1:
                gpios.setdefault(part.name.lower(), part.pins[0])
        for gpio in list(gpios.values()):
            if gpio in self.chip.pins:
                gpios.setdefault(self.chip.pins[gpio].name.lower(), gpio)
        return gpios

    @cached_property
    def label_of(self) -> Mapping[int, str]:
        """GPIO number -> the label printed beside it."""
        return {p.gpio: p.label for row in self.headers.values() for p in row if p.gpio is not None}

    @cached_property
    def brought_out(self) -> tuple[Pin, ...]:
        """The pins that a wire can reach, by number."""
        return tuple(self.chip.pins[gpio] for gpio in sorted(self.label_of))

    @cached_property
    def fitted_on(self) -> Mapping[int, Fitted]:
        """GPIO number -> the fitted part on it; one that takes the pin before one that shares it."""
        fitted_parts: dict[int, Fitted] = {}
        for part in sorted(self.fitted, key=lambda p: not p.taken):
            for gpio in part.pins:
                fitted_parts.setdefault(gpio, part)
        return fitted_parts

    @cached_property
    def usable(self) -> tuple[Pin, ...]:
        """Pins brought out that a part could stand on at all: no flash behind them, no fitted part that takes them."""
        taken = {gpio for part in self.fitted if part.taken for gpio in part.pins}
        return tuple(pin for pin in self.brought_out if not pin.flash and pin.gpio not in taken)

    @cached_property
    def free(self) -> tuple[Pin, ...]:
        """Pins brought out with nothing on them that would fight: no flash, fitted part or console."""
        return tuple(
            pin
            for pin in self.brought_out
            if not pin.flash and not pin.console and pin.gpio not in self.fitted_on
        )

    def gpio(self, label: str) -> int | None:
        """The GPIO number behind a label of the board, or behind the chip's own name for it ("IO26")."""
        known = self.labels.get(label.lower())
        if known is None and (match := _GPIO.fullmatch(label)):
            return int(match[1])
        return known

    def pin(self, gpio: int) -> Pin:
        """The chip's pin by number. Raises KeyError."""
        return self.chip.pins[gpio]

    def called(self, pin: Pin) -> str:
        """How messages call the pin on this board: "GPIO2 (D4)"."""
        label = self.label_of.get(pin.gpio, "")
        plain = {str(pin.gpio), pin.name.lower(), f"gp{pin.gpio}", f"io{pin.gpio}"}
        return pin.name if not label or label.lower() in plain else f"{pin.name} ({label})"
