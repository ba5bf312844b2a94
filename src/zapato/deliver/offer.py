"""The host's half of an update over the air: an offer that only the key's holder can make, and pieces as they are asked for.

No transport is in here: whoever has a connection to the broker passes messages in and publishes what comes out.
docs/formats.md has the messages.
"""

from __future__ import annotations

import hashlib
import json
from dataclasses import field
from typing import Any, cast

from zapato.errors import AlreadyThere, NotOffered
from zapato.firmware.package import PackageInvalid, canonical, seal, unpack
from zapato.lang.json_text import read_json
from zapato.record import record

MANIFEST = "manifest.json"
MARK = 8
"""Digits of a file's digest by which a device says which it wants."""
MOST = 4096
"""Bytes of a piece that a device may ask for."""


def version_of(text: str) -> tuple[int, int, int]:
    """ "1.4" -> (1, 4, 0). Raises ValueError."""
    major, minor, patch = (int(number) for number in (text + ".0.0").split(".")[:3])
    return major, minor, patch


@record
class UpdateOffer:
    """One package for one device.

    Attributes:
        topic: the device's own, as "refuge/boot-dryer".
        key: its update key.
        version: of the package.
        size: bytes of all its files.
        sent: bytes of each file that went out, by path.
    """

    topic: str
    key: bytes
    package: bytes
    sent: dict[str, int] = field(default_factory=dict[str, int])

    def __post_init__(self) -> None:
        try:
            about, files = unpack(self.package, self.key)
        except PackageInvalid as error:
            raise NotOffered(f"the update package is refused: {error}", "build the device again") from None
        self.about, self.version = about, str(about["version"])
        head = canonical(about)
        self._marks = {
            name: str(digest)[:MARK] for name, digest in cast(dict[str, str], about["files"]).items()
        }
        self._marks[MANIFEST] = hashlib.sha256(head).hexdigest()[:MARK]
        self._files = {**files, MANIFEST: seal(self.key, head).encode() + b"\n" + head}
        self.size = sum(map(len, files.values()))

    def made_to(self, running: str, number: str, again: bool = False, digest: str = "") -> tuple[str, str]:
        """Topic and payload of the offer to a device that runs the version `running` and has told this number. Raises NotOffered.

        `digest` is the beginning of that of the manifest that runs there, "" where the device told none.
        A device that has told none knows offers without: it runs a program of before 0.2.
        """
        have, new = version_of(running), version_of(self.version)
        if new < have:
            raise NotOffered(
                f"{self.version} is older than {running}, which runs there",
                "an older version goes over the cable only; give it a higher number",
            )
        if new == have and not again and digest and digest != self._marks[MANIFEST]:
            raise NotOffered(
                f"{running} runs there already, and it is another program than this one of the same version",
                "a higher version in the device file, or --again",
            )
        if new == have and not again:
            raise AlreadyThere(
                f"{running} runs there already", "a higher version in the device file, or --again"
            )
        text, mark = f"update {self.topic} {running} {self.version}", self._marks[MANIFEST]
        given = [self.version, mark, seal(self.key, f"{text} {mark} {number}".encode())]
        if not number:
            given = [self.version, seal(self.key, text.encode())]
        return f"{self.topic}/device/do/update", json.dumps(given)

    def answer(self, payload: bytes) -> tuple[str, bytes] | None:
        """The piece that a message under `<topic>/update/want` asks for; None where it asks for nothing of this."""
        try:
            version, name, at, count, *mark = cast(list[Any], read_json(payload))
            if version != self.version or name not in self._files or not at >= 0 or not 0 < count <= MOST:
                return None
            if (
                mark and mark[0] and mark[0] != self._marks[name]
            ):  # of another package, which somebody else serves
                return None
            piece = self._files[name][at : at + count]
        except (ValueError, TypeError):
            return None
        self.sent[name] = self.sent.get(name, 0) + len(piece)
        return f"{self.topic}/update/piece/set", f"{name} {at}\n".encode() + piece
