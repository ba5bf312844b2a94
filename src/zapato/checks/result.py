"""What is seen of one device: small enough to go to another process, and enough to hold it against the others.

Rules that compare devices see this data, not designs: workers send little, and a check of ten thousand keeps 45 MB, not 390.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from zapato.checks.compatibility import pin_findings
from zapato.checks.gather import is_no_device
from zapato.checks.registry import comparers, finders
from zapato.design import Design, resolve
from zapato.errors import Unreadable
from zapato.findings import Finding, Place
from zapato.lang.folder import settled
from zapato.lang.source import Source, shown
from zapato.record import record


@record
class CheckResult:
    """A device file that was looked at.

    Attributes:
        path: the file.
        source: as findings name it.
        device: the device's name, "" where there is none.
        root: the folder of its site, None where it belongs to none.
        findings: about it alone, and with `whole` about its rehearsal.
        texts: the files that they point into.
        data: what the rules that compare devices want to know of it, by code.
        words: its name, its topic, its own address: who holds one of these may clash with it.
        reads: the other files that it was made of.
        offers: what it says, where the site has alerts: "device.part.property" -> type and unit.
        made_of: every file that the result follows from, its own, its rehearsal's and other devices' included; empty where that is not known.
        names_count: it names other devices, or something is wrong with it: what the site's devices are called counts, too.
    """

    path: Path
    source: str = ""
    device: str = ""
    root: Path | None = None
    findings: list[Finding] = field(default_factory=list[Finding])
    texts: dict[str, str] = field(default_factory=dict[str, str])
    data: dict[str, Any] = field(default_factory=dict[str, Any])
    words: tuple[str, ...] = ()
    reads: frozenset[str] = frozenset()
    offers: dict[str, tuple[str, str]] = field(default_factory=dict[str, tuple[str, str]])
    made_of: tuple[str, ...] = ()
    names_count: bool = False

    @staticmethod
    def of(design: Design) -> CheckResult:
        """The device's data for checks across devices."""
        facts = ((rule.code, rule.data(design)) for rule in comparers() if rule.data)
        words = (design.name, design.topic, str((design.ethernet or {}).get("address", "")))
        source = design.document.source
        result = CheckResult(source.own, source.name, design.name, design.site.root)
        result.data = {code: fact for code, fact in facts if fact is not None}
        result.words = tuple(word for word in words if word)
        result.reads = frozenset(map(str, design.document.reads))
        return result

    @cached_property
    def design(self) -> Design:
        """The device itself, read again where it was not kept. Raises Unreadable."""
        return resolve(self.path)

    def __getstate__(self) -> dict[str, Any]:
        """To another process, or onto the disk, it goes without the design."""
        return {name: value for name, value in vars(self).items() if name != "design"}

    @property
    def place_in_messages(self) -> str:
        """Its file, or the row of its family's table, as messages name it."""
        return self.design.row_place or self.source


def look(design: Design) -> CheckResult:
    """The design's own findings, beyond what it is compared by; of a file that is something else only what it is."""
    result = CheckResult.of(design)
    if not design.name and (wrong := is_no_device(design.document.source)):
        result.findings = [wrong]
        return result
    result.design = design
    own = [replace(finding, device=design.name, row=design.row_place) for finding in design.findings]
    result.findings = [*own, *check_design(design)]
    if result.findings:
        result.texts = texts_of(design)
    return result


def texts_of(design: Design) -> dict[str, str]:
    """The files that findings about it can point into: its own, its pieces, its row's table."""
    sources = [design.document.source, *(source for source, _ in design.document.origins.values())]
    return {source.name: source.text for source in sources}


def look_at(path: Path, *, strict: bool = False, whole: bool = False) -> CheckResult:
    """Read one device file and look at it; one that cannot be read is a finding.

    Where it is the only one asked for (`strict`), the call itself was wrong: Unreadable is raised. With `whole` its
    rehearsal is checked, too.
    """
    try:
        source = Source.read(path)
        if path.parent.name == "chips" and "[device]" not in source.text:
            return _described(path, source)
        if wrong := is_no_device(source):
            return CheckResult(path, findings=[wrong])
        design = resolve(path, source)
    except Unreadable as error:
        if strict:
            raise
        return CheckResult(
            path, findings=[Finding("file-unreadable", "error", Place(shown(path)), str(error))]
        )
    result = look(design)
    if not strict:
        del result.design  # of thousands only those are read again that something is said about
    result.made_of = tuple(_made_of(design, whole))
    result.names_count = bool(result.findings or (design.others and design.others.asked))
    if whole:
        from zapato.design.alerts import FILE as ALERTS
        from zapato.design.alerts import offered

        _rehearsal(design, result)
        if design.site.root and os.path.isfile(f"{design.site.root}{os.sep}{ALERTS}"):
            result.offers = offered([design])
    return result


def _made_of(design: Design, whole: bool) -> Iterator[str]:
    others = design.others.looked if design.others else {}
    if None in others.values():
        return  # who knows what it would have read
    for document in (design.document, *(other.document for other in others.values() if other)):
        yield str(document.source.path.absolute())
        yield from (str(path.absolute()) for path in document.reads)
    if whole:
        from zapato.design.script import scripts

        yield from (str(path.absolute()) for path in scripts(design))


def _described(path: Path, source: Source) -> CheckResult:
    """A chip's description, judged by itself."""
    from zapato.parts.described import read_description

    findings = read_description(source)[1].findings
    return CheckResult(path, findings=findings, texts={source.name: source.text} if findings else {})


def look_at_all(paths: Iterable[Path], *, whole: bool = False) -> list[CheckResult]:
    """Several, one after the other: what a worker does."""
    with settled():
        return [look_at(path, whole=whole) for path in paths]


def _rehearsal(design: Design, result: CheckResult) -> None:
    from zapato.design.script import read_script, scripts

    if path := next((script for script in scripts(design) if os.path.isfile(script)), None):
        document = read_script(path, design).document
        result.findings += document.findings
        if document.findings:
            result.texts[document.source.name] = document.source.text


def check_design(design: Design) -> Iterator[Finding]:
    """What the rules find in a design, beyond what reading it found."""
    yield from pin_findings(design)
    for finder in finders():
        yield from finder.find(design)


class Designs(Mapping[str, Design]):
    """The devices of a site by name, each read when it is asked for; one that cannot be read any more is not there."""

    def __init__(self, looked: Iterable[CheckResult]) -> None:
        self._looked = {device.device: device for device in looked if device.device}

    def __getitem__(self, name: str) -> Design:
        with suppress(Unreadable):
            return self._looked[name].design
        raise KeyError(name)

    def __contains__(self, name: object) -> bool:
        return name in self._looked

    def __iter__(self) -> Iterator[str]:
        return iter(self._looked)

    def __len__(self) -> int:
        return len(self._looked)
