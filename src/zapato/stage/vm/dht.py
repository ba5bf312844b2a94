# Stands in for the port's dht module.
import stage_clock
import stage_world


class DHT22:
    def __init__(self, pin):
        self.gpio = pin.gpio
        self.taken = None
        self.values = (0, 0)

    def measure(self):
        stage_clock.busy(25000)
        if self.taken is not None and stage_clock.now - self.taken < 2000:
            return
        found = [stage_world.quantity(("dht", self.gpio, name)).get() for name in ("temperature", "humidity")]
        if None in found:
            raise OSError(110)
        self.taken = stage_clock.now
        self.values = tuple(round(value * 10) / 10 for value in found)

    def temperature(self):
        return self.values[0]

    def humidity(self):
        return self.values[1]
