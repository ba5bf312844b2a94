"""zapato boards: the catalogue, listed, filtered, compared, or one board's pins."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.terminal import table, wrapped

if TYPE_CHECKING:
    from zapato.boards import Board

Row = dict[str, object]


@click.command("boards")
@click.argument("ids", nargs=-1, metavar="[ID]...")
@click.option(
    "--needs", default="", metavar="WHAT", help="Only boards with this much: analog=4,pwm=8,ethernet …"
)
@click.option(
    "--site",
    default=".",
    type=click.Path(path_type=Path),
    help="Also list the boards of this site.",
    show_default=True,
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(ids: tuple[str, ...], needs: str, site: Path, form: str) -> int:
    """List the boards; with one ID show its pins, with several compare them side by side.

    --needs takes output, input, analog (inputs that work beside Wi-Fi), pwm, touch, dac, uart, i2c, spi, flash (MB),
    ethernet, psram and bluetooth; a number after = says how many.
    """
    from zapato.boards.compare import meets, parse_needs, pin_row, summary

    known = _known(site)
    chosen = [_one(known, name) for name in ids] or list(known.values())
    if needs:
        wanted = parse_needs(needs)
        chosen = [board for board in chosen if meets(board, wanted)]
        if not chosen:
            click.echo(f"no board has {needs}", err=True)
            return 1
    if len(ids) == 1:
        rows: list[Row] = [pin_row(chosen[0], pin) for pin in chosen[0].brought_out]
        click.echo(_json(rows) if form == "json" else f"{_about(chosen[0])}\n\n{table(rows)}")
        return 0
    rows = [summary(board) for board in chosen]
    text = _side_by_side(rows) if ids else table([_short(row) for row in rows], droppable="what")
    click.echo(_json(rows) if form == "json" else text)
    return 0


def _known(site: Path) -> dict[str, Board]:
    """The catalogue's boards and the site's own."""
    from zapato.boards import boards
    from zapato.boards.own import site_boards
    from zapato.errors import UnknownName

    if site != Path(".") and not (site / "site.toml").is_file():
        raise UnknownName(
            f"{site} is no site: it has no site.toml",
            "zapato new NAME --board BOARD --site FOLDER begins one",
        )
    own = site_boards(site if (site / "site.toml").is_file() else None)
    if own.findings:
        click.echo(
            f"zapato: {len(own.findings)} findings in the boards of {site}; zapato check shows them", err=True
        )
    return {board.id: board for board in (*boards(), *own.boards.values())}


def _one(known: dict[str, Board], name: str) -> Board:
    from zapato.boards import board

    return known.get(name) or board(name)


def _short(row: Row) -> Row:
    keep = (
        "board",
        "chip",
        "free pins",
        "analog",
        "beside Wi-Fi",
        "PWM",
        "touch",
        "serial",
        "flash MB",
        "heap KB",
        "network",
        "what",
    )
    return {key: row[key] for key in keep}


def _json(rows: list[Row]) -> str:
    import json

    return json.dumps(rows, indent=2, ensure_ascii=False)


def _about(board: Board) -> str:
    chip = board.chip
    rail = f"; the 3.3 V rail gives {board.rail_ma} mA ({board.rail_note})" if board.rail_ma else ""
    cores = f"{chip.cores} core{'s' * (chip.cores > 1)} at {chip.mhz} MHz"
    about = {
        "chip": f"{chip.title}, {cores}, {board.flash >> 20} MB flash, {chip.heap >> 10} KB heap for the program",
        "supply": f"{'; '.join(supply_input.description for supply_input in board.inputs)}{rail}",
        "console": board.usb,
        "analog": f"{board.analog.low:g} V to {board.analog.high:g} V"
        + (f" ({board.analog_why})" if board.analog_why else ""),
        "loading": "; ".join(board.boot_mode),
    }
    lines = [f"{board.id}: {board.title}"]
    for word, text in about.items():
        lines += wrapped(f"  {word:<8} ", text)
    for fitted in board.fitted:
        pins = ", ".join(chip.pins[gpio].name for gpio in fitted.pins)
        name = f' (pin = "{fitted.name}")' if len(fitted.pins) == 1 else ""
        lines += wrapped("  fitted   ", f"{fitted.what}{f': {pins}' if pins else ''}{name}")
    return "\n".join(lines)


def _side_by_side(rows: list[Row]) -> str:
    """The boards as columns, their properties as rows."""
    turned: list[Row] = []
    for name in rows[0]:
        if name != "board":
            turned.append({"": name, **{str(row["board"]): row[name] for row in rows}})
    return table(turned)
