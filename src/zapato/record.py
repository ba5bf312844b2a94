"""What plain records share: how they are shown.

They are plain dataclasses, neither frozen nor with comparison: making those methods was a sixth of a cold check. Nothing changes
them; what leaves the program (findings, reports, results) is frozen.
"""

from __future__ import annotations


class Record:
    """A dataclass that is made with `repr=False`, because making that method for a hundred classes takes a check's time; this one serves all."""

    def __repr__(self) -> str:
        shown = (f"{name}={value!r}" for name, value in vars(self).items() if not name.startswith("_"))
        return f"{type(self).__name__}({', '.join(shown)})"
