"""ip-outside, ip-in-dhcp, ip-taken: fixed addresses that cannot work."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TYPE_CHECKING

from zapato.checks.result import CheckResult
from zapato.checks.rule import Rule, SiteRule, device
from zapato.design.design import Design
from zapato.findings import Finding, Place
from zapato.lang.site import Site
from zapato.record import record

if TYPE_CHECKING:
    from ipaddress import IPv4Address as IP
    from ipaddress import IPv4Network

    from zapato.lang.tables import LanTable


@record(frozen=True)
class _Fixed:
    """A fixed address: whose, the address or None where it is none; of a device that says it itself, or of the site's plan."""

    owner: str
    text: str
    ip: IP | None
    device: CheckResult | None = None

    def finding(self, site: Site, code: str, message: str, why: str, fix: str) -> Finding:
        """A finding where the address is written."""
        if self.device:
            own = ("ethernet", "address")
            return self.device.design.finding(code, "error", own, message, why=why, fixes=(fix,))
        place = site.document.place(("lan", "addresses", self.owner)) if site.document else Place("")
        return Finding(code, "error", place, message, why, (fix,) if fix else ())


@record(frozen=True)
class _Plan:
    """The address plan of a site."""

    network: IPv4Network | None
    dhcp: tuple[IP, IP] | None
    others: dict[IP, str]


def _ip(text: str) -> IP | None:
    from ipaddress import IPv4Address

    try:
        return IPv4Address(text)
    except ValueError:
        return None


def _fixed(site: Site, devices: Sequence[CheckResult]) -> Iterator[_Fixed]:
    for owner, text in (site.lan or {}).get("addresses", {}).items():
        yield _Fixed(owner, text, _ip(text))
    for result in devices:
        if text := result.data.get("ip-outside"):
            yield _Fixed(result.device, text, _ip(text), result)


def _own_address(design: Design) -> str | None:
    return (design.ethernet or {}).get("address")


def _network(text: str) -> IPv4Network | None:
    from ipaddress import IPv4Network

    try:
        return IPv4Network(text, strict=False)
    except ValueError:
        return None


def _plan(site: Site) -> _Plan:
    lan: LanTable = site.lan or {}
    network = _network(lan.get("network") or "") if lan else None
    ends = [_ip(end) for end in lan.get("dhcp", ())]
    dhcp = (ends[0], ends[1]) if len(ends) == 2 and ends[0] and ends[1] else None
    others = {
        ip: name
        for name, text in (("the router", lan.get("router")), ("the broker", (site.mqtt or {}).get("host")))
        if lan and (ip := _ip(text or ""))
    }
    return _Plan(network, dhcp, others)


def _unreadable(site: Site, plan: _Plan) -> Iterator[Finding]:
    """A plan that cannot be read would silence everything that is compared with it."""
    lan: LanTable = site.lan or {}
    document = site.document
    written = lan.get("network")
    if document and written and plan.network is None:
        message = f'"{written}" is no network'
        place = document.place(("lan", "network"))
        yield Finding("ip-outside", "error", place, message, "", ('address and length: "192.168.4.0/24"',))
    if document and lan.get("addresses"):
        for key, example in (("network", "192.168.4.0/24"), ("router", "192.168.4.1")):
            if not lan.get(key):
                message = f"fixed addresses need the {key}, and [lan] has none"
                why = "a device with a fixed address needs the network's size and its router."
                place = document.place(("lan", "addresses"))
                yield Finding("ip-outside", "error", place, message, why, (f'{key} = "{example}"',))
    if document and lan.get("dhcp") and plan.dhcp is None:
        message = "dhcp takes the first and the last address of the range"
        place = document.place(("lan", "dhcp"))
        yield Finding(
            "ip-outside", "error", place, message, "", ('dhcp = ["192.168.4.100", "192.168.4.199"]',)
        )


