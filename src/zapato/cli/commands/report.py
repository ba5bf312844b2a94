"""zapato report: one page about a device, or a site with an index."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from zapato.cli.about import About

if TYPE_CHECKING:
    from zapato.design import Design
    from zapato.simulator import Rehearsal


ABOUT = About("Look", "a page with all of it, without a network", "zapato report . --out report")


@click.command("report")
@click.argument("path", type=click.Path(path_type=Path))
@click.option(
    "--out",
    required=True,
    type=click.Path(path_type=Path),
    help="The .html file; of a site, the folder for index.html and a page a device.",
)
@click.option("--no-rehearsal", is_flag=True, help="Leave the rehearsal out, which takes a few seconds.")
def COMMAND(path: Path, out: Path, no_rehearsal: bool) -> int:
    """Write a report that needs no network: verdict, pin map, wiring, budgets, links, topics and the rehearsal's day.

    It prints well on A4. Nothing secret is in it. Exit code 1 where the device cannot work as it stands.
    """
    from zapato.checks import device_files, report
    from zapato.cli.terminal import Meter
    from zapato.design import resolve_all
    from zapato.errors import ZapatoError
    from zapato.lang.files import write
    from zapato.pages import device_page, write_site

    designs = resolve_all(device_files(path))
    many = path.is_dir()
    if not many and out.suffix.lower() not in (".html", ".htm"):
        raise ZapatoError(f"{out}: the report of a device ends in .html", f"--out {out.name}.html")
    if many and out.suffix.lower() in (".html", ".htm"):
        raise ZapatoError(f"{out}: a site's report is a folder", f"--out {out.stem}")

    def rehearsed(design: Design) -> Rehearsal | None:
        return None if no_rehearsal else _rehearsed(design)

    if many:
        meter = Meter("writing the report")
        for number, page in enumerate(write_site(designs, rehearsed, out)):
            meter.at(number / (len(designs) + 1), page.name)
        meter.done()
        click.echo(f"{out / 'index.html'}: {len(designs)} device{'s' * (len(designs) != 1)}")
    else:
        meter = Meter(f"drawing {designs[0].name}")
        text = device_page(designs[0], rehearsed(designs[0]), told=meter.at)
        meter.done()
        write(out, text.encode())
        click.echo(f"{out}: {designs[0].name or 'a device without a name'}, {len(text) / 1024:.0f} KiB")
    return 0 if report(designs).ok else 1


def _rehearsed(design: Design) -> Rehearsal | None:
    """The device's rehearsal, where it has one that can be run."""
    from zapato.cli.terminal import Meter
    from zapato.errors import ZapatoError
    from zapato.simulator import rehearse

    meter = Meter(f"rehearsing {design.name}")
    try:
        return rehearse(design, progress=meter.at)
    except ZapatoError as error:
        meter.done()
        click.echo(f"{design.name or 'the device'} is not rehearsed: {error}", err=True)
        return None
    finally:
        meter.done()
