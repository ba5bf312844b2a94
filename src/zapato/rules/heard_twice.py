"""heard-twice: two parts that stand for the same thing on a line or on the air."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

_BODY = '[receiver.air]\npin = 27\n\n[remote.hall]\nreceiver = "air"\ncode = "a3f012"\n\n[remote.stairs]\nreceiver = "air"\ncode = "{}"'


def _find(design: Design) -> Iterator[Finding]:
    seen: dict[tuple[str, object], str] = {}
    for part in design.parts.values():
        key = part.kind.identified_by
        value = part.values.get(key) if key else None
        bus = next(
            (
                part.linked[field.name]
                for field in part.fields
                if field.role == "bus" and field.name in part.linked
            ),
            None,
        )
        if value is None or bus is None:
            continue
        first = seen.setdefault((bus.name, value), part.id)
        if first != part.id:
            yield design.finding(
                "heard-twice",
                "error",
                (*part.path, key),
                f"{part.id} has the {key} of {first} on {bus.name}",
                why="what comes from there goes to one part.",
                fixes=(f"links may read {first} as often as they like", f"another {key}"),
            )


RULE = DesignRule(
    code="heard-twice",
    family="buses",
    severities=("error",),
    title="two parts stand for the same thing on a line or on the air",
    story="""
A remote's button is known by its code, a beacon or a meter by its address, a one-wire sensor by its serial number. Of two
parts with the same one the first would hear nothing, or both would ask the same thing.
""",
    failing=device(_BODY.format("a3f012")),
    mended=device(_BODY.format("a3f014")),
    find=_find,
)
