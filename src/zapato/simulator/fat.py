"""The files of a card: FAT16 in one partition, read and written through whoever reads and writes its blocks.

Every operation is a generator that asks for blocks: it yields a block's number to read it, and number and bytes to write it. Source:
"Microsoft Extensible Firmware Initiative FAT32 File System Specification" 1.03 (which holds for FAT16, too). Only the root
folder is used, with names of eight and three letters.

It is a generator so that every block goes through the program's own driver and the bus to the card.
"""

from __future__ import annotations

import struct
from collections.abc import Generator, MutableMapping
from typing import TypeVar

from zapato.simulator.wasi import NOENT, Fault

BLOCK = 512
EMPTY = bytes(BLOCK)
Asked = Generator["int | tuple[int, bytes]", bytes, "T"]
T = TypeVar("T")
NO_DEVICE, NO_ROOM, LAST = 19, 28, 0xFFFF
_FREE, _GONE, _FILE = 0x00, 0xE5, 0x20


def short_name(name: str) -> bytes:
    """The eleven bytes of a name in a folder. Raises Fault."""
    base, _, ending = name.upper().strip("/").partition(".")
    if not base or len(base) > 8 or len(ending) > 3 or not f"{base}{ending}".isascii():
        raise Fault(22)
    return f"{base:<8}{ending:<3}".encode()


