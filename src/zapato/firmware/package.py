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
from collections.abc import Mapping
from typing import cast

MANIFEST, SIGNATURE = "manifest.json", "manifest.hmac"
BASE = ">=1.25,<2"
"""Vendor MicroPython releases that the modules run on: bytecode 6.3 (mpy-cross --version), and the ports as they were read (docs/ports.md)."""


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
    """Manifest and files of a package whose signature and hashes are right. Raises PackageInvalid."""
    held = _members(package)
    head, signature = held.pop(MANIFEST, b""), held.pop(SIGNATURE, b"")
    if not hmac.compare_digest(seal(key, head).encode(), signature):
        raise PackageInvalid("the signature does not fit: damaged, or made with another device's key")
    about = cast(dict[str, object], json.loads(head))
    if {name: hashlib.sha256(data).hexdigest() for name, data in held.items()} != about["files"]:
        raise PackageInvalid("a file is not the one that was signed")
    return about, held


def _members(package: bytes) -> dict[str, bytes]:
    try:
        with tarfile.open(fileobj=io.BytesIO(package), mode="r:gz") as tar:
            return {m.name: cast(io.BufferedReader, tar.extractfile(m)).read() for m in tar if m.isfile()}
    except (tarfile.TarError, OSError, EOFError, ValueError, zlib.error) as error:
        raise PackageInvalid(f"not an update package: {error}") from None
