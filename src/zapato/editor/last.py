"""The last value of a property, as the hub of its site has kept it."""

from __future__ import annotations

import time
from pathlib import Path

from zapato.errors import ZapatoError
from zapato.hub.history import KEPT, History
from zapato.hub.hub import shown

_AGES = ((86_400, "d"), (3600, "h"), (60, "min"), (1, "s"))


def last_value(root: Path | None, name: str, history: Path | None = None) -> str:
    """ "last 21.5, 3 min ago", from this history or the site's own; "" where nobody kept one or it never had this property."""
    file = history or (root / KEPT if root else None)
    if file is None or not file.is_file():
        return ""
    try:
        opened = History(file, writes=False)
        try:
            rows = opened.latest(name)
        finally:
            opened.close()
    except ZapatoError:
        return ""
    if not rows:
        return ""
    return f"last {shown(rows[0].value, name)}, {_age(max(0.0, time.time() - rows[0].at))} ago"


def _age(seconds: float) -> str:
    return next((f"{seconds / length:.0f} {unit}" for length, unit in _AGES if seconds >= length), "0 s")
