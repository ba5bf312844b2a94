"""A report as people read it: the source line, a caret, the reason, the way out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING

from zapato.cli.terminal import SHOWN, harmless, some, styled, veiled, wrapped
from zapato.findings import Finding, Report
from zapato.lang.source import shown as shown_path
from zapato.lang.units import shown_time

if TYPE_CHECKING:
    from zapato.firmware import Build
    from zapato.simulator import Crash, Expectation, Moment, Rehearsal, SiteRehearsal

COLORS = {"error": "red", "warning": "yellow", "note": "cyan"}
MANY = 20
"""Findings from which on totals are told."""
LONGEST_LINE = 120
"""Characters of a source line that are shown."""


def text_of(report: Report) -> str:
    """Every finding of a report, each as a block of lines with a blank line after it; equal ones once."""
    return "".join(f"{_block(same, report.texts)}\n\n" for same in _folded(report))


def _folded(report: Report) -> list[list[Finding]]:
    """Findings that say the same of different places, together, in the order of the first."""
    findings: dict[object, list[Finding]] = {}
    for finding in report.findings:
        findings.setdefault(
            (finding.code, finding.severity, finding.message, finding.why, finding.fixes, finding.pin), []
        ).append(finding)
    return list(findings.values())


def brief_text(report: Report) -> str:
    """One line a finding, as compilers print them."""
    lines = [
        f"{f.place.file}:{f.place.line}:{f.place.column}: {f.severity} {f.code}: {f.message}\n"
        for f in report.findings
    ]
    return "".join(lines)


def totals(report: Report) -> str:
    """How many findings of each code and of each device, where there are more than a page of them."""
    if len(report.findings) < MANY:
        return ""
    by_code = Counter(f"{f.severity} {f.code}" for f in report.findings)
    by_device = Counter(f.device or "the site" for f in report.findings)
    lines = [f"{count:>6}  {name}" for name, count in by_code.most_common()]
    lines += ["", *(f"{count:>6}  {name}" for name, count in by_device.most_common(SHOWN))]
    if len(by_device) > SHOWN:
        lines.append(f"        and {len(by_device) - SHOWN} devices more; --device NAME shows one alone")
    return "\n".join([*lines, "", ""])


def _block(same: list[Finding], texts: Mapping[str, str]) -> str:
    finding = same[0]
    place = finding.place
    head = " ".join(
        (
            styled(finding.severity, fg=COLORS[finding.severity], bold=True),
            styled(finding.code, bold=True),
            f" {place.file}:{place.line}:{place.column}",
        )
    )
    lines = [
        head,
        *_source(same, texts),
        *wrapped("  ", finding.message + "."),
    ]
    if finding.why:
        lines += wrapped("  why: ", finding.why)
    for fix in finding.fixes:
        lines += wrapped("  way out: ", fix)
    rows = dict.fromkeys(f"{finding.device} ({finding.row})".strip() for finding in same if finding.row)
    if rows:
        lines += wrapped("  row: " if len(rows) == 1 else "  rows: ", some(list(rows)))
    places = dict.fromkeys(f"{finding.place.file}:{finding.place.line}" for finding in same)
    others = list(places)[1:]
    if others:
        lines += wrapped("  also at: ", some(others))
    return "\n".join(lines)


def _source(same: Sequence[Finding], texts: Mapping[str, str]) -> Iterable[str]:
    """The source line of the first with a caret under each of its places; nothing where the file's text must not be shown."""
    finding = same[0]
    place = finding.place
    rows = texts.get(place.file, "").split("\n")
    row = veiled(rows[place.line - 1].rstrip()) if place.line <= len(rows) else ""
    if not row.strip():
        return
    end = place.column + min(place.width, LONGEST_LINE // 2)
    shift = max(0, end - LONGEST_LINE) if len(row) > LONGEST_LINE else 0
    shown = row[shift : shift + LONGEST_LINE].replace("\t", " ")
    margin = f"{place.line:>5} | "
    yield styled(margin, dim=True) + harmless(shown)
    carets = ""
    for at in (
        other.place for other in same if (other.place.file, other.place.line) == (place.file, place.line)
    ):
        begin = min(max(0, at.column - 1 - shift), len(shown))
        if begin >= len(carets):
            width = max(1, min(at.width, len(shown) - begin))
            carets = carets.ljust(begin) + "^" * width
    yield styled("      | ", dim=True) + styled(carets, fg=COLORS[finding.severity], bold=True)


def summary(report: Report, otherwise: str = "no device") -> str:
    """One line: how many of each, over how many devices; `otherwise` says what was looked at where that is none."""
    counts = report.counts
    words = [f"{count} {name}{'s' * (count != 1)}" for name, count in counts.items() if count]
    if report.accepted:
        words.append(f"{len(report.accepted)} accepted")
    color = next((COLORS[name] for name, count in counts.items() if count), "green")
    devices = (
        ", ".join(name for name in report.devices if name)
        if len(report.devices) < 6
        else f"{len(report.devices)} devices"
    )
    return f"{devices or otherwise}: {styled(', '.join(words) or 'no findings', fg=color, bold=True)}"


def _share(part: int, whole: int) -> str:
    return f"{part / 1024:.1f} of {kib(whole)} ({part / whole:.1%})"


def kib(size: int) -> str:
    """A size in KiB, its decimal only where it is not zero."""
    return f"{size / 1024:,.1f}".removesuffix(".0") + " KiB"


def built_lines(built: Build) -> list[str]:
    """What a build made, in a few lines."""
    news = "built" if built.changed else "unchanged"
    lines = [f"{styled(news, fg='green', bold=True)} {built.device} {built.version} for {built.board}"]
    lines.append(f"  modules  {len(built.modules)}, {_share(built.size, built.flash)} of the flash")
    lines.append(f"  update   {shown_path(built.update)} ({built.update.stat().st_size / 1024:.1f} KiB)")
    image = built.first or built.data
    what = "the whole flash" if built.first else "the data partition"
    lines.append(f"  secret   {shown_path(image)} ({image.stat().st_size / 1024:.0f} KiB, {what})")
    if built.wear:
        worn = built.wear
        lines.append(
            f"  flash    lasts {_years(worn.years)} at {worn.a_day} writings a day (kept: {', '.join(worn.kept)}), "
            f"{_years(worn.years_least)} if something kept changed all the time"
        )
    if built.key_made:
        lines.append("  update key made and kept in secrets.toml")
    return lines


def _years(years: float) -> str:
    """A time that nobody waits for is told as one."""
    if years >= 100:
        return "over 100 years"
    return f"{years:.0f} years" if years >= 2 else f"{years * 12:.0f} months"


def rehearsal_lines(result: Rehearsal) -> list[str]:
    """Every expectation with the moment of its verdict; a crash with its traceback."""
    took = (
        f"{result.wall:.1f} s of real time"
        if result.live
        else f"{shown_time(result.lasts * 1000)} of virtual time in {result.wall:.1f} s"
    )
    lines = [f"{_verdict(result.passed)} {result.device}: {result.title}, {took}"]
    lines += _story_lines(result)
    if result.crash:
        lines += _crash(result.crash, "the firmware")
    lost = [r for r in result.records if r["what"] == "lost"]
    if lost:
        first = f"{lost[0]['name']} at {clock(lost[0]['t'] / 1000)}"
        lines.append(
            f"  note     {len(lost)} message{'s' * (len(lost) != 1)} did not reach the device: it was not connected ({first})"
        )
    lines += [f"  note     {note}" for note in result.notes]
    lines.append(
        f"  heap     at most {_share(result.heap_peak, result.heap)} of the chip's; largest free piece {result.used.largest:,} bytes at its smallest"
    )
    if result.starved:
        lines.append(
            styled(
                "           too little for an update or another command over the network. Remove parts or links, or choose a chip with more memory.",
                fg="red",
            )
        )
    return [*lines, *_time_lines(result)]


def _time_lines(result: Rehearsal) -> list[str]:
    """How much of its time the chip computes, at the rate that its file has; nothing of a live rehearsal, which has this machine's time."""
    if result.live or not result.lasts or not result.effort.computed:
        return []
    share = result.effort.computed / 1e6 / result.lasts
    lines = [f"  time     the chip computes {share:.1%} of the time (an estimate; docs/ports.md)"]
    lost = result.effort.lost
    if lost:
        lines.append(
            f"  note     {lost} interrupt{'s' * (lost != 1)} {'were' if lost != 1 else 'was'} lost: no room in the port's queue"
        )
    return lines


def site_lines(result: SiteRehearsal) -> list[str]:
    """A site's rehearsal: its story, and what it took of each chip."""
    took = f"{shown_time(result.lasts * 1000)} of virtual time in {result.wall:.1f} s"
    lines = [
        f"{_verdict(result.passed)} {result.site}, {len(result.devices)} devices together: {result.title}, {took}"
    ]
    lines += _story_lines(result)
    for name, device in result.devices.items():
        lines += _crash(device.crash, name) if device.crash else []
    lines += [f"  note     {note}" for note in result.notes]
    for number, (name, device) in enumerate(result.devices.items()):
        word = "  heap   " if number == 0 else " " * 9
        lines.append(f"{word}  {name}: at most {_share(device.heap_peak, device.heap)}")
    return lines


def site_brief_line(result: SiteRehearsal) -> str:
    """A site's rehearsal in one line."""
    held = sum(expectation.passed is True for expectation in result.expectations)
    text = f"{_verdict(result.passed)} {result.site}, {len(result.devices)} devices together: {held} of {len(result.expectations)} expectations held"
    for name, device in result.devices.items():
        if device.crash or device.restarts:
            at = device.crash.at if device.crash else device.restarts[0]
            return f"{text}; {name} {'crashed' if device.crash else 'restarted'} at {clock(at)}"
    wrong = next((expectation for expectation in result.expectations if not expectation.passed), None)
    return f"{text}; first not: {wrong.text} ({wrong.place.file}:{wrong.place.line})" if wrong else text


def _verdict(passed: bool) -> str:
    return styled("passed", fg="green", bold=True) if passed else styled("failed", fg="red", bold=True)


def _story_lines(result: Rehearsal | SiteRehearsal) -> list[str]:
    """The story, and the expectations that were not reached."""
    lines = [line for moment in result.story for line in _moment(moment)]
    return lines + [
        line
        for expectation in result.expectations
        if expectation.at is None
        for line in _expectation(expectation)
    ]


def _crash(crash: Crash, who: str) -> list[str]:
    first = styled(f"  {who} crashed at {clock(crash.at)}: {crash.error}", fg="red", bold=True)
    return [first, *(f"    {line}" for line in crash.traceback.splitlines())]


def brief_line(result: Rehearsal) -> str:
    """A rehearsal in one line."""
    held = sum(expectation.passed is True for expectation in result.expectations)
    text = f"{_verdict(result.passed)} {result.device}: {held} of {len(result.expectations)} expectations held, heap {result.heap_peak / result.heap:.0%}"
    wrong = next((expectation for expectation in result.expectations if not expectation.passed), None)
    if result.crash:
        return f"{text}; crashed at {clock(result.crash.at)}"
    if result.restarts:
        return f"{text}; restarted at {clock(result.restarts[0])}"
    if result.starved:
        text += ", too little free for an update"
    return f"{text}; first not: {wrong.text} ({wrong.place.file}:{wrong.place.line})" if wrong else text


def _moment(moment: Moment) -> list[str]:
    """One moment of the story, its note above it."""
    lines = [f"{'':14}  {styled(f'- {moment.note}', bold=True)}"] if moment.note else []
    at = f"  {clock(moment.t):>12}"
    if moment.of:
        lines += _expectation(moment.of)
        lines += [f"{'':22}  {styled(f'{clock(t):>10} {text}', dim=True)}" for t, text in moment.around]
    elif moment.what == "act":
        lines.append(f"{at}  {styled('act   ', fg='cyan')}  {moment.text}")
    elif moment.what == "restart":
        from zapato.simulator.result import ASKED

        asked = moment.text.endswith(ASKED)
        lines.append(
            f"{at}  {styled('restart', fg='yellow') if asked else styled('RESTART', fg='red')} {moment.text}"
        )
    elif moment.what == "fault":
        lines.append(f"{at}  {styled('fault ', fg='red')}  {moment.text.removeprefix('fault ')}")
    else:
        lines.append(f"{at}  {styled(f'{moment.what:<6}', fg='yellow')}  {moment.text}")
    return lines


def _expectation(expectation: Expectation) -> list[str]:
    word, color = {True: ("held", "green"), False: ("FAILED", "red"), None: ("not reached", "yellow")}[
        expectation.passed
    ]
    moment = clock(expectation.at) if expectation.at is not None else "-"
    lines = [f"  {moment:>12}  {styled(f'{word:<6}', fg=color)}  {expectation.text}"]
    if expectation.passed is False:
        seen = (
            ", ".join(f"{name} = {_plain(value)}" for name, value in expectation.seen.items())
            or "nothing like it"
        )
        lines.append(f"{'':22}  seen: {seen}  ({expectation.place.file}:{expectation.place.line})")
        if expectation.said:
            said = ", ".join(f"{name} = {payload}" for name, payload in expectation.said.items())
            lines.append(f"{'':22}  said over MQTT: {said}; what is seen is measured outside the program")
        for name, links in expectation.unknown.items():
            which = f"link{'s' * (len(links) > 1)} {', '.join(map(str, links))}"
            lines.append(
                f"{'':22}  the program did not know {name} then: what {which} asked of it did not hold"
            )
    return lines


def _plain(value: object) -> str:
    if value is None:
        return "unknown"
    return str(value).lower() if isinstance(value, bool) else str(value)


def clock(seconds: float) -> str:
    """A virtual moment as hours, minutes and seconds."""
    whole, fraction = divmod(round(seconds * 1000), 1000)
    text = f"{whole // 3600}:{whole // 60 % 60:02}:{whole % 60:02}"
    return f"{text}.{fraction:03}" if fraction else text
