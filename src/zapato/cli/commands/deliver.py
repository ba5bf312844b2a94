"""zapato deliver: put devices' programs onto their boards."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.deliver.air import Updated
    from zapato.firmware import Build


@click.command("deliver")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--air", is_flag=True, help="Over the air: through the broker, to a device that runs.")
@click.option("--broker", metavar="HOST[:PORT]", help="With --air: another broker than the site's.")
@click.option("--again", is_flag=True, help="With --air: the version that runs there already, once more.")
@click.option(
    "--patience",
    default=300,
    show_default=True,
    metavar="SECONDS",
    help="How long a device may be silent.",
)
@click.option(
    "--failures", default=1, show_default=True, help="Of several devices: stop when so many have failed."
)
@click.option(
    "--out", default="out", type=click.Path(path_type=Path), help="Folder for the builds.", show_default=True
)
def COMMAND(
    paths: tuple[Path, ...],
    air: bool,
    broker: str | None,
    again: bool,
    patience: int,
    failures: int,
    out: Path,
) -> int:
    """Build devices and put their programs onto their boards.

    With --air a device fetches what changed, tries the new version, and goes back by itself where that
    does not reach the broker. Of several devices one goes first, then the others; the call can be repeated.

    Exit code 0: every device runs its version; 1: one does not; 2: the call was wrong.
    """
    from zapato.checks import all_files
    from zapato.cli.live import broker_of
    from zapato.errors import NotOffered, ZapatoError

    if not air:
        raise click.UsageError("the way is missing: --air")
    there = broker_of(broker)
    files = all_files(paths)
    failed: list[str] = []
    for number, path in enumerate(files):
        if len(failed) >= failures:
            click.echo(f"stopped after {len(failed)} of {len(files)}: {', '.join(failed)} failed")
            break
        try:
            click.echo(_line(_by_air(path, out, there, again, patience), number, len(files)))
        except NotOffered as error:
            if "runs there already" not in str(error):
                raise
            click.echo(f"{path.stem}: {error}")
        except ZapatoError as error:
            if len(files) == 1:
                raise
            failed.append(path.stem)
            click.echo(f"{path.stem}: {error}", err=True)
    return 1 if failed else 0


def _by_air(path: Path, out: Path, there: tuple[str, int] | None, again: bool, patience: float) -> Updated:
    from zapato.cli.terminal import Meter
    from zapato.deliver.air import over_the_air
    from zapato.deliver.broker import connected
    from zapato.deliver.offer import Offer
    from zapato.design import resolve
    from zapato.firmware import build

    design = resolve(path)
    built: Build = build(design, out)
    design = resolve(path)  # with the update key, where it was made just now
    key = bytes.fromhex(design.site.update_keys[design.name])
    offer = Offer(design.topic, key, built.update.read_bytes())
    meter = Meter(design.name)
    names = ("update/want", "vitals", "notes")
    try:
        with connected(design, there, [f"{design.topic}/{name}" for name in names]) as way:
            return over_the_air(
                offer, way, again=again, patience=patience, tell=lambda what, share: meter.at(share, what)
            )
    finally:
        meter.done()


def _line(done: Updated, number: int, count: int) -> str:
    of = f"{number + 1} of {count}  " if count > 1 else ""
    return (
        f"{of}{done.device}: {done.before} -> {done.version}, {done.sent / 1024:.1f} of {done.size / 1024:.1f} KiB"
        f" sent, {done.seconds:.0f} s"
    )
