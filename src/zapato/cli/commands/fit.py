"""zapato fit: pins chosen for you."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from zapato.cli.each import Workers, each_device, spreading
from zapato.cli.terminal import wrapped

if TYPE_CHECKING:
    from zapato.fitting import BoardFit, Fit

SHOWN = 3
"""Boards that are shown of each device, where there are several devices."""


@click.command("fit")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--write", "write_", is_flag=True, help='Put the chosen pins into the file in place of "auto".')
@click.option("--boards", "boards_", is_flag=True, help="Rank all boards by how well they carry each device.")
@spreading
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print the result."
)
def COMMAND(
    paths: tuple[Path, ...], write_: bool, boards_: bool, jobs: int | None, cluster: str | None, form: str
) -> int:
    """Choose a pin for every pin = "auto": the exact optimum over the board's pins and controllers.

    Least boot hazards first, then glitches at power-up, console and shared pins, scarce inputs, distance.
    Exit code 0: all placed; 1: they cannot be placed together, or errors stand.
    """
    from zapato.checks import all_files

    files = all_files(paths)
    rows: list[Any] = []
    work = partial(_ranked, form, len(files)) if boards_ else partial(_fitted, form, len(files), write_)

    def tell(outcome: tuple[bool, Any, str]) -> bool:
        good, row, aside = outcome
        rows.append(row)
        if form == "text":
            click.echo(row)
        if aside:
            click.echo(aside, err=True)
        return good

    done = "carried by some board" if boards_ else "placed"
    quiet = form == "json"
    code = each_device(files, done, work, tell, quiet=quiet, workers=Workers(jobs, cluster))
    if quiet:
        click.echo(_json(rows if len(files) > 1 else rows[0]))
    return code


def _checked(path: Path) -> Any:
    """The design. Raises Refused while errors stand."""
    from zapato.design import resolve
    from zapato.errors import Refused
    from zapato.findings import Report

    design = resolve(path)
    if any(f.severity == "error" for f in design.findings):
        texts = {design.document.source.name: design.document.source.text}
        report = Report.of(design.findings, texts=texts)
        raise Refused(f"{path} has errors; correct them first", "", report.findings, report.texts)
    return design


def _fitted(form: str, count: int, write_: bool, path: Path) -> tuple[bool, Any, str]:
    """One device: whether it could be placed, what to print, and what was written."""
    from zapato.fitting import fit, write_pins
    from zapato.lang.source import shown

    result = fit(_checked(path))
    aside = ""
    if write_ and result.ok and result.placements:
        aside = f"wrote {write_pins(result)} pins into {shown(path)}"
    if form == "json":
        return result.ok, _data(result), aside
    head = f"{result.design.name}\n" if count > 1 and result.placements else ""
    return result.ok, head + _text(result), aside


def _ranked(form: str, count: int, path: Path) -> tuple[bool, Any, str]:
    """One device on every board."""
    from zapato.fitting import fit_boards

    design = _checked(path)
    ranked = fit_boards(design)
    good = any(board_fit.ok for board_fit in ranked)
    if form == "json":
        rows = [_board_row(board_fit) for board_fit in ranked]
        return good, {"device": design.name, "boards": rows} if count > 1 else rows, ""
    if count == 1:
        return good, _board_text(ranked), ""
    suitable = [board_fit for board_fit in ranked if board_fit.ok][:SHOWN]
    names = ", ".join(
        f"{board_fit.board.id} ({len(board_fit.loses)} to consider, {board_fit.free} pins left)"
        for board_fit in suitable
    )
    return good, f"{design.name}: {names or 'no board carries it'}", ""


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
    conflict = result.conflict
    reason = (
        {"parts": [f"{part}.{key}" for part, key in conflict.uses], "reason": conflict.reason}
        if conflict
        else None
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
    for placement in result.placements:
        shown = f'"{placement.written}"' if isinstance(placement.written, str) else str(placement.written)
        name = "" if shown == str(placement.pin.gpio) else placement.pin.name
        lines.append(f"{f'{placement.part}.{placement.field}':<{width}}  {shown:<8} {name}".rstrip())
        fitted = design.board.fitted_on.get(placement.pin.gpio) if design.board else None
        if fitted and fitted.is_for(*design.parts[placement.part].kind.all_roles):
            lines += wrapped(" " * (width + 2), f"note: this is {fitted.what}, on the board already")
        lines += [
            line
            for mind in placement.minds
            for line in wrapped(" " * (width + 2), f"{mind.severity}: {mind.message}")
        ]
    return "\n".join(lines)


def _board_row(fit: BoardFit) -> dict[str, object]:
    return {"board": fit.board.id, "ok": fit.ok, "free": fit.free, "loses": list(fit.loses)}


def _board_text(ranked: list[BoardFit]) -> str:
    width = max(len(board_fit.board.id) for board_fit in ranked)
    lines: list[str] = []
    for board_fit in ranked:
        verdict = f"carries it, {board_fit.free} pins left" if board_fit.ok else "cannot"
        lines.append(f"{board_fit.board.id:<{width}}  {verdict}")
        lines += [line for loss in board_fit.loses for line in wrapped(" " * (width + 4), loss)]
    return "\n".join(lines)
