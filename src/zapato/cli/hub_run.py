"""What a call of the hub does: broker, devices, history and alerts made ready, then screen, page, pipe or a single answer."""

from __future__ import annotations

import json
import sys
import threading
import time
from collections.abc import Generator, Sequence
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from zapato.cli.live import broker_of
from zapato.cli.terminal import harmless, is_terminal, styled, table
from zapato.errors import NotDelivered, ZapatoError
from zapato.hub import History, Service
from zapato.hub.history import KEPT
from zapato.hub.hub import HubEvent, OutgoingMessage, measured
from zapato.hub.postgres import SCHEMES
from zapato.hub.service import alone
from zapato.hub.values import NotTaken
from zapato.lang.tables import MqttTable, broker_port
from zapato.lang.units import QuantityError, quantity, shown_time
from zapato.record import record

if TYPE_CHECKING:
    from zapato.design import Design

START = 30.0
"""Seconds that the devices of the simulator may take to start."""
ANSWER = 5.0
"""Seconds that a device may take to say that it did something."""


@record(frozen=True)
class Asked:
    """The words of the call; see the options of `zapato hub`."""

    site: Path | None
    broker: str | None
    serve: str | None
    demo: bool
    web: str | None
    lines: tuple[str, ...]
    once: bool
    past: tuple[str, ...]
    since: str
    plot: Path | None
    history: Path | None
    store: str | None
    keep: str
    room: float
    alerts: Path | None
    listen: float
    lasts: float | None
    form: str

    @property
    def place(self) -> Path | str:
        """Where the history is: as asked, else beside the site's own results, or with the user's data, as the system has it."""
        if self.store is not None:
            if self.history:
                raise ZapatoError("give --history or --store, not both")
            if not self.store.startswith(SCHEMES):
                raise ZapatoError("--store takes an address", "--store postgresql://USER@HOST/DATABASE")
            return self.store
        if self.history:
            return self.history
        if self.site:
            return (self.site if self.site.is_dir() else self.site.parent) / KEPT
        from platformdirs import user_data_path

        return user_data_path("zapato", appauthor=False) / "hub.sqlite"

    @property
    def brief(self) -> bool:
        """True where it ends by itself, and keeps nothing."""
        return self.once or bool(self.lines)

    @property
    def keeps(self) -> bool:
        """True where there is a history: of the demo only where it was asked for."""
        return not self.brief and (not self.demo or bool(self.history or self.store))


def seconds(text: str, option: str) -> float:
    """A time of the command line, s; days have a d. Raises ZapatoError."""
    number, unit = text.strip()[:-1], text.strip()[-1:]
    try:
        days = float(number) * 86_400 if unit == "d" else quantity(text, "time") / 1000
    except (QuantityError, ValueError):
        days = -1
    if not 0 < days < 1e9:
        raise ZapatoError(f'{option} takes a time such as 30min, 24h or 7d, not "{text}"')
    return days


def past(asked: Asked) -> int:
    """Print or draw what was kept of some properties."""
    from zapato.draw import check_name
    from zapato.lang.fields import nearest

    if asked.plot:
        check_name(asked.plot)
    history = History(asked.place, writes=False)
    until = time.time()
    since = until - seconds(asked.since, "--since")
    known = history.names()
    for name in asked.past:
        if name not in known:
            near = nearest(name, known) or (f"it has: {', '.join(known[:12]) or 'nothing yet'}",)
            raise ZapatoError(f"the history has no {name}", near[0])
    series = {name: history.series(name, since, until) for name in asked.past}
    if asked.plot:
        from zapato.draw import history_chart, save

        save(history_chart(series, since, until), asked.plot)
        click.echo(f"history: {asked.plot}", err=True)
    if asked.form == "json":
        click.echo(json.dumps({n: [p.as_dict() for p in points] for n, points in series.items()}, indent=2))
        return 0
    rows: list[dict[str, object]] = [
        {
            "time": moment(p.at),
            "name": name,
            "value": harmless(str(_plain(p.value))),
            "low": _plain(p.low),
            "high": _plain(p.high),
        }
        for name, points in series.items()
        for p in points
    ]
    if asked.form == "csv":
        _csv(rows)
    elif rows:
        click.echo(table([{k: v for k, v in row.items() if k not in ("low", "high")} for row in rows]))
    else:
        click.echo(f"nothing was said in the last {asked.since}")
    return 0


def _plain(value: Any) -> object:
    if isinstance(value, bool) or value is None:
        return json.dumps(value)
    return f"{value:g}" if isinstance(value, float) else value


def _csv(rows: Sequence[dict[str, object]]) -> None:
    import csv

    writer = csv.writer(sys.stdout, lineterminator="\n")
    writer.writerow(("time", "name", "value", "low", "high"))
    writer.writerows([*row.values()] for row in rows)


