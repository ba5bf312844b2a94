# What the board tells of itself.
import gc

from sensor import Sensor


class Itself(Sensor):
    props = ("uptime", "heap", "signal")

    def measure(self):
        net = self.d.net
        signal = net.radio(net.wlan.status, "rssi") if net and net.joined else None
        return self.d.uptime(), gc.mem_free(), signal
