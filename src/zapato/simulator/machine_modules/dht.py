# Stands in for the port's dht module: measuring blocks as long as its driver does.
import time

from world import ask


class DHT11:
    def __init__(self, pin):
        self.gpio = pin.gpio
        self.values = (0, 0)

    def measure(self):
        time.sleep_ms(268)  # the driver's own pause: 250 ms of high, 18 ms of low
        found = ask("dht", str(self.gpio)).split()
        if not found:
            raise Exception("checksum error")  # as drivers/dht/dht.py has it
        temperature, humidity = found
        self.values = self.scaled(int(temperature), int(humidity))

    def scaled(self, temperature, humidity):
        return temperature // 10, humidity // 10

    def temperature(self):
        return self.values[0]

    def humidity(self):
        return self.values[1]


class DHT22(DHT11):
    def scaled(self, temperature, humidity):
        return temperature / 10, humidity / 10
