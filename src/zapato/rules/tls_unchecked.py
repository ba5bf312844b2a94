"""tls-unchecked: TLS on a chip whose port cannot check a certificate."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.rules.tls_authority import PEM

_SITE = """[site]
name = "refuge"

[wifi]
name = "refuge-hall"

[time]
zone = "Europe/Zurich"

[mqtt]
host = "broker.refuge.example"
tls  = true
authority = "ca.pem"
"""


def _find(design: Design) -> Iterator[Finding]:
    if not (design.board and design.board.chip.port == "esp8266" and (design.mqtt or {}).get("tls")):
        return
    yield design.finding(
        "tls-unchecked",
        "error",
        ("device", "board"),
        f"tls = true, and the {design.board.chip.title} cannot check the broker's certificate",
        why=(
            "its port's TLS encrypts and takes every certificate, so anyone on the way can pass for the broker; "
            "and one record of up to 16 KiB would have to fit into a heap of 36 KiB."
        ),
        fixes=("a board with an ESP32 or RP2040", "a broker of the house's own network, without tls"),
    )


RULE = DesignRule(
    code="tls-unchecked",
    family="network",
    severities=("error",),
    title="the chip cannot check a broker's certificate",
    story="""
The ESP8266's MicroPython has a small TLS library that encrypts, and knows no certificate authorities:
any computer that answers is taken for the broker. Whoever is between device and broker could read
everything, so TLS would give no security. (MicroPython, extmod/modtls_axtls.c: no
verification; RFC 8446, section 5.1: a record holds up to 2^14 bytes.)
""",
    failing={
        "site.toml": _SITE,
        "ca.pem": PEM,
        "device.toml": device("[relay.lamp]\npin = 5", "esp8266-30pin"),
    },
    mended={"site.toml": _SITE, "ca.pem": PEM, "device.toml": device("[relay.lamp]\npin = 26")},
    find=_find,
)
