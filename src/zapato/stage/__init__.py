"""The stage: the real runtime in the real MicroPython VM, with stand-ins for the board's modules."""

from zapato.stage.rehearse import default_script, rehearse
from zapato.stage.result import Crash, Expectation, Moment, Rehearsal

__all__ = ["Crash", "Expectation", "Moment", "Rehearsal", "default_script", "rehearse"]
