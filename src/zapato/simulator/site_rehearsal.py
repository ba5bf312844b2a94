"""A site rehearsed as one: its devices in one virtual time, talking through one broker."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from zapato.design import Design
from zapato.design.acts import ALL, Call
from zapato.design.models import Model
from zapato.design.script import Script, read_script
from zapato.design.site_script import FILE, read_site_script, whole_topic
from zapato.errors import RehearsalInvalid, Unreadable
from zapato.firmware.program import Program
from zapato.lang.source import shown
from zapato.record import record
from zapato.simulator import vm
from zapato.simulator.models import Running
from zapato.simulator.rehearse import default_script, expectations_of, result_of
from zapato.simulator.result import Expectation, Moment, Rehearsal, Rows, outages_of, story_of
from zapato.simulator.site_simulation import SimulatedDevice, SiteSimulation
from zapato.simulator.steps import Steps, evaluated

if TYPE_CHECKING:
    import pandas


@record(frozen=True)
class SiteRehearsal:
    """A rehearsal of several devices.

    Attributes:
        site: what was rehearsed.
        title: as the rehearsal calls itself.
        lasts: s of virtual time.
        wall: s that it took.
        expectations: of the site's file, in its order.
        devices: each device's own part in it, by name: its trace, its memory, where its program ended.
        records: everything that happened, as rows of t (ms), device ("" for the broker and the script), what, name, value.
        notes: what is worth knowing about the rehearsal itself, a sentence each.
        step_notes: the notes of its steps, by number.
        shown: the properties that its steps are about, "device.part.property", in their order.
    """

    site: str
    title: str
    lasts: float
    wall: float
    expectations: tuple[Expectation, ...]
    devices: Mapping[str, Rehearsal]
    records: Rows = field(repr=False)
    notes: tuple[str, ...] = ()
    step_notes: Mapping[int, str] = field(default_factory=dict[int, str], repr=False)
    shown: tuple[str, ...] = ()

    @property
    def passed(self) -> bool:
        """True where every expectation held, and every program ran to the end without a restart and with memory enough."""
        return all(expectation.passed for expectation in (*self.expectations, *self.devices.values()))

    @property
    def story(self) -> tuple[Moment, ...]:
        """The time as it went: acts, verdicts, power, faults and restarts of all devices, in their order."""
        return story_of(self.records, self.expectations, self.step_notes)

    @property
    def outages(self) -> tuple[tuple[str, str, float, float], ...]:
        """When power, network and broker were away: whose ("" for the broker), which, from, to, s."""
        devices = [
            (name, *outage)
            for name in ("", *self.devices)
            for outage in outages_of([r for r in self.records if r["device"] == name], self.lasts)
        ]
        return tuple(sorted(devices, key=lambda outage: outage[2]))

    def as_dict(self) -> dict[str, Any]:
        """The verdict as plain data: what `--format json` prints."""
        left_out = ("device", "title", "lasts", "expectations", "story", "outages")
        rows = {name: device.as_dict() for name, device in self.devices.items()}
        return {
            "site": self.site,
            "title": self.title,
            "passed": self.passed,
            "lasts": self.lasts,
            "expectations": [expectation.as_dict() for expectation in self.expectations],
            "devices": {n: {k: v for k, v in row.items() if k not in left_out} for n, row in rows.items()},
            "notes": list(self.notes),
            "story": [moment.as_dict() for moment in self.story],
            "outages": [
                {"device": who, "what": what, "from": since, "to": to}
                for who, what, since, to in self.outages
            ],
        }

    @property
    def frame(self) -> pandas.DataFrame:
        """The trace: t in s, device, what ("pin", "mqtt", "net", "act", "print", …), name, value."""
        import pandas

        rows = [(r["t"] / 1000, r["device"], r["what"], r["name"], r["value"]) for r in self.records]
        return pandas.DataFrame(rows, columns=["t", "device", "what", "name", "value"])


class SiteTargets:
    """The worlds of several devices as one, for steps that name the device."""

    def __init__(self, together: SiteSimulation) -> None:
        self.together = together
        self.designs = {name: member.design for name, member in together.members.items()}
        self.clock, self.broker, self.members = together.turns.world, together.broker, together.members
        self._readers: dict[tuple[str, str], tuple[Callable[[], None], Callable[[], Any]]] = {}
        """By property: what brings its device to the common time, and what reads it there."""
        self.steps = Steps(self, self.clock, together.trace)
        self.clock.watchers.append(self.steps.watch)

    def act(self, call: Call) -> None:
        if call.of:
            for member in self.members.values() if call.of == ALL else [self.members[call.of]]:
                # In the device's own turn: a power cut ends its program, and an edge wakes it.
                member.clock.at(self.clock.now, lambda member=member: member.runner.act(call))
        elif call.name == "message":
            self.broker.message(*call.arguments)
        else:
            self.broker.be(*call.arguments)

    def begun(self) -> None:
        self.broker.seen.clear()

    def read(self, part: str, name: str) -> Any:
        found = self._readers.get((part, name))
        if found is None:
            device, _, own = part.partition(".")
            member = self.members[device]
            found = self._readers[part, name] = member.clock.catch_up, member.runner.reader(own, name)
        catch_up, read = found
        catch_up()
        return read()

    def published(self, name: str, payload: str | None = None) -> bool:
        """Whether a device published this since the last act; the topic begins with a device's name, or the site's."""
        full = whole_topic(self.designs, name)
        return any(t == full and payload in (None, p) for t, p in self.broker.seen)

    def value_of(self, code: str) -> Callable[[], Any]:
        return evaluated(code, self)

    def putter(self, key: str) -> Callable[[float], None]:
        """What sets a number of some device's world: "boot-dryer.cabinet.temperature"."""
        device, _, own = key.partition(".")
        member = self.members[device]
        catch_up, put = member.clock.catch_up, member.runner.putter(own)

        def putting(value: float) -> None:
            catch_up()
            put(value)

        return putting

    def run(self, model: Model) -> None:
        """Begin a model of the world that several devices may work on."""
        effects = [(self.value_of(code), effect) for code, effect in model.by]
        Running(model, self.clock, effects, self.putter(model.drives))

    def look(self, reads: Sequence[tuple[str, str]]) -> None:
        for name, member in self.members.items():
            member.runner.look(_own(reads, name))

    def looks(self, reads: Sequence[tuple[str, str]]) -> Mapping[str, int]:
        return {
            name: count
            for name, member in self.members.items()
            for count in member.runner.looks(_own(reads, name)).values()
        }

    def fresh(self, reads: Sequence[tuple[str, str]], since: Mapping[str, int]) -> bool:
        return all(
            member.runner.fresh(_own(reads, name), {"": since.get(name, -1)})
            for name, member in self.members.items()
        )


