"""What a board's pins answer to its program: digital, analog, modulated, touched, and the strips on them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from random import Random

from zapato.boards.board import Board as BoardFacts
from zapato.boards.port import Port
from zapato.simulator.clock import Clock
from zapato.simulator.interrupts import Interrupts
from zapato.simulator.pins import REFUSED, Pins
from zapato.simulator.sounds import Sounding
from zapato.simulator.trace import Trace
from zapato.simulator.wasi import Fault
from zapato.simulator.world import Quantities

SOUND = 343.2
"""m/s in dry air at 20 °C."""
MEASURED = 50
"""ms until a touch pad of the later chips was measured once; from memory."""


class Peripherals:
    """The part of a board with pins. `on_...` takes text, `do_...` at most four whole numbers."""

    facts: BoardFacts
    port: Port
    clock: Clock
    trace: Trace
    random: Random
    pins: Pins
    interrupts: Interrupts
    quantities: Quantities
    sounds: dict[int, Sounding]
    pads: dict[int, int]
    """When each touch pad was measured first, ms."""
    lights: dict[int, bytes]
    faults: dict[tuple[int, object], str]
    knows_time: bool
    rtc: datetime
    _handled: tuple[int, int] | None
    _wrote: Callable[[int, int], None]

    def on_pin(self, data: bytes) -> None:
        gpio, mode, pull, level = map(int, data.split())
        self.pins.line(gpio)
        self.pins.set_up(gpio, mode, pull, level)

    def do_set(self, gpio: int, level: int, *_: int) -> None:
        self.pins.write(gpio, level)

    def do_get(self, gpio: int, *_: int) -> int:
        if self._handled and self._handled[0] == gpio:
            return self._handled[1]
        return self.pins.line(gpio).level

    def on_irq(self, data: bytes) -> None:
        gpio, trigger, hard = map(int, data.split())
        if hard and not self.port.interrupts.hard:
            raise Fault(REFUSED["hard IRQ not supported"])
        self.pins.listen(gpio, trigger, bool(hard))

    def do_adc(self, gpio: int, *_: int) -> int:
        """Microvolts at an analog pin; -1 asks for the first channel, -5 for the chip's own sensor."""
        pins = self.facts.chip.pins
        if gpio == -5 and self.facts.chip.port == "rp2":
            warm = self.quantities["die", 0].get()
            return round((0.706 - 0.001721 * ((25.0 if warm is None else warm) - 27)) * 1e6)
        if gpio < 0:
            gpio = next(pin.gpio for pin in pins.values() if pin.adc)
        if gpio not in pins or not pins[gpio].adc:
            raise Fault(1)
        self.clock.busy(40)
        level = self.quantities["volts", gpio].get() or 0.0
        if sound := self.sounds.get(gpio):
            level = self.facts.analog.high * (1 + sound.at(sound.now)) / 2
        limits, word = self.facts.analog, self.faults.get((gpio, None), "")
        level = {"short": 0.0, "low": 0.0, "high": 99.0}.get(word, level)
        if word == "cut":  # nothing holds it
            level = self.random.uniform(limits.low, limits.high)
        return round(min(max(level, limits.low), limits.high) * 1e6)

    def on_die(self, data: bytes) -> str:
        """The chip's own temperature: the name of the port's call, and what it gives."""
        warm = self.quantities["die", 0].get()
        warm = 25.0 if warm is None else warm
        if self.facts.chip.id == "esp32":
            return f"raw_temperature {round(warm * 1.8 + 32)}"
        return f"mcu_temperature {round(warm)}"

    def on_rtc(self, data: bytes) -> str:
        """The program tells the chip's own clock the time (year, month, day, weekday, h, min, s, us), or asks it."""
        if data:
            year, month, day, _, hour, minute, second, _ = map(int, data.split())
            self.knows_time = True
            self.rtc = datetime(year, month, day, hour, minute, second) - timedelta(
                milliseconds=self.clock.now
            )
            return ""
        now = self.rtc + timedelta(milliseconds=self.clock.now)
        row = (now.year, now.month, now.day, now.weekday(), now.hour, now.minute, now.second, now.microsecond)
        return " ".join(map(str, row))

    def do_full(self, *_: int) -> int:
        """Microvolts at full scale."""
        return round(self.facts.analog.high * 1e6)

    def do_pwm(self, gpio: int, rate: int, duty: int, *_: int) -> None:
        if not self.facts.chip.pins[gpio].pwm:
            raise Fault(1)
        limits = self.facts.chip.resources
        if rate and not limits.pwm_least <= rate <= limits.pwm_most:
            raise Fault(1)
        self.pins.line(gpio).share(duty / 65535)
        self._wrote(gpio, int(duty > 0))

    def on_pwm_end(self, data: bytes) -> None:
        self.pins.line(int(data)).unshare()

    def do_dac(self, gpio: int, value: int, *_: int) -> None:
        if self.facts.chip.pins[gpio].dac is None or not 0 <= value < 256:
            raise Fault(1)
        self.pins.line(gpio).share(value / 255)

    def do_touch(self, gpio: int, *_: int) -> int:
        """What a touch pad reads: less under a finger on the first chip with one, more on the later ones.

        The later ones measure by themselves, and give 0 until a pad was measured once (ports/esp32/machine_touchpad.c:
        touch_pad_fsm_start, and mtp_read asks for the last value).
        """
        if self.facts.chip.pins[gpio].touch is None:
            raise Fault(1)
        touched = self.quantities["touch", gpio].get()
        if self.facts.chip.id != "esp32" and self.clock.now < self.pads.setdefault(
            gpio, self.clock.now + MEASURED
        ):
            return 0
        usual, under = (600, 180) if self.facts.chip.id == "esp32" else (20_000, 41_000)
        return round((under if touched else usual) * self.random.uniform(0.97, 1.03))

    def on_lights(self, data: bytes) -> None:
        """A frame of a strip: 10 us a colour at 800 kHz, and the gap that ends it."""
        head, _, colors = data.partition(b"\n")
        gpio, light = map(int, head.split())
        self.clock.busy(len(colors) * 10 + 300)
        if self.lights.get(gpio) != colors:
            self.lights[gpio] = colors
            lit = sum(any(colors[at : at + light]) for at in range(0, len(colors), light))
            self.trace.log("lights", f"GPIO{gpio}", lit, first=colors[:light].hex())

    def do_pulse(self, gpio: int, level: int, timeout: int, *_: int) -> int:
        """How long an echo lasts, us; -2 where its beginning never came (extmod/machine_pulse.c)."""
        far = self.quantities["echo", gpio].get()
        us = round(far * 2_000_000 / SOUND) if far is not None else timeout
        self.clock.busy(500 + min(us, timeout))
        return us if us < timeout else -2
