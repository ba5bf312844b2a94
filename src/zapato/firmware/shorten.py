"""Shorter names for the release build of a small chip.

On the device every name that the interpreter does not have of its own takes some 7 bytes and its
letters. Here the firmware's names are exchanged for ones that every MicroPython has in its ROM, and
then for short ones. What the world sees stays: names of properties, events and actions, whatever
stands in a text, and all that the ports' modules have. Names that only one module knows are given
again in others, as long as no object has both.

It saves 3.3 of 30 KiB; chips with less than 64 KiB get this build. `map.json` leads back to the names.
"""

from __future__ import annotations

import ast
import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import field
from functools import cache, lru_cache
from importlib.resources import files
from itertools import chain, product
from keyword import iskeyword
from string import ascii_letters

from zapato.firmware.bundle import parsed
from zapato.firmware.flash_texts import MODULE
from zapato.record import record
from zapato.regex import regex

ENTRIES = frozenset(
    {"opens", "d", "parts", "run", "plan", "device", "levels", "start", "fault", "MORE", "ONCE"}
)
"""Names by which the way up, and the simulator, reach the program."""


@record
class _Module:
    """One module's names: what it gives, and how each is used."""

    tree: ast.Module
    tops: frozenset[str] = frozenset()
    """What stands at its top: modules are put together into one, so these names are everybody's."""
    given: set[str] = field(default_factory=set[str])
    lent: set[str] = field(default_factory=set[str])
    """Attributes that it gives to objects of others, such as d.clock: whose classes these have is not seen here."""
    reached: set[str] = field(default_factory=set[str])
    plain: set[str] = field(default_factory=set[str])
    fixed: set[str] = field(default_factory=set[str])
    keywords: set[str] = field(default_factory=set[str])
    imports: set[str] = field(default_factory=set[str])


def shorten(sources: Mapping[str, str]) -> tuple[dict[str, str], dict[str, dict[str, str]]]:
    """The same modules with other names, line by line as before; and the new name of each, by module."""
    modules = {
        name: _read(_PLACE.sub(f"{MODULE}(0)", text) if MODULE in text else text)
        for name, text in sources.items()
    }
    tops = {name for module in modules.values() for name in module.tops}
    said = {name for module in modules.values() for name in module.fixed}
    fixed = port_names() | ENTRIES | said
    given = {name for module in modules.values() for name in module.given}
    own = given - fixed
    everywhere = {name for module in modules.values() for name in module.keywords | module.lent}
    reached = Counter(name for module in modules.values() for name in module.reached)
    shared = tops | (own & everywhere) | {name for name in own if reached[name] > 1}
    users: dict[str, list[str]] = {}
    for module_name, module in modules.items():
        for name in module.given | module.reached:
            users.setdefault(name, []).append(module_name)
    plain = {name for module in modules.values() for name in module.plain}
    # A property that a device file names is an attribute, too: no other may get its name.
    never, bare = given | said, plain | tops
    related = _related(modules)
    to: dict[str, dict[str, str]] = {name: {} for name in sources}
    used: dict[str, set[str]] = {name: set() for name in sources}
    candidates = [free for free in _free() if free not in never]
    closed = [free for free in candidates if free not in plain]
    rom = frozenset(names_in_rom())
    taken = set[str]()  # by names that several modules have: these come first
    for name in sorted(own, key=lambda n: (n not in shared, -len(n), n)):
        for places in [list(modules)] if name in shared else [[m] for m in users[name]]:
            barred = taken if name in shared else taken.union(*(used[m] for m in related[places[0]]))
            new = next(free for free in (closed if name in bare else candidates) if free not in barred)
            if new in rom or len(new) < len(name):
                for module in places:
                    to[module][name] = new
                if name in shared:
                    taken.add(new)
                else:
                    used[places[0]].add(new)
    return {name: _renamed(text, to[name]) for name, text in sources.items()}, to


@cache
def names_in_rom() -> tuple[str, ...]:
    """Names that every MicroPython with bytecode format 6 has (py/makeqstrdata.py, the static list); a test asks the compiler."""
    return tuple(_listed("rom"))


@cache
def port_names() -> frozenset[str]:
    """What the ports' modules offer; made by tools/port_names from the published stubs."""
    return frozenset(_listed("ports"))


