"""What all pages share: templates, colours, pictures inside the page."""

from __future__ import annotations

import io
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from zapato.draw.figure import FEEL, GRID, INK, INTO, NET, OUT, PAPER, WRONG

if TYPE_CHECKING:
    from jinja2 import Environment
    from matplotlib.figure import Figure

COLORS = {
    "ink": INK, "grid": GRID, "paper": PAPER, "out": OUT, "into": INTO, "feel": FEEL, "net": NET, "wrong": WRONG,
}  # fmt: skip


@cache
def environment() -> Environment:
    """The templates; everything that is put into them is escaped."""
    from jinja2 import Environment, FunctionLoader, StrictUndefined, select_autoescape

    def load(name: str) -> str:
        return (files("zapato") / "pages" / "templates" / name).read_text("utf-8")

    return Environment(
        loader=FunctionLoader(load),
        autoescape=select_autoescape(default=True),
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def page(template: str, **given: Any) -> str:
    """A page as text."""
    return environment().get_template(template).render(colors=COLORS, **given)


def picture(figure: Figure, name: str) -> str:
    """A figure as SVG to stand inside a page; `name` keeps its identifiers apart from those of others."""
    import matplotlib as mpl

    held = io.StringIO()
    with mpl.rc_context({"svg.hashsalt": name}):
        figure.savefig(held, format="svg", metadata={"Date": None, "Creator": None})
    text = held.getvalue()
    return text[text.index("<svg") :]
