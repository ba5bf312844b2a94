"""What changes from one version of a device to another: wires, topics, links, size."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict
from typing import Any, Literal, cast

from zapato.budgets.memory import memory
from zapato.design import Design
from zapato.design.links import starts, written_actions
from zapato.record import record
from zapato.topics import topics
from zapato.wiring import wiring

Group = Literal["device", "parts", "wires", "topics", "links", "memory"]
How = Literal["added", "removed", "changed"]


@record(frozen=True)
class Change:
    """One difference.

    Attributes:
        group: what of the device.
        how: added, removed or changed.
        what: which.
        old: as text, before.
        new: as text, now.
        relied: something that others may rely on disappears or becomes another thing.
    """

    group: Group
    how: How
    what: str
    old: str = ""
    new: str = ""
    relied: bool = False

    def as_dict(self) -> dict[str, object]:
        return asdict(self)


def changes(old: Design, new: Design) -> list[Change]:
    """The differences between two designs, group by group.

    Examples:
        >>> import zapato
        >>> old, new = zapato.load("devices/porch-light.toml"), zapato.load("devices/kettle-plug.toml")
        >>> {change.group for change in zapato.diff(old, new)} >= {"device", "parts", "topics"}
        True
    """
    rows = [
        *_head(old, new),
        *_parts(old, new),
        *_compared("wires", _wires(old), _wires(new)),
        *_compared("topics", _topics(old), _topics(new), relied=True),
        *_links(old, new),
    ]
    return [*rows, *_memory(old, new)]


def _head(old: Design, new: Design) -> Iterable[Change]:
    for what, a, b in (
        ("name", old.name, new.name),
        ("version", old.version, new.version),
        ("board", old.board.id if old.board else "", new.board.id if new.board else ""),
        ("topic", old.topic if old.mqtt else "", new.topic if new.mqtt else ""),
        ("address", str((old.address or ("",))[0]), str((new.address or ("",))[0])),
    ):
        if a != b:
            how: How = "changed" if a and b else "added" if b else "removed"
            yield Change("device", how, what, a, b, relied=what in ("topic", "address") and bool(a))


def _parts(old: Design, new: Design) -> Iterable[Change]:
    """Parts that come and go, and of those that stay each key that differs."""
    for name in dict.fromkeys((*old.parts, *new.parts)):
        a, b = old.parts.get(name), new.parts.get(name)
        if a and b and a.kind is b.kind:
            one, two = _given(old, a.path), _given(new, b.path)
            yield from _compared(
                "parts", *({f"{name} {key}": _as_text(v) for key, v in table.items()} for table in (one, two))
            )
            continue
        if a:
            yield Change("parts", "removed", name, _table(old, a.path))
        if b:
            yield Change("parts", "added", name, "", _table(new, b.path))


def _table(design: Design, path: tuple[str, str]) -> str:
    keys = (f"{key} {_as_text(value)}" for key, value in sorted(_given(design, path).items()))
    return f"{path[0]}: {', '.join(keys)}"


def _given(design: Design, path: tuple[str, str]) -> Mapping[str, Any]:
    table = design.document.data.get(path[0], {})
    return cast(Mapping[str, Any], table.get(path[1], {}) if isinstance(table, dict) else {})


def _as_text(value: object) -> str:
    if isinstance(value, list):
        return "[" + ", ".join(_as_text(item) for item in cast(list[object], value)) + "]"
    return str(value).lower() if isinstance(value, bool) else str(value)


def _wires(design: Design) -> dict[str, str]:
    ends: dict[str, str] = {}
    for wire in wiring(design).wires:
        at = wire.start + (f" through {wire.through}" if wire.through else "")
        ends[wire.end] = f"{ends[wire.end]}, {at}" if wire.end in ends else at
    return ends


def _topics(design: Design) -> dict[str, str]:
    return {
        topic.name: f"{topic.payload}{', retained' if topic.retained else ''}"
        for topic in topics(design)
        if topic.of != "heard"
    }


def _compared(
    group: Group, old: Mapping[str, str], new: Mapping[str, str], *, relied: bool = False
) -> Iterable[Change]:
    for name in dict.fromkeys((*old, *new)):
        a, b = old.get(name), new.get(name)
        if a == b:
            continue
        how: How = "added" if a is None else "removed" if b is None else "changed"
        yield Change(group, how, name, a or "", b or "", relied=relied and a is not None)


def _links(old: Design, new: Design) -> Iterable[Change]:
    """Links by what they say: one that only moved is the same."""
    a, b = _written(old), _written(new)
    left, right = [row for row in a if row not in b], [row for row in b if row not in a]
    for gone in list(left):
        same = next((other for other in right if starts(other) == starts(gone)), None)
        if same:
            left.remove(gone)
            right.remove(same)
            differ = [key for key in {**gone, **same} if gone.get(key) != same.get(key)]
            one, two = ({key: row[key] for key in differ if key in row} for row in (gone, same))
            yield Change("links", "changed", starts(gone), _short(one) or "-", _short(two) or "-")
    yield from (Change("links", "removed", starts(row), _short(row)) for row in left)
    yield from (Change("links", "added", starts(row), "", _short(row)) for row in right)


def _written(design: Design) -> list[dict[str, Any]]:
    rows = cast(Sequence[dict[str, Any]], design.document.data.get("link", []))
    return [dict(row) for row in rows] if isinstance(rows, list) else []


def _short(row: Mapping[str, Any]) -> str:
    acts = "; ".join(written_actions(row))
    rest = ", ".join(
        f"{key} {_as_text(value)}" for key, value in row.items() if key not in ("when", "do", "at")
    )
    return f"{acts} ({rest})" if acts and rest else acts or rest


def _memory(old: Design, new: Design) -> Iterable[Change]:
    a, b = memory(old), memory(new)
    if a and b:
        for what, x, y in (("heap", a.heap, b.heap), ("flash", a.flash, b.flash)):
            if abs(x - y) >= 51:  # a twentieth of a KiB
                yield Change(
                    "memory",
                    "changed",
                    what,
                    f"{x / 1024:.1f} KiB",
                    f"{y / 1024:.1f} KiB ({(y - x) / 1024:+.1f})",
                )


Row = tuple[float, str, str, str]
"""Of a trace: s, what, name, value."""
COMPARED = ("pin", "mqtt", "act", "power", "net", "lights", "message")
"""What of a trace is compared: not what only measures, prints or judges."""


def first_difference(old: Sequence[Row], new: Sequence[Row]) -> int | None:
    """Where two traces part, as an index into both; None where they are the same."""
    for at, (x, y) in enumerate(zip(old, new, strict=False)):
        if x != y:
            return at
    return None if len(old) == len(new) else min(len(old), len(new))


def plain_rows(rows: Sequence[Mapping[str, Any]], design: Design) -> list[Row]:
    """A trace with pins called after their parts, so that one that moved is the same; without vitals."""
    names = {
        f"GPIO{use.pin.gpio}": use.part.name
        if len(use.part.pins) == 1
        else f"{use.part.name} {use.need.field}"
        for use in design.uses
    }
    compared = (r for r in rows if r["what"] in COMPARED and not str(r["name"]).endswith("/vitals"))
    plain = [
        (r["t"] / 1000, str(r["what"]), names.get(str(r["name"]), str(r["name"])), str(r["value"]))
        for r in compared
    ]
    start = [row for row in plain if row[0] == 0]
    return [*sorted(start), *plain[len(start) :]]
