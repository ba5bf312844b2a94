"""The mixed-integer program: pins with bus controllers of fixed routing and shared modulation outputs."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from zapato.boards.board import Chip, Pin
from zapato.design.design import PinUse
from zapato.rules.pin_routing import controllers

Row = dict[int, float]
"""A constraint's coefficients by variable."""


class FittingProgram:
    """x[u, p]: use u stands on pin p. y[b, c]: bus part b has controller c. All are 0 or 1."""

    def __init__(
        self,
        chip: Chip,
        uses: Sequence[PinUse],
        pins: Sequence[Pin],
        table: Sequence[Sequence[int | None]],
        fixed: Sequence[PinUse],
    ) -> None:
        self.chip, self.uses, self.pins, self.fixed = chip, uses, pins, fixed
        self.x = {
            (u, p): 0 for u, row in enumerate(table) for p, price in enumerate(row) if price is not None
        }
        self.costs: list[float] = []
        for key in self.x:
            self.x[key] = len(self.costs)
            self.costs.append(float(table[key[0]][key[1]] or 0))
        self.y: dict[tuple[str, int], int] = {}
        self.rows: list[tuple[Row, float, float]] = []
        self._each_use_once()
        self._each_pin_once()
        self._routing()
        self._modulation()

    def _add(self, row: Row, low: float, high: float) -> None:
        self.rows.append((row, low, high))

    def _each_use_once(self) -> None:
        for u in range(len(self.uses)):
            self._add({n: 1.0 for (use, _), n in self.x.items() if use == u}, 1, 1)

    def _each_pin_once(self) -> None:
        for p in range(len(self.pins)):
            self._add({n: 1.0 for (_, pin), n in self.x.items() if pin == p}, 0, 1)

    def _routing(self) -> None:
        """A part's routed pins belong to one controller; a controller serves one part."""
        parts = {use.part.name: use.part for use in self.uses if use.need.controller in self.chip.routes}
        for name in parts:
            own = [
                (u, use)
                for u, use in enumerate(self.uses)
                if use.part.name == name and use.need.controller in self.chip.routes
            ]
            set_ = [
                use for use in self.fixed if use.part.name == name and use.need.controller in self.chip.routes
            ]
            numbers = {n for _, use in own for n in self.chip.routes[use.need.controller]}
            allowed = controllers(self.chip, set_)
            for number in sorted(numbers if allowed is None else numbers & allowed):
                self.y[name, number] = len(self.costs)
                self.costs.append(0.0)
            self._add({n: 1.0 for (part, _), n in self.y.items() if part == name}, 1, 1)
            for u, use in own:
                self._follow(u, use, name)
        self._one_part_a_controller(parts.keys())

    def _follow(self, u: int, use: PinUse, name: str) -> None:
        """x[u, p] <= the sum of y[name, c] over the controllers c that reach p."""
        routes = self.chip.routes[use.need.controller]
        for p, pin in enumerate(self.pins):
            if (u, p) in self.x:
                row: Row = {self.x[u, p]: 1.0}
                for number, reached in routes.items():
                    if pin.gpio in reached and (name, number) in self.y:
                        row[self.y[name, number]] = -1.0
                self._add(row, -float("inf"), 0)

    def _one_part_a_controller(self, names: object) -> None:
        kinds = {use.part.name: use.part.kind for use in (*self.uses, *self.fixed)}
        for kind in set(kinds.values()):
            for number in {n for _, n in self.y}:
                held = [
                    use
                    for use in self.fixed
                    if use.part.kind is kind and (use.part.name, number) not in self.y
                ]
                busy = any(
                    controllers(self.chip, [use]) == {number}
                    for use in held
                    if use.need.controller in self.chip.routes
                )
                row = {n: 1.0 for (part, c), n in self.y.items() if c == number and kinds[part] == kind}
                if row:
                    self._add(row, 0, 0 if busy else 1)

    def _modulation(self) -> None:
        """Pins that share a modulation output carry one use of it."""
        fixed = self.chip.resources.pwm_fixed
        if not fixed:
            return
        held = {use.pin.gpio % fixed for use in self.fixed if use.need.pwm}
        for output in range(fixed):
            row = {
                n: 1.0
                for (u, p), n in self.x.items()
                if self.uses[u].need.pwm and self.pins[p].gpio % fixed == output
            }
            if len(row) > 1 or output in held:
                self._add(row, 0, 0 if output in held else 1)

    def solve(self) -> list[int] | None:
        """The pin of each use at the optimum, or None where there is none."""
        import numpy
        from scipy import optimize as untyped
        from scipy.sparse import csr_array

        if any(not row and low > 0 for row, low, _ in self.rows):
            return None
        rows = [row for row in self.rows if row[0]]
        data = [value for row, _, _ in rows for value in row.values()]
        at = [n for n, (row, _, _) in enumerate(rows) for _ in row]
        columns = [variable for row, _, _ in rows for variable in row]
        optimize: Any = untyped
        matrix = csr_array((data, (at, columns)), shape=(len(rows), len(self.costs)))
        limits = optimize.LinearConstraint(
            matrix, numpy.array([r[1] for r in rows]), numpy.array([r[2] for r in rows])
        )
        solution: Any = optimize.milp(
            numpy.array(self.costs),
            constraints=limits,
            integrality=numpy.ones(len(self.costs)),
            bounds=optimize.Bounds(0, 1),
            options={"mip_rel_gap": 0.0},
        )
        if solution.x is None:
            return None
        return [
            next(p for p in range(len(self.pins)) if (u, p) in self.x and solution.x[self.x[u, p]] > 0.5)
            for u in range(len(self.uses))
        ]
