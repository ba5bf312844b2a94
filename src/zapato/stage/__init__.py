"""The stage: the real runtime in the real MicroPython VM, with stand-ins for the board's modules."""

from zapato.stage.rehearse import default_script, rehearse
from zapato.stage.result import Crash, Expectation, Moment, Rehearsal
from zapato.stage.site import SiteRehearsal, rehearse_site

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
