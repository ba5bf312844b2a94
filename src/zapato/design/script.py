"""The rehearsal file: read, checked against the design, and turned into what the simulator runs.

It belongs here, not to the simulator, so that `check SITE` checks rehearsals, too.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Protocol, cast
from zoneinfo import ZoneInfo

from zapato.design.acts import CUT, OFF_FOR, Call, as_felt, gradual, one_act, unreachable
from zapato.design.design import Design
from zapato.design.models import Model, read_models
from zapato.design.remote_acts import devices, remote_act, remote_world
from zapato.design.scope import PartScope
from zapato.findings import Place
from zapato.lang.document import Document
from zapato.lang.expressions import Function, Mistake, Read, Scope, compile_expression
from zapato.lang.fields import REQUIRED, Field, Shape, Wrong, measured, nearest, text, whole
from zapato.lang.source import Keys, Source, table
from zapato.record import record

BEGINS = datetime(2026, 6, 1, 8)
"""A rehearsal begins on a Monday morning, where it does not say another moment."""


def _read_begins(value: object) -> datetime:
    if not isinstance(value, datetime) or value.tzinfo is not None:
        raise Wrong("takes a local date and time without quotes and zone: 2026-06-01T08:00:00")
    if not 2020 <= value.year < 2100:
        raise Wrong("lies in the years 2020 to 2099")
    return value


HEAD = Shape(
    (
        text("title", "what is rehearsed", ""),
        measured(
            "lasts",
            "how long the rehearsal is, in virtual time",
            "time",
            REQUIRED,
            least=100,
            most=366 * 86_400_000,
        ),
        Field(
            "begins",
            _read_begins,
            {"type": "string"},
            "the local date and time at which it begins, without quotes: 2026-06-01T08:00:00",
            BEGINS,
        ),
        whole("seed", "seed seed of everything random: contact bounce, waiting times", 1),
    )
)


def _texts(value: object) -> tuple[str, ...]:
    items = [value] if isinstance(value, str) else cast(list[object], value)
    if not isinstance(value, (str, list)) or not items or not all(isinstance(item, str) for item in items):
        raise Wrong('takes an act, or a list of them: ["start.press", "door.closed = false"]')
    return tuple(cast(list[str], items))


STEP = Shape(
    (
        measured("at", "the moment, from the beginning", "time"),
        measured("wait", "how long after the step before", "time"),
        measured("within", "the expectation comes true no later than this after the step before", "time"),
        measured("stays", "the expectation stays true for this long", "time"),
        measured(
            "over", "the act takes this long: a value goes there evenly, the power is off for it", "time"
        ),
        Field("act", _texts, {"type": ["string", "array"]}, "what happens to the world", None),
        text("expect", "what must be true", None, most=1000),
        text("note", "what this step is about, for the story", None, most=200),
    )
)


@record(frozen=True)
class Step:
    """One step: an act or an expectation, and when; `code` is that of an expectation."""

    number: int
    text: str
    code: str
    act: bool
    place: Place
    at: int | None = None
    wait: int = 0
    within: int = 0
    stays: int = 0
    over: int = 0
    note: str = ""
    reads: tuple[tuple[str, str], ...] = ()
    act_call: Call | None = None


@record
class Script:
    """A rehearsal file, read.

    Attributes:
        title: what is rehearsed.
        lasts: ms of virtual time.
        begins: the local date and time of its beginning.
        notes: what is worth knowing about it, a sentence each.
        world: what the world is like at the beginning, "part.property" -> value.
        models: what of the world follows from what the device does.
        said: what other devices have said before, as topic and payload, where the script speaks for them.
        devices: who takes part, where the file names them.
    """

    document: Document
    title: str = ""
    lasts: int = 0
    seed: int = 1
    begins: datetime = BEGINS
    notes: list[str] = field(default_factory=list[str])
    world: list[tuple[str, Any]] = field(default_factory=list[tuple[str, Any]])
    models: list[Model] = field(default_factory=list[Model])
    steps: list[Step] = field(default_factory=list[Step])
    said: list[tuple[str, str]] = field(default_factory=list[tuple[str, str]])
    devices: tuple[str, ...] = ()


class StageScope(PartScope):
    """Expectations read the same properties as links do, from the simulator instead of the program."""

    functions: Mapping[str, Function] = {"published": Function(1, 2, "w.published")}

    def read(self, part: str, name: str) -> Read:
        known = super().read(part, name)
        return Read(known.type, known.unit, f"w.read({part!r}, {name!r})", True)


class Company(Protocol):
    """Who is in the simulator: one device, or several."""

    @property
    def scope(self) -> Scope:
        """What expectations may read."""
        ...

    def act(self, written: str, over: int, folder: Path) -> tuple[Call | None, Mistake | None]:
        """What one act does, or the mistake in it."""
        ...

    def unreachable(self, key: str, value: object) -> Mistake | None:
        """Why the world cannot set this to this value, or None."""
        ...

    def world(self, script: Script) -> None:
        """Read the [world] of the script."""
        ...


class Alone:
    """One device in the simulator."""

    def __init__(self, design: Design) -> None:
        self.design = design
        self.scope = StageScope(design.parts)

    def act(self, written: str, over: int, folder: Path) -> tuple[Call | None, Mistake | None]:
        return remote_act(self.design, written) or one_act(self.design, written, over, folder)

    def unreachable(self, key: str, value: object) -> Mistake | None:
        return unreachable(self.design, key, value)

    def world(self, script: Script) -> None:
        known = devices(self.design)
        for name, values in table(script.document.data, "world").items():
            if name in known and name not in self.design.parts:
                self._remote_world(script, name, values)
            else:
                script.world += part_world(script, self.design, name, values, ("world", name))
        silent = known.keys() - table(script.document.data, "world").keys()
        if silent:
            script.notes.append(
                f"the world says nothing of {', '.join(sorted(silent))}, so nothing of it is known"
            )

    def _remote_world(self, script: Script, device: str, values: object) -> None:
        for keys, said in remote_world(self.design, device, values):
            if isinstance(said, Mistake):
                path = ("world", device, *keys)
                script.document.found(said.code, path, said.message, fixes=said.fixes, of="key")
            else:
                script.said.append(said)


def read_act(design: Design, written: str) -> tuple[Call | None, Mistake | None]:
    """What one act does, written as in a rehearsal, or the mistake in it."""
    return Alone(design).act(written, OFF_FOR if written.strip() == CUT else 0, Path.cwd())


def part_world(
    script: Script, design: Design, name: str, values: object, path: Keys
) -> Iterator[tuple[str, Any]]:
    """What the world sets of one part, "part.property" and value; mistakes become findings at `path`."""
    part = design.parts.get(name)
    if part is None or not isinstance(values, dict):
        message = f"the world has part.property = value, and no part is called {name}"
        script.document.found(
            "link-unknown", path, message, fixes=nearest(name, list(design.parts)), of="key"
        )
        return
    for key, value in cast(dict[str, Any], values).items():
        applied, problem = as_felt(part, key, value, script.document.source.path.parent)
        if problem:
            script.document.found(problem.code, (*path, key), problem.message, fixes=problem.fixes)
        else:
            yield f"{name}.{key}", applied


def read_script(path: Path, design: Design) -> Script:
    """The rehearsal at `path` for this design; mistakes are in its document's findings. Raises Unreadable."""
    script = read_scenes(path, Alone(design), HEAD)
    _left_out(script, design)
    return script


