"""Checks: what can be known about a device before anything is built."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from zapato.boards.own import site_boards
from zapato.checks.compatibility import candidates
from zapato.checks.gather import all_files, device_files, root_of
from zapato.checks.registry import comparers, rule, rules
from zapato.checks.result import CheckResult, check_design, look, look_at, look_at_all, texts_of
from zapato.checks.site_files import neighbours, other_files
from zapato.design import Design
from zapato.errors import ZapatoError
from zapato.findings import Finding, Place, Report
from zapato.lang.folder import settled
from zapato.lang.site import Site, site_of
from zapato.lang.source import shown

if TYPE_CHECKING:
    from concurrent.futures import Executor

    from zapato.checks.index import CheckIndex

__all__ = [
    "all_files",
    "candidates",
    "check",
    "check_design",
    "device_files",
    "root_of",
    "rule",
    "rules",
]

AT_ONCE = 64
"""Device files that one worker takes at a time."""


def check(what: Design | Path | str | Iterable[Path | str], *, executor: Executor | None = None) -> Report:
    """The findings of a design, a device file, a folder of a site, or several of these.

    A device file is also compared with the others of its site; a site's folder brings its rehearsals and
    pieces, and a file of it that cannot be read is a finding. `executor` does the work where it says: any executor of
    concurrent.futures; the report is the same. Raises Unreadable where a path leads to no file.

    Examples:
        >>> import zapato
        >>> report = zapato.check(".")  # a site: every device, rehearsal and piece
        >>> report.ok, report.counts["error"]
        (True, 0)
    """
    if isinstance(what, Design):
        return report([what])
    paths = [Path(p) for p in ([what] if isinstance(what, (str, Path)) else what)]
    return check_files(paths, all_files(paths), executor)


def check_files(
    paths: Sequence[Path],
    files: Sequence[Path],
    executor: Executor | None = None,
    tell: Callable[[int], object] = lambda done: None,
    index: CheckIndex | None = None,
) -> Report:
    """The findings of these device files, and of what else the sites among `paths` have.

    `tell` hears how many are done. With an `index` only those are looked at that are not as it knows them, and it is saved.
    """
    with settled():
        report = _checked(paths, files, executor, tell, index)
    if index:
        index.save()
    return report


def _checked(
    paths: Sequence[Path],
    files: Sequence[Path],
    executor: Executor | None,
    tell: Callable[[int], object],
    index: CheckIndex | None,
) -> Report:
    roots = list(dict.fromkeys(root for path in paths if (root := root_of(path))))
    strict = not any(path.is_dir() for path in paths)
    devices: list[CheckResult] = []
    known = {path: result for path in files if index and (result := index.known(path))}
    looked = _looked([path for path in files if path not in known], strict, bool(roots), executor)
    for path in files:
        device = known.get(path) or next(looked)
        if index and path not in known:
            index.keep(device)
        devices.append(device)
        tell(len(devices))
    whole = together(devices)
    more = [
        other_files(root, [device for device in devices if device.source and device.root == root])
        for root in roots
    ]
    return Report.of(
        (
            *whole.findings,
            *whole.accepted,
            *(finding for more_files in more for finding in more_files.findings),
        ),
        whole.devices,
        {**{name: text for more_files in more for name, text in more_files.texts.items()}, **whole.texts},
    )


def _looked(
    files: Sequence[Path], strict: bool, whole: bool, executor: Executor | None
) -> Iterator[CheckResult]:
    """Each file looked at, here or elsewhere, in their order."""
    if executor is None:
        yield from (look_at(path, strict=strict, whole=whole) for path in files)
        return
    from zapato.spread import chunks, spread

    for paths, results in spread(partial(look_at_all, whole=whole), chunks(files, AT_ONCE), executor):
        try:
            yield from results()
        except ZapatoError as lost:
            for path in paths:
                message = f"not checked: {lost}"
                yield CheckResult(
                    path, findings=[Finding("file-unreadable", "error", Place(shown(path)), message)]
                )


def report(designs: Iterable[Design]) -> Report:
    """One report over these designs, with the findings of the sites they belong to."""
    return together([look(design) for design in designs])


def together(devices: Sequence[CheckResult]) -> Report:
    """One report over devices that were looked at."""
    findings = [finding for device in devices for finding in device.findings]
    texts = {name: text for device in devices for name, text in device.texts.items()}
    sites: dict[object, list[CheckResult]] = {}
    for device in devices:
        if device.source:
            sites.setdefault(device.root or device.path, []).append(device)
    for members in sites.values():
        site = site_of(members[0].root) if members[0].root else Site()
        own = site_boards(site.root)
        findings.extend((*site.findings, *own.findings))
        texts.update(own.texts if own.findings else {})
        findings.extend(check_site(site, members))
        texts.update(site.texts)
    _missing_texts(findings, texts, devices)
    return Report.of(findings, [device.device for device in devices if device.source], texts)


def _missing_texts(
    findings: Iterable[Finding], texts: dict[str, str], devices: Iterable[CheckResult]
) -> None:
    """The texts of device files that only a site's rules point into."""
    named = {device.device: device for device in devices if device.device}
    for finding in findings:
        if finding.place.file not in texts and finding.device in named:
            texts.update(texts_of(named[finding.device].design))


def check_site(site: Site, devices: Sequence[CheckResult]) -> Iterator[Finding]:
    """What the rules find in a site as a whole: what must be unique, the address plan, the network.

    The site's other devices count, too; what is wrong with them is theirs to hear.
    """
    others = neighbours(site, devices)
    ours, files = {device.device for device in devices}, {device.source for device in devices}
    theirs, elsewhere = {other.device for other in others} - ours, {other.source for other in others} - files
    for comparer in comparers():
        for finding in comparer.compare(site, [*others, *devices]) if comparer.compare else ():
            if finding.place.file not in elsewhere and finding.device not in theirs:
                yield finding
