"""More places where a name can be wrong: accepted codes, members of a group, two buses' roles."""

from collections.abc import Iterator

from zapato.checks.rings import rings
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.fields import nearest

_GUARD = (
    '[sensor.cabinet]\nchip = "dht22"\npin = 27\n\n[relay.heater]\npin = 26\n\n'
    '[guard.hot]\nwhen = "cabinet.temperature > 75"\noff = ["{off}"]'
)


def _accepted(design: Design) -> Iterator[Finding]:
    from zapato.checks.registry import rules

    for part in design.parts.values():
        codes = part.values.get("accept", ())
        unknown = [code for code in codes if code not in rules()]
        for code in unknown:
            message = f"no finding has the code {code}, so there is nothing to accept"
            yield design.finding(
                "accept-unknown",
                "warning",
                (*part.path, "accept"),
                message,
                fixes=nearest(code, list(rules())),
            )
        if codes and not part.values.get("because"):
            message = f"{part.id} accepts {', '.join(codes)} without saying why"
            yield design.finding(
                "accept-unknown",
                "warning",
                (*part.path, "accept"),
                message,
                fixes=('because = "…", for whoever reads this next',),
            )


def _members(design: Design) -> Iterator[Finding]:
    groups = {part.name: part.get("of", ()) for part in design.with_role("group")}
    ring_of = {name: number for number, ring in enumerate(rings(groups)) for name in ring}
    for part in design.with_role("group"):
        for name in part.get("of", ()):
            member = design.parts.get(name)
            if member is None:
                continue
            if part.name in ring_of and ring_of.get(name) == ring_of[part.name]:
                message = f"{part.name} would be part of itself" + (
                    f", through {name}" if member is not part else ""
                )
            elif "on" not in member.properties:
                message = f"{name} cannot be part of a group"
            else:
                continue
            why = "a group switches its parts on and off, so each must be another one that can be on."
            yield design.finding("group-member", "error", (*part.path, "of"), message, why=why)


def _guarded(design: Design) -> Iterator[Finding]:
    for part in design.with_role("guard"):
        listed = isinstance(design.document.data["guard"][part.name].get("off"), list)
        for index, name in enumerate(part.get("off", ())):
            path = (*part.path, "off", index) if listed else (*part.path, "off")
            held = design.parts.get(name)
            if held is None or ("on" in held.properties and "off" in held.kind.actions_of(held)):
                continue
            message = f"{name} is no output that a guard can hold off"
            why = "a guard switches off what drives a pin, and refuses to switch it on again."
            yield design.finding("guard-output", "error", path, message, why=why)


RULES = (
    DesignRule(
        code="accept-unknown",
        family="reading",
        severities=("warning",),
        title="an accepted code that does not exist, or is accepted without a reason",
        story="""
accept = ["pin-console"] silences findings of that code on one part, and because = "…" says why, for
whoever reads the file next. The report still counts them. A code that does not exist silences
nothing.
""",
        failing=device(
            '[relay.heater]\npin = 26\naccept = ["pin-consol"]\nbecause = "loaded before it is wired"'
        ),
        mended=device(
            '[relay.heater]\npin = 26\naccept = ["pin-console"]\nbecause = "loaded before it is wired"'
        ),
        find=_accepted,
    ),
    DesignRule(
        code="group-member",
        family="reading",
        severities=("error",),
        title="a part that cannot be in a group",
        story="""
A group switches several parts as one, so each of them must be one that can be on: a relay, an LED,
a dimmer, a strip, a flag or another group.
""",
        failing=device(
            '[relay.left]\npin = 26\n\n[button.start]\npin = 33\npull = "up"\n\n[group.both]\nof = ["left", "start"]'
        ),
        mended=device(
            '[relay.left]\npin = 26\n\n[relay.right]\npin = 25\n\n[group.both]\nof = ["left", "right"]'
        ),
        find=_members,
    ),
    DesignRule(
        code="guard-output",
        family="reading",
        severities=("error",),
        title="a guard holds off what is no output",
        story="""
A guard names the outputs that must be off over its limit: relays, LEDs, dimmers, strips, or a group of
them. A flag, a number or an input drives nothing, so there is nothing to hold.
""",
        failing=device(_GUARD.format(off="door") + '\n\n[contact.door]\npin = 33\npull = "up"'),
        mended=device(_GUARD.format(off="heater")),
        find=_guarded,
    ),
)
