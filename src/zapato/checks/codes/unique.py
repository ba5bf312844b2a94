"""mqtt-topic-taken: two devices of a site on the same topics."""

from collections.abc import Iterator, Sequence

from zapato.checks.model import Rule, device
from zapato.design.model import Design
from zapato.findings import Finding
from zapato.lang.site import Site

_RELAY = "[relay.heater]\npin = 26"


def _among(site: Site, designs: Sequence[Design]) -> Iterator[Finding]:
    seen: dict[str, Design] = {}
    for design in designs:
        if not design.name:
            continue
        other = seen.setdefault(design.topic, design)
        if other is not design:
            own = "topic" in (design.document.data.get("mqtt") or ())
            yield design.finding(
                "mqtt-topic-taken",
                "error",
                ("mqtt", "topic") if own else ("device", "name"),
                f"the topic {design.topic} belongs to {other.document.source.name} already",
                why="two devices on one topic overwrite each other's state, and the broker throws one out when both use its name "
                "(MQTT 3.1.1, section 3.1.4: the client identifier is unique).",
                fixes=(f'another name: "{design.name}-2"',),
            )


RULE = Rule(
    code="mqtt-topic-taken",
    family="network",
    severities=("error",),
    title="another device of the site has the same topics",
    story="""
A device's topics begin with the site's and its own name. A file that was copied and kept its name
gives two devices on the same topics: each takes the other's commands, and the broker disconnects
one whenever the other connects.
""",
    failing={
        "devices/first.toml": device(_RELAY),
        "devices/second.toml": device(_RELAY),
        "site.toml": '[site]\nname = "refuge"\n',
    },
    mended={
        "devices/first.toml": device(_RELAY),
        "devices/second.toml": device(_RELAY).replace('"example"', '"second"'),
        "site.toml": '[site]\nname = "refuge"\n',
    },
    among=_among,
)
