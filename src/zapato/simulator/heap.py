"""The program's memory, read from the allocation table of its collector (py/gc.c).

It is read where the program itself collects, so measuring changes nothing.
"""

from __future__ import annotations

import re
from itertools import pairwise

from zapato.record import record
from zapato.regex import regex

BLOCK = 16
"""Bytes of a block of a 32-bit heap (MICROPY_BYTES_PER_GC_BLOCK)."""
_EACH = [[(byte >> 2 * n) & 3 != 0 for n in range(4)] for byte in range(256)]
"""Of each byte of the table, which of its four blocks are in use."""
_USED = bytes(sum(row) for row in _EACH)
_FREE_BEFORE = [[*row, True].index(True) for row in _EACH]
"""Free blocks before the first that is in use."""
_FREE_BEHIND = [[*reversed(row), True].index(True) for row in _EACH]
_WITHIN = [max(map(len, "".join("01"[used] for used in row).split("1"))) for row in _EACH]
"""The most free blocks in a row within one byte."""
_ZEROS = regex(rb"\0+")


@record
class HeapUse:
    """The program's memory, in bytes.

    Attributes:
        machine_modules: what the simulator's own modules took; not part of the others.
        loaded: what stays after loading.
        peak: the most after a collection.
        largest: the largest free piece at its smallest.
        collections: how often the program's memory was collected.
    """

    machine_modules: int = 0
    loaded: int = 0
    peak: int = 0
    largest: int = 0
    collections: int = 0


class HeapMeter:
    """Looks at the heap of one power-up at the end of its collections; measuring changes nothing in the program."""

    def __init__(self, use: HeapUse) -> None:
        self.use = use
        self._taken: int | None = None
        """Bytes that are not the program's: the simulator's own modules, and what was taken to leave the chip's heap."""
        self._loaded = False

    def loaded(self) -> None:
        """The next collection tells what stays after loading."""
        self._loaded = True

    def collected(self, table: bytes) -> float:
        """After a collection: the table has two bits a block, 0 where it is free. Gives the program's share of what is in use."""
        inside = used(table)
        if self._taken is None:
            self._taken = inside
            return 1.0
        self.use.collections += 1
        own = inside - self._taken
        if self._loaded:
            self._loaded = False
            self.use.loaded = max(self.use.loaded, own)
        self.use.peak = max(self.use.peak, own)
        if not self.use.largest or not has_free(table, self.use.largest):
            largest = largest_free(table)  # the quick look may miss a piece that begins within a byte
            self.use.largest = min(self.use.largest or largest, largest)
        return own / max(inside, 1)


def used(table: bytes) -> int:
    """Bytes in use."""
    return BLOCK * sum(table.translate(_USED))


def has_free(table: bytes, size: int) -> bool:
    """True where a free piece of this size is found at once: whole bytes of the table that are zero, four blocks each."""
    return bytes(-(-size // (4 * BLOCK))) in table


def largest_free(table: bytes) -> int:
    """Bytes of the largest free piece."""
    longest = max(map(len, _ZEROS.findall(table)), default=0)
    # The bytes beside a run add six blocks at most: one that is shorter by two cannot win.
    runs = re.finditer(rb"\0{%d,}" % max(longest - 1, 1), table)
    found = [_blocks(table, *run.span()) for run in runs]
    if longest < 2:
        found += [_FREE_BEHIND[one] + _FREE_BEFORE[other] for one, other in pairwise(table)]
        found += [_WITHIN[byte] for byte in table]
    return BLOCK * max(found)


def _blocks(table: bytes, start: int, end: int) -> int:
    """Free blocks of a run of bytes that are zero, with those of the bytes beside it."""
    before = _FREE_BEHIND[table[start - 1]] if start else 0
    return before + 4 * (end - start) + (_FREE_BEFORE[table[end]] if end < len(table) else 0)
