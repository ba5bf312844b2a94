"""Pictures of a device as files, and the same as text and data."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import asdict
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, cast

from zapato.cli.terminal import styled, table
from zapato.errors import ZapatoError
from zapato.wiring import State, pin_rows, wiring

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from zapato.budgets.whole import Budget
    from zapato.design import Design

MARKS: dict[State, str] = {"used": "#", "free": ".", "mind": "!", "forbidden": "x", "supply": " "}
"""How a pin's state is told in plain text."""


def on_a_board(design: Design) -> Design:
    """The design, where it stands on a board that exists. Raises ZapatoError."""
    if design.board is None:
        name = design.name or "the device"
        raise ZapatoError(
            f"{name} stands on no board that is known", "zapato check tells what is wrong with the file"
        )
    return design


def write_pictures(design: Design, chosen: Sequence[str], out: Path, *, one: bool) -> Iterator[Path]:
    """Write each picture; several get what they show behind the name. Raises ZapatoError, Unwritable."""
    from zapato.budgets.whole import budget
    from zapato.draw import budget_chart, check_name, link_graph, pin_map, save, wiring_sheet

    drawn: dict[str, Callable[[Design], Figure]] = {
        "pins": pin_map,
        "wires": wiring_sheet,
        "links": link_graph,
        "budget": lambda design: budget_chart(budget(design)),
    }
    check_name(out)
    for what in chosen:
        path = out if one else out.with_name(f"{out.stem}-{what}{out.suffix}")
        save(drawn[what](design), path)
        yield path


def shopping_list(design: Design) -> str:
    """What to buy as CSV (RFC 4180)."""
    held = io.StringIO()
    writer = csv.writer(held)
    writer.writerow(("count", "what", "value", "for"))
    for item in wiring(design).items:
        writer.writerow((item.count, item.what, item.value, item.why))
    return held.getvalue()


def cable_rows(design: Design) -> list[dict[str, object]]:
    """Every wire to make: its ends, what it carries, colour, cross-section in mm2, and length in m where the file states it."""
    sheet = wiring(design)
    lengths = {
        part.name: part.values.get("cable") or part.values.get("length") for part in design.parts.values()
    }
    return [
        {
            "from": wire.start,
            "to": wire.end,
            "through": wire.through,
            "voltage": "" if wire.kind == "ground" else f"{wire.volts:g}",
            "carries": wire.carries,
            "colour": wire.colour,
            "mm2": f"{wire.area:g}",
            "m": lengths.get(wire.part) or "",
        }
        for wire in sheet.wires
        if wire.kind != "fitted"
    ]


def cable_list(design: Design) -> str:
    """The wires to make as CSV (RFC 4180)."""
    held = io.StringIO()
    rows = cable_rows(design)
    writer = csv.DictWriter(held, ["from", "to", "through", "voltage", "carries", "colour", "mm2", "m"])
    writer.writeheader()
    writer.writerows(rows)
    return held.getvalue()


def as_data(design: Design, chosen: Sequence[str]) -> dict[str, object]:
    """The same as plain data."""
    from zapato.budgets.whole import budget
    from zapato.draw.links import sources, targets, written

    sheet = wiring(design)
    every: dict[str, object] = {
        "pins": [asdict(row) for row in pin_rows(design)],
        "wires": {
            "wires": [
                {**asdict(wire), "carries": wire.carries, "colour": wire.colour} for wire in sheet.wires
            ],
            "left_out": list(sheet.left_out),
            "buy": [asdict(item) for item in sheet.items],
            "loader": list(sheet.steps),
        },
        "links": [
            {"from": sources(link), "to": targets(link), "link": _as_json(written(design, link))}
            for link in design.links
        ],
        "budget": [row.as_dict() for row in budget(design).rows],
    }
    return {"device": design.name, **{what: every[what] for what in chosen}}


