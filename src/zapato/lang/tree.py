"""Where every key and value of a TOML text stands."""

from __future__ import annotations

from functools import cache

import tree_sitter
import tree_sitter_toml

from zapato.record import record

Key = tuple[str | int, ...]


@record(frozen=True)
class Span:
    """A stretch of one line, from 1, in characters."""

    line: int
    column: int
    width: int


@cache
def _parser() -> tree_sitter.Parser:
    return tree_sitter.Parser(tree_sitter.Language(tree_sitter_toml.language()))


class Places:
    """The spans of a text that reads without error."""

    def __init__(self, text: str) -> None:
        self._lines = text.encode().split(b"\n")
        self._keys: dict[Key, Span] = {}
        self._values: dict[Key, Span] = {}
        self._counts: dict[Key, int] = {}
        for node in _parser().parse(text.encode()).root_node.named_children:
            if node.type == "pair":
                self._pair(node, ())
            elif node.type in ("table", "table_array_element"):
                self._table(node)

    def span(self, path: Key, of: str = "value") -> Span | None:
        """The span of the value, or key, at `path`; of the nearest one above it that exists."""
        table = self._keys if of == "key" else self._values
        while path:
            if span := table.get(path) or self._keys.get(path):
                return span
            path = path[:-1]
        return None

    def _span(self, node: tree_sitter.Node) -> Span:
        (row, start), (end_row, end) = node.start_point, node.end_point
        line = self._lines[row]
        stop = end if end_row == row else len(line)
        return Span(row + 1, len(line[:start].decode()) + 1, max(1, len(line[start:stop].decode())))

    def _key(self, node: tree_sitter.Node) -> tuple[str, ...]:
        if node.type == "dotted_key":
            return tuple(name for child in node.named_children for name in self._key(child))
        text = (node.text or b"").decode()
        return (text[1:-1] if node.type == "quoted_key" else text,)

    def _table(self, node: tree_sitter.Node) -> None:
        head = node.named_children[0]
        names = self._key(head)
        base = self._absolute(names[:-1])
        own: Key = (*base, names[-1])
        if len(names) > 1:
            self._keys.setdefault(names[:1], self._span(head.named_children[0]))
        self._keys.setdefault(own, self._span(head))
        if node.type == "table_array_element":
            count = self._counts.get(own, 0)
            self._counts[own] = count + 1
            own = (*own, count)
            self._keys[own] = self._span(head)
        for child in node.named_children[1:]:
            if child.type == "pair":
                self._pair(child, own)

    def _absolute(self, names: tuple[str, ...]) -> Key:
        """The path of a table name, each array of tables meaning its newest element."""
        path: Key = ()
        for name in names:
            path = (*path, name)
            if path in self._counts:
                path = (*path, self._counts[path] - 1)
        return path

    def _pair(self, node: tree_sitter.Node, base: Key) -> None:
        named = [child for child in node.named_children if child.type != "comment"]
        names = self._key(named[0])
        for depth in range(1, len(names) + 1):
            self._keys.setdefault((*base, *names[:depth]), self._span(named[0]))
        self._value(named[1], (*base, *names))

    def _value(self, node: tree_sitter.Node, path: Key) -> None:
        self._values[path] = self._span(node)
        if node.type == "array":
            items = [child for child in node.named_children if child.type != "comment"]
            for index, child in enumerate(items):
                self._value(child, (*path, index))
        elif node.type == "inline_table":
            for child in node.named_children:
                if child.type == "pair":
                    self._pair(child, path)
