"""What a rehearsal gives back.

A rehearsal fails where no free piece of the heap is left for an order (`Rehearsal.starved`): such a device cannot be updated any more.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict, field, replace
from typing import TYPE_CHECKING, Any

from zapato.findings import Place
from zapato.lang.json_text import read_json
from zapato.record import record
from zapato.regex import regex
from zapato.simulator.board import Effort, HeapUse

if TYPE_CHECKING:
    import pandas

    from zapato.design import Design


@record(frozen=True)
class Expectation:
    """One expectation of a rehearsal.

    Attributes:
        text: as written.
        place: where it stands in the rehearsal file.
        passed: True, False, or None where the rehearsal ended before it could be judged.
        at: the virtual moment of the verdict, s.
        after: s since it began to be watched.
        seen: the values that it reads, at that moment.
        number: of its step.
        said: of these values, what the device says over MQTT where that is another: the payload.
        unknown: of a failed one, what links to its parts ask for and the program did not know then, each with their numbers.
    """

    text: str
    place: Place
    passed: bool | None
    at: float | None = None
    after: float = 0.0
    seen: Mapping[str, Any] = field(default_factory=dict[str, Any])
    number: int = -1
    said: Mapping[str, str] = field(default_factory=dict[str, str])
    unknown: Mapping[str, tuple[int, ...]] = field(default_factory=dict[str, tuple[int, ...]])

    def as_dict(self) -> dict[str, Any]:
        """The verdict as plain data."""
        where = {"file": self.place.file, "line": self.place.line}
        verdict = {"passed": self.passed, "at": self.at, "seen": self.seen, "said": dict(self.said)}
        unknown = (
            {"unknown": {name: list(links) for name, links in self.unknown.items()}} if self.unknown else {}
        )
        return {"expect": self.text, **where, **verdict, **unknown}


@record(frozen=True)
class Moment:
    """One moment of a rehearsal's story.

    Attributes:
        t: s.
        what: "act", "expect", "power", "restart", "fault", "contact" or "page".
        text: in words.
        note: the step's own.
        of: the expectation that it is the verdict of.
        around: of a failed one, what happened before it: (s, text).
    """

    t: float
    what: str
    text: str
    note: str = ""
    of: Expectation | None = None
    around: tuple[tuple[float, str], ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """The moment as plain data."""
        return {"t": self.t, "what": self.what, "text": self.text, "note": self.note}


FAULT = "fault in "
"""How the program's word of a fault begins."""
BEFORE, SHOWN = 10.0, 8
"""s before a failed expectation began to be watched of which the story tells what happened, and how many rows at the most."""
TELLING = ("pin", "mqtt", "print", "message", "net", "frame", "contact", "sent")
"""What may have led to a failure."""


@record(frozen=True)
class Crash:
    """The program's end by an error: which, where in it, and the virtual moment in s."""

    error: str
    traceback: str
    at: float


PIECE = 512
"""Bytes in one piece that an order needs whose module is loaded only then, such as an update (the largest function of those modules)."""
Rows = Sequence[Mapping[str, Any]]
"""A trace: t (ms), what, name, value; and, among several, the device."""


def story_of(
    records: Rows, expectations: Iterable[Expectation], step_notes: Mapping[int, str]
) -> tuple[Moment, ...]:
    """The moments of a trace that tell how it went; `step_notes` are the notes of steps, by number."""
    moments: list[Moment] = []
    by_number = {expectation.number: expectation for expectation in expectations}
    for at, row in enumerate(records):
        t, what, name, value = row["t"] / 1000, row["what"], str(row["name"]), row["value"]
        who = f"{row['device']}: " if row.get("device") else ""
        if what == "act":
            note = step_notes.get(value, "")
            last = moments[-1] if moments else None
            if last and last.what == "act" and last.t == t and not note:
                moments[-1] = replace(last, text=f"{last.text}, {name}")
            else:
                moments.append(Moment(t, "act", name, note))
        elif what == "expect":
            record = by_number[row["number"]]
            around = _around(records[:at], record) if record.passed is False else ()
            moments.append(Moment(t, "expect", name, step_notes.get(record.number, ""), record, around))
        elif what == "power" and name in ("reset", "watchdog"):
            moments.append(Moment(t, "restart", f"{who}the firmware restarted: {_cause(records, at)}"))
        elif what == "power" and t > 0:
            text = "the power is back" if value else "the power is gone"
            last = moments[-1] if moments else None
            if last and last.what == "power" and last.t == t and last.text.endswith(f": {text}"):
                who, moments = f"{last.text.removesuffix(f': {text}')}, {who}", moments[:-1]
            moments.append(Moment(t, "power", who + text))
        elif what == "contact":
            moments.append(Moment(t, "contact", f"{who}{name} {value}"))
        elif what == "page":
            moments.append(Moment(t, "page", f"{who}the settings page says: {value}"))
        elif what == "print" and str(value).startswith(FAULT):
            moments.append(Moment(t, "fault", who + str(value)))
    return tuple(moments)


