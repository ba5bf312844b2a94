"""The update package: a gzip'd ustar of modules with a manifest, signed with the device's update key.

Format: docs/formats.md. The members stand in the order manifest.json, then modules by name; all
times, owners and the gzip header are fixed, so equal inputs give equal bytes. The signature is
manifest.hmac: HMAC-SHA256 (RFC 2104) over the bytes of manifest.json, which holds the SHA-256 of
every module.
"""

from __future__ import annotations

import gzip
import hashlib
import hmac
import io
import json
import tarfile
import zlib
from collections.abc import Iterator, Mapping
from typing import cast

MANIFEST, SIGNATURE = "manifest.json", "manifest.hmac"
BASE = ">=1.25,<2"
"""Vendor MicroPython releases that the modules run on: bytecode 6.3 (mpy-cross --version), and the ports as they were read (docs/ports.md)."""


MOST = 8 * 1024 * 1024
"""Bytes of all that a package may hold: more than a chip has room for in a slot."""


class PackageInvalid(ValueError):
    """An update package that is damaged, signed with another key, or none at all."""


def canonical(data: object) -> bytes:
    """JSON with sorted keys and no spaces to spare, ending in a newline."""
    return (json.dumps(data, sort_keys=True, separators=(",", ":"), ensure_ascii=False) + "\n").encode()


def manifest(device: str, version: str, base: str, files: Mapping[str, bytes]) -> dict[str, object]:
    """The manifest of these files of a slot, by path there, for this device."""
    hashes = {path: hashlib.sha256(data).hexdigest() for path, data in sorted(files.items())}
    return {"format": 2, "device": device, "version": version, "base": base, "files": hashes}


def seal(key: bytes, data: bytes) -> str:
    """HMAC-SHA256 in hexadecimal digits: who holds the key says so."""
    return hmac.new(key, data, hashlib.sha256).hexdigest()


def pack(about: Mapping[str, object], files: Mapping[str, bytes], key: bytes) -> bytes:
    """The package's bytes."""
    head = canonical(about)
    members = [(MANIFEST, head), (SIGNATURE, seal(key, head).encode()), *sorted(files.items())]
    inner = io.BytesIO()
    with tarfile.open(fileobj=inner, mode="w", format=tarfile.USTAR_FORMAT) as tar:
        for name, data in members:
            info = tarfile.TarInfo(name)
            info.size, info.mode = len(data), 0o644
            tar.addfile(info, io.BytesIO(data))
    outer = io.BytesIO()
    with gzip.GzipFile(fileobj=outer, mode="wb", filename="", mtime=0) as zipped:
        zipped.write(inner.getvalue())
    return outer.getvalue()


def unpack(package: bytes, key: bytes) -> tuple[dict[str, object], dict[str, bytes]]:
    """Manifest and files of a package whose signature and hashes are right. Raises PackageInvalid.

    The manifest and its signature stand first, and are looked at before anything else is unpacked.
    """
    members = _members(package)
    head, signature = next(members, ("", b"")), next(members, ("", b""))
    if (head[0], signature[0]) != (MANIFEST, SIGNATURE):
        raise PackageInvalid("it does not begin with a manifest and its signature")
    if not hmac.compare_digest(seal(key, head[1]).encode(), signature[1]):
        raise PackageInvalid("the signature does not fit: damaged, or made with another device's key")
    about = cast(dict[str, object], json.loads(head[1]))
    held = dict(members)
    if {name: hashlib.sha256(data).hexdigest() for name, data in held.items()} != about["files"]:
        raise PackageInvalid("a file is not the one that was signed")
    return about, held


def _members(package: bytes) -> Iterator[tuple[str, bytes]]:
    """Name and bytes of each file, as they stand there; no more than MOST bytes are unpacked."""
    try:
        inner = _Bounded(gzip.GzipFile(fileobj=io.BytesIO(package)))
        with tarfile.open(fileobj=inner, mode="r|") as tar:
            for member in tar:
                if member.isfile():
                    yield member.name, cast(io.BufferedReader, tar.extractfile(member)).read()
    except (tarfile.TarError, OSError, EOFError, ValueError, zlib.error) as error:
        raise PackageInvalid(f"not an update package: {error}") from None


class _Bounded(io.RawIOBase):
    """A file of which no more than MOST bytes are read."""

    def __init__(self, file: gzip.GzipFile) -> None:
        self.file, self.left = file, MOST

    def read(self, size: int = -1) -> bytes:
        data = self.file.read(min(size, self.left + 1) if size >= 0 else self.left + 1)
        self.left -= len(data)
        if self.left < 0:
            raise ValueError(f"it holds more than {MOST // 1024 // 1024} MiB")
        return data
