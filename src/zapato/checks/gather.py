"""What is at a path: device files, and whether a file is one."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import tomli

from zapato.errors import Unreadable
from zapato.findings import Finding, Place
from zapato.lang.family import members
from zapato.lang.site import site_of
from zapato.lang.source import MEMBER, STDIN, Source, shown

NOT_DEVICES = {
    "site.toml": "this is a site's own file; check its folder instead",
    "secrets.toml": "these are a site's secrets; check their folder instead",
    "alerts.toml": "these are a site's alerts; check their folder instead",
}


def device_files(path: Path) -> list[Path]:
    """The device files at `path`: the file itself or a family's members, or those of a site's folder. Raises Unreadable."""
    if str(path) == STDIN or MEMBER in str(path):
        return [path]
    if not path.is_dir():
        return members(path, site_of(path).root) if path.is_file() else [path]
    folder = path / "devices" if (path / "devices").is_dir() else path
    try:
        paths = sorted(p for p in folder.glob("*.toml") if p.name not in NOT_DEVICES)
    except OSError as error:
        raise Unreadable(f"cannot read {shown(folder)}: {error.strerror}") from None
    root = site_of(path).root
    paths = [member for file in paths for member in members(file, root)]
    if not paths:
        raise Unreadable(f"no device files in {shown(folder)}", "zapato new NAME --board BOARD writes one")
    return paths


def all_files(paths: Iterable[Path]) -> list[Path]:
    """The device files at all these paths, each once however it was named. Raises Unreadable."""
    found_files: dict[object, Path] = {}
    for given in paths:
        for path in device_files(given):
            found_files.setdefault(STDIN if str(path) == STDIN else path.absolute(), path)
    return list(found_files.values())


def is_no_device(source: Source) -> Finding | None:
    """What a file of another kind is; its lines are not shown."""
    path = source.path
    message, fix = NOT_DEVICES.get(path.name, ""), ""
    if not message and str(path) != STDIN:
        data = _values(source.text)
        if "update_keys" in data:
            message = NOT_DEVICES["secrets.toml"]
        elif "rehearsal" in data:
            message, fix = (
                "this is a rehearsal, not a device file",
                f"zapato rehearse DEVICE --script {shown(path)}",
            )
        elif "site" in data and "device" not in data:
            message = NOT_DEVICES["site.toml"]
        elif data and "device" not in data and "zapato" not in data and path.parent.name == "pieces":
            message, fix = "this is a piece, which a device file uses", f'use = ["pieces/{path.name}"]'
    return (
        Finding("file-kind", "error", Place(shown(path)), message, fixes=(fix,) if fix else ())
        if message
        else None
    )


def _values(text: str) -> dict[str, Any]:
    """What the file has; nothing where it is plainly a device file, which is read soon enough."""
    try:
        plainly = "\n[device]" in f"\n{text}" and "update_keys" not in text and "rehearsal" not in text
        return {} if plainly else tomli.loads(text)
    except (ValueError, RecursionError):
        return {}


def root_of(path: Path) -> Path | None:
    """The folder of the site at `path`, where `path` is that folder."""
    site = site_of(path) if path.is_dir() else None
    return site.root if site and site.root and site.root == path.absolute() else None