ASKED = "the program itself asked for it"
"""The cause of a restart that is no failure: an order, a long press, new settings."""
_ERROR = regex(r"\w*(Error|Exception|Interrupt)\b")


def _cause(records: Rows, at: int) -> str:
    """Why the program restarted the board: the error that it printed last of all, the watchdog, or because it was asked to."""
    row = records[at]
    if row["name"] == "watchdog":
        return "it fed the watchdog too late"
    before = (records[n] for n in range(at - 1, -1, -1))
    mine = (
        record
        for record in before
        if record.get("device") == row.get("device") and record["what"] in ("print", "power")
    )
    last = (str(next(mine, {"value": ""})["value"]).strip().splitlines() or [""])[-1]
    return last if _ERROR.match(last) else ASKED


def _around(before: Rows, expectation: Expectation) -> tuple[tuple[float, str], ...]:
    """What happened before a failure, that of the parts it reads first of all."""
    since = (expectation.at or 0.0) - expectation.after - BEFORE
    near: list[Mapping[str, Any]] = []
    for row in reversed(before):
        if row["t"] / 1000 < since:
            break
        if row["what"] in TELLING:
            near.append(row)
    names = {name.split(".")[-2] for name in expectation.seen if "." in name}
    own = [r for r in near if names & set(re.split(r"\W+", str(r["name"])))][:SHOWN]
    shown = own + [r for r in near if r not in own][: SHOWN - len(own)]
    return tuple(
        (r["t"] / 1000, f"{r.get('device', '')} {r['what']} {r['name']} {r['value']}".strip())
        for r in reversed(near)
        if r in shown
    )


def said_of(before: Rows, seen: Mapping[str, Any]) -> dict[str, str]:
    """Of measured values, what the device said last over MQTT where that is another."""
    said: dict[str, str] = {}
    for name, value in seen.items():
        end = "/" + name.replace(".", "/")
        last = next(
            (r for r in reversed(before) if r["what"] == "mqtt" and f"/{r['name']}".endswith(end)), None
        )
        if last is not None and _differs(value, str(last["value"])):
            said[name] = str(last["value"])
    return said


def unknown_of(design: Design, before: Rows, seen: Mapping[str, Any]) -> dict[str, tuple[int, ...]]:
    """What the program did not know, of all that links to these parts ask for: such a condition does not hold, nor does its opposite."""
    parts = {name.partition(".")[0] for name in seen}
    last = {"/".join(r["name"].split("/")[-2:]): r["value"] for r in before if r["what"] == "mqtt"}
    unknown = {
        f"{part}.{name}"
        for part, known_part in design.parts.items()
        for name, known in known_part.properties.items()
        if last.get(f"{part}/{name}", "null" if known.unknown else "") == "null"
    }
    links_of: dict[str, tuple[int, ...]] = {}
    for link in design.links:
        asked = {".".join(read) for _, expression in link.expressions for read in expression.reads}
        if any(command.part in parts for command in link.commands):
            for name in sorted(asked & unknown):
                links_of[name] = (*links_of.get(name, ()), link.number)
    return links_of


def _differs(value: object, payload: str) -> bool:
    try:
        said: object = read_json(payload)
    except ValueError:
        return False
    if isinstance(value, bool) or isinstance(said, bool) or (said is None and value is not None):
        return value is not said
    if isinstance(value, (int, float)) and isinstance(said, (int, float)):
        return abs(value - said) > 1
    return False


def outages_of(records: Rows, lasts: float) -> tuple[tuple[str, float, float], ...]:
    """When power, network and broker were away: which, from, to, s."""
    outages: list[tuple[str, float, float]] = []
    for what, name, word in (
        ("power", "on", "power"),
        ("net", "wifi", "network"),
        ("net", "broker", "broker"),
    ):
        since: float | None = None
        for row in records:
            if row["what"] == what and row["name"] == name:
                if not row["value"] and since is None:
                    since = row["t"] / 1000
                elif row["value"] and since is not None:
                    outages.append((word, since, row["t"] / 1000))
                    since = None
        if since is not None:
            outages.append((word, since, lasts))
    return tuple(sorted(outages, key=lambda outage: outage[1]))


