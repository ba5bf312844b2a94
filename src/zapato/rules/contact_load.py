"""contact-load: a relay switches more than its contact bears."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding


def _find(design: Design) -> Iterator[Finding]:
    for part in design.parts.values():
        load, bears = part.values.get("load"), part.values.get("contact")
        if load and bears and load > bears:
            yield design.finding(
                "contact-load",
                "error",
                (*part.path, "load"),
                f"{part.id} switches {load:g} A, and its contact bears {bears:g} A",
                why="a contact that carries more heats up, and may weld: then the load stays on whatever the program does.",
                fixes=(f"a relay or contactor for {load:g} A and more", "less on this contact"),
            )


_RELAY = '[relay.boiler]\npin = 26\nswitches = "230V"\ncontact = "10A"\nload = "{}"'

RULE = DesignRule(
    code="contact-load",
    family="electrical",
    severities=("error",),
    title="a relay switches more than its contact bears",
    story="""
`contact` says what the contact is made for, as printed on the relay, and `load` what it switches; where both stand they are compared.
The figure on a relay is for heaters and lamps with a filament: motors, transformers and power supplies draw many times as much for a
moment, and their load should stay at a third of it.
""",
    failing=device(_RELAY.format("13A")),
    mended=device(_RELAY.format("8A")),
    find=_find,
)
