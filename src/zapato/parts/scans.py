"""What a scan of a bus found, and what it may be: the chips that Zapato knows, by their addresses."""

from __future__ import annotations

from collections.abc import Iterator

from zapato.parts.kind import Kind, Part, ScanEntry


def on_i2c(bus: Part, text: str) -> Iterator[ScanEntry]:
    """Addresses such as 0x76 that answered on an I2C bus."""
    for word in text.split():
        try:
            address = int(word, 16)
        except ValueError:
            continue
        if 0 < address < 128:
            may_be = tuple(chip for chip in _chips("i2c") if address in chip[2])
            keys = {"bus": bus.name, "address": address}
            yield ScanEntry(f"0x{address:02x}", keys, tuple((kind, chip) for kind, chip, _ in may_be))


def on_onewire(bus: Part, text: str) -> Iterator[ScanEntry]:
    """Serial numbers that answered on a one-wire bus; the first byte is the chip's family."""
    from zapato.parts.sensors import chip, chip_names

    for word in text.split():
        try:
            serial = bytes.fromhex(word)
        except ValueError:
            continue
        if len(serial) == 8:
            known = [name for name in chip_names() if chip(name).family == serial[0]]
            yield ScanEntry(
                word.lower(), {"bus": bus.name, "serial": word.lower()}, tuple(("sensor", n) for n in known)
            )


def on_radio(radio: Part, text: str) -> Iterator[ScanEntry]:
    """Addresses that were heard over Bluetooth LE."""
    for word in text.split():
        if len(word) == 17:
            yield ScanEntry(word, {"radio": radio.name, "address": word}, (("beacon", ""),))


def on_remotes(receiver: Part, text: str) -> Iterator[ScanEntry]:
    """Codes that came over 433 MHz."""
    for word in text.split():
        if len(word) == 6:
            yield ScanEntry(word, {"receiver": receiver.name, "code": word}, (("remote", ""),))


def _chips(bus: str) -> Iterator[tuple[str, str, tuple[int, ...]]]:
    """Every kind and chip that can hang on such a bus, with the addresses that it can have."""
    from zapato.parts import kinds

    for kind in kinds():
        for chip in _names(kind):
            part = Part(kind, "x", {"chip": chip})
            if kind.bus(part) == bus:
                yield kind.name, chip, kind.addresses(part)


def _names(kind: Kind) -> tuple[str, ...]:
    """The chips that a kind's table may name, where it has an address."""
    fields = kind.shape.by_name
    return tuple(fields["chip"].schema.get("enum", ())) if {"chip", "address"} <= fields.keys() else ()
