"""heard-twice: two parts that stand for the same thing on the air."""

from collections.abc import Iterator

from zapato.checks.model import Rule, device
from zapato.design.model import Design
from zapato.findings import Finding

_BODY = '[receiver.air]\npin = 27\n\n[remote.hall]\nreceiver = "air"\ncode = "a3f012"\n\n[remote.stairs]\nreceiver = "air"\ncode = "{}"'


def _find(design: Design) -> Iterator[Finding]:
    seen: dict[tuple[str, object], str] = {}
    for kind, key in (("beacon", "address"), ("remote", "code")):
        for part in design.of_kind(kind):
            place = (kind, part.values.get(key))
            if place[1] is None:
                continue
            first = seen.setdefault(place, part.id)
            if first != part.id:
                yield design.finding(
                    "heard-twice",
                    "error",
                    (*part.path, key),
                    f"{part.id} has the {key} of {first}",
                    why="what comes from there goes to one part.",
                    fixes=(f"links may read {first} as often as they like", f"another {key}"),
                )


RULE = Rule(
    code="heard-twice",
    family="buses",
    severities=("error",),
    title="two parts stand for the same remote or beacon",
    story="""
A remote's button is known by its code, a beacon by its address. Of two parts with the same one the first would hear
nothing.
""",
    failing=device(_BODY.format("a3f012")),
    mended=device(_BODY.format("a3f014")),
    find=_find,
)
