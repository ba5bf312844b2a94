# A thermistor in a divider: the beta equation around 25 degrees.
import math

from s_analog import Analog


class Ntc(Analog):
    props = ("temperature",)

    def __init__(self, d, name, every, change, gpio, nominal, beta, series, supply, to_ground):
        self.nominal = nominal
        self.beta = beta
        self.series = series
        self.supply = supply
        self.to_ground = to_ground
        # What an open or a shorted wire reads: some chips tell neither 0 V nor their supply. A converter chip tells both.
        least, most = (0, supply) if isinstance(gpio, tuple) else (d.floor, min(supply, d.full))
        self.least = least + 0.01
        self.most = most * 0.99
        super().__init__(d, name, every, change, gpio, 1)

    def measure(self):
        volts = super().measure()[0]
        if not self.least < volts < self.most:
            raise ValueError("its wire is open or shorted")
        other = self.supply - volts
        ohm = self.series * (volts / other if self.to_ground else other / volts)
        return (round(1 / (1 / 298.15 + math.log(ohm / self.nominal) / self.beta) - 273.15, 1),)
