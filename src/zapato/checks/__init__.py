"""Checks: what can be known about a device before anything is built."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path

from zapato.boards.site import site_boards
from zapato.checks.registry import comparers, finders, rule, rules
from zapato.checks.suits import candidates, pin_findings, suits
from zapato.design import Design, resolve
from zapato.errors import Unreadable
from zapato.findings import Finding, Report
from zapato.lang.site import Site
from zapato.lang.source import shown

__all__ = ["candidates", "check", "check_design", "device_files", "rule", "rules", "suits"]


def check(what: Design | Path | str | Iterable[Path | str]) -> Report:
    """The findings of a design, a device file, a folder of a site, or several of these.

    Raises Unreadable where a path cannot be read at all.
    """
    if isinstance(what, Design):
        return report([what])
    paths = [what] if isinstance(what, (str, Path)) else list(what)
    return report([resolve(path) for given in paths for path in device_files(Path(given))])


def report(designs: Iterable[Design]) -> Report:
    """One report over these designs, with the findings of the sites they belong to."""
    findings: list[Finding] = []
    texts: dict[str, str] = {}
    names: list[str] = []
    sites: dict[int, tuple[Site, list[Design]]] = {}
    for design in designs:
        sites.setdefault(id(design.site), (design.site, []))[1].append(design)
        found = [*design.findings, *check_design(design)]
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
    """What the rules find in a site as a whole: what must be unique, the address plan, the network."""
    for each in comparers():
        if each.among:
            yield from each.among(site, designs)


def check_design(design: Design) -> Iterator[Finding]:
    """What the rules find in a design, beyond what reading it found."""
    yield from pin_findings(design)
    for each in finders():
        if each.find:
            yield from each.find(design)


def device_files(path: Path) -> list[Path]:
    """The device files at `path`: the file itself, or those of a site's folder. Raises Unreadable."""
    if not path.is_dir():
        return [path]
    folder = path / "devices" if (path / "devices").is_dir() else path
    try:
        found = sorted(p for p in folder.glob("*.toml") if p.name not in ("site.toml", "secrets.toml"))
    except OSError as error:
        raise Unreadable(f"cannot read {shown(folder)}: {error.strerror}") from None
    if not found:
        raise Unreadable(f"no device files in {shown(folder)}", "zapato new NAME --board BOARD writes one")
    return found
