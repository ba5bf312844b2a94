"""Fit: pins chosen by a solver, boards ranked by what they can carry."""

from zapato.fit.boards import BoardFit, fit_boards
from zapato.fit.explain import Conflict
from zapato.fit.solve import Fit, Placement, fit
from zapato.fit.write import write_pins

__all__ = ["BoardFit", "Conflict", "Fit", "Placement", "fit", "fit_boards", "write_pins"]
