"""What else a site has: the devices beside those that were named, rehearsals, alerts and pieces."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import field
from pathlib import Path

from zapato.checks.result import CheckResult, Designs
from zapato.design import sketch
from zapato.errors import Unreadable
from zapato.findings import Finding, Place
from zapato.lang.document import Document
from zapato.lang.family import is_family, rows
from zapato.lang.folder import contents, names
from zapato.lang.site import Site
from zapato.lang.source import MEMBER, Source, shown
from zapato.parts import kind_names
from zapato.record import record


@record
class SiteFiles:
    """What was found in the other files of a site; texts by file name."""

    findings: list[Finding] = field(default_factory=list[Finding])
    texts: dict[str, str] = field(default_factory=dict[str, str])

    def add(self, document: Document) -> None:
        """The findings of a document."""
        self.findings += document.findings
        if document.findings:
            self.texts[document.source.name] = document.source.text


def neighbours(site: Site, ours: Sequence[CheckResult]) -> list[CheckResult]:
    """The site's other devices that one of these may clash with, read only as far as that needs."""
    if site.root is None:
        return []
    folder = f"{site.root}{os.sep}devices{os.sep}"
    known = {str(device.path.absolute()) for device in ours}
    files = known | {path.rpartition(os.sep)[0] for path in known if MEMBER in path}
    if all(folder + name in files for name in names(site.root / "devices")):
        return []
    words = {word for device in ours for word in device.words}
    results: list[CheckResult] = []
    for path in _holding(site.root, words):
        if str(path.absolute()) not in known:
            with suppress(Unreadable):
                results.append(CheckResult.of(sketch(path)))
    return results


def _holding(root: Path, words: set[str]) -> Iterator[Path]:
    """Device files that hold one of these words; of a family the members whose rows do, or all where its file does."""
    needles = [word.encode() for word in words]
    for path, text in contents(root / "devices"):
        holds = any(needle in text for needle in needles)
        if is_family(text):
            yield from (
                path / row.name
                for row in rows(path, root)
                if holds or words & {*map(str, row.values.values())}
            )
        elif holds:
            yield path


def other_files(root: Path, devices: Sequence[CheckResult]) -> SiteFiles:
    """The site's own rehearsal, its alerts and pieces, checked against its devices; of the pieces those nobody uses."""
    site_files = SiteFiles()
    designs = Designs(devices)
    families = {device.path.parent.stem for device in devices if MEMBER in str(device.path)}
    _rehearsals(root, designs, families, site_files)
    _alerts(root, devices, site_files)
    for path in sorted((root / "chips").glob("*.toml")):
        from zapato.parts.described import read_description

        site_files.add(read_description(Source.read(path))[1])
    used = frozenset[str]().union(*(device.reads for device in devices))
    for path in sorted((root / "pieces").glob("*.toml")):
        if str(path) not in used:  # what a device uses is checked with it
            site_files.findings += _piece(path, site_files.texts)
    return site_files


def _rehearsals(root: Path, designs: Designs, families: set[str], site_files: SiteFiles) -> None:
    """That of the site; a device's own is checked with it. One without a device is told."""
    from zapato.design.site_script import FILE as SITE
    from zapato.design.site_script import read_site_script

    for path in sorted((root / "rehearsals").glob("*.toml")) if designs else ():
        if path.name == SITE and path.stem not in designs:
            site_files.add(read_site_script(path, designs).document)
        elif path.stem not in designs and path.stem not in families:
            message = (
                f"no device of this site is called {path.stem}, so nothing runs this rehearsal by itself"
            )
            site_files.findings.append(Finding("file-kind", "note", Place(shown(path)), message))


def _alerts(root: Path, devices: Sequence[CheckResult], site_files: SiteFiles) -> None:
    from zapato.design.alerts import FILE, read_alerts

    if (root / FILE).is_file():
        offers = {name: about for device in devices for name, about in device.offers.items()}
        site_files.add(read_alerts(root / FILE, offers)[1])


def _piece(path: Path, texts: dict[str, str]) -> Iterator[Finding]:
    source = Source.read(path)
    document = Document.of(source)
    texts[source.name] = source.text
    for word in document.data:
        if word not in (*kind_names(), "zapato", "link", "use", "with"):
            document.found("unknown-kind", (word,), f"{word} is not a kind of part", of="key")
    yield from document.findings