def read_scenes(path: Path, company: Company, shape: Shape) -> Script:
    """A rehearsal file for those in the simulator; its [rehearsal] has this shape. Raises Unreadable."""
    document = Document.of(Source.read(path))
    script = Script(document)
    if "rehearsal" not in document.data:
        document.found(
            "missing-key", ("rehearsal",), "the file has no [rehearsal] table with lasts", of="key"
        )
    else:
        head = document.read(shape, table(document.data, "rehearsal"), ("rehearsal",))
        script.title, script.lasts = head.get("title") or path.stem, head.get("lasts", 0)
        script.seed = head.get("seed", 1)
        script.begins, script.devices = head.get("begins", BEGINS), head.get("devices") or ()
    for key in document.data.keys() - {"zapato", "rehearsal", "world", "model", "step"}:
        document.found(
            "unknown-key",
            (key,),
            f"{key} is not a table of a rehearsal",
            fixes=nearest(key, ("world", "model", "step")),
            of="key",
        )
    company.world(script)
    script.models = read_models(document, company.scope, company.unreachable)
    _steps(script, company)
    return script


def scripts(design: Design) -> list[Path]:
    """Where the device's own rehearsal may stand: under its name, and that of a family under its file's."""
    source = design.document.source
    folder = (design.site.root or source.path.absolute().parent) / "rehearsals"
    names = (design.name, source.path.stem) if source.row else (design.name,)
    return [folder / f"{name}.toml" for name in names if name]


def _left_out(script: Script, design: Design) -> None:
    """What a sensor would feel and nothing ever sets: it will not answer, or what it says means nothing."""
    given = {key for key, _ in script.world} | {model.drives for model in script.models}
    given |= {
        step.act_call.arguments[0] for step in script.steps if step.act_call and step.act_call.name == "put"
    }
    for part in design.with_role("sensor"):
        stimuli = part.simulation.stimuli
        missing = [key for key in (f"{part.name}.{key}" for key in stimuli) if key not in given]
        if missing and "pin" not in part.pins and "bus" not in part.linked:
            continue
        if missing:
            answers = "bus" in part.linked and len(missing) < len(
                stimuli
            )  # a chip on a pin answers with all or nothing
            follows = (
                f": what {part.name} says of it means nothing"
                if answers
                else f", so {part.name} does not answer"
            )
            script.notes.append(f"[world] does not set {', '.join(missing)}{follows}")


