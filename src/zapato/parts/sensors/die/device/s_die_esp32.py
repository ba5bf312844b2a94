# How warm the chip itself is; the first of the family tells degrees Fahrenheit.
import esp32

from sensor import Sensor


class Die(Sensor):
    props = ("temperature",)

    def measure(self):
        read = getattr(esp32, "mcu_temperature", None)  # the published stubs know the first chip's only
        return (read() if read else round((esp32.raw_temperature() - 32) / 1.8, 1),)
