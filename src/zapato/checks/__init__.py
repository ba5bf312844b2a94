"""Checks: what can be known about a device before anything is built."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from zapato.boards.own import site_boards
from zapato.checks.gather import all_files, device_files, gather, neighbours, other_files, root_of
from zapato.checks.registry import comparers, finders, rule, rules
from zapato.checks.suits import candidates, pin_findings, suits
from zapato.design import Design
from zapato.findings import Finding, Report
from zapato.lang.site import Site

__all__ = [
    "all_files",
    "candidates",
    "check",
    "check_design",
    "device_files",
    "root_of",
    "rule",
    "rules",
    "suits",
]


def check(what: Design | Path | str | Iterable[Path | str]) -> Report:
    """The findings of a design, a device file, a folder of a site, or several of these.

    A device file is also held against the others of its site; a site's folder brings its rehearsals and
    pieces, and a file of it that cannot be read is a finding. Raises Unreadable where a path leads to no file.
    """
    if isinstance(what, Design):
        return report([what])
    paths = [Path(p) for p in ([what] if isinstance(what, (str, Path)) else what)]
    return check_files(paths, all_files(paths))


def check_files(paths: Sequence[Path], files: Iterable[Path]) -> Report:
    """The findings of these device files, and of what else the sites among `paths` have."""
    found = gather(files, strict=not any(path.is_dir() for path in paths))
    for root in dict.fromkeys(root for path in paths if (root := root_of(path))):
        more = other_files(root, [design for design in found.designs if design.site.root == root])
        found.findings += more.findings
        found.texts.update(more.texts)
    whole = report(found.designs)
    return Report.of(
        (*whole.findings, *whole.accepted, *found.findings), whole.devices, {**found.texts, **whole.texts}
    )


def report(designs: Iterable[Design]) -> Report:
    """One report over these designs, with the findings of the sites they belong to."""
    findings: list[Finding] = []
    texts: dict[str, str] = {}
    names: list[str] = []
    sites: dict[int, tuple[Site, list[Design]]] = {}
    for design in designs:
        sites.setdefault(id(design.site), (design.site, []))[1].append(design)
        found = [replace(each, device=design.name) for each in (*design.findings, *check_design(design))]
        findings.extend(found)
        names.append(design.name)
        if found:
            texts[design.document.source.name] = design.document.source.text
            texts.update((source.name, source.text) for source, _ in design.document.origins.values())
    for site, members in sites.values():
        own = site_boards(site.root)
        findings.extend((*site.findings, *own.findings))
        texts.update(own.texts if own.findings else {})
        findings.extend(check_site(site, members))
        texts.update(site.texts)
    _missing_texts(findings, texts, sites.values())
    return Report.of(findings, names, texts)


def _missing_texts(
    findings: Iterable[Finding], texts: dict[str, str], sites: Iterable[tuple[Site, list[Design]]]
) -> None:
    """The texts of device files that only a site's rules point into."""
    wanted = {finding.place.file for finding in findings} - texts.keys()
    for design in (design for _, members in sites for design in members) if wanted else ():
        source = design.document.source
        if source.name in wanted:
            texts[source.name] = source.text


def check_site(site: Site, designs: Sequence[Design]) -> Iterator[Finding]:
    """What the rules find in a site as a whole: what must be unique, the address plan, the network.

    The site's other devices count, too; what is wrong with them is theirs to hear.
    """
    others = neighbours(site, designs)
    elsewhere = {design.document.source.name for design in others}
    named = {design.document.source.name: design.name for design in designs}
    for each in comparers():
        if each.among:
            for found in each.among(site, [*others, *designs]):
                if found.place.file not in elsewhere:
                    yield replace(found, device=named.get(found.place.file, ""))


def check_design(design: Design) -> Iterator[Finding]:
    """What the rules find in a design, beyond what reading it found."""
    yield from pin_findings(design)
    for each in finders():
        if each.find:
            yield from each.find(design)