def _steps(script: Script, company: Company) -> None:
    document = script.document
    raw = document.data.get("step", [])
    if not isinstance(raw, list):
        document.found("wrong-type", ("step",), "a step stands in double brackets: [[step]]", of="key")
        return
    for index, fields in enumerate(cast(list[Any], raw)):
        path: Keys = ("step", index)
        if not isinstance(fields, dict):
            document.found("wrong-type", path, "a step is a table: [[step]]")
            continue
        values = document.read(STEP, cast(dict[str, Any], fields), path)
        if (values.get("act") is None) == (values.get("expect") is None):
            if "act" in values and "expect" in values:
                document.found("missing-key", path, "a step has either act or expect", of="key")
            continue
        _when(script, values, path)
        _idle(script, values, path)
        if values.get("act"):
            _acts(script, company, values, path)
        else:
            _expectation(script, company, values, path)


def _idle(script: Script, values: Mapping[str, Any], path: Keys) -> None:
    """Keys that do nothing beside the others of their step."""
    idle = [("over", "expect")] if values.get("expect") else [("within", "act"), ("stays", "act")]
    idle += [("stays", "within"), ("wait", "at")]
    for key, beside in idle:
        if values.get(key) is not None and values.get(beside) is not None:
            message = f"{key} does nothing in a step with {beside}"
            script.document.found(
                "unknown-key",
                (*path, key),
                message,
                fixes=(f"a step of its own, without {beside}",),
                of="key",
            )


def _when(script: Script, values: Mapping[str, Any], path: Keys) -> None:
    at = values.get("at")
    if at is None and "at" in values and path[1] == 0:
        script.document.found("missing-key", path, "the first step needs at", of="key")
    if at is not None and script.lasts and at > script.lasts:
        script.document.found("wrong-type", (*path, "at"), "the step comes after the rehearsal's end")


def begins_at(script: Script, design: Design) -> datetime:
    """The beginning in UTC; where an hour comes twice, its first."""
    zone = ZoneInfo((design.time or {}).get("zone") or "UTC")
    return script.begins.replace(tzinfo=zone).astimezone(UTC)


def _timing(values: Mapping[str, Any]) -> dict[str, Any]:
    at = values.get("at")
    return {"at": at, **{name: values.get(name) or 0 for name in ("wait", "within", "stays", "over")}}


def _expectation(script: Script, company: Company, values: Mapping[str, Any], path: Keys) -> None:
    written: str = values["expect"]
    expression = compile_expression(written, company.scope)
    if not expression.mistakes and expression.value.type != "boolean":
        expression.mistakes.append(
            Mistake(0, f"an expectation is true or false, and this is a {expression.value.type}")
        )
    where = (*path, "expect")
    for mistake in expression.mistakes:
        script.document.found(
            mistake.code, where, mistake.message, fixes=mistake.fixes, offset=mistake.offset + 1
        )
    reads = tuple(dict.fromkeys(expression.reads))
    place = script.document.place(where)
    script.steps.append(
        Step(
            len(script.steps),
            written,
            expression.code,
            False,
            place,
            reads=reads,
            note=values.get("note") or "",
            **_timing(values),
        )
    )


def _acts(script: Script, company: Company, values: Mapping[str, Any], path: Keys) -> None:
    for index, written in enumerate(values["act"]):
        raw = script.document.data["step"][path[1]]["act"]
        where = (*path, "act", index) if isinstance(raw, list) else (*path, "act")
        over = values.get("over") or (OFF_FOR if written.strip() == CUT else 0)
        call, mistake = company.act(written, over, script.document.source.path.parent)
        if mistake:
            script.document.found(
                mistake.code, where, mistake.message, fixes=mistake.fixes, offset=mistake.offset + 1
            )
        if values.get("over") and call and not (call.name == "cut" or gradual(call)):
            message = f"over does nothing with {written}: it happens at once"
            script.document.found("unknown-key", (*path, "over"), message, of="key")
        timing: dict[str, Any] = {**_timing(values), "over": over}
        if index:
            timing |= {"at": values.get("at"), "wait": 0} if values.get("at") is not None else {"wait": 0}
        place = script.document.place(where)
        note = "" if index else values.get("note") or ""
        script.steps.append(
            Step(len(script.steps), written, "", True, place, act_call=call, note=note, **timing)
        )
