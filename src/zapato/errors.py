"""What can go wrong with a call, as one tree.

A mistake *in a device file* is never an exception: it is a `zapato.findings.Finding`.
Exceptions are for a call that could not do its work at all.

    ZapatoError
    ├── Unreadable        a file or folder that cannot be read (missing, no permission, a loop of links)
    ├── Unwritable        a place that cannot be written (full disk, read-only folder)
    ├── UnknownName       a board, a finding code or a command word that does not exist
    ├── Refused           the work was not begun because findings of severity error stand
    ├── RehearsalInvalid  a rehearsal file with mistakes
    ├── ToolMissing       the MicroPython VM or its compiler is not there for this platform
    ├── NotOffered        an update that this device is not given: another key, an older version
    │   └── AlreadyThere  it runs this version
    └── NotDelivered      the way to the board, or the board, did not take it: nothing half-done counts as done

Every one carries one clear line (`str(error)`) and, where there is one, a way out (`error.fix`).
"""

from __future__ import annotations

from collections.abc import Mapping


class ZapatoError(Exception):
    """The root: `str()` is one line for people, `fix` the way out or an empty text."""

    def __init__(self, message: str, fix: str = "") -> None:
        super().__init__(message)
        self.fix = fix


class Unreadable(ZapatoError):
    """A file or folder that cannot be read."""


class Unwritable(ZapatoError):
    """A place that cannot be written; what was there before is still there."""


class UnknownName(ZapatoError):
    """A name given to a call (board, code) that Zapato does not know."""


class Refused(ZapatoError):
    """The work was not begun because of findings; `findings` holds them, `texts` their files by name."""

    def __init__(
        self,
        message: str,
        fix: str = "",
        findings: tuple[object, ...] = (),
        texts: Mapping[str, str] | None = None,
    ) -> None:
        super().__init__(message, fix)
        self.findings, self.texts = findings, texts or {}
        for finding in findings[:5]:
            self.add_note(str(finding))


class RehearsalInvalid(Refused):
    """A rehearsal file with mistakes; `findings` holds them."""


class NotOffered(ZapatoError):
    """This package is not for this device as it is."""


class AlreadyThere(NotOffered):
    """The device runs this version; it may be sent once more."""


class NotDelivered(ZapatoError):
    """What was to go onto the board did not get there, or did not run there."""


class ToolMissing(ZapatoError):
    """The MicroPython VM or its compiler is not there for this platform."""
