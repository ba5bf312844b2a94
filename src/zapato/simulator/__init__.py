"""The simulator: the real runtime in the real MicroPython VM, with stand-ins for the board's modules."""

from zapato.simulator.rehearse import default_script, rehearse
from zapato.simulator.result import Crash, Expectation, Moment, Rehearsal
from zapato.simulator.site_rehearsal import SiteRehearsal, rehearse_site

__all__ = [
    "Crash",
    "Expectation",
    "Moment",
    "Rehearsal",
    "SiteRehearsal",
    "default_script",
    "rehearse",
    "rehearse_site",
]
