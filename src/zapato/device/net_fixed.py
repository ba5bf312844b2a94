# Wi-Fi with an address of its own, out of the site's plan.
from net import Net


class FixedNet(Net):
    address = None  # address, mask, router, name server

    def join(self):
        self.radio(self.wlan.active, True)
        if self.address:
            self.radio(self.wlan.ifconfig, self.address)
        super().join()
