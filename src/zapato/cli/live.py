"""A live rehearsal in a terminal or a pipe: what happens is printed as it comes, what is typed is done."""

from __future__ import annotations

import json
import sys
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from zapato.cli.terminal import Meter, harmless, is_terminal, some, styled
from zapato.errors import Refused, ZapatoError

if TYPE_CHECKING:
    from zapato.design import Design
    from zapato.simulator import Rehearsal
    from zapato.simulator.live_site import LiveSite

COLORS = {
    "act": "cyan",
    "message": "cyan",
    "mqtt": "green",
    "crash": "red",
    "power": "yellow",
}
LAST = 1.0
"""Seconds after the end of what is typed in which the program may still answer."""


def broker_of(text: str | None) -> tuple[str, int] | None:
    """HOST or HOST:PORT of a broker. Raises ZapatoError."""
    if text is None:
        return None
    host, colon, port = text.rpartition(":") if not text.endswith("]") else (text, "", "")
    if not colon:
        host, port = text, "1883"
    if not host or not port.isdigit() or not 0 < int(port) < 65536:
        raise ZapatoError(f"--broker takes HOST:PORT, not {text}", "--broker 192.168.4.2:1883")
    return host.strip("[]"), int(port)


def play(
    path: Path, script: Path | None, broker: str | None, quiet: bool, serial: Mapping[str, str]
) -> Rehearsal:
    """Run one device until its script is over, standard input ends, or Ctrl-C."""
    from zapato.simulator.live_run import Live

    shown = _Shown()
    live = Live(path, script=script, broker=broker_of(broker), serial=serial, on_row=shown.row)
    if not quiet:
        click.echo("\n".join(_head(live.design, live.broker, script is None)))
        shown.begin(live.design)
    live.start()
    try:
        if script:
            while not live.wait(0.2):
                pass
        else:
            _until_the_end(live.wait, live.act)
    except KeyboardInterrupt:
        if is_terminal(sys.stdout):
            click.echo()
    return live.stop()


def play_many(paths: Sequence[Path], broker: str | None, jobs: int | None, form: str) -> int:
    """Run many devices at one broker until standard input ends, or Ctrl-C; gives the exit code."""
    from zapato.design import resolve_all
    from zapato.simulator.embedded import EmbeddedBroker
    from zapato.simulator.live_site import LiveSite, listener

    designs = resolve_all(paths)
    speaking = [design for design in designs if design.mqtt is not None]
    at, own = broker_of(broker), None
    if at is None:
        if any((design.mqtt or {}).get("tls") for design in speaking):
            raise Refused("the embedded broker speaks no TLS", "--broker HOST:PORT names one that does")
        own = EmbeddedBroker()
        own.start()
        at = own.host, own.port
    shown = _ManyShown(form == "text")
    heard = (
        listener(speaking[0], at, _together([d.topic for d in speaking]), shown.message) if speaking else None
    )
    site = LiveSite(designs, at, jobs=jobs, tell=shown.row)
    try:
        _started(site, len(designs))
        if form == "text":
            click.echo(styled(f"{len(designs):,} devices run in real time; Ctrl-C ends it", bold=True))
            click.echo(
                f"  broker   {at[0]}:{at[1]}\n  type     DEVICE.part.gesture, DEVICE.part.property = value, quit"
            )
        _until_the_end(lambda seconds: False, site.act)
    except KeyboardInterrupt:
        if is_terminal(sys.stdout):
            click.echo()
    outcomes = site.stop()
    for ending in (heard and heard.close, own and own.stop):
        if ending:
            ending()
    bad = [outcome for outcome in outcomes if not outcome.good]
    if form == "json":
        click.echo(json.dumps([outcome.as_dict() for outcome in outcomes], indent=2, ensure_ascii=False))
    else:
        click.echo(
            f"{len(outcomes) - len(bad):,} of {len(outcomes):,} devices ran to the end"
            + (f"; {styled('not', fg='red', bold=True)}: {some([o.name for o in bad])}" if bad else "")
        )
    return 1 if bad else 0


def _started(site: LiveSite, count: int) -> None:
    """Wait until all have their power."""
    meter = Meter("starting")
    try:
        while left := site.started(0.5):
            meter.at(1 - left / count, f"{count - left:,} of {count:,}")
    finally:
        meter.done()


