"""Regular expressions that are compiled when they are first used.

A command imports modules whose expressions it never asks: compiling them was a twentieth of a cold `zapato check`.
"""

from __future__ import annotations

import re
from typing import Any, AnyStr, cast


def regex(text: AnyStr, flags: int = 0) -> re.Pattern[AnyStr]:
    """What `re.compile` gives for it, a moment later; for expressions of a module, which stand there for good.

    A mistake in the expression raises re.error where it is first used.
    """
    return cast("re.Pattern[AnyStr]", _Expression(text, flags))


class _Expression:
    def __init__(self, text: str | bytes, flags: int) -> None:
        self._text, self._flags = text, flags

    def __getattr__(self, name: str) -> Any:
        value = getattr(re.compile(self._text, self._flags), name)
        setattr(self, name, value)  # asked for once
        return value
