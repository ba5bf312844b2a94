"""network-missing: a broker is given and no network leads to it."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

_RELAY = "[relay.heater]\npin = 26"
_BROKER = '[site]\nname = "refuge"\n\n[mqtt]\nhost = "192.168.4.2"\n'


def _find(design: Design) -> Iterator[Finding]:
    if design.mqtt is None or design.wifi is not None or design.ethernet is not None:
        return
    yield design.finding(
        "network-missing",
        "warning",
        ("device",),
        f"{design.name} knows a broker and has no network to reach it",
        why="without [wifi] or [ethernet] the device runs alone: nothing is published, nothing is heard.",
        fixes=("[wifi] with name and password, in site.toml or in this file",),
        of="key",
    )


RULE = DesignRule(
    code="network-missing",
    family="network",
    severities=("warning",),
    title="a broker is given and no network leads to it",
    story="""
The site or the device names an MQTT broker, and neither has a [wifi] or [ethernet] table. The
firmware then runs without a network, in silence. A device that is meant to run alone needs no
[mqtt].
""",
    failing={"site.toml": _BROKER, "device.toml": device(_RELAY)},
    mended={"site.toml": _BROKER + '\n[wifi]\nname = "refuge-hall"\n', "device.toml": device(_RELAY)},
    find=_find,
)
