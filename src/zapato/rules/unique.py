"""device-taken, mqtt-topic-taken: two devices of a site with one name, or on the same topics."""

from collections.abc import Iterator, Sequence

from zapato.checks.result import CheckResult
from zapato.checks.rule import SiteRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.site import Site

_RELAY = "[relay.heater]\npin = 26"


def _named(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    seen: dict[str, CheckResult] = {}
    for result in devices:
        other = seen.setdefault(result.device, result)
        if result.device and other is not result:
            yield result.design.finding(
                "device-taken",
                "error",
                ("device", "name"),
                f"the name {result.device} belongs to {other.place_in_messages} already",
                why="the name is the device's identity: its update key, its address, its folder of results and its name at the broker hang on it.",
                fixes=(f'another name: "{result.device}-2"',),
            )


def _compare(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    seen: dict[str, CheckResult] = {}
    for result in devices:
        topic: str = result.data.get("mqtt-topic-taken", "")
        other = seen.setdefault(topic, result) if topic else result
        if other is not result and other.device != result.device:  # else device-taken says it
            own = "topic" in (result.design.document.data.get("mqtt") or ())
            yield result.design.finding(
                "mqtt-topic-taken",
                "error",
                ("mqtt", "topic") if own else ("device", "name"),
                f"the topic {topic} belongs to {other.place_in_messages} already",
                why="two devices on one topic overwrite each other's state, and the broker throws one out when both use its name "
                "(MQTT 3.1.1, section 3.1.4: the client identifier is unique).",
                fixes=(f'another name: "{result.device}-2"',),
            )


def _topic(design: Design) -> str | None:
    return design.topic if design.name else None


_NETWORK = '[site]\nname = "refuge"\n\n[wifi]\nname = "refuge-hall"\n'
_OWN_TOPIC = '\n[mqtt]\nhost = "192.168.4.2"\ntopic = "refuge/lamp"\n'

RULES = (
    SiteRule(
        code="device-taken",
        family="network",
        severities=("error",),
        title="another device of the site has the same name",
        story="""
A device is known by its name: to the broker, in the address plan, by its update key and in its
folder of results. A file that was copied and kept its name gives two devices that cannot be told
apart.
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
        compare=_named,
    ),
    SiteRule(
        code="mqtt-topic-taken",
        family="network",
        severities=("error",),
        title="another device of the site has the same topics",
        story="""
A device's topics begin with the site's and its own name, or with what mqtt.topic says. On the same
topics two devices obey each other's commands, and the broker disconnects one whenever the other
connects.
""",
        failing={
            "devices/first.toml": device(_RELAY) + _OWN_TOPIC,
            "devices/second.toml": device(_RELAY).replace('"example"', '"second"') + _OWN_TOPIC,
            "site.toml": _NETWORK,
        },
        mended={
            "devices/first.toml": device(_RELAY) + _OWN_TOPIC,
            "devices/second.toml": device(_RELAY).replace('"example"', '"second"'),
            "site.toml": _NETWORK,
        },
        compare=_compare,
        data=_topic,
    ),
)
