# Stands in for the port's dht module: measuring blocks as long as its driver does.
from world import ask


class DHT22:
    def __init__(self, pin):
        self.gpio = pin.gpio
        self.values = (0, 0)

    def measure(self):
        temperature, humidity = ask("dht", str(self.gpio)).split()
        self.values = (int(temperature) / 10, int(humidity) / 10)

    def temperature(self):
        return self.values[0]

    def humidity(self):
        return self.values[1]
