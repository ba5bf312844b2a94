"""tls-authority: TLS without an authority to check the broker's certificate."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.errors import Unreadable
from zapato.findings import Finding

_WIFI = '[site]\nname = "refuge"\n\n[wifi]\nname = "refuge-hall"\n\n'
_BROKER = '[mqtt]\nhost = "broker.refuge.example"\ntls  = true\n'
PEM = """-----BEGIN CERTIFICATE-----
MIIBdTCCARugAwIBAgIUdBq9oQwAAAAAAAAAAAAAAAAAAAAwCgYIKoZIzj0EAwIw
-----END CERTIFICATE-----
"""


def _find(design: Design) -> Iterator[Finding]:
    about = design.mqtt or {}
    if not about.get("tls"):
        return
    message, fix = "", ""
    if not about.get("authority"):
        message, fix = (
            "tls = true, and [mqtt] names no authority to check the broker's certificate with",
            'authority = "ca.pem" in [mqtt]',
        )
    else:
        from zapato.design.authority import authority

        try:
            authority(design)
        except Unreadable as error:
            message, fix = str(error), error.fix
    if message:
        why = "encryption alone does not protect: without a checked certificate any computer can pass for the broker."
        yield design.finding("tls-authority", "error", ("device",), message, why=why, fixes=(fix,), of="key")


RULE = DesignRule(
    code="tls-authority",
    family="network",
    severities=("error",),
    title="TLS without an authority to check the broker's certificate",
    story="""
With `tls = true` the device checks the certificate that the broker shows: it must be made out for the
broker's name, and signed by the authority whose certificate `authority` names, a PEM file in the site's
folder. It goes into the device's settings, not into update packages.
""",
    failing={"site.toml": _WIFI + _BROKER, "device.toml": device("[relay.lamp]\npin = 26")},
    mended={
        "site.toml": _WIFI + _BROKER + 'authority = "ca.pem"\n\n[time]\nzone = "Europe/Zurich"\n',
        "ca.pem": PEM,
        "device.toml": device("[relay.lamp]\npin = 26"),
    },
    find=_find,
)
