"""Words of sixteen bits with a check byte each (polynomial 0x31, begun with 0xff), as several makers' chips send them."""

from __future__ import annotations


def crc8(data: bytes) -> int:
    crc = 0xFF
    for byte in data:
        crc ^= byte
        for _ in range(8):
            crc = ((crc << 1) ^ 0x31 if crc & 0x80 else crc << 1) & 0xFF
    return crc


def checked(*words: float) -> bytes:
    """Each word, held to sixteen bits, and its check byte."""
    raw = [max(0, min(65535, round(word))).to_bytes(2, "big") for word in words]
    return b"".join(each + bytes((crc8(each),)) for each in raw)
