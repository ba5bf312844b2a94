"""The runtime modules that a device needs, put together into one.

On the device every module costs a table of names, a dictionary and its imports over and over; together
they take some 3 KiB less of the heap. The modules keep their own files here, and mean the same alone.

Imports are made deeper than the loop ever stands: what an import leaves on the stack passes for pointers (the collector is
conservative) and would keep what only loads the program; `start.loaded` gives it back.
"""

from __future__ import annotations

import ast
from collections.abc import Container, Mapping
from functools import lru_cache
from graphlib import TopologicalSorter
from io import StringIO
from token import NAME as NAME_TOKEN
from tokenize import generate_tokens
from typing import TypeGuard

from zapato.errors import ZapatoError
from zapato.record import record

NAME = "device"
"""The module on the device."""
AIR = "air"
"""In the minimal program what speaks to others is a module of its own: with an access point it stays away."""
ONCE = "ONCE"
"""The bundle's classes that have an `__init__`: `joins` gives its memory back once everything is made."""


@record(frozen=True)
class JoinedModules:
    """The text of the module, and where each line comes from: (first line, module, first line there)."""

    text: str
    origins: tuple[tuple[int, str, int], ...]

    def origin(self, line: int) -> tuple[str, int]:
        """The module and line that a line of the bundle was."""
        start, module, first = max((row for row in self.origins if row[0] <= line), default=(1, NAME, 1))
        return module, first + line - start


def bundle(sources: Mapping[str, str], below: Mapping[str, str] | None = None) -> JoinedModules:
    """These modules as one, each after those that it imports. Raises ZapatoError where two give one name.

    `below` are modules that stand in another bundle already, and its name.
    """
    sources = _apart(sources)
    trees = {name: parsed(text) for name, text in sources.items()}
    outside: dict[str, None] = {}
    lines: list[str] = []
    origins: list[tuple[int, str, int]] = []
    owner: dict[str, str] = {}
    for name in _ordered(trees):
        for made in _names(trees[name]):
            if owner.setdefault(made, name) != name:
                raise ZapatoError(f"the runtime modules {owner[made]} and {name} both have {made}")
        body, first = _body(trees[name], sources[name], trees.keys(), below or {}, outside)
        origins.append((len(lines) + 1, name, first))
        lines += body
    made_once = [node.name for tree in trees.values() for node in tree.body if _begins(node)]
    lines.append(f"{ONCE} = ({''.join(f'{name}, ' for name in made_once)})")
    head = list(outside)
    shifted = tuple((line + len(head), name, first) for line, name, first in origins)
    return JoinedModules("\n".join([*head, *lines]) + "\n", shifted)


def _apart(sources: Mapping[str, str]) -> Mapping[str, str]:
    """The sources, with names of their own for the private constants that several of them have: their authors need not know of each other."""
    owner: dict[str, str] = {}
    apart = dict(sources)
    for name in sorted(sources):
        private = [made for made in _names(parsed(sources[name])) if made.startswith("_")]
        taken = {made for made in private if owner.setdefault(made, name) != name}
        if taken:
            apart[name] = _renamed(sources[name], {made: f"_{name}{made}" for made in taken})
    return apart


def _renamed(text: str, names: Mapping[str, str]) -> str:
    """The text with these names exchanged; texts, comments and attributes of that name stay."""
    lines = text.split("\n")
    tokens = list(generate_tokens(StringIO(text).readline))
    for before, token in reversed([*zip([None, *tokens], tokens, strict=False)]):
        if token.type == NAME_TOKEN and token.string in names and not (before and before.string == "."):
            (row, begin), (_, end) = token.start, token.end
            lines[row - 1] = lines[row - 1][:begin] + names[token.string] + lines[row - 1][end:]
    return "\n".join(lines)


@lru_cache(maxsize=256)
def parsed(text: str) -> ast.Module:
    """The syntax tree of a module's text; nobody changes it. Devices share their modules, and parsing is half of putting them together."""
    return ast.parse(text)


def _begins(node: ast.stmt) -> TypeGuard[ast.ClassDef]:
    """Whether this is a class with an `__init__` of its own."""
    return isinstance(node, ast.ClassDef) and any(
        isinstance(inner, ast.FunctionDef) and inner.name == "__init__" for inner in node.body
    )


def _imports(node: ast.stmt) -> list[str]:
    """The modules that a statement imports; empty where it is no import."""
    if isinstance(node, ast.Import):
        return [alias.name for alias in node.names]
    return [node.module or ""] if isinstance(node, ast.ImportFrom) else []


def _ordered(trees: Mapping[str, ast.Module]) -> list[str]:
    """Each module after those that it imports, else by name."""
    needed = {
        name: sorted({other for node in trees[name].body for other in _imports(node)} & trees.keys() - {name})
        for name in sorted(trees)
    }
    return [*TopologicalSorter(needed).static_order()]


def _names(tree: ast.Module) -> list[str]:
    """What a module defines at its top."""
    names: list[str] = []
    for node in tree.body:
        if isinstance(node, (ast.FunctionDef, ast.ClassDef)):
            names.append(node.name)
        elif isinstance(node, ast.Assign):
            names += [target.id for target in node.targets if isinstance(target, ast.Name)]
    return names


def _body(
    tree: ast.Module, text: str, own: Container[str], below: Mapping[str, str], outside: dict[str, None]
) -> tuple[list[str], int]:
    """The lines after the imports, and the number of the first; imports from outside are gathered."""
    last = 0
    for node in tree.body:
        modules = _imports(node)
        if not modules:
            break
        last = node.end_lineno or last
        if not any(module in own for module in modules):
            if isinstance(node, ast.ImportFrom) and modules[0] in below:
                node = ast.ImportFrom(below[modules[0]], node.names, 0)
            outside[ast.unparse(node)] = None
    return text.split("\n")[last:], last + 1