@record(frozen=True)
class Rehearsal:
    """One rehearsal.

    Attributes:
        device: what was rehearsed.
        title: as the rehearsal calls itself.
        lasts: s of virtual time.
        wall: s that it took.
        expectations: in the order of the file.
        crash: where the program came to an end, or None.
        used: the program's memory: after loading, at its peak, the largest free piece at its smallest.
        heap: bytes that the chip leaves a program, and that this one had.
        effort: instructions that it spent, as figures that repeat exactly.
        records: everything that happened, as rows of t (ms), what, name, value.
        notes: what is worth knowing about the rehearsal itself, a sentence each.
        step_notes: the notes of its steps, by number.
        cards: what stands on its SD cards afterwards: files by name, by the part's name.
        outputs: what its outputs were, measured at their pins: (s, on) by property, such as "lamp.on".
        live: it ran in real time; `lasts` and every moment are real, too.
    """

    device: str
    title: str
    lasts: float
    wall: float
    expectations: tuple[Expectation, ...]
    crash: Crash | None
    used: HeapUse
    heap: int
    effort: Effort
    records: tuple[Mapping[str, Any], ...] = field(repr=False)
    notes: tuple[str, ...] = ()
    live: bool = False
    step_notes: Mapping[int, str] = field(default_factory=dict[int, str], repr=False)
    cards: Mapping[str, Mapping[str, bytes]] = field(
        default_factory=dict[str, Mapping[str, bytes]], repr=False
    )
    outputs: Mapping[str, tuple[tuple[float, bool], ...]] = field(
        default_factory=dict[str, tuple[tuple[float, bool], ...]], repr=False
    )

    @property
    def story(self) -> tuple[Moment, ...]:
        """The day as it went: acts, verdicts, outages, faults and restarts, in their order."""
        return story_of(self.records, self.expectations, self.step_notes)

    @property
    def outages(self) -> tuple[tuple[str, float, float], ...]:
        """When power, network and broker were away: which, from, to, s."""
        return outages_of(self.records, self.lasts)

    @property
    def heap_peak(self) -> int:
        """Bytes of the heap that the program held at the most, after a collection."""
        return self.used.peak

    @property
    def restarts(self) -> tuple[float, ...]:
        """The moments, in s, at which an error or the watchdog restarted the board; restarts that were asked for are none."""
        rows = enumerate(self.records)
        bad = (at for at, r in rows if r["what"] == "power" and r["name"] in ("reset", "watchdog"))
        return tuple(self.records[at]["t"] / 1000 for at in bad if _cause(self.records, at) != ASKED)

    @property
    def faults(self) -> tuple[tuple[float, str], ...]:
        """What the program told of faults that it survived: (s, text)."""
        return tuple((t, text) for t, text in self.log if text.startswith(FAULT))

    @property
    def starved(self) -> bool:
        """Whether at some moment no free piece of the heap was large enough for an update or another order over the network."""
        if self.live or not 0 < self.used.largest < PIECE:
            return False
        return any(row["what"] == "mqtt" for row in self.records)

    @property
    def passed(self) -> bool:
        """True where every expectation held, and the program ran to the end without a restart and with memory enough."""
        if (
            self.crash
            or self.restarts
            or self.starved
            or any("fault in memory" in text for _, text in self.faults)
        ):
            return False
        return all(expectation.passed for expectation in self.expectations)

    def as_dict(self) -> dict[str, Any]:
        """The verdict as plain data: what `--format json` prints."""
        rows = [expectation.as_dict() for expectation in self.expectations]
        crash = (
            {"error": self.crash.error, "at": self.crash.at, "traceback": self.crash.traceback}
            if self.crash
            else None
        )
        return {
            "device": self.device,
            "title": self.title,
            "passed": self.passed,
            "lasts": self.lasts,
            "expectations": rows,
            "crash": crash,
            "restarts": list(self.restarts),
            "faults": [{"at": t, "text": text} for t, text in self.faults],
            "heap": {"has": self.heap, **asdict(self.used)},
            "effort": asdict(self.effort),
            "notes": list(self.notes),
            "story": [moment.as_dict() for moment in self.story],
            "outages": [{"what": what, "from": since, "to": to} for what, since, to in self.outages],
            "messages": sum(r["what"] == "mqtt" for r in self.records),
        }

    @property
    def frame(self) -> pandas.DataFrame:
        """The trace: t in s, what ("pin", "mqtt", "net", "act", "print", …), name, value."""
        import pandas

        rows = [(r["t"] / 1000, r["what"], r["name"], r["value"]) for r in self.records]
        return pandas.DataFrame(rows, columns=["t", "what", "name", "value"])

    @property
    def messages(self) -> pandas.DataFrame:
        """What the device published: t in s, topic, payload, retain."""
        import pandas

        rows = [
            (r["t"] / 1000, r["name"], r["value"], r["retain"]) for r in self.records if r["what"] == "mqtt"
        ]
        return pandas.DataFrame(rows, columns=["t", "topic", "payload", "retain"])

    @property
    def log(self) -> tuple[tuple[float, str], ...]:
        """What the program printed: (s, text)."""
        return tuple((r["t"] / 1000, r["value"]) for r in self.records if r["what"] == "print")
