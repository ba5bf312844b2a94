"""Changing device files as a person would: ways out put into the text, a part renamed everywhere it is named.

Whatever is changed is checked before it is written: a change after which something is wrong that was not before is none.
"""

from zapato.editing.change import Edit, Texts, applied
from zapato.editing.fix import Fixed, fix
from zapato.editing.rename import Renamed, places_of, rename
from zapato.editing.ways import WayOut, ways

__all__ = ["Edit", "Fixed", "Renamed", "Texts", "WayOut", "applied", "fix", "places_of", "rename", "ways"]
