"""Fit: pins chosen by a solver, boards ranked by what they can carry.

The solver lives here so that `zapato.fit` stays a call; in the same way `budgets` leaves `zapato.budget` free.
"""

from zapato.fitting.boards import BoardFit, fit_boards
from zapato.fitting.explain import Conflict
from zapato.fitting.solve import Fit, Placement, fit
from zapato.fitting.write import write_pins

__all__ = ["BoardFit", "Conflict", "Fit", "Placement", "fit", "fit_boards", "write_pins"]
