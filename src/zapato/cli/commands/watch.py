"""zapato watch: what devices say, live."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.deliver.watch import Said

WHAT = ("note", "fault", "value", "event", "state", "vitals")
COLORS = {"fault": "red", "note": "cyan", "value": "green", "state": "yellow"}


@click.command("watch")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--broker", metavar="HOST[:PORT]", help="Another broker than the site's.")
@click.option("--only", type=click.Choice(WHAT), multiple=True, help="These alone.")
@click.option("--grep", metavar="TEXT", help="What has this text in it, names of parts included.")
@click.option("--lasts", type=float, metavar="SECONDS", help="End after so long; else Ctrl-C ends it.")
@click.option(
    "--save", type=click.Path(path_type=Path), help="Write it into this file, too, a JSON object a line."
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(
    paths: tuple[Path, ...],
    broker: str | None,
    only: tuple[str, ...],
    grep: str | None,
    lasts: float | None,
    save: Path | None,
    form: str,
) -> int:
    """Follow the log and the values of devices over the broker: notes, faults, addresses that they found.

    What the broker has kept comes first.
    """
    import json
    import time
    from contextlib import ExitStack

    from zapato.checks import all_files
    from zapato.cli.live import broker_of
    from zapato.deliver.broker import connected
    from zapato.deliver.watch import watch
    from zapato.design import resolve_all
    from zapato.errors import Unwritable

    designs = [design for design in resolve_all(all_files(paths)) if design.mqtt is not None]
    if not designs:
        click.echo("none of these devices speaks MQTT: [mqtt] in site.toml", err=True)
        return 1
    until = None if lasts is None else time.monotonic() + lasts
    text = (grep or "").lower()

    def wanted(said: Said) -> bool:
        return (not only or said.what in only) and text in f"{said.device} {said.name} {said.text}".lower()

    goes_on: Callable[[], bool] = lambda: until is None or time.monotonic() < until  # noqa: E731
    with ExitStack() as held:
        try:
            file = held.enter_context(open(save, "a", encoding="utf-8")) if save else None
        except OSError as error:
            raise Unwritable(f"cannot write {save}: {(error.strerror or str(error)).lower()}") from None
        link = held.enter_context(
            connected(designs[0], broker_of(broker), [f"{design.topic}/#" for design in designs])
        )
        try:
            for said in watch(designs, link, goes_on=goes_on, wanted=wanted):
                row = json.dumps(said.as_dict(), ensure_ascii=False)
                if file:
                    file.write(f"{row}\n")
                    file.flush()
                click.echo(row if form == "json" else _line(said, len(designs) > 1))
        except KeyboardInterrupt:
            click.echo(err=True)
    return 0


def _line(said: Said, several: bool) -> str:
    from zapato.cli.terminal import harmless, styled

    text = harmless(said.text)
    for word in said.found:
        text = text.replace(word, styled(word, bold=True))
    whose = harmless(said.name)
    name = f"{whose} = {text}" if said.what == "value" else f"{whose} {text}".strip()
    device = f"{said.device:<16} " if several else ""
    return f"{said.at:9.3f}  {device}{styled(f'{said.what:<6}', fg=COLORS.get(said.what))}  {name}"
