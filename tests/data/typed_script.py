"""A user's script against the installed package."""

from __future__ import annotations

from pathlib import Path

import zapato
from zapato.errors import ZapatoError
from zapato.extend import Design, DesignRule, Driver, Finding, Kind, Need, Part, Property, device, pin


def main(path: Path) -> int:
    report = zapato.check(path)
    messages: list[str] = [f"{each.place}: {each.message}" for each in report]
    design = zapato.load(path)
    names: list[str] = list(design.parts)
    fitted = zapato.fit(design)
    try:
        built = zapato.build(design, Path("out"))
        rehearsal = zapato.rehearse(design)
    except ZapatoError as error:
        print(error, error.fix)
        return 1
    size: int = built.size
    passed: bool = rehearsal.passed
    amps = [row.value for row in zapato.budget(design).of("supply")]
    topics = [topic.name for topic in zapato.list_topics(design)]
    wires = zapato.wires(design)
    host = (design.mqtt or {}).get("host")
    print(messages, names, fitted.ok, size, passed, amps, topics, wires, host)
    return 0


class BellKind(Kind):
    """A bell."""

    name = "bell"
    help = "a bell"
    fields = (pin("pin", "the pin that rings it"),)
    example = "[bell.door]\npin = 26"

    def properties(self, part: Part) -> dict[str, Property]:
        return {"on": Property("boolean", settable=True)}

    def needs(self, part: Part) -> list[Need]:
        return [Need("pin", "output", active="high")]

    def driver(self, part: Part) -> Driver | None:
        return Driver("bell", "Bell", (part.at("pin"),)) if "pin" in part.pins else None


KIND = BellKind()


def find(design: Design) -> list[Finding]:
    return [design.finding("bell-late", "note", part.path, "late") for part in design.with_role("bell")]


RULE = DesignRule(
    code="bell-late",
    family="reading",
    severities=("note",),
    title="late",
    story="late",
    failing=device(""),
    mended=device(""),
    find=find,
)
