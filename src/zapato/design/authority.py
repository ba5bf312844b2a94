"""The certificate that says who vouches for the broker: a PEM file of the site (RFC 7468)."""

from __future__ import annotations

import re

from zapato.design.design import Design
from zapato.errors import Unreadable
from zapato.lang.source import inside, shown
from zapato.regex import regex

MOST = 4096
"""Bytes that a certificate may have: one of 4096-bit RSA has about 1,400."""
_PEM = regex(rb"-----BEGIN CERTIFICATE-----\s+(.*?)\s+-----END CERTIFICATE-----", re.DOTALL)


def authority(design: Design) -> bytes:
    """The certificate, DER. Raises Unreadable, with the way out."""
    import base64

    named = (design.mqtt or {}).get("authority") or ""
    root = design.site.root or design.document.source.path.absolute().parent
    path = inside(root / named, root)
    try:
        text = path.read_bytes()
    except OSError:
        raise Unreadable(f"{shown(path)} cannot be read", "authority names a file beside site.toml") from None
    certificates = _PEM.findall(text)
    if len(certificates) != 1:
        what = "holds no certificate" if not certificates else f"holds {len(certificates)} certificates"
        raise Unreadable(
            f"{shown(path)} {what}",
            "give one certificate, between -----BEGIN CERTIFICATE----- and -----END CERTIFICATE-----",
        )
    try:
        der = base64.b64decode(b"".join(certificates[0].split()), validate=True)
    except ValueError:
        raise Unreadable(f"{shown(path)} is damaged", "copy it again, whole") from None
    if not der.startswith(b"\x30") or len(der) > MOST:
        raise Unreadable(
            f"{shown(path)} is no certificate of at most {MOST} bytes", "give the root certificate alone"
        )
    return der
