# An Ethernet chip on a controller for SPI.
import network
from machine import SPI, Pin


def on_spi(phy, number, sck, mosi, miso, select, interrupt):
    return getattr(network, "LAN")(
        0,
        spi=SPI(number, baudrate=20000000, sck=Pin(sck), mosi=Pin(mosi), miso=Pin(miso)),
        cs=Pin(select, Pin.OUT, value=1),
        int=Pin(interrupt),
        phy_type=getattr(network, "PHY_" + phy),
        phy_addr=0,
    )
