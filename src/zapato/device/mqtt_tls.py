# MQTT through TLS: the broker must show a certificate of the site's authority, made out for its name, and not outdated.
from binascii import unhexlify
from machine import RTC
import select
import ssl

from dates import date_of
from mqtt import Mqtt


class TlsMqtt(Mqtt):
    authority = ""  # its certificate, DER in hexadecimal digits

    def call(self):
        # The ports hold a certificate's dates against the chip's clock, which has to be told the time first.
        clock = self.d.clock
        if clock.day is None:
            self.timer = self.d.after(250, self.call)
            return
        clock.go_on()
        day, second = clock.utc, clock.second
        RTC().datetime(date_of(day) + ((day + 5) % 7, second // 3600, second // 60 % 60, second % 60, 0))
        super().call()

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
