# The chip's own Ethernet controller, and a PHY on RMII.
import network
from machine import Pin


def rmii(phy, at, mdc, mdio, power, clock, clock_out):
    return getattr(network, "LAN")(  # the published stubs know it in part only
        0,
        mdc=Pin(mdc),
        mdio=Pin(mdio),
        power=None if power is None else Pin(power),
        ref_clk=Pin(clock),
        ref_clk_mode=Pin.OUT if clock_out else Pin.IN,
        phy_type=getattr(network, "PHY_" + phy),
        phy_addr=at,
    )
