"""zapato fit: pins chosen for you."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.terminal import wrapped

if TYPE_CHECKING:
    from zapato.fitting import BoardFit, Fit


@click.command("fit")
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--write", "write_", is_flag=True, help='Put the chosen pins into the file in place of "auto".')
@click.option("--boards", "boards_", is_flag=True, help="Rank all boards by how well they carry this device.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(path: Path, write_: bool, boards_: bool, form: str) -> int:
    """Choose a pin for every pin = "auto": the exact optimum over the board's pins and controllers.

    Least boot hazards first, then glitches at power-up, console and shared pins, scarce inputs, distance.
    Exit code 0: all placed; 1: they cannot be placed together, or errors stand.
    """
    from zapato.cli.report import text_of
    from zapato.design import resolve
    from zapato.findings import Report
    from zapato.fitting import fit, fit_boards, write_pins

    design = resolve(path)
    if any(f.severity == "error" for f in design.findings):
        report = Report.of(design.findings, texts={design.document.source.name: design.document.source.text})
        click.echo(text_of(report), nl=False)
        click.echo(f"zapato: {path} has errors to mend first", err=True)
        return 1
    if boards_:
        ranked = fit_boards(design)
        click.echo(_json([_board_row(each) for each in ranked]) if form == "json" else _board_text(ranked))
        return 0 if any(each.ok for each in ranked) else 1
    result = fit(design)
    click.echo(_json(_data(result)) if form == "json" else _text(result))
    if write_ and result.ok and result.placements:
        click.echo(f"wrote {write_pins(result)} pins into {path}", err=True)
    return 0 if result.ok else 1


def _json(data: object) -> str:
    import json

    return json.dumps(data, indent=2, ensure_ascii=False)


def _data(result: Fit) -> dict[str, object]:
    rows = [
        {
            "part": p.part,
            "key": p.field,
            "pin": p.pin.name,
            "written": p.written,
            "minds": [m.message for m in p.minds],
        }
        for p in result.placements
    ]
    found = result.conflict
    reason = (
        {"parts": [f"{part}.{key}" for part, key in found.uses], "reason": found.reason} if found else None
    )
    return {
        "device": result.design.name,
        "ok": result.ok,
        "placements": rows,
        "conflict": reason,
        "cost": result.cost,
    }


def _text(result: Fit) -> str:
    design = result.design
    if result.conflict:
        head = f"{design.name} cannot be placed on {design.board.id if design.board else 'its board'}:"
        return "\n".join([head, *wrapped("  ", result.conflict.reason)])
    if not result.placements:
        return f'{design.name}: no pin is "auto", so there is nothing to choose'
    lines: list[str] = []
    width = max(len(f"{p.part}.{p.field}") for p in result.placements)
    for each in result.placements:
        shown = f'"{each.written}"' if isinstance(each.written, str) else str(each.written)
        name = "" if shown == str(each.pin.gpio) else each.pin.name
        lines.append(f"{f'{each.part}.{each.field}':<{width}}  {shown:<8} {name}".rstrip())
        fitted = design.board.fitted_on.get(each.pin.gpio) if design.board else None
        if fitted and fitted.is_for(design.parts[each.part].kind.name):
            lines += wrapped(" " * (width + 2), f"note: this is {fitted.what}, on the board already")
        lines += [
            line
            for mind in each.minds
            for line in wrapped(" " * (width + 2), f"{mind.severity}: {mind.message}")
        ]
    return "\n".join(lines)


def _board_row(each: BoardFit) -> dict[str, object]:
    return {"board": each.board.id, "ok": each.ok, "free": each.free, "loses": list(each.loses)}


def _board_text(ranked: list[BoardFit]) -> str:
    width = max(len(each.board.id) for each in ranked)
    lines: list[str] = []
    for each in ranked:
        verdict = f"carries it, {each.free} pins left" if each.ok else "cannot"
        lines.append(f"{each.board.id:<{width}}  {verdict}")
        lines += [line for loss in each.loses for line in wrapped(" " * (width + 4), loss)]
    return "\n".join(lines)
