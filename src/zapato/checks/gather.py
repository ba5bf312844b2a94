"""What is at a path: device files, and the other files of a site, each read as what it is."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zapato.design import Design, resolve, sketch
from zapato.errors import Unreadable
from zapato.findings import Finding, Place
from zapato.lang.document import Document
from zapato.lang.folder import contents
from zapato.lang.site import Site, site_of
from zapato.lang.source import STDIN, Source, shown
from zapato.parts import kind_names

NOT_DEVICES = {
    "site.toml": "this is a site's own file; check the folder it stands in",
    "secrets.toml": "these are a site's secrets; check the folder they stand in",
    "alerts.toml": "these are a site's alerts; check the folder they stand in",
}


@dataclass
class Gathered:
    """What reading found.

    Attributes:
        designs: of every device file that could be read.
        findings: about files that are no device files, or could not be read.
        texts: lines that may be shown, by file name.
    """

    designs: list[Design] = field(default_factory=list[Design])
    findings: list[Finding] = field(default_factory=list[Finding])
    texts: dict[str, str] = field(default_factory=dict[str, str])


def device_files(path: Path) -> list[Path]:
    """The device files at `path`: the file itself, or those of a site's folder. Raises Unreadable."""
    if str(path) == STDIN or not path.is_dir():
        return [path]
    folder = path / "devices" if (path / "devices").is_dir() else path
    try:
        found = sorted(p for p in folder.glob("*.toml") if p.name not in NOT_DEVICES)
    except OSError as error:
        raise Unreadable(f"cannot read {shown(folder)}: {error.strerror}") from None
    if not found:
        raise Unreadable(f"no device files in {shown(folder)}", "zapato new NAME --board BOARD writes one")
    return found


def all_files(paths: Iterable[Path]) -> list[Path]:
    """The device files at all these paths, each once however it was named. Raises Unreadable."""
    found: dict[object, Path] = {}
    for given in paths:
        for path in device_files(given):
            found.setdefault(STDIN if str(path) == STDIN else path.absolute(), path)
    return list(found.values())


def gather(files: Iterable[Path], *, strict: bool = False) -> Gathered:
    """Read device files; one that cannot be read is a finding, and the others go on.

    Where it is the only one asked for (`strict`), the call itself was wrong: Unreadable is raised.
    """
    found = Gathered()
    for path in files:
        try:
            wrong = _not_a_device(path)
            if wrong:
                found.findings.append(wrong)
            else:
                found.designs.append(resolve(path))
        except Unreadable as error:
            if strict:
                raise
            found.findings.append(Finding("file-unreadable", "error", Place(shown(path)), str(error)))
    return found


def _not_a_device(path: Path) -> Finding | None:
    """What a file of another kind is; its lines are not shown."""
    message, fix = NOT_DEVICES.get(path.name, ""), ""
    if not message and str(path) != STDIN:
        data = _values(path)
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


def _values(path: Path) -> dict[str, Any]:
    """What the file has; nothing where it is plainly a device file, which is read soon enough."""
    try:
        text = path.read_text("utf-8-sig")
        plainly = "\n[device]" in f"\n{text}" and "update_keys" not in text and "rehearsal" not in text
        return {} if plainly else tomllib.loads(text)
    except (OSError, ValueError, RecursionError):
        return {}


def neighbours(site: Site, members: Sequence[Design]) -> list[Design]:
    """The site's other devices that one of these may clash with, read only as far as that needs."""
    if site.root is None:
        return []
    known = {design.document.source.path.absolute() for design in members}
    words = {design.name for design in members} | {design.topic for design in members}
    words |= {str((design.ethernet or {}).get("address", "")) for design in members}
    needles = [word.encode() for word in words if word]
    found: list[Design] = []
    for path, text in contents(site.root / "devices"):
        if path.absolute() not in known and any(needle in text for needle in needles):
            with suppress(Unreadable):
                found.append(sketch(path))
    return found


def other_files(root: Path, designs: Sequence[Design]) -> Gathered:
    """The rehearsals, alerts and pieces of a site, checked against its devices; of the pieces those nobody uses."""
    from zapato.design.alerts import FILE, offered, read_alerts
    from zapato.design.script import read_script
    from zapato.design.site_script import FILE as SITE
    from zapato.design.site_script import read_site_script

    found = Gathered()
    by_name = {design.name: design for design in designs}
    for path in sorted((root / "rehearsals").glob("*.toml")):
        if path.name == SITE and designs:
            document = read_site_script(path, designs).document
            found.findings += document.findings
            found.texts[document.source.name] = document.source.text
        elif design := by_name.get(path.stem):
            document = read_script(path, design).document
            found.findings += document.findings
            found.texts[document.source.name] = document.source.text
        elif designs:
            message = (
                f"no device of this site is called {path.stem}, so nothing runs this rehearsal by itself"
            )
            found.findings.append(Finding("file-kind", "note", Place(shown(path)), message))
    if (root / FILE).is_file():
        _, document = read_alerts(root / FILE, offered(designs))
        found.findings += document.findings
        found.texts[document.source.name] = document.source.text
    named = "\n".join(design.document.source.text for design in designs)
    for path in sorted((root / "pieces").glob("*.toml")):
        if path.name not in named:  # what a device uses is checked with it
            found.findings += _piece(path, found.texts)
    return found


def _piece(path: Path, texts: dict[str, str]) -> Iterator[Finding]:
    source = Source.read(path)
    document = Document.of(source)
    texts[source.name] = source.text
    for word in document.data:
        if word not in (*kind_names(), "zapato", "link", "use", "with"):
            document.found("unknown-kind", (word,), f"{word} is not a kind of part", of="key")
    yield from document.findings


def root_of(path: Path) -> Path | None:
    """The folder of the site at `path`, where `path` is that folder."""
    site = site_of(path) if path.is_dir() else None
    return site.root if site and site.root and site.root == path.absolute() else None