class Volume:
    """A mounted partition."""

    def __init__(self) -> None:
        self.fat = self.root = self.data = 0
        self.sectors, self.each, self.entries, self.copies, self.clusters = 0, 1, 0, 1, 0
        self._next = 0
        """The block of the table in which room was found last."""

    def mount(self) -> Asked[None]:
        """Find it. Raises Fault where there is none."""
        block = yield 0
        first = 0
        if block[510:512] == b"\x55\xaa" and block[0] not in (0xEB, 0xE9):
            (first,) = struct.unpack_from("<I", block, 454)
            block = yield first
        size, volume, reserved, copies, entries, few, _, sectors = struct.unpack_from("<HBHBHHBH", block, 11)
        if block[510:512] != b"\x55\xaa" or size != BLOCK or not volume or not sectors:
            raise Fault(NO_DEVICE)
        total = few or struct.unpack_from("<I", block, 32)[0]
        self.sectors, self.each, self.entries, self.copies = sectors, volume, entries, copies
        self.fat = first + reserved
        self.root = self.fat + copies * sectors
        self.data = self.root + entries * 32 // BLOCK
        self.clusters = (first + total - self.data) // volume + 2

    def names(self) -> Asked[list[tuple[str, int]]]:
        """The files and their sizes."""
        rows = yield from self._rows()
        return [(_shown(row), struct.unpack_from("<I", row, 28)[0]) for _, _, row in rows]

    def size(self, name: str) -> Asked[int]:
        """Bytes of a file. Raises Fault."""
        _, _, row = yield from self._find(name)
        return struct.unpack_from("<I", row, 28)[0]

    def read(self, name: str, at: int = 0, size: int = 1 << 32) -> Asked[bytes]:
        """So many bytes of a file, from a place on. Raises Fault."""
        _, _, row = yield from self._find(name)
        end = min(at + size, struct.unpack_from("<I", row, 28)[0])
        chain = yield from self._chain(struct.unpack_from("<H", row, 26)[0])
        data = bytearray()
        first = at // BLOCK
        for number in range(first, -(-end // BLOCK)):
            cluster, within = divmod(number, self.each)
            data += yield self._place(chain[cluster]) + within
        return bytes(data[at - first * BLOCK : end - first * BLOCK])

    def append(self, name: str, data: bytes) -> Asked[None]:
        """Write at a file's end, which is made where there is none: first the data, then the table, the folder last.

        Raises Fault where there is no room; the file is as it was then.
        """
        yield from self._grow(name, len(data), data)

    def take(self, name: str, size: int) -> Asked[None]:
        """A file of this size whose bytes are whatever stands there. Raises Fault."""
        yield from self._grow(name, size, b"")

    def _grow(self, name: str, more: int, data: bytes) -> Asked[None]:
        rows = yield from self._rows()
        wanted = short_name(name)
        entry = next((row for row in rows if row[2][:11] == wanted), None)
        block, at, row = entry or (yield from self._new(wanted))
        first, size = struct.unpack_from("<HI", row, 26)
        chain = yield from self._chain(first)
        need = -(-(size + more) // (self.each * BLOCK)) - len(chain)
        fresh = yield from self._free(need)
        chain += fresh
        yield from self._fill(chain, size, data)
        if fresh:
            yield from self._link(chain[len(chain) - len(fresh) - 1 :] if len(chain) > len(fresh) else fresh)
        changed = row[:26] + struct.pack("<HI", chain[0] if chain else 0, size + more)
        held = yield block
        yield block, held[:at] + changed + held[at + 32 :]

    def remove(self, name: str) -> Asked[None]:
        """Raises Fault."""
        block, at, row = yield from self._find(name)
        chain = yield from self._chain(struct.unpack_from("<H", row, 26)[0])
        held = yield block
        yield block, held[:at] + bytes((_GONE,)) + held[at + 1 :]
        yield from self._enter(dict.fromkeys(chain, 0))

    # --- inside

    def _place(self, cluster: int) -> int:
        return self.data + (cluster - 2) * self.each

    def _rows(self) -> Asked[list[tuple[int, int, bytes]]]:
        """Block, place and bytes of every file's entry."""
        rows: list[tuple[int, int, bytes]] = []
        for block in range(self.root, self.data):
            held = yield block
            for at in range(0, BLOCK, 32):
                if held[at] == _FREE:
                    return rows
                if held[at] != _GONE and not held[at + 11] & 0x18:
                    rows.append((block, at, held[at : at + 32]))
        return rows

    def _find(self, name: str) -> Asked[tuple[int, int, bytes]]:
        rows = yield from self._rows()
        wanted = short_name(name)
        for row in rows:
            if row[2][:11] == wanted:
                return row
        raise Fault(NOENT)

    def _new(self, name: bytes) -> Asked[tuple[int, int, bytes]]:
        """A free entry of the folder, for a file of this name."""
        for block in range(self.root, self.data):
            held = yield block
            for at in range(0, BLOCK, 32):
                if held[at] in (_FREE, _GONE):
                    return block, at, name + bytes((_FILE,)) + bytes(20)
        raise Fault(NO_ROOM)

    def _chain(self, cluster: int) -> Asked[list[int]]:
        clusters: list[int] = []
        number, held = -1, EMPTY
        while 2 <= cluster < self.clusters and len(clusters) <= self.clusters:
            clusters.append(cluster)
            if cluster // 256 != number:
                number = cluster // 256
                held = yield self.fat + number
            (cluster,) = struct.unpack_from("<H", held, cluster % 256 * 2)
        return clusters

    def _free(self, count: int) -> Asked[list[int]]:
        clusters: list[int] = []
        for n in range(self.sectors):
            if len(clusters) >= count:
                break
            number = (self._next + n) % self.sectors
            held = yield self.fat + number
            row = struct.unpack("<256H", held)
            clusters += [
                number * 256 + n
                for n, entry in enumerate(row)
                if not entry and 2 <= number * 256 + n < self.clusters
            ]
        if len(clusters) < count:
            raise Fault(NO_ROOM)
        if clusters:
            self._next = clusters[-1] // 256
        return clusters[: max(0, count)]

    def _fill(self, chain: list[int], size: int, data: bytes) -> Asked[None]:
        """Put data behind the first `size` bytes of a chain."""
        while data:
            cluster, within = divmod(size, self.each * BLOCK)
            block, at = self._place(chain[cluster]) + within // BLOCK, within % BLOCK
            held = (yield block) if at else EMPTY
            piece, data = data[: BLOCK - at], data[BLOCK - at :]
            yield block, (held[:at] + piece).ljust(BLOCK, b"\0")
            size += len(piece)

    def _link(self, chain: list[int]) -> Asked[None]:
        yield from self._enter(dict(zip(chain, [*chain[1:], LAST], strict=True)))

    def _enter(self, values: MutableMapping[int, int]) -> Asked[None]:
        """Put values into both copies of the table."""
        for number in sorted({cluster // 256 for cluster in values}):
            held = bytearray((yield self.fat + number))
            for cluster, value in values.items():
                if cluster // 256 == number:
                    struct.pack_into("<H", held, cluster % 256 * 2, value)
            for copy in range(self.copies):
                yield self.fat + copy * self.sectors + number, bytes(held)


def _shown(row: bytes) -> str:
    base, ending = row[:8].decode("latin-1").rstrip(), row[8:11].decode("latin-1").rstrip()
    return f"{base}.{ending}" if ending else base


def fresh(blocks: int, first: int = 64, size: int = 4) -> dict[int, bytes]:
    """A card as it is bought: one partition from block `first` on, formatted, empty."""
    total = blocks - first
    sectors = -(-(total // size + 2) * 2 // BLOCK)
    table = struct.pack("<BBBBBBBBII", 0, 0, 0, 0, 0x06, 0, 0, 0, first, total)
    boot = b"\xeb\x3c\x90ZAPATO  " + struct.pack(
        "<HBHBHHBHHHII", BLOCK, size, 1, 2, 512, 0, 0xF8, sectors, 63, 255, first, total
    )
    boot += struct.pack("<BBBI", 0x80, 0, 0x29, 0x25A41127) + b"NO NAME    FAT16   "
    head = struct.pack("<HH", 0xFFF8, LAST).ljust(BLOCK, b"\0")
    return {
        0: bytes(446) + table + bytes(48) + b"\x55\xaa",
        first: boot.ljust(510, b"\0") + b"\x55\xaa",
        first + 1: head,
        first + 1 + sectors: head,
    }


def done(asked: Asked[T], blocks: MutableMapping[int, bytes]) -> T:
    """Do an operation on blocks at hand."""
    answer: bytes | None = None
    try:
        while True:
            want = asked.send(answer) if answer is not None else next(asked)
            if isinstance(want, tuple):
                blocks[want[0]], answer = want[1], b""
            else:
                answer = blocks.get(want, EMPTY)
    except StopIteration as end:
        return end.value
