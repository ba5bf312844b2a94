# DHT11, through the port's own dht module.
import dht
from machine import Pin

from sensor import Sensor


class Dht11(Sensor):
    props = ("temperature", "humidity")

    def __init__(self, d, name, every, change, gpio):
        self.chip = dht.DHT11(Pin(gpio))
        super().__init__(d, name, every, change)

    def first(self):
        return 2000

    def measure(self):
        self.chip.measure()
        return self.chip.temperature(), self.chip.humidity()
