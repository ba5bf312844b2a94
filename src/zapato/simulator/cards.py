"""Cards in the slots of a board, and the file system that its port brings, on the blocks that the program moves."""

from __future__ import annotations

from typing import Any, cast

from zapato.simulator.fat import Asked, Volume
from zapato.simulator.sdcard import SdCard


class Cards:
    """The part of a board that cards are in; `pipe` are bytes that the shim reads next."""

    buses: dict[int, dict[int, Any]]
    pipe: bytes
    volumes: dict[bytes, Volume]
    asked: Asked[Any]

    def card(self, sck: int, select: int) -> SdCard:
        """The slot with this select line."""
        bus = self.buses.setdefault(sck, {})
        if select not in bus:
            bus[select] = SdCard()
        return bus[select]

    def _volume(self, data: bytes) -> tuple[Volume, bytes]:
        """Which of the mounted ones is meant, and the rest of the question."""
        name, _, rest = data.partition(b" ")
        return self.volumes[name], rest

    def on_fat_mount(self, data: bytes) -> str:
        made = self.volumes[data.strip()] = Volume()
        return self._ask(made.mount())

    def on_fat_names(self, data: bytes) -> str:
        return self._ask(self._volume(data)[0].names())

    def on_fat_size(self, data: bytes) -> str:
        volume, name = self._volume(data)
        return self._ask(volume.size(name.decode()))

    def on_fat_remove(self, data: bytes) -> str:
        volume, name = self._volume(data)
        return self._ask(volume.remove(name.decode()))

    def on_fat_append(self, data: bytes) -> str:
        volume, rest = self._volume(data)
        name, _, text = rest.partition(b"\n")
        return self._ask(volume.append(name.decode(), text))

    def on_fat_read(self, data: bytes) -> str:
        volume, rest = self._volume(data)
        at, size, name = rest.split(b" ", 2)
        return self._ask(volume.read(name.decode(), int(at), int(size)))

    def on_fat_stop(self, data: bytes) -> None:
        """A block could not be moved."""
        self.asked.close()

    def on_fat_go(self, data: bytes) -> str:
        """The block that was asked for, or that one was written."""
        return self._next(data)

    def _ask(self, asked: Asked[Any]) -> str:
        self.asked = asked
        return self._next(None)

    def _next(self, given: bytes | None) -> str:
        """What the program's driver is to do next: r for a block to be read, w to be written; = for what came of it."""
        try:
            wanted = self.asked.send(given) if given is not None else next(self.asked)
        except StopIteration as end:
            return self._outcome(end.value)
        if isinstance(wanted, tuple):
            self.pipe = wanted[1]
            return f"w{wanted[0]}"
        return f"r{wanted}"

    def _outcome(self, outcome: Any) -> str:
        if isinstance(outcome, list):
            rows = cast(list[tuple[str, int]], outcome)
            self.pipe = "\n".join(f"{name} {size}" for name, size in rows).encode()
            return f"={len(self.pipe)}"
        if isinstance(outcome, bytes):
            self.pipe = outcome
            return f"={len(outcome)}"
        return f"={outcome or 0}"
