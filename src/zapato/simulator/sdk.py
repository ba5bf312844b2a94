"""What an ESP8266's SDK keeps in the last sectors of the flash, and does by itself at power-up.

Sources: SDK, wifi_set_opmode, wifi_station_set_config, wifi_softap_set_config (each writes its setting to the flash where it
changed); ports/esp8266/network_wlan.c calls them for `active`, `connect` and `config`. From memory: the layout (the last three
sectors), the factory settings (an open access point called ESP- and six digits), and that the station joins by itself.
"""

from __future__ import annotations

from dataclasses import field

from zapato.record import record

STATION, ACCESS_POINT = 1, 2
SECTORS = 3
"""Sectors at the end of the flash with the SDK's settings."""
FACTORY_NAME = "ESP-504100"


@record
class Remembered:
    """The SDK's settings; they outlive power cuts, restarts and every file system.

    Attributes:
        mode: which interfaces are on.
        station: name and password of the network that was joined last.
        access: of the board's own access point.
        changes: how often the flash was written for them.
        erased: which of the sectors are empty, counted from the end of the flash.
    """

    mode: int = ACCESS_POINT
    station: tuple[str, str] = ("", "")
    access: tuple[str, str] = (FACTORY_NAME, "")
    changes: int = 0
    erased: set[int] = field(default_factory=set[int])

    def keep(
        self,
        mode: int | None = None,
        station: tuple[str, str] | None = None,
        access: tuple[str, str] | None = None,
    ) -> None:
        """Write what differs."""
        before = (self.mode, self.station, self.access)
        self.mode = self.mode if mode is None else mode
        self.station, self.access = station or self.station, access or self.access
        if before != (self.mode, self.station, self.access):
            self.changes += 1
            self.erased.clear()

    def switch(self, interface: int, on: bool) -> None:
        """One interface on or off."""
        self.keep(self.mode | interface if on else self.mode & ~interface)

    def erase(self, sector: int) -> None:
        """One sector is erased. Which of them holds what nobody has published: only with all of them the SDK finds nothing, and takes its factory settings."""
        self.erased.add(sector)
        if len(self.erased) < SECTORS:
            return
        self.mode, self.station, self.access = ACCESS_POINT, ("", ""), (FACTORY_NAME, "")
        self.changes += 1
