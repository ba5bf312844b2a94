# Stands in for the port's dht module: measuring blocks as long as its driver does.
import time

from world import ask


class DHT22:
    def __init__(self, pin):
        self.gpio = pin.gpio
        self.values = (0, 0)

    def measure(self):
        time.sleep_ms(268)  # the driver's own pause: 250 ms of high, 18 ms of low
        temperature, humidity = ask("dht", str(self.gpio)).split()
        self.values = (int(temperature) / 10, int(humidity) / 10)

    def temperature(self):
        return self.values[0]

    def humidity(self):
        return self.values[1]
