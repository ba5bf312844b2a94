"""All budgets of a design together."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from zapato.budgets import analog, buses, pace, pin_currents, rails, strips, traffic
from zapato.budgets.memory import memory, shares
from zapato.budgets.row import BudgetRow, row
from zapato.design import Design, resolve
from zapato.record import record

if TYPE_CHECKING:
    import pandas as pd


@record(frozen=True)
class Budget:
    """What a design takes of what there is.

    Attributes:
        design: whose.
        rows: every figure with its limit, formula and source.
    """

    design: Design
    rows: tuple[BudgetRow, ...]

    @property
    def over(self) -> tuple[BudgetRow, ...]:
        """The figures that pass their limit."""
        return tuple(row for row in self.rows if row.verdict == "over")

    @property
    def frame(self) -> pd.DataFrame:
        """One row a figure."""
        import pandas

        return pandas.DataFrame([row.as_dict() for row in self.rows])

    def of(self, topic: str) -> tuple[BudgetRow, ...]:
        return tuple(row for row in self.rows if row.topic == topic)


def budget(what: Design | Path | str) -> Budget:
    """The budgets of a design or a device file. Raises Unreadable.

    Examples:
        >>> import zapato
        >>> held = zapato.budget("devices/boot-dryer.toml")
        >>> [row.what for row in held.over]
        []
    """
    design = what if isinstance(what, Design) else resolve(Path(what))
    rows: list[BudgetRow] = []
    for topic_module in (rails, pin_currents, strips, analog, buses, traffic):
        rows += topic_module.rows(design)
    if known := memory(design):
        source = "measured in the VM (tools/costs.py)"
        how = "sum of what is below"
        rows.append(
            row("memory", "heap", "at its peak", known.heap, "B", known.heap_has, formula=how, source=source)
        )
        for whose, modules, size in shares(design):
            rows.append(
                row(
                    "memory",
                    whose,
                    "of that",
                    size,
                    "B",
                    formula=modules and f"brings along {modules}",
                    source=source,
                )
            )
        how = "sum of its modules"
        rows.append(row("memory", "flash", "one version", known.flash, "B", formula=how, source=source))
    rows += pace.rows(design)
    return Budget(design, tuple(rows))
