# MQTT through TLS: the broker must show a certificate of the site's authority, made out for its name.
from binascii import unhexlify
import select
import ssl

from mqtt import Mqtt


class TlsMqtt(Mqtt):
    authority = ""  # its certificate, DER in hexadecimal digits

    def greet(self):
        plain = self.sock
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
        context.verify_mode = ssl.CERT_REQUIRED
        context.load_verify_locations(cadata=unhexlify(self.authority))
        self.d.poller.unregister(plain)
        self.sock = context.wrap_socket(  # type: ignore
            plain,  # type: ignore
            server_hostname=self.address[0],
            do_handshake_on_connect=False,
        )
        self.d.poller.register(self.sock, select.POLLIN | select.POLLOUT)
        super().greet()
