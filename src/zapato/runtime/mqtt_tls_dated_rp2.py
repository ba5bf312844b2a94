# MQTT through TLS on a port that looks at a certificate's dates, too.
from machine import RTC

from clock import day_of, year_of
from mqtt_tls import TlsMqtt


class DatedTlsMqtt(TlsMqtt):
    def call(self):
        # They are held against the chip's clock, which has to be told the time first.
        clock = self.d.clock
        if clock.day is None:
            self.timer = self.d.after(1000, self.call)
            return
        clock.go_on()
        day = clock.utc
        year, month = year_of(day), 12
        while day_of(year, month, 1) > day:
            month -= 1
        second = clock.second
        RTC().datetime(
            (year, month, day - day_of(year, month, 1) + 1, (day + 5) % 7, second // 3600, second // 60 % 60, second % 60, 0)
        )
        super().call()
