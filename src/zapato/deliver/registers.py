"""What the loader does through registers of the chip: ask the flash who it is, and still the loader's own watchdogs.

Sources: the chips' Technical Reference Manuals, chapters "SPI Controller" (SPI_CMD, SPI_USER, SPI_USER1, SPI_USER2, SPI_MOSI_DLEN,
SPI_MISO_DLEN, SPI_W0) and "Watchdog Timers"/"Low-Power Management" (WDTCONFIG0, WDTWPROTECT, SWD_CONF, SWD_WPROTECT), recalled from
memory; JEDEC JEP106 and the flash chips' datasheets, "Read Identification (9Fh)": the third byte is the size as a power of two.
"""

from __future__ import annotations

from zapato.record import record


@record(frozen=True)
class Spi:
    """The controller of the flash: where it is, and the places of its registers from there; `length` is 0 where SPI_USER1 has the count of bits."""

    base: int
    user: int
    user1: int
    user2: int
    length: int
    word: int


SPI = {
    "esp8266": Spi(0x60000200, 0x1C, 0x20, 0x24, 0, 0x40),
    "esp32": Spi(0x3FF42000, 0x1C, 0x20, 0x24, 0x2C, 0x80),
    "esp32s2": Spi(0x3F402000, 0x18, 0x1C, 0x20, 0x28, 0x58),
    "esp32s3": Spi(0x60002000, 0x18, 0x1C, 0x20, 0x28, 0x58),
    "esp32c3": Spi(0x60002000, 0x18, 0x1C, 0x20, 0x28, 0x58),
    "esp32c6": Spi(0x60003000, 0x18, 0x1C, 0x20, 0x28, 0x58),
}
USER_COMMAND, USER_READ, GO = 1 << 31, 1 << 28, 1 << 18
READ_ID, ID_BITS = 0x9F, 24
COMMAND_BITS = 7 << 28
"""Eight bits of command."""


def identification(chip: str) -> tuple[list[tuple[int, int]], int, int]:
    """Registers to write (address, value), the one that is 0 when it is done, and the one with the answer."""
    spi = SPI[chip]
    count = (spi.base + spi.length, ID_BITS - 1) if spi.length else (spi.base + spi.user1, (ID_BITS - 1) << 8)
    writes = [
        count,
        (spi.base + spi.user, USER_COMMAND | USER_READ),
        (spi.base + spi.user2, COMMAND_BITS | READ_ID),
        (spi.base + spi.word, 0),
        (spi.base, GO),
    ]
    return writes, spi.base, spi.base + spi.word


def flash_bytes(answer: int) -> int:
    """The size that a flash chip tells in its identification; 0 where it says nothing sensible."""
    power = answer >> 16 & 0xFF
    return 1 << power if 0x10 <= power <= 0x1C else 0


@record(frozen=True)
class Watchdogs:
    """The two watchdogs that run in the loader of a chip with USB of its own: their registers, keys and bits."""

    config: int
    guard: int
    super_config: int
    super_guard: int
    super_key: int
    super_bit: int


KEY = 0x50D83AA1
WATCHDOGS = {
    "esp32c3": Watchdogs(0x60008090, 0x600080A8, 0x600080AC, 0x600080B0, 0x8F1D312A, 1 << 31),
    "esp32s3": Watchdogs(0x60008098, 0x600080B0, 0x600080B4, 0x600080B8, 0x8F1D312A, 1 << 31),
    "esp32c6": Watchdogs(0x600B1C00, 0x600B1C18, 0x600B1C1C, 0x600B1C20, KEY, 1 << 18),
}


def stilled(chip: str) -> list[tuple[int, int]]:
    """Registers to write (address, value) so that no watchdog restarts the chip while its flash is written; empty where none runs."""
    dogs = WATCHDOGS.get(chip)
    if dogs is None:
        return []
    return [
        (dogs.guard, KEY),
        (dogs.config, 0),
        (dogs.guard, 0),
        (dogs.super_guard, dogs.super_key),
        (dogs.super_config, dogs.super_bit),
        (dogs.super_guard, 0),
    ]
