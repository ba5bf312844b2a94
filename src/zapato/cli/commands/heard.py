"""zapato heard: what a device met on its buses, and putting it into the device file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.adverts import Advert
    from zapato.design import Design
    from zapato.heard import ScanResult


@click.command("heard")
@click.argument("device", type=click.Path(path_type=Path))
@click.option("--broker", metavar="HOST[:PORT]", help="Another broker than the site's.")
@click.option("--scan", is_flag=True, help="First let the device scan again.")
@click.option(
    "--write", "address", metavar="ADDRESS", help="Put what is at this address into the device file."
)
@click.option(
    "--as", "to", metavar="KIND.NAME", help="With --write: the table that it gets, such as sensor.outlet."
)
@click.option("--chip", help="With --write: which chip it is, where it may be several.")
@click.option(
    "--listen",
    type=float,
    metavar="SECONDS",
    help="How long to wait for an answer: 3, and 11 where a radio scans.",
)
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(
    device: Path,
    broker: str | None,
    scan: bool,
    address: str | None,
    to: str | None,
    chip: str | None,
    listen: float | None,
    form: str,
) -> int:
    """List what a device met on its buses, what it may be, and which part stands for it.

    With --scan the device looks again; a radio then says for ten seconds how strongly it hears what advertises, its name and its bytes.
    With --write ADDRESS --as KIND.NAME a table for it goes into the device file; comments and layout stay. A table that is there
    already gets the address.

    Exit code 0: everything that was met has its part, or was written; 1: something has none.
    """
    from zapato.design import resolve
    from zapato.errors import ZapatoError
    from zapato.heard import heard, scanners, write_heard

    if bool(address) != bool(to):
        raise ZapatoError("--write and --as go together", "--write 0x76 --as sensor.cellar")
    design = resolve(device)
    if not scanners(design):
        raise ZapatoError(
            f"{design.name} has no part that scans", "a bus, such as [i2c.main] or [onewire.outlet]"
        )
    said, adverts = _found(design, broker, scan, listen)
    if not (address and to):
        rows = heard(design, said, adverts)
        silent = [part.name for part in scanners(design) if part.name not in said]
        click.echo(_listed(rows, design.name, silent, form))
        return 0 if all(row.used_by for row in rows) else 1
    text = write_heard(design, said, address, to, chip or "")
    where = design.document.source.name
    click.echo(
        f"{text.rstrip()}\n\nwritten into {where}"
        if text
        else f"{to} stands for {address} already in {where}"
    )
    return 0


def _listed(rows: list[ScanResult], name: str, silent: list[str], form: str) -> str:
    """What was met; `silent` are the parts that said nothing of a scan yet."""
    import json

    from zapato.cli.terminal import table

    if form == "json":
        return json.dumps([row.as_dict() for row in rows], indent=2)
    table_rows = [
        {
            "on": scanned.on,
            "address": scanned.address,
            "part": scanned.used_by or "-",
            "may be": ", ".join(scanned.may_be) or scanned.words or "not known here",
        }
        | (_advertised(scanned) if any(row.says or row.name for row in rows) else {})
        for scanned in rows
    ]
    quiet = [f"nothing was heard of {', '.join(silent)} yet"] if silent else []
    return "\n".join([table(table_rows)] * bool(table_rows) + quiet) or f"{name} met nothing"


def _advertised(row: ScanResult) -> dict[str, str]:
    from zapato.cli.terminal import harmless

    strength = "" if row.strength is None else f"{row.strength} dBm"
    return {"strength": strength, "name": harmless(row.name), "data": " | ".join(row.says)}


def _found(
    design: Design, broker: str | None, scan: bool, seconds: float | None
) -> tuple[dict[str, str], dict[str, dict[str, Advert]]]:
    """What the parts that scan say, by name, as the broker has it or as they say it now; and what radios passed on."""
    import time

    from zapato.adverts import HEARD, hear
    from zapato.cli.live import broker_of
    from zapato.cli.terminal import harmless
    from zapato.deliver.broker import connected
    from zapato.heard import FOUND, scanners
    from zapato.lang.json_text import read_json

    topics = {f"{design.topic}/{part.name}/{FOUND}": part.name for part in scanners(design)}
    passing = {
        f"{design.topic}/{part.name}/{HEARD}": part.name
        for part in scanners(design)
        if scan and HEARD in part.kind.events
    }
    adverts: dict[str, dict[str, Advert]] = {name: {} for name in passing.values()}
    heard_texts: dict[str, str] = {}
    with connected(design, broker_of(broker), [*topics, *passing]) as way:
        until = time.monotonic() + (seconds if seconds is not None else 11 if passing else 3)
        if scan:
            while way.next(0.3):  # what was kept
                continue
            for name in topics.values():
                way.publish(f"{design.topic}/{name}/do/scan", "")
        while time.monotonic() < until and (passing or len(heard_texts) < len(topics)):
            message = way.next(0.2)
            if message and message[0] in passing:
                hear(adverts[passing[message[0]]], message[1].decode("utf-8", "replace"))
            if message and message[0] in topics:
                try:
                    said = read_json(message[1])
                except ValueError:
                    continue
                if isinstance(said, str):
                    heard_texts[topics[message[0]]] = harmless(said[:2000])
    return heard_texts, adverts
