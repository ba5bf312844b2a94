"""The stage: the real runtime in the real MicroPython VM, with stand-ins for the board's modules."""

from zapato.stage.rehearse import default_script, rehearse
from zapato.stage.result import Crash, Expectation, Rehearsal

__all__ = ["Crash", "Expectation", "Rehearsal", "default_script", "rehearse"]
