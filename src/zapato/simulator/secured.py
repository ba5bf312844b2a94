"""TLS of a live connection: the host does the handshake, so that a wrong authority or name is met at the desk.

In virtual time a handshake takes its two round trips and no more.
"""

from __future__ import annotations

import ssl


class Secured:
    """Client-side TLS between bytes that go out and bytes that come in; nothing here touches a socket."""

    def __init__(self, host: str, authority: bytes, verify: bool) -> None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.check_hostname = verify
        context.verify_mode = ssl.CERT_REQUIRED if verify else ssl.CERT_NONE
        if authority:
            context.load_verify_locations(cadata=authority)
        self._into, self._out = ssl.MemoryBIO(), ssl.MemoryBIO()
        self._tls = context.wrap_bio(self._into, self._out, server_hostname=host)

    @property
    def waiting(self) -> bool:
        """Something that came in can be read."""
        return self._tls.pending() > 0

    def came(self, data: bytes) -> None:
        """Bytes from the wire; none at its end."""
        if data:
            self._into.write(data)
        else:
            self._into.write_eof()

    def leaving(self) -> bytes:
        """Bytes for the wire."""
        return self._out.read()

    def read(self, size: int) -> bytes | None:
        """What the other side said; None where nothing whole is there. Raises ssl.SSLError."""
        try:
            return self._tls.read(size)
        except ssl.SSLWantReadError:
            return None
        except (ssl.SSLZeroReturnError, ssl.SSLEOFError):
            return b""

    def write(self, data: bytes) -> int | None:
        """How many bytes went in; None before the handshake is done. Raises ssl.SSLError."""
        try:
            return self._tls.write(data)
        except ssl.SSLWantReadError:
            return None
