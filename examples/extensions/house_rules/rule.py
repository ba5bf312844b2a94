"""A rule of the house: what people see in the hub has a name for people."""

from collections.abc import Iterator

from zapato.extend import Design, DesignRule, Finding, device


def _find(design: Design) -> Iterator[Finding]:
    for part in design.parts.values():
        if "on" in part.properties and not part.values.get("label"):
            yield design.finding(
                "house-label", "note", part.path, f"{part.id} has no label", fixes=('label = "…"',), of="key"
            )


RULE = DesignRule(
    code="house-label",
    family="reading",
    severities=("note",),
    title="what can be switched has no label",
    story="People who read the hub know the thing by its label, not by the name of its table.",
    failing=device("[relay.lamp]\npin = 26"),
    mended=device('[relay.lamp]\npin = 26\nlabel = "Lamp at the door"'),
    find=_find,
)