def _together(topics: list[str]) -> list[str]:
    """The shortest list of topics that has them all below it: the site's, where they share it."""
    sites = {topic.partition("/")[0] for topic in topics if "/" in topic}
    return [*sites] if len(sites) == 1 and all("/" in topic for topic in topics) else topics


class _ManyShown:
    """What many devices do, a line each."""

    def __init__(self, shows: bool) -> None:
        self._shows, self._begun, self._lock = shows, time.monotonic(), threading.Lock()

    def message(self, topic: str, payload: str, retain: bool) -> None:
        """What was said at the broker."""
        said = not topic.endswith("/set") and "/do/" not in topic
        self._line("mqtt" if said else "message", harmless(f"{topic} {payload}".strip()))

    def row(self, device: str, row: Mapping[str, Any]) -> None:
        """What a device's own process tells."""
        what, name = str(row["what"]), str(row["name"])
        if what in ("failed", "refused"):
            click.echo(f"zapato: {harmless(str(row['value']))}", err=True)
        elif what == "power":
            self._line(what, f"{device} {name} {str(row['value']).lower()}")
        else:
            self._line(what, harmless(f"{device} {name}"))

    def _line(self, what: str, text: str) -> None:
        if self._shows:
            with self._lock:
                click.echo(
                    f"{time.monotonic() - self._begun:10.3f}  {styled(f'{what:<7}', fg=COLORS.get(what))}  {text}"
                )


def _until_the_end(over: Callable[[float], bool], act: Callable[[str], None]) -> None:
    """Do what is typed, until that ends or the program does."""
    done = threading.Event()

    def read() -> None:
        for line in _lines():
            if line in ("quit", "exit"):
                break
            if not _waited(line):
                try:
                    act(line)
                except Refused as wrong:
                    click.echo(f"zapato: {wrong}" + (f" ({wrong.fix})" if wrong.fix else ""), err=True)
        else:
            time.sleep(0 if is_terminal(sys.stdin) else LAST)
        done.set()

    threading.Thread(target=read, daemon=True).start()
    while not done.wait(0.1):
        if over(0):
            return


def _lines() -> Iterator[str]:
    for line in sys.stdin or ():
        if line.strip() and not line.lstrip().startswith("#"):
            yield line.strip()


def _waited(line: str) -> bool:
    """Whether the line was "wait TIME", and that time is over."""
    word, _, rest = line.partition(" ")
    if word != "wait":
        return False
    from zapato.lang.units import quantity

    try:
        time.sleep(quantity(rest.strip(), "time") / 1000)
    except ValueError as error:
        click.echo(f"zapato: wait {error} (wait 2s)", err=True)
    return True


def _head(design: Design, broker: tuple[str, int] | None, typed: bool) -> Iterator[str]:
    yield styled(f"{design.name} runs in real time; Ctrl-C ends it", bold=True)
    if broker:
        yield f"  broker   {broker[0]}:{broker[1]}, topics {design.topic}/#"
    if typed:
        yield f"  type     {', '.join(_words(design))}"


def _words(design: Design) -> Iterator[str]:
    """What can be done to this device's world."""
    for part in design.parts.values():
        simulation = part.simulation
        yield from (f"{part.name}.{word}" for word in simulation.gestures)
        for name in simulation.stimuli:
            known, world_input = part.properties.get(name), simulation.inputs.get(name)
            usual = (known is not None and known.type == "boolean") or 20
            yield f"{part.name}.{name} = {json.dumps(world_input.example if world_input else usual)}"
    yield from ("power.cut", "wait 2s", "quit")


class _Shown:
    """Rows as lines, from the power-up on."""

    def __init__(self) -> None:
        self._names: dict[str, str] | None = None

    def begin(self, design: Design) -> None:
        self._names = {f"GPIO{use.pin.gpio}": use.part.id for use in design.uses}

    def row(self, row: Mapping[str, Any]) -> None:
        if self._names is None:
            return
        what, name = str(row["what"]), str(row["name"])
        value = str(row["value"]).lower() if isinstance(row["value"], bool) else str(row["value"])
        if what == "expect":
            text = f"{styled('held', fg='green') if row['value'] else styled('FAILED', fg='red')} {name}"
        elif what == "pin":
            text = f"{self._names.get(name, '')} {name} {value}".strip()
        else:
            text = harmless(name if what == "act" else f"{name} {value}".strip())
        click.echo(f"{row['t'] / 1000:10.3f}  {styled(f'{what:<7}', fg=COLORS.get(what))}  {text}")