def _own(reads: Sequence[tuple[str, str]], device: str) -> list[tuple[str, str]]:
    """Of these properties those of one device, as it calls them."""
    return [(part.partition(".")[2], name) for part, name in reads if part.partition(".")[0] == device]


def rehearse_site(
    designs: Sequence[Design],
    script: Path | str | None = None,
    *,
    seed: int | None = None,
    programs: Mapping[str, Program] | None = None,
    progress: Callable[[float], None] | None = None,
) -> SiteRehearsal:
    """Run several devices of a site together, in one virtual time and with one broker; the same seed gives the same trace.

    `script` is the rehearsal file, by default rehearsals/site.toml. What it does not say of a device's world, the
    [world] and the models of the device's own rehearsal do. `progress` is called with how much of the virtual time is
    over, from 0 to 1. Raises Refused while errors stand, RehearsalInvalid, Unreadable, ToolMissing.

    Examples:
        >>> import zapato
        >>> pair = [zapato.load(f"devices/{name}.toml") for name in ("porch-light", "kettle-plug")]
        >>> evening = zapato.rehearse_site(pair, "rehearsals/pair.toml")
        >>> evening.passed, sorted(evening.devices)
        (True, ['kettle-plug', 'porch-light'])
    """
    for chip_port in sorted({design.board.chip.port for design in designs if design.board}):
        vm.ready(chip_port)
    read = read_site_script(
        Path(script) if script else site_script(designs), {design.name: design for design in designs}
    )
    if read.document.findings:
        source = read.document.source
        raise RehearsalInvalid(
            f"{source.name} cannot be rehearsed",
            "",
            tuple(read.document.findings),
            {source.name: source.text},
        )
    cast = [design for design in designs if design.name in read.devices]
    begun = time.perf_counter()
    together = SiteSimulation(
        cast,
        {device.name: _world(device, read) for device in cast},
        seed=read.seed if seed is None else seed,
        programs=programs,
    )
    targets = SiteTargets(together)
    for model in read.models:
        targets.run(model)
    targets.steps.load(read.steps)
    together.run(read.lasts, progress)
    return _result(cast, read, together, time.perf_counter() - begun)