def _as_json(value: object) -> object:
    """A value of a device file as JSON has it: dates, and numbers that are none, become texts."""
    if isinstance(value, Mapping):
        return {str(key): _as_json(item) for key, item in cast(Mapping[object, object], value).items()}
    if isinstance(value, list):
        return [_as_json(item) for item in cast(list[object], value)]
    plain = isinstance(value, (str, int)) or (isinstance(value, float) and isfinite(value))
    return value if plain else str(value)


def as_text(design: Design, chosen: Sequence[str]) -> str:
    """The same for a terminal."""
    from zapato.budgets.whole import budget

    blocks: list[str] = []
    if "pins" in chosen:
        blocks.append(pins_text(design))
    if "wires" in chosen:
        blocks.append(wires_text(design))
    if "links" in chosen and design.links:
        blocks.append(_links_text(design))
    if "budget" in chosen:
        blocks.append(budget_text(budget(design)))
    return "\n\n".join(blocks)


def pins_text(design: Design) -> str:
    """The board's pins, header by header, with a mark for each one's state."""
    rows = pin_rows(design)
    board = design.board.id if design.board else "no board"
    head = styled(f"pins of {board}", bold=True) + "   # used  . free  ! restricted  x not to be used"
    shown = [
        {
            "": MARKS[row.state],
            "header": row.side,
            "label": row.label,
            "pin": "" if row.gpio is None else row.gpio,
            "part": row.use,
            "can": row.can,
            "mind": row.note,
        }
        for row in rows
    ]
    return f"{head}\n{table(shown, droppable='can')}"


def wires_text(design: Design) -> str:
    """Every wire, what to buy, and the way into the loader."""
    sheet = wiring(design)
    rows = [
        {
            "from": wire.start,
            "to": wire.end,
            "carries": wire.carries,
            "colour": wire.colour,
            "mm2": f"{wire.area:g}" if wire.kind != "fitted" else "",
            "through": wire.through,
            "note": wire.note,
        }
        for wire in sheet.wires
    ]
    blocks = [styled("wires", bold=True), table(rows, droppable="note")]
    blocks += [styled(f"not drawn: {text}", fg="red") for text in sheet.left_out]
    if sheet.apart:
        blocks.append(styled(f"mains at: {', '.join(sheet.apart)}; kept apart from all the rest", fg="red"))
    if sheet.items:
        goods = [
            {"count": item.count, "what": item.what, "value": item.value, "for": item.why}
            for item in sheet.items
        ]
        blocks += ["", styled("to buy", bold=True), table(goods, droppable="for")]
    if sheet.steps:
        blocks += [
            "",
            styled("into the loader", bold=True),
            *(f"  {n}. {step}" for n, step in enumerate(sheet.steps, 1)),
        ]
    return "\n".join(blocks)


def _links_text(design: Design) -> str:
    from zapato.draw.links import rules_of

    rows = [
        {
            "link": rule.title or (rule.number + 1 if rule.number < len(design.links) else ""),
            "when": rule.when,
            "does": rule.does,
            "from": ", ".join(rule.sources),
            "to": ", ".join(rule.targets),
        }
        for rule in rules_of(design)
    ]
    return f"{styled('links', bold=True)}\n{table(rows)}"


def budget_text(budget: Budget) -> str:
    """The figures, topic by topic; those that pass their limit in red."""
    from zapato.draw.budgets import shown

    rows = [
        {
            "topic": row.topic,
            "of": row.of,
            "what": row.what,
            "value": shown(row.value, row.unit),
            "limit": "" if row.limit is None else f"{'>= ' if row.least else ''}{shown(row.limit, row.unit)}",
            "": row.verdict,
            "how": row.formula,
        }
        for row in budget.rows
    ]
    head, *lines = table(rows, droppable="how").split("\n") if rows else ["no board, no budget"]
    colors = {"over": "red", "close": "yellow"}
    styled_lines = [
        styled(line, fg=colors[row.verdict]) if row.verdict in colors else line
        for line, row in zip(lines, budget.rows, strict=True)
    ]
    return "\n".join([styled(head, bold=True), *styled_lines])
