# INA219 with a 0.1 ohm shunt: continuous, 32 V and +-320 mV (datasheet, 8.6: 4 mV and 10 uV a step).
from i2c_sensor import I2cSensor


class Ina219(I2cSensor):
    props = ("voltage", "current", "power")

    def begin(self):
        self.send(0, 0x39, 0x9F)

    def register(self, at):
        self.send(at)
        raw = self.get(2)
        return raw[0] << 8 | raw[1]

    def values(self):
        volts = (self.register(2) >> 3) * 0.004  # has no sign
        shunt = self.register(1)
        amperes = (shunt - 65536 if shunt & 0x8000 else shunt) * 0.0001
        return round(volts, 3), round(amperes, 4), round(volts * amperes, 3)