def site_script(designs: Sequence[Design]) -> Path:
    """The rehearsal of the site that these devices belong to. Raises Unreadable where it has none."""
    root = next((design.site.root for design in designs if design.site.root), None)
    if root is None:
        raise Unreadable(
            "devices are rehearsed together in a site, and these belong to none", "site.toml beside devices/"
        )
    path = root / "rehearsals" / FILE
    if not path.is_file():
        raise Unreadable(
            f"the site has no rehearsal: {shown(path)} is not there", "name one with --script FILE"
        )
    return path


def _world(design: Design, site: Script) -> Script:
    """The world of one device at the beginning: what the site's file says, then what its own rehearsal does."""
    prefix = f"{design.name}."
    script = Script(site.document, begins=site.begins)
    script.world = [(key.removeprefix(prefix), value) for key, value in site.world if key.startswith(prefix)]
    given = {key for key, _ in script.world}
    given |= {model.drives.removeprefix(prefix) for model in site.models if model.drives.startswith(prefix)}
    try:
        own = read_script(default_script(design), design)
    except Unreadable:
        return script
    script.models = [model for model in own.models if model.drives not in given]
    given |= {model.drives for model in script.models}
    script.world = [*((key, value) for key, value in own.world if key not in given), *script.world]
    return script


def _result(cast: Sequence[Design], read: Script, together: SiteSimulation, wall: float) -> SiteRehearsal:
    devices: dict[str, Rehearsal] = {}
    rows = [{**row, "device": ""} for row in together.trace.rows]
    nothing = Script(read.document, read.title, read.lasts)
    for design in cast:
        member = together.members[design.name]
        own = [{**row, "device": design.name} for row in member.trace.rows]
        rows += own
        devices[design.name] = _part(design, member, nothing, together, wall)
    rows.sort(key=lambda row: row["t"])
    return SiteRehearsal(
        cast[0].site.name if cast else "",
        read.title,
        read.lasts / 1000,
        wall,
        tuple(expectations_of(read, rows)),
        devices,
        tuple(rows),
        tuple(read.notes),
        {step.number: step.note for step in read.steps if step.note},
        _shown(cast, read),
    )


def _part(
    design: Design, member: SimulatedDevice, nothing: Script, together: SiteSimulation, wall: float
) -> Rehearsal:
    """One device's part in it, with what it said at the broker."""
    made = result_of(design, nothing, member.board, member.trace, member.crash, wall)
    said = [
        r for r in together.trace.rows if r["what"] == "mqtt" and r["name"].startswith(f"{design.topic}/")
    ]
    return replace(made, records=tuple(sorted((*made.records, *said), key=lambda row: row["t"])))


def _shown(cast: Sequence[Design], read: Script) -> tuple[str, ...]:
    """What steps set and expect, and what devices hear of each other."""
    driven: dict[str, None] = dict.fromkeys(model.drives for model in read.models)
    for step in read.steps:
        if step.act_call and step.act_call.name == "put" and step.act_call.of:
            driven[f"{step.act_call.of}.{step.act_call.arguments[0]}"] = None
        driven |= dict.fromkeys(f"{part}.{name}" for part, name in step.reads)
    for device in cast:
        driven |= dict.fromkeys(
            f"{heard.name}.{name}" for heard in device.heard.values() for name in heard.properties
        )
    return tuple(driven)
