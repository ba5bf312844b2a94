"""zapato chips: the sensor chips that are known."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("chips")
@click.option("--measures", metavar="QUANTITY", help="Only those that measure this, such as humidity.")
@click.option(
    "--bus",
    type=click.Choice(["i2c", "spi", "onewire", "pin"]),
    help="Only those on this bus, or on a pin.",
)
@click.option("--volts", type=float, metavar="V", help="Only those that run on this supply.")
@click.option("--begin", "name", metavar="NAME", help="Write chips/NAME.toml, a description to fill in.")
@click.option(
    "--format", "form", type=click.Choice(["text", "json"]), default="text", help="How to print it."
)
def COMMAND(measures: str | None, bus: str | None, volts: float | None, name: str | None, form: str) -> int:
    """List the sensor chips that `chip = ` may name, or begin the description of another one.

    Those of the site in this folder and of installed extensions are among them.
    """
    import json

    from zapato.cli.terminal import table
    from zapato.lang.site import site_of
    from zapato.parts.sensors import chip, chip_names

    site = site_of(Path("."))
    if name:
        return _begin((site.root or Path(".")) / "chips", name)
    rows: list[dict[str, object]] = []
    for known in map(chip, chip_names()):
        hangs = known.bus or "pin"
        least, most = known.takes or (0.0, 0.0)
        buses = list(dict.fromkeys((hangs, "spi"))) if known.spi else [hangs]
        if (measures and measures not in known.properties) or (bus and bus not in buses):
            continue
        if volts is not None and known.takes and not least <= volts <= most:
            continue
        rows.append(
            {
                "chip": known.name,
                "measures": ", ".join(known.properties),
                "on": ", ".join(buses),
                "addresses": " ".join(f"0x{address:02x}" for address in known.addresses),
                "supply": f"{least:g} V to {most:g} V" if known.takes else "",
                "every": f"{known.fastest} ms" if known.fastest else "",
            }
        )
    click.echo(json.dumps(rows, indent=2) if form == "json" else table(rows) or "no chip is like that")
    return 0 if rows else 1


def _begin(folder: Path, name: str) -> int:
    from importlib.resources import files

    from zapato.errors import ZapatoError
    from zapato.extensions import NAME
    from zapato.lang.files import write

    if not NAME.fullmatch(name):
        raise ZapatoError(
            f"{name} is no name of a chip", "a-z, 0-9 and _, a letter first: zapato chips --begin tmp102"
        )
    path = folder / f"{name}.toml"
    if path.exists():
        raise ZapatoError(f"{path} is there already", "another name")
    write(path, (files("zapato") / "cli" / "chip.toml").read_text("utf-8"))
    click.echo(f"wrote {path}; zapato check {path} judges it")
    return 0
