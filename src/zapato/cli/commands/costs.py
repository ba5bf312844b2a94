"""zapato costs: what an extension takes of a device's memory, measured."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("costs")
@click.argument("name")
@click.option(
    "--site",
    default=".",
    show_default=True,
    type=click.Path(path_type=Path),
    help="The site whose extension it is.",
)
def COMMAND(name: str, site: Path) -> int:
    """Measure in the VM what the modules and parts of the extension NAME take, and write its cost.json.

    NAME is a folder of the site's extensions, which site.toml names, or an installed extension.
    """
    import json

    from zapato.errors import UnknownName
    from zapato.extensions import bundles
    from zapato.lang.files import write
    from zapato.lang.site import site_of
    from zapato.measure import measured

    site_of(site)
    bundle = bundles().get(name)
    if bundle is None:
        known = ", ".join(bundles()) or "none"
        raise UnknownName(
            f"no extension is called {name}", f"known are: {known}; site.toml names a site's own"
        )
    costs = measured(bundle)
    write(bundle.folder / "cost.json", json.dumps(costs, indent=1) + "\n")
    for form, title in (("short", "on a chip with little memory"), ("whole", "on other chips")):
        heap, flash = (sum(costs[form][what].values()) for what in ("heap", "flash"))
        click.echo(
            f"{title}: {heap:,.0f} bytes of heap, {flash:,.0f} of flash, the first one with its modules"
        )
    click.echo(f"written into {bundle.folder / 'cost.json'}")
    return 0
