"""zapato models: a W3C Thing Model for each kind of part."""

from __future__ import annotations

from pathlib import Path

import click


@click.command("models")
@click.argument("kind", required=False)
@click.option(
    "--out", type=click.Path(path_type=Path), help="Write them all into this folder, KIND.tm.json each."
)
def COMMAND(kind: str | None, out: Path | None) -> int:
    """Print the W3C Thing Model of a kind of part, such as relay or sensor-dht22; without KIND, list them."""
    import json

    from zapato.descriptions import thing_models
    from zapato.errors import UnknownName
    from zapato.lang.fields import nearest
    from zapato.lang.files import write
    from zapato.lang.site import site_of

    site_of(Path("."))  # whose extensions count
    known = thing_models()
    if kind and kind not in known:
        raise UnknownName(
            f"there is no model of {kind}", (nearest(kind, list(known)) or ("zapato models lists them",))[0]
        )
    chosen = {kind: known[kind]} if kind else known
    if out:
        for name, model in chosen.items():
            write(out / f"{name}.tm.json", json.dumps(model, indent=2, ensure_ascii=False) + "\n")
        click.echo(f"{len(chosen)} models written into {out}/")
    elif kind:
        click.echo(json.dumps(known[kind], indent=2, ensure_ascii=False))
    else:
        click.echo("\n".join(known))
    return 0
