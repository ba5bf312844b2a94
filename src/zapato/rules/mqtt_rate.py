"""mqtt-rate: a device, or a site, says more than brokers and hubs like."""

from collections.abc import Iterator, Sequence

from zapato.budgets.traffic import DEVICE, SITE, Traffic, traffic
from zapato.checks.result import CheckResult
from zapato.checks.rule import SiteRule
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.site import Site
from zapato.lang.units import shown_time

_SITE = '[site]\nname = "refuge"\n\n[wifi]\nname = "refuge-hall"\n\n[mqtt]\nhost = "192.168.4.2"\n'


def _rate(design: Design) -> float | None:
    said = traffic(design)
    return said.rate if said else None


def _compare(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    rates = [(device, float(device.data.get("mqtt-rate", 0))) for device in devices]
    for device_rate, rate in rates:
        if rate > DEVICE and (said := traffic(device_rate.design)):
            yield _device(device_rate.design, said)
    together = sum(rate for _, rate in rates)
    if together > SITE and site.document:
        yield Finding(
            "mqtt-rate",
            "warning",
            site.document.place(("mqtt",), "key"),
            f"the {len(devices)} devices of this site say up to {together:.0f} values a second, and from {SITE:g} on small brokers and hubs fall behind",
            "every subscriber gets each of them, and a hub keeps them all.",
            ("a longer `every`, a `change` that has to be passed, or `apart` in [mqtt]",),
        )


def _device(design: Design, traffic: Traffic) -> Finding:
    topic, rate = max(traffic.topics, key=lambda row: row[1])
    part = design.parts.get(topic.partition("/")[0])
    return design.finding(
        "mqtt-rate",
        "warning",
        (*part.path, "every") if part else ("device",),
        f"{design.name} says up to {traffic.rate:.0f} values a second, {topic} every {shown_time(1000 / rate)}; from {DEVICE:g} on small brokers and hubs fall behind",
        why="every subscriber gets each of them, and a hub keeps them all.",
        fixes=("a longer `every`", "a `change` that has to be passed", 'apart = "1s" in [mqtt]'),
    )


_BODY = 'zapato = 1\n\n[device]\nname = "example"\nboard = "esp32-38pin"\n\n'
_FAST = "".join(
    f'[sensor.s{n}]\nchip = "analog"\npin = {pin}\nevery = "{{every}}"\n'
    for n, pin in enumerate((32, 33, 34, 35))
)

RULE = SiteRule(
    code="mqtt-rate",
    family="network",
    severities=("warning",),
    title="more messages than small brokers and hubs carry",
    story="""
A value a second from each of four sensors is four messages a second, and forty devices like that are 160. The broker passes them to every
subscriber, the hub writes each into its history. Counted is what is said at the most: one message for each value and `every`; with a
`change` that has to be passed it is less. A device that wants to see quickly and say seldom takes a short `every` and `apart`.
""",
    failing={"site.toml": _SITE, "device.toml": _BODY + _FAST.format(every="200ms")},
    mended={"site.toml": _SITE, "device.toml": _BODY + _FAST.format(every="5s")},
    compare=_compare,
    data=_rate,
)
