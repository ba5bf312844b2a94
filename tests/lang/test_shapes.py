"""Every key of every table: whether it must be given, what it is where it is not, and what it says of values beyond its bounds; approved."""

import json
import pkgutil
import re
from importlib import import_module

from support.approved import approve

import zapato
from zapato.lang.fields import Field, Shape, Wrong
from zapato.lang.units import EXAMPLES
from zapato.parts import kinds


def shapes():
    """Those that a module of ours names, and each kind's."""
    for module in sorted(
        m.name for m in pkgutil.walk_packages(zapato.__path__, "zapato.") if ".device." not in m.name
    ):
        if module.split(".")[1] in ("__main__", "device", "simulator", "editor", "cli", "hub", "pages"):
            continue
        for name, value in vars(import_module(module)).items():
            if isinstance(value, Shape) and name.isupper():
                yield f"{module.removeprefix('zapato.')}.{name}", value
    for kind in kinds():
        yield kind.name, kind.shape


def outcome(field: Field, value: object) -> str:
    try:
        return f"is {field.read(value)!r}"
    except Wrong as wrong:
        return "; ".join([wrong.message, *wrong.fixes])


def extremes(field: Field) -> list[object]:
    """Values at both ends, of the type that the field takes."""
    if field.dimension:
        unit = EXAMPLES[field.dimension].lstrip("-+.0123456789")
        return [f"-99999999{unit}", f"0{unit}", f"99999999999{unit}"]
    types = json.dumps(field.schema, default=dict)
    numbers = [-(10**9), 0.5, 10**12] if '"integer"' in types or '"number"' in types else []
    return (
        numbers
        + (["", "x" * 300] if '"string"' in types else [])
        + ([[], ["x"] * 100] if '"array"' in types else [])
    )


def test_what_a_key_takes():
    rows, seen = [], set()
    for name, shape in shapes():
        if id(shape) in seen:
            continue
        seen.add(id(shape))
        for field in shape.fields:
            marks = [m for m in ("secret", "hidden") if getattr(field, m)] + [f"role {field.role}"] * bool(
                field.role
            )
            rows.append(
                " ".join(
                    [f"{name}.{field.name}", "required" if field.required else f"= {field.default!r}", *marks]
                )
            )
            for value in extremes(field):
                shown = repr(value)
                what = re.sub("x{20,}", "x…", outcome(field, value))[:160]
                rows.append(f"    {shown if len(shown) < 40 else shown[:20] + ' …'}: {what}")
    approve("keys", "\n".join(rows) + "\n")
