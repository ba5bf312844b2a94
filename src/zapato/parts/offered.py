"""Pins that a chip on a bus offers to other parts."""

from __future__ import annotations

from zapato.boards.board import Pin


def offered_pin(
    owner: str,
    number: int,
    *,
    drives: bool = False,
    pull_up: bool = False,
    adc: bool = False,
    source: str = "",
    bears: float = 0.0,
    weak_high: bool = False,
) -> Pin:
    """Pin `number` of the part called `owner`; its GPIO number is negative, as it is none of the chip's."""
    return Pin(
        gpio=-1 - number - 100 * sum(ord(letter) << (7 * place) for place, letter in enumerate(owner)),
        name=f"{owner}.{number}",
        reads=not adc,
        drives=drives,
        pull_up=pull_up,
        pull_down=False,
        interrupt=False,
        pwm=False,
        adc=f"0.{number}" if adc else "",
        adc_radio=adc,
        analog_only=adc,
        touch=None,
        dac=None,
        rtc=None,
        flash="",
        usb="",
        console="",
        boot=None,
        reset="high" if weak_high else "",
        drive_ma=0,
        source=source,
        bears=bears,
        weak_high=weak_high,
    )