def moment(at: float) -> str:
    """A moment in local time, as ISO 8601 has it, to the second."""
    return time.strftime("%Y-%m-%dT%H:%M:%S", time.localtime(at))


def run(asked: Asked) -> int:
    """Be the hub."""
    from zapato.cli import hub_follow

    if asked.form == "csv":
        raise ZapatoError("--format csv goes with --past")
    if asked.plot:
        raise ZapatoError("--plot goes with --past", "--past device.part.property --plot past.png")
    if asked.demo and (asked.site or asked.broker):
        raise ZapatoError("--demo has its own site and broker")
    if asked.web:
        from zapato.hub.web import place

        place(asked.web)
    with ready(asked) as service:
        if asked.lines:
            return max(do(service, line, asked) for line in asked.lines)
        if asked.once:
            _settle(service) if asked.demo else _listen(service, asked.listen)
            return _list(service, asked)
        if asked.web:
            return hub_follow.on_a_page(service, asked)
        if is_terminal(sys.stdout) and is_terminal(sys.stdin) and asked.form == "text":
            from zapato.cli.hub_screen import show

            return show(service, asked.lasts)
        return hub_follow.in_a_pipe(service, asked)


@contextmanager
def ready(asked: Asked) -> Generator[Service]:
    """A hub that follows its broker, with alerts, and with the site's devices described."""
    keep = seconds(asked.keep, "--keep") / 86_400
    with ExitStack() as held:
        designs, broker = _site(asked, held)
        user, password, ca = _login(designs, asked)
        history = History(asked.place if asked.keeps else None)
        held.callback(history.close)
        room = asked.room * 1024 * 1024
        alone()
        service = Service(broker, history, user=user, password=password, ca=ca, keep=keep, room=room)
        service.start()
        held.callback(service.stop)
        _describe(service, designs)
        if asked.demo:
            _demo_activity(designs, broker, held)
        _alerts(service, asked, designs)
        yield service


def _site(asked: Asked, held: ExitStack) -> tuple[list[Design], tuple[str, int]]:
    """The designs of the site, and the broker, which is started where there is none."""
    from zapato.checks import all_files
    from zapato.design import resolve_all
    from zapato.simulator.embedded import EmbeddedBroker

    site = _demo_site(held) if asked.demo else asked.site
    designs = [design for design in resolve_all(all_files([site])) if design.mqtt is not None] if site else []
    if site and not designs:
        raise ZapatoError("none of these devices speaks MQTT: [mqtt] in site.toml")
    if asked.broker and asked.serve:
        raise ZapatoError("give --broker or --serve, not both")
    if asked.broker:
        return designs, broker_of(asked.broker) or ("", 0)
    about = (designs[0].mqtt if designs else None) or MqttTable()
    if designs and not asked.demo and not asked.serve:
        return designs, (str(about.get("host")), broker_port(about))
    own = EmbeddedBroker()
    if asked.serve:
        host, port = broker_of(asked.serve) or ("", 0)
        login = (str(about.get("user") or ""), str(about.get("password") or ""))
        if not all(login):
            raise ZapatoError(
                "--serve opens the broker to other machines; it needs SITE with user and password in its [mqtt]"
            )
        own = EmbeddedBroker(host, port, login)
    own.start()
    held.callback(own.stop)
    if not asked.brief:
        click.echo(f"broker: {own.host}:{own.port}", err=True)
    return designs, (own.host, own.port)


def _demo_site(held: ExitStack) -> Path:
    from tempfile import TemporaryDirectory

    from zapato.demo.copy import copy_site

    folder = Path(held.enter_context(TemporaryDirectory(prefix="zapato-", ignore_cleanup_errors=True)))
    for _ in copy_site(folder):
        pass
    return folder


def _login(designs: Sequence[Design], asked: Asked) -> tuple[str, str, bytes]:
    from zapato.design.authority import authority

    if not designs or asked.demo:
        return "", "", b""
    about = designs[0].mqtt or {}
    tls = bool(about.get("tls")) and not asked.serve
    return (
        str(about.get("user") or ""),
        str(about.get("password") or ""),
        authority(designs[0]) if tls else b"",
    )


def _describe(service: Service, designs: Sequence[Design]) -> None:
    """Leave the site's descriptions at the broker."""
    from zapato.descriptions import thing

    for design in designs:
        text = json.dumps(thing(design), separators=(",", ":"), ensure_ascii=False)
        service.say(OutgoingMessage(f"{design.topic}/about", text, retain=True))


def _demo_activity(designs: Sequence[Design], broker: tuple[str, int], held: ExitStack) -> None:
    from zapato.simulator.demo_activity import DemoActivity

    click.echo(f"starting {len(designs)} devices in the simulator ...", err=True)
    activity = DemoActivity(designs, broker)
    held.callback(activity.stop)
    activity.start()


