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
        super().__init__(d, name, every, change, gpio, 1)

    def measure(self):
        volts = super().measure()[0]
        if not 0.01 < volts < self.supply - 0.01:
            raise ValueError("its wire is open or shorted")
        other = self.supply - volts
        ohm = self.series * (volts / other if self.to_ground else other / volts)
        return (round(1 / (1 / 298.15 + math.log(ohm / self.nominal) / self.beta) - 273.15, 1),)