def _listed(name: str) -> list[str]:
    return (files("zapato") / "firmware" / "names" / f"{name}.txt").read_text("utf-8").split()


@cache
def _free() -> tuple[str, ...]:
    """Names to give, the cheapest first."""
    pairs = ("".join(pair) for pair in product(ascii_letters, repeat=2))
    return (*names_in_rom(), *ascii_letters, *(pair for pair in pairs if not iskeyword(pair)))


@lru_cache(maxsize=256)
def _read(text: str) -> _Module:
    """What a module says of names: of every device the same modules, so that a site of many reads each once."""
    module = _Module(parsed(text))
    module.tops = frozenset(_tops(module.tree))
    module.given |= module.tops
    for node in ast.walk(module.tree):
        if isinstance(node, (ast.FunctionDef, ast.ClassDef)):
            module.given.add(node.name)
            if isinstance(node, ast.ClassDef):
                module.given |= {name for statement in node.body for name in _bound(statement)}
                module.reached |= {
                    name for statement in node.body for name in (*_bound(statement), *_called(statement))
                }
        elif isinstance(node, ast.arg):
            module.given.add(node.arg)
            module.plain.add(node.arg)
        elif isinstance(node, ast.keyword):
            module.reached.add(node.arg or "")
            module.keywords.add(node.arg or "")
        elif isinstance(node, ast.Attribute):
            module.reached.add(node.attr)
            if isinstance(node.ctx, ast.Store):
                module.given.add(node.attr)
                if not (isinstance(node.value, ast.Name) and node.value.id == "self"):
                    module.lent.add(node.attr)
        elif isinstance(node, ast.Name):
            module.plain.add(node.id)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and " " not in node.value:
            module.fixed |= set(re.findall(r"\w+", node.value))  # a sentence names nothing
        elif isinstance(node, ast.Import):
            module.imports |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            module.imports.add(node.module or "")
    module.fixed |= module.imports
    folded = set(re.findall(r"^(_[A-Z]\w*) = const\(", text, re.M))
    module.given = {name for name in module.given - folded if not name.startswith("__")}
    return module


def _tops(tree: ast.Module) -> Iterator[str]:
    """Names at the top of a module."""
    for node in tree.body:
        yield from _called(node)
        yield from _bound(node)


def _called(node: ast.stmt) -> Iterator[str]:
    """The name of a function or class."""
    if isinstance(node, (ast.FunctionDef, ast.ClassDef)):
        yield node.name


def _bound(node: ast.stmt) -> Iterator[str]:
    """The plain names that an assignment gives."""
    if isinstance(node, ast.Assign):
        for target in node.targets:
            yield from (name_node.id for name_node in ast.walk(target) if isinstance(name_node, ast.Name))


def _related(modules: Mapping[str, _Module]) -> dict[str, set[str]]:
    """For each module those whose classes one object may have together: all that some module imports with it."""
    below: dict[str, set[str]] = {}

    def reach(name: str) -> set[str]:
        if name not in below:
            below[name] = {name}
            for other in modules[name].imports & modules.keys():
                below[name] |= reach(other)
        return below[name]

    for name in modules:
        reach(name)
    return {
        name: set[str]().union(*(module for module in below.values() if name in module)) for name in modules
    }


_PLACE = regex(rf"\b{MODULE}\(\d+\)")
"""Where a text stands on the flash: another number in every device, and nothing of names."""
_STRINGS_AND_NAMES = regex(
    r"""([A-Za-z]{0,2}(?:\"{3}.*?\"{3}|'{3}.*?'{3}|"(?:\\.|[^"\\\n])*"|'(?:\\.|[^'\\\n])*')|#[^\n]*|\b[A-Za-z_]\w*)""",
    re.DOTALL,
)


@lru_cache(maxsize=256)
def _pieces(text: str) -> tuple[list[str], list[str]]:
    """The texts, comments and names of a module, and what stands between them: most modules are those of every device."""
    pieces = _STRINGS_AND_NAMES.split(text)
    return pieces[1::2], pieces[::2]


def _renamed(text: str, to: Mapping[str, str]) -> str:
    """The text with every name of the table exchanged where it stands; texts and comments stay."""
    pieces, between = _pieces(text)
    renamed = [to.get(piece, piece) for piece in pieces]
    return "".join(chain.from_iterable(zip(between, [*renamed, ""], strict=True)))
