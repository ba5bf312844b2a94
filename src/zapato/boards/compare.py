"""Boards side by side: what each has, and whether it has enough."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from zapato.boards.board import Board, Pin
from zapato.errors import UnknownName

COUNTS: Mapping[str, Callable[[Board], int]] = {
    "output": lambda b: sum(p.drives for p in b.free),
    "input": lambda b: sum(p.reads for p in b.free),
    "analog": lambda b: sum(p.adc_radio for p in b.free),
    "pwm": lambda b: min(sum(p.pwm for p in b.free), b.chip.resources.pwm_channels),
    "touch": lambda b: sum(p.touch is not None for p in b.free),
    "dac": lambda b: sum(p.dac is not None for p in b.free),
    "uart": lambda b: b.chip.resources.uart,
    "i2c": lambda b: b.chip.resources.i2c,
    "spi": lambda b: b.chip.resources.spi,
    "flash": lambda b: b.flash >> 20,
    "ethernet": lambda b: int(bool(b.ethernet)),
    "psram": lambda b: int(b.psram > 0),
    "bluetooth": lambda b: int(b.chip.bluetooth),
}
"""What `--needs` can ask for."""


def parse_needs(text: str) -> dict[str, int]:
    """ "analog=4,ethernet" -> {"analog": 4, "ethernet": 1}. Raises UnknownName."""
    counts: dict[str, int] = {}
    for item in filter(None, (need.strip() for need in text.split(","))):
        name, _, count = item.partition("=")
        name = name.strip()
        if name not in COUNTS:
            raise UnknownName(f'boards have no property "{name}"', f"there are: {', '.join(COUNTS)}")
        if count and not count.strip().isdigit():
            raise UnknownName(f'"{item}" has no number', f"such as {name}=4")
        counts[name] = int(count) if count else 1
    return counts


def meets(board: Board, wanted: Mapping[str, int]) -> bool:
    """True where the board has as much of everything."""
    return all(COUNTS[name](board) >= count for name, count in wanted.items())


def summary(board: Board) -> dict[str, object]:
    """What a board has, for lists and comparisons."""
    chip = board.chip
    return {
        "board": board.id,
        "chip": chip.title,
        "cores": chip.cores,
        "MHz": chip.mhz,
        "free pins": len(board.free),
        "outputs": COUNTS["output"](board),
        "analog": sum(bool(p.adc) for p in board.free),
        "beside Wi-Fi": COUNTS["analog"](board),
        "PWM": COUNTS["pwm"](board),
        "touch": COUNTS["touch"](board),
        "DAC": COUNTS["dac"](board),
        "serial": chip.resources.uart,
        "I2C": chip.resources.i2c,
        "flash MB": board.flash >> 20,
        "heap KB": chip.heap >> 10,
        "PSRAM": "yes" if board.psram else "-",
        "network": "Ethernet, Wi-Fi" if board.ethernet else "Wi-Fi",
        "bluetooth": "yes" if chip.bluetooth else "-",
        "what": board.title,
    }


def pin_row(board: Board, pin: Pin) -> dict[str, object]:
    """One pin of a board: label, what it can do, what it does at reset, what to mind."""
    can = (
        ("in", pin.reads),
        ("out", pin.drives),
        ("pull-up", pin.pull_up),
        ("pull-down", pin.pull_down),
        ("interrupt", pin.interrupt),
        ("PWM", pin.pwm),
        (f"analog {pin.adc}", bool(pin.adc)),
        (f"touch {pin.touch}", pin.touch is not None),
        (f"DAC {pin.dac}", pin.dac is not None),
    )
    return {
        "label": board.label_of.get(pin.gpio, ""),
        "pin": pin.name,
        "can": "-" if pin.flash else ", ".join(word for word, has in can if has),
        "at reset": pin.reset or "-",
        "mind": "; ".join(_mind(board, pin)) or "-",
    }


def _mind(board: Board, pin: Pin) -> list[str]:
    cautions: list[str] = []
    if pin.flash:
        cautions.append(f"flash {pin.flash}")
    if fitted := board.fitted_on.get(pin.gpio):
        cautions.append(fitted.what)
    if pin.boot:
        cautions.append(
            f"{pin.boot.level} at reset for {'a normal start' if pin.boot.when == 'start' else pin.boot.when}"
        )
    if pin.console:
        cautions.append(f"console {pin.console}")
    if pin.usb:
        cautions.append(f"USB {pin.usb}")
    if pin.adc and not pin.adc_radio:
        cautions.append("no analog beside Wi-Fi")
    return cautions
