"""wifi-name, wifi-password, wifi-band: a network that the device can never join."""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from zapato.checks.result import CheckResult
from zapato.checks.rule import SiteRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.lang.site import Site

_RELAY = "[relay.heater]\npin = 26"
Wrong = tuple[str, str, str, str]
"""The key, the message, why and the way out."""
Judge = Callable[[Mapping[str, Any]], Wrong | None]
"""What is wrong with a [wifi] table; None where it is right."""


def _compare(code: str, judge: Judge) -> Callable[[Site, Sequence[CheckResult]], Iterator[Finding]]:
    """Judge the site's table once, and tell what was found of each device's own."""

    def find(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
        problem = judge(site.wifi) if site.wifi else None
        if problem and site.document:
            key, message, why, fix = problem
            yield Finding(code, "error", site.document.place(("wifi", key)), message, why, (fix,))
        for result in devices:
            if own := result.data.get(code):
                key, message, why, fix = own
                yield result.design.finding(code, "error", ("wifi", key), message, why=why, fixes=(fix,))

    return find


def _own(judge: Judge) -> Callable[[Design], Wrong | None]:
    """What is wrong with a device's own table."""
    return lambda design: judge(design.wifi) if design.wifi and "wifi" in design.document.data else None


def _name(table: Mapping[str, Any]) -> Wrong | None:
    size = len(str(table.get("name") or "").encode())
    if size <= 32:
        return None
    why = "a network's name has at most 32 bytes (IEEE 802.11, SSID element); letters beyond a-z can take two or more."
    return "name", f"the network's name has {size} bytes", why, "the name exactly as the router shows it"


def _password(table: Mapping[str, Any]) -> Wrong | None:
    way_out = "the passphrase as the router shows it; leave it out for an open network"
    return _passphrase(table, "password", "the network's password", way_out) or _passphrase(
        table, "access_password", "the password of the device's own access point", "8 to 63 plain characters"
    )


def _passphrase(table: Mapping[str, Any], key: str, whose: str, way_out: str) -> Wrong | None:
    password: str = table.get(key) or ""
    if not password or re.fullmatch(r"[\x20-\x7e]{8,63}|[0-9a-fA-F]{64}", password):
        return None
    what = f"has {len(password)} characters" if password.isascii() else "has characters beyond plain ASCII"
    why = "a WPA passphrase has 8 to 63 printable ASCII characters (IEEE 802.11, Annex J.4)."
    return key, f"{whose} {what}, and no access point takes it", why, way_out


def _band(table: Mapping[str, Any]) -> Wrong | None:
    if table.get("band") != "5GHz":
        return None
    why = "the radios of all chips in the catalogue receive 2.4 GHz only (their datasheets, Wi-Fi)."
    return (
        "band",
        "the network is on 5 GHz, and the device will not even see it",
        why,
        "the router's 2.4 GHz network, often a name of its own",
    )


def _files(wifi: str) -> dict[str, str]:
    return {
        "site.toml": f'[site]\nname = "refuge"\n\n[wifi]\n{wifi}\n',
        "secrets.toml": 'wifi = "short"\nbetter = "chamois on the ridge"\n',
        "device.toml": device(_RELAY),
    }


RULES = (
    SiteRule(
        code="wifi-name",
        family="network",
        severities=("error",),
        title="no network can have this name",
        story="""
The name of a network (SSID) has 1 to 32 bytes; a longer one is a slip. Without a name the device asks for its
network on its own access point.
""",
        failing=_files('name = "the network of the mountain refuge, first floor"'),
        mended=_files('name = "refuge-hall"'),
        compare=_compare("wifi-name", _name),
        data=_own(_name),
    ),
    SiteRule(
        code="wifi-password",
        family="network",
        severities=("error",),
        title="no access point takes this password",
        story="""
A WPA passphrase has 8 to 63 printable characters. With any other the device tries for ever and
never says why. The password itself is never printed.
""",
        failing=_files('name = "refuge-hall"\npassword = { secret = "wifi" }'),
        mended=_files('name = "refuge-hall"\npassword = { secret = "better" }'),
        compare=_compare("wifi-password", _password),
        data=_own(_password),
    ),
    SiteRule(
        code="wifi-band",
        family="network",
        severities=("error",),
        title="the network is on a band that the device cannot hear",
        story="""
These chips hear 2.4 GHz and nothing else. Where the router has one name for both bands, that is
fine; a network on 5 GHz alone does not exist for the device.
""",
        failing=_files('name = "refuge-hall"\nband = "5GHz"'),
        mended=_files('name = "refuge-hall"\nband = "2.4GHz"'),
        compare=_compare("wifi-band", _band),
        data=_own(_band),
    ),
)
