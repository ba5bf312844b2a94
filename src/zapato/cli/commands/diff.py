"""zapato diff: what changes from one version of a device, or a site, to another."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from zapato.changes import Change
    from zapato.design import Design

SIDE = 6
"""Rows of both traces that are shown from the first difference on."""
WIDTH = 56


@click.command("diff")
@click.argument("old")
@click.argument("new", type=click.Path(path_type=Path))
@click.option(
    "--rehearsal",
    is_flag=True,
    help="Run both through the new one's rehearsal, and show where the traces part.",
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(old: str, new: Path, rehearsal: bool, form: str) -> int:
    """Tell what changes: on the wires, in the topics, in the links, in size and heap.

    OLD is a file, a folder, or a git revision of NEW, such as HEAD~1.

    Exit code 0: nothing that others rely on disappears; 1: a topic or an address does, or changes what it means.
    """
    from contextlib import ExitStack

    from zapato.cli.git import as_it_was

    with ExitStack() as held:
        before = Path(old) if Path(old).exists() else held.enter_context(as_it_was(new, old))
        pairs = list(_pairs(before, new))
        devices: list[dict[str, Any]] = []
        relied = False
        for name, a, b in pairs:
            rows = _changes(a, b)
            relied |= any(row.relied for row in rows) or b is None
            traces = _traces(a, b, new) if rehearsal and a and b else {}
            devices.append(
                {
                    "device": name,
                    "changes": [row.as_dict() for row in rows],
                    **({"traces": traces} if traces else {}),
                }
            )
            if form == "text":
                click.echo("\n".join(_text(name, a, b, rows, traces)))
    if form == "json":
        import json

        click.echo(json.dumps(devices, indent=2, ensure_ascii=False))
    return 1 if relied else 0


def _pairs(old: Path, new: Path) -> Iterator[tuple[str, Design | None, Design | None]]:
    """Device by device, by name; of two files the one against the other."""
    from zapato.checks import device_files
    from zapato.design import resolve
    from zapato.lang.folder import settled

    if not old.is_dir() and not new.is_dir():
        yield new.stem, resolve(old), resolve(new)
        return
    a = {path.stem: path for path in device_files(old)}
    b = {path.stem: path for path in device_files(new)}
    names = {*a, *b} if old.is_dir() and new.is_dir() else {*a} if new.is_dir() else {*b}
    with settled():
        for name in sorted(names):
            yield name, resolve(a[name]) if name in a else None, resolve(b[name]) if name in b else None


def _changes(old: Design | None, new: Design | None) -> list[Change]:
    from zapato.changes import changes

    return changes(old, new) if old and new else []


def _text(
    name: str, old: Design | None, new: Design | None, rows: Sequence[Change], traces: Mapping[str, Any]
) -> Iterator[str]:
    from zapato.cli.terminal import styled

    if old is None or new is None:
        word = "is new" if old is None else "is gone"
        yield styled(f"{name} {word}", bold=True, fg="green" if old is None else "red")
        return
    yield styled(name, bold=True) + ("" if rows else ": no difference")
    marks = {"added": ("+", "green"), "removed": ("-", "red"), "changed": ("~", "yellow")}
    group = ""
    for row in rows:
        if row.group != group:
            group = row.group
            yield f"  {group}"
        mark, color = marks[row.how]
        what = f"{row.old} -> {row.new}" if row.how == "changed" else row.new or row.old
        others = styled("  others may rely on it", fg="red") if row.relied else ""
        yield f"    {styled(mark, fg=color)} {row.what}{f': {what}' if what else ''}{others}"
    if traces:
        yield "  rehearsal"
        yield from (f"    {line}" for line in traces["text"])


def _traces(old: Design, new: Design, path: Path) -> dict[str, Any]:
    """Both traces of one rehearsal, side by side from where they part."""
    from zapato.changes import first_difference, plain_rows
    from zapato.simulator import default_script, rehearse

    script = default_script(new)
    a, b = (plain_rows(rehearse(design, script).records, design) for design in (old, new))
    at = first_difference(a, b)
    if at is None:
        return {"same": True, "text": ["the two traces are the same"]}
    left, right = a[at : at + SIDE], b[at : at + SIDE]
    lines = [f"the traces part at {(left or right)[0][0]:.3f} s", f"{'before':<{WIDTH}}  after"]
    for number in range(max(len(left), len(right))):
        one, two = (_row(rows[number]) if number < len(rows) else "" for rows in (left, right))
        lines.append(f"{one:<{WIDTH}}  {two}")
    return {"same": False, "at": (left or right)[0][0], "before": left, "after": right, "text": lines}


def _row(row: tuple[float, str, str, str]) -> str:
    text = f"{row[0]:.3f} {row[1]} {row[2]} {row[3]}"
    return text if len(text) <= WIDTH else text[: WIDTH - 1] + "…"
