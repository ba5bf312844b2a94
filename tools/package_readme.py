"""The README as the package carries it: on a package index its relative links and pictures would lead nowhere.

Pictures go; a link to a page becomes its text with the page's name, which the source archive has.
"""

from __future__ import annotations

import re
from pathlib import Path

from hatchling.metadata.plugin.interface import MetadataHookInterface

_PICTURE = re.compile(r"!\[[^\]]*\]\((?!https?:)[^)]*\)\n?")
_LINK = re.compile(r"\[([^\]]+)\]\((?!https?:)([^)#]*)(?:#[^)]*)?\)")


def readable_alone(text: str) -> str:
    """The text without relative links: `[how](docs/editor.md)` becomes `how: docs/editor.md`, a link to a picture its text."""

    def plain(link: re.Match[str]) -> str:
        words, target = link[1], link[2]
        return f"{words}: {target}" if target.endswith(".md") and words != target else words

    return _LINK.sub(plain, _PICTURE.sub("", text))


class CustomMetadataHook(MetadataHookInterface):
    """Puts it into the package's description."""

    def update(self, metadata: dict[str, object]) -> None:
        text = (Path(self.root) / "README.md").read_text("utf-8")
        metadata["readme"] = {"content-type": "text/markdown", "text": readable_alone(text)}
