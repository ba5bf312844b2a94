# Stands in for the port's network module: a station, an access point, a cable.
import json

from world import JOINED, ask, fetch, fire, now, number, pipe

STA_IF, AP_IF = 0, 1
_PORT = ask("port")
if _PORT == "esp32":  # ports/esp32/modnetwork.h, esp_wifi_types.h
    STAT_IDLE, STAT_CONNECTING, STAT_GOT_IP = 1000, 1001, 1010
    STAT_WRONG_PASSWORD, STAT_NO_AP_FOUND = 202, 201
elif _PORT == "esp8266":  # SDK, user_interface.h
    STAT_IDLE, STAT_CONNECTING, STAT_WRONG_PASSWORD, STAT_NO_AP_FOUND, STAT_CONNECT_FAIL, STAT_GOT_IP = range(6)
else:  # cyw43.h
    STAT_IDLE, STAT_CONNECTING, STAT_GOT_IP = 0, 1, 3
    STAT_CONNECT_FAIL, STAT_NO_AP_FOUND, STAT_WRONG_PASSWORD = -1, -2, -3
AUTH_OPEN, AUTH_WPA_WPA2_PSK = 0, 4
_WHY = {"password": STAT_WRONG_PASSWORD, "absent": STAT_NO_AP_FOUND}


_country = "XX"


def country(code=None):
    # extmod/modnetwork.c, network_country
    global _country
    if code is None:
        return _country
    if len(code) != 2:
        raise ValueError
    _country = code
    ask("wifi_country", code)


def hostname(name=None):
    return name or "board"


class WLAN:
    interface = STA_IF

    def __init__(self, interface=STA_IF):
        if interface not in (STA_IF, AP_IF):
            raise ValueError
        self.interface = interface

    def active(self, on=None):
        if self.interface == AP_IF:
            return self.open(on)
        return ask("wifi_active", "" if on is None else "1" if on else "0") == "1"

    def open(self, on):
        return ask("access", "" if on is None else "1" if on else "0") == "1"

    def scan(self):
        found = []
        fetch("wifi_scan")
        for name, channel, strength, protection in json.loads(pipe.read(4000)):
            found.append((name.encode(), b"\2\0\0\0\0\1", channel, strength, protection, 0))
        return found

    def connect(self, name=None, password=None):
        ask("wifi_connect", (name or "") + "\n" + (password or ""))

    def disconnect(self):
        ask("wifi_disconnect")

    def isconnected(self):
        joined = number(JOINED)
        if now[2]:
            fire()
        return joined == 1

    def ifconfig(self, own=None):
        if own:
            ask("wifi_address", " ".join(own))
        elif self.isconnected():
            return tuple(ask("wifi_address").split())
        return ("0.0.0.0", "0.0.0.0", "0.0.0.0", "0.0.0.0")

    def status(self, what=None):
        if what == "rssi":
            return int(ask("wifi_signal"))
        if self.isconnected():
            return STAT_GOT_IP
        return _WHY.get(ask("wifi_refused"), STAT_CONNECTING)

    def config(self, *names, **values):
        if "ssid" in values:
            ask("access_named", values["ssid"] + "\n" + values.get("key", ""))


PHY_LAN8720, PHY_LAN8710, PHY_LAN8670, PHY_RTL8201 = "LAN8720", "LAN8710", "LAN8670", "RTL8201"
PHY_IP101, PHY_DP83848, PHY_KSZ8041, PHY_KSZ8081 = "IP101", "DP83848", "KSZ8041", "KSZ8081"


PHY_W5500, PHY_KSZ8851SNL, PHY_DM9051 = "W5500", "KSZ8851SNL", "DM9051"


class LAN(WLAN):
    def __init__(self, id, phy_type, phy_addr, spi=None, cs=None, int=None, mdc=None, mdio=None, power=None, ref_clk=None, ref_clk_mode=0):
        if spi:
            self.wiring = "%s %d %d %d" % (phy_type, spi.sck, cs.gpio, int.gpio)
        else:
            self.wiring = "%s %d %d %d %d" % (phy_type, phy_addr, mdc.gpio, mdio.gpio, ref_clk.gpio)

    def active(self, on=None):
        if on:
            ask("cable", self.wiring)
        return super().active()
