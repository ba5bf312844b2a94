# DHT11 and DHT22 (AM2302), through the port's own dht module.
import dht
from machine import Pin

from sensor import Sensor


class Dht(Sensor):
    props = ("temperature", "humidity")

    def __init__(self, d, name, every, change, gpio, chip):
        self.chip = getattr(dht, chip)(Pin(gpio))
        super().__init__(d, name, every, change)

    def first(self):
        return 2000  # the chip needs two seconds after power-up

    def measure(self):
        self.chip.measure()
        return self.chip.temperature(), self.chip.humidity()
