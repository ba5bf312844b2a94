"""The README as the package carries it: on a package index its relative links and pictures would lead nowhere.

Pictures go, with the column of the tables that links to them; a link to a page becomes its text with the page's name, which the source
archive has.
"""

from __future__ import annotations

import re
from pathlib import Path

from hatchling.metadata.plugin.interface import MetadataHookInterface

_PICTURE = re.compile(r"!\[[^\]]*\]\((?!https?:)[^)]*\)\n\n?")
_LINK = re.compile(r"\[([^\]]+)\]\((?!https?:)([^)#]*)(?:#[^)]*)?\)")
_PICTURED = re.compile(r"(?m)^\|.*\| picture \|\n(?:\|.*\|\n)*")
"""A table whose last column has pictures."""


def readable_alone(text: str) -> str:
    """The text without relative links: `[how](docs/editor.md)` becomes `how (docs/editor.md)`."""

    def plain(link: re.Match[str]) -> str:
        words, target = link[1], link[2]
        return f"{words} ({target})" if target.endswith(".md") and words != target else words

    narrow = _PICTURED.sub(lambda table: re.sub(r"(?m)\|[^|\n]*\|$", "|", table[0]), _PICTURE.sub("", text))
    return _LINK.sub(plain, narrow)


class CustomMetadataHook(MetadataHookInterface):
    """Puts it into the package's description."""

    def update(self, metadata: dict[str, object]) -> None:
        text = (Path(self.root) / "README.md").read_text("utf-8")
        metadata["readme"] = {"content-type": "text/markdown", "text": readable_alone(text)}