def _outside(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    plan = _plan(site)
    free = _free(plan, site, devices)
    yield from _unreadable(site, plan)
    for fixed in _fixed(site, devices):
        if fixed.ip is None:
            message = f'"{fixed.text}" of {fixed.owner} is no address'
            fix = 'four numbers of 0 to 255 with dots: "192.168.4.20"'
            yield fixed.finding(site, "ip-outside", message, "", fix)
        elif plan.network and (
            fixed.ip not in plan.network
            or fixed.ip in (plan.network.network_address, plan.network.broadcast_address)
        ):
            message = f"{fixed.ip} of {fixed.owner} is not an address of a device in {plan.network}"
            why = "nothing outside the network is reached without the router, and its first and last address are not a device's (RFC 1122, section 3.2.1.3)."
            yield fixed.finding(site, "ip-outside", message, why, next(free, ""))


def _in_dhcp(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    plan = _plan(site)
    free = _free(plan, site, devices)
    for fixed in _fixed(site, devices):
        if fixed.ip and plan.dhcp and plan.dhcp[0] <= fixed.ip <= plan.dhcp[1]:
            message = f"{fixed.ip} of {fixed.owner} lies in the range that the router gives out"
            why = f"the router gives {plan.dhcp[0]} to {plan.dhcp[1]} to any device that asks, and sooner or later this address to another device (RFC 2131, section 3.1)."
            yield fixed.finding(site, "ip-in-dhcp", message, why, next(free, ""))


def _taken(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    plan = _plan(site)
    free = _free(plan, site, devices)
    seen: dict[IP, str] = dict(plan.others)
    for fixed in _fixed(site, devices):
        if fixed.ip is None:
            continue
        other = seen.setdefault(fixed.ip, fixed.owner)
        if other != fixed.owner:
            message = f"{fixed.ip} of {fixed.owner} belongs to {other} already"
            why = "two devices with one address lose each other's packets."
            yield fixed.finding(site, "ip-taken", message, why, next(free, ""))


def _free(plan: _Plan, site: Site, devices: Sequence[CheckResult]) -> Iterator[str]:
    """Free addresses outside the range that the router gives out, each offered once."""
    used = {fixed.ip for fixed in _fixed(site, devices)} | set(plan.others)
    for ip in plan.network.hosts() if plan.network else ():
        if ip not in used and not (plan.dhcp and plan.dhcp[0] <= ip <= plan.dhcp[1]):
            yield f"a free one: {ip}"


def _site(lan: str) -> dict[str, str]:
    head = '[site]\nname = "refuge"\n\n[lan]\nnetwork = "192.168.4.0/24"\nrouter = "192.168.4.1"\ndhcp = ["192.168.4.100", "192.168.4.199"]\n'
    return {"site.toml": head + lan, "device.toml": device("[relay.heater]\npin = 26")}


_GOOD = _site('addresses = { example = "192.168.4.20" }\n')


def _rule(
    code: str,
    title: str,
    story: str,
    lan: str,
    compare: Callable[[Site, Sequence[CheckResult]], Iterator[Finding]],
) -> Rule:
    return SiteRule(
        code, "network", ("error",), title, story, _site(lan), _GOOD, compare=compare, data=_own_address
    )


RULES = (
    _rule(
        "ip-outside",
        "the address is not one of the network's",
        """
A fixed address must be one of the site's network and neither its first nor its last; otherwise
nothing reaches the device.
""",
        'addresses = { example = "192.168.5.20" }\n',
        _outside,
    ),
    _rule(
        "ip-in-dhcp",
        "the address lies in the range that the router gives out",
        """
The router hands the addresses of its DHCP range to whoever asks. A fixed address inside it works
until the router gives it to another device.
""",
        'addresses = { example = "192.168.4.120" }\n',
        _in_dhcp,
    ),
    _rule(
        "ip-taken",
        "the address belongs to something else",
        """
Two devices with the same address lose each other's packets by turns: one of the hardest faults to
find, and one of the easiest to see in a plan. The router and the broker count, too.
""",
        'addresses = { example = "192.168.4.20", other = "192.168.4.20" }\n',
        _taken,
    ),
)