def _alerts(service: Service, asked: Asked, designs: Sequence[Design]) -> None:
    """The alerts of the site, or of the file that was named; what is wrong with them is told, and the others hold."""
    from zapato.cli.report import text_of
    from zapato.design.alerts import FILE, offered, read_alerts
    from zapato.findings import Report

    path = asked.alerts
    if path is None:
        root = designs[0].site.root if designs else None
        if root is None or not (root / FILE).is_file():
            return
        path = root / FILE
    if not designs:
        _listen(service, asked.listen)
    alerts, document = read_alerts(path, offered(designs) or service.hub.types())
    if document.findings:
        report = Report.of(document.findings, texts={document.source.name: document.source.text})
        click.echo(text_of(report), err=True, nl=False)
    service.watch(alerts)


def _listen(service: Service, most: float) -> None:
    """Wait until nothing new comes for a moment, no longer than `most` seconds."""
    until, before = time.monotonic() + most, -1
    while time.monotonic() < until and (service.count != before or not service.count):
        before = service.count
        time.sleep(min(0.5, max(0.05, most / 4)))


def _settle(service: Service) -> None:
    """Wait until every device of the simulator is there."""
    until = time.monotonic() + START
    while time.monotonic() < until and not all(
        service.hub.online(name) for name in [*service.hub.things] or [""]
    ):
        time.sleep(0.1)
    _listen(service, 2)


def do(service: Service, line: str, asked: Asked) -> int:
    """Do one line, and tell whether the device says so."""
    until = time.monotonic() + asked.listen
    while True:
        try:
            saying = service.hub.command(line)
            break
        except NotTaken:
            if time.monotonic() > until:
                raise
            time.sleep(0.05)
    wanted = saying.topic.removesuffix("/set")
    answered = threading.Event()

    def on_change(change: HubEvent) -> None:
        thing = service.hub.things.get(change.name.partition(".")[0])
        what = thing.properties.get(change.name.partition(".")[2]) if thing else None
        if what and what.reads == wanted and json.dumps(change.value) == saying.payload:
            answered.set()

    service.hub.listen(on_change)
    service.say(saying)
    if not service.connection.arrived():
        raise NotDelivered("the broker did not take it", "try again")
    if wanted == saying.topic:  # an action: nothing says that it was done
        click.echo(f"sent: {harmless(line)}")
        return 0
    good = answered.wait(ANSWER)
    words = "the device says so" if good else f"sent, but the device did not confirm it within {ANSWER:g} s"
    click.echo(f"{harmless(line)}: {words}")
    return 0 if good else 1


def _list(service: Service, asked: Asked) -> int:
    rows = service.hub.table()
    if asked.form == "json":
        click.echo(json.dumps(rows, indent=2, ensure_ascii=False))
    elif rows:
        click.echo("\n".join(listed(rows)))
    else:
        click.echo("no device is described at this broker: zapato fleet --describe, or zapato hub SITE")
    return 0


def listed(rows: Sequence[dict[str, Any]]) -> list[str]:
    """Things and their properties as lines."""
    lines: list[str] = []
    for thing in rows:
        state = {True: styled("online", fg="green"), False: styled("offline", fg="red"), None: "unknown"}[
            thing["online"]
        ]
        where = f", {thing['where']}" if thing["where"] else ""
        lines.append(f"{styled(thing['name'], bold=True)}  {thing['label']}{where}  {state}")
        cells: list[dict[str, object]] = [
            {
                "": "  ",
                "property": prop["name"],
                "label": prop["label"],
                "value": harmless(measured(prop["value"], prop)),
                "age": age(prop),
                "set": (each_range(prop) or "yes") if prop["settable"] else "",
            }
            for prop in thing["properties"]
        ]
        lines += table(cells, droppable="label").splitlines() if cells else []
        does: dict[str, list[str]] = {}
        for action in thing["actions"]:
            part, _, word = action["name"].partition(".")
            does.setdefault(part, []).append(word)
        lines += [f"    {part} can: {', '.join(words)}" for part, words in does.items()] + [""]
    return lines[:-1]


def each_range(about: dict[str, Any]) -> str:
    """What a property takes, in words."""
    if about.get("options"):
        return ", ".join(about["options"])
    low, high = about.get("low"), about.get("high")
    return f"{low:g} to {high:g}" if low is not None and high is not None else ""


def age(about: dict[str, Any]) -> str:
    """How old a value is; "kept" where only the broker knows."""
    if about["age"] is None:
        return "never"
    whole = shown_time(int(about["age"]) * 1000) if about["age"] >= 1 else "now"
    return f"kept, {whole}" if about["kept"] else " ".join(whole.split()[:4])
