"""zapato boards: the catalogue."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.boards import Board, Pin


@click.command("boards")
@click.argument("name", required=False, metavar="[ID]")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(name: str | None, form: str) -> None:
    """List the boards, or show one board's pins: what each can do, and what stands against it."""
    from zapato.boards import board, boards

    if name is None:
        rows = [_summary(each) for each in boards()]
        click.echo(_json(rows) if form == "json" else _table(rows))
        return
    chosen = board(name)
    rows = [_pin_row(chosen, pin) for pin in chosen.brought_out]
    click.echo(_json(rows) if form == "json" else f"{_about(chosen)}\n\n{_table(rows)}")


def _json(rows: list[dict[str, object]]) -> str:
    import json

    return json.dumps(rows, indent=2, ensure_ascii=False)


def _summary(board: Board) -> dict[str, object]:
    chip = board.chip
    return {
        "board": board.id,
        "chip": chip.title,
        "free pins": len(board.free),
        "analog": sum(bool(p.adc) for p in board.free),
        "beside Wi-Fi": sum(p.adc_radio for p in board.free),
        "flash MB": board.flash >> 20,
        "heap KB": chip.heap >> 10,
        "network": "Ethernet, Wi-Fi" if board.ethernet else "Wi-Fi",
        "what": board.title,
    }


def _about(board: Board) -> str:
    chip = board.chip
    lines = [
        f"{board.id}: {board.title}",
        f"  chip     {chip.title}, {chip.cores} core{'s' * (chip.cores > 1)} at {chip.mhz} MHz, {board.flash >> 20} MB flash, {chip.heap >> 10} KB heap for the program",
        f"  supply   {'; '.join(board.supply)}"
        + (f"; the 3.3 V rail gives {board.rail_ma} mA ({board.rail_note})" if board.rail_ma else ""),
        f"  console  {board.usb}",
        f"  analog   {board.analog.low:g} V to {board.analog.high:g} V"
        + (f" ({board.analog_why})" if board.analog_why else ""),
        f"  loading  {'; '.join(board.boot_mode)}",
    ]
    lines += [
        f"  fitted   {f.what}: {', '.join(board.chip.pins[g].name for g in f.pins)}" for f in board.fitted
    ]
    return "\n".join(lines)


def _pin_row(board: Board, pin: Pin) -> dict[str, object]:
    can = [
        ("in", pin.reads),
        ("out", pin.drives),
        ("pull-up", pin.pull_up),
        ("pull-down", pin.pull_down),
        ("interrupt", pin.interrupt),
        ("PWM", pin.pwm),
        (f"analog {pin.adc}", bool(pin.adc)),
        (f"touch {pin.touch}", pin.touch is not None),
        (f"DAC {pin.dac}", pin.dac is not None),
    ]
    return {
        "label": board.label_of.get(pin.gpio, ""),
        "pin": pin.name,
        "can": ", ".join(word for word, has in can if has),
        "at reset": pin.reset or "-",
        "mind": "; ".join(_mind(board, pin)) or "-",
    }


def _mind(board: Board, pin: Pin) -> list[str]:
    found: list[str] = []
    if pin.flash:
        found.append(f"flash {pin.flash}")
    if fitted := board.fitted_on.get(pin.gpio):
        found.append(fitted.what)
    if pin.boot:
        found.append(
            f"{pin.boot.level} at reset for {'a normal start' if pin.boot.when == 'start' else pin.boot.when}"
        )
    if pin.console:
        found.append(f"console {pin.console}")
    if pin.adc and not pin.adc_radio:
        found.append("no analog beside Wi-Fi")
    return found


def _table(rows: list[dict[str, object]]) -> str:
    names = list(rows[0])
    widths = {name: max(len(name), *(len(str(row[name])) for row in rows)) for name in names}
    lines = ["  ".join(name.ljust(widths[name]) for name in names)]
    lines += ["  ".join(str(row[name]).ljust(widths[name]) for name in names) for row in rows]
    return "\n".join(line.rstrip() for line in lines)
