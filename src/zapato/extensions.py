"""Bundles: kinds of parts, chips, rules and boards, each a folder with all that belongs to it. Ours and those from outside are alike.

A bundle may hold:

    part.py      KIND: a kind of part, named like the bundle
    chip.py      CHIP: a chip of some kind (a sensor, an expander, …), named like the bundle
    rule.py      RULE or RULES: findings of its own
    device/      MicroPython modules, which go onto the device
    sim.py       Chip: the stand-in for a chip on a bus; Peer: for what is at the other end of a serial line
    cost.json    bytes that its modules and parts take (`zapato costs` measures them)
    boards/      boards, as a site's own
    chips/       described chips, as a site's own

Ours are folders of `zapato.parts`: parts/KIND, and parts/KINDs/CHIP. One from outside (an extension) is found as an entry point of the
group `zapato.extensions` of an installed package (its value is the bundle's package), or as a folder extensions/NAME of a site whose
site.toml names it: `[site] extensions = ["NAME"]`. Code of a site runs only where it is named there.
"""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Callable, Hashable, Iterator, Mapping
from functools import cache
from importlib import import_module
from pathlib import Path
from types import ModuleType
from typing import Any

from zapato.errors import ZapatoError
from zapato.record import record
from zapato.regex import regex

GROUP = "zapato.extensions"
NAME = regex(r"[a-z][a-z0-9_]{0,39}")


@record(frozen=True)
class Bundle:
    """One bundle, of ours or of an extension.

    Attributes:
        name: of the kind or chip, or as site.toml or the entry point has it.
        folder: where its files are.
        package: the Python package that its modules are imported from.
        site: it is a site's own, not an installed one.
        chip_of: the kind whose chip one of ours is; "" for every other bundle.
    """

    name: str
    folder: Path
    package: str
    site: bool = False
    chip_of: str = ""

    def has(self, file: str) -> bool:
        return (self.folder / file).is_file()

    def module(self, name: str) -> ModuleType:
        """Its Python module of this name. Raises ZapatoError where it cannot be imported."""
        if self.package.startswith(_OURS):
            return load_module(f"{self.package}.{name}", self.folder / f"{name}.py")
        try:
            if self.site:
                _package(self)
            return import_module(f"{self.package}.{name}")
        except (Exception, SystemExit) as error:
            raise ZapatoError(
                f"the extension {self.name} cannot be loaded: {_said(error, self.folder)}"
            ) from error

    def member(self, module: str, name: str) -> Any:
        """What one of its modules calls so. Raises ZapatoError."""
        value = getattr(self.module(module), name, None)
        if value is None:
            raise ZapatoError(f"the extension {self.name} has no {name} in {module}.py", f"{name} = …")
        return value


_OURS = "zapato.parts."


def load_module(name: str, file: str | Path) -> ModuleType:
    """A module of ours whose file is known, imported without a search for it: a check loads some eighty of them."""
    if module := sys.modules.get(name):
        return module
    from importlib.util import module_from_spec, spec_from_file_location

    spec = spec_from_file_location(name, file)
    assert spec and spec.loader
    made = sys.modules[name] = module_from_spec(spec)
    try:
        spec.loader.exec_module(made)
    except BaseException:
        del sys.modules[name]
        raise
    return made


def _package(bundle: Bundle) -> None:
    """Make a site's folder a package of its own name, so that it imports its modules with `from . import`."""
    if bundle.package in sys.modules:
        return
    made = ModuleType(bundle.package)
    made.__path__ = [str(bundle.folder)]
    sys.modules[bundle.package] = made


def _said(error: BaseException, folder: Path) -> str:
    """An error in one line, with its place in the extension."""
    import traceback

    rows = traceback.extract_tb(error.__traceback__)
    own = next((row for row in reversed(rows) if row.filename.startswith(str(folder))), None)
    if own is None and isinstance(error, SyntaxError):
        return f"{error.msg}, {Path(error.filename or '').name}:{error.lineno}"
    place = f", {Path(own.filename).relative_to(folder)}:{own.lineno}" if own else ""
    return f"{type(error).__name__}: {error}{place}"


OFF = "ZAPATO_NO_EXTENSIONS"
"""Where this stands in the environment no extension is used; processes that this one starts do as it does."""
_installed_ones: dict[str, Bundle] | None = None
_of_site: tuple[Path | None, tuple[str, ...]] = (None, ())
_in_force: dict[str, Bundle] | None = None
_forget: list[Callable[[], None]] = []


def bundles() -> Mapping[str, Bundle]:
    """The extensions in force, by name: the installed ones, and those of the site that was read last."""
    global _in_force
    if _in_force is None:
        root, names = _of_site if not os.environ.get(OFF) else (None, ())
        own = {name: _own(root, name) for name in names if root and not why_not(root, name)}
        _in_force = dict(sorted({**_installed(), **own}.items()))
    return _in_force


def _installed() -> dict[str, Bundle]:
    """The installed ones. Raises ZapatoError where the package of one cannot be found."""
    global _installed_ones
    if os.environ.get(OFF):
        return {}
    if _installed_ones is None:
        bundles: dict[str, Bundle] = {}
        if _mentioned():
            from importlib.metadata import entry_points  # takes as long to import as half a check

            bundles = {
                entry_point.name: _of_package(entry_point.name, entry_point.value)
                for entry_point in entry_points(group=GROUP)
            }
        _installed_ones = bundles
    return _installed_ones


def _mentioned() -> bool:
    """Whether any installed package speaks of our group at all."""
    for place in sys.path:
        with contextlib.suppress(OSError), os.scandir(place) as entries:
            for entry in entries:
                if entry.name.endswith(".dist-info"):
                    with (
                        contextlib.suppress(OSError),
                        open(f"{entry.path}{os.sep}entry_points.txt", "rb") as file,
                    ):
                        if GROUP.encode() in file.read():
                            return True
    return False


def _of_package(name: str, package: str) -> Bundle:
    import importlib.util

    try:
        spec = importlib.util.find_spec(package)
        where = next(iter(spec.submodule_search_locations or ()), None) if spec else None
    except (Exception, SystemExit) as error:
        raise ZapatoError(
            f"the installed extension {name} cannot be loaded: {error}", "zapato --no-extensions …"
        ) from error
    if where is None or not NAME.fullmatch(name):
        raise ZapatoError(
            f"the installed extension {name} is no package {package} with a name of a-z, 0-9 and _",
            "zapato --no-extensions …",
        )
    return Bundle(name, Path(where), package)


def _own(root: Path, name: str) -> Bundle:
    folder = root.absolute() / "extensions" / name
    import hashlib

    code = hashlib.sha256(str(folder).encode()).hexdigest()[:8]
    return Bundle(name, folder, f"zapato_site_{code}_{name}", site=True)


_HERE = os.path.dirname(__file__)


@cache
def own_bundles() -> Mapping[str, Bundle]:
    """Zapato's own bundles, by name: those of kinds, and those of the chips that stand in a folder called like their kind and an s."""
    bundles: dict[str, Bundle] = {}
    for name, folder in _folders(f"{_HERE}{os.sep}parts"):  # in plain texts: every check asks for it
        if os.path.isfile(f"{folder}{os.sep}part.py"):
            bundles[name] = Bundle(name, Path(folder), f"zapato.parts.{name}")
            continue
        for chip, place in _folders(folder):
            if not os.path.isfile(f"{place}{os.sep}chip.py"):  # what an earlier version left: compiled files
                continue
            bundles[chip] = Bundle(
                chip, Path(place), f"zapato.parts.{name}.{chip}", chip_of=name.removesuffix("s")
            )
    return bundles


def _folders(folder: str) -> list[tuple[str, str]]:
    with os.scandir(folder) as entries:
        return sorted(
            (entry.name, entry.path) for entry in entries if entry.name[0] != "_" and entry.is_dir()
        )


def bundle(name: str, file: str) -> Bundle | None:
    """The bundle of this name that has this file, ours or one from outside: a kind and a chip may have one name."""
    theirs = bundles().get(name)
    return _own_with(name, file) or (theirs if theirs and theirs.has(file) else None)


@cache
def _own_with(name: str, file: str) -> Bundle | None:
    bundle = own_bundles().get(name)
    return bundle if bundle and bundle.has(file) else None


def with_file(file: str) -> Iterator[Bundle]:
    """The extensions that have this file."""
    return (bundle for bundle in bundles().values() if bundle.has(file))


def beside(ours: frozenset[str], file: str, what: str) -> frozenset[str]:
    """Our names, and those of the extensions that have this file. Raises ZapatoError where one has a name of ours."""
    names = frozenset(bundle.name for bundle in with_file(file))
    if both := sorted(names & ours):
        raise ZapatoError(
            f"the extension {both[0]} has the name of {what} that Zapato has", "another name for its folder"
        )
    return names | ours


def why_not(root: Path, name: str) -> str:
    """Why a site's own extension of this name cannot be used; "" where it can."""
    if not NAME.fullmatch(name) or not (root / "extensions" / name).is_dir():
        return f"there is no folder extensions/{name} beside site.toml"
    if name in _installed():
        return f"{name} is the name of an installed extension, in {_installed()[name].folder}"
    return ""


def site_root() -> Path | None:
    """The folder of the site that was read last."""
    return _of_site[0]


def scope() -> Hashable:
    """Equal while the same extensions and described chips are in force, as far as the site says which."""
    return _of_site


def for_site(root: Path | None, names: tuple[str, ...]) -> None:
    """From now on the extensions and the described chips of this site are in force, and of no other."""
    global _of_site
    before, _of_site = _of_site, (root, names)
    if _of_site != before and (names or before[1]):
        _changed()


def off() -> None:
    """From now on no extension is used, here and in the processes that this one starts."""
    os.environ[OFF] = "1"
    _changed()


def on_change(forget: Callable[[], None]) -> None:
    """`forget` is called when extensions come or go: whoever keeps a list of kinds, chips, rules or boards makes it anew."""
    _forget.append(forget)


def _changed() -> None:
    global _in_force
    _in_force = None
    for forget in _forget:
        forget()


@cache
def _own_device() -> Mapping[str, tuple[str, str]]:
    """Our own MicroPython modules: name -> file, and the bundle that has it ("" for what belongs to none)."""
    places = {"": f"{_HERE}{os.sep}device"}
    places |= {name: f"{bundle.folder}{os.sep}device" for name, bundle in own_bundles().items()}
    device_files: dict[str, tuple[str, str]] = {}
    for owner, folder in places.items():
        with contextlib.suppress(FileNotFoundError), os.scandir(folder) as entries:
            device_files |= {
                entry.name[:-3]: (entry.path, owner) for entry in entries if entry.name.endswith(".py")
            }
    return device_files


def device_files() -> Mapping[str, Path]:
    """The files of our own MicroPython modules, by name."""
    return {name: Path(file) for name, (file, _) in _own_device().items()}


@cache
def owner_of(module: str) -> str:
    """Our own bundle that has this MicroPython module, for one port at least; "" where none has."""
    known = _own_device()
    return next((known[name][1] for name in (module, *_variants(module)) if name in known), "")


@cache
def is_ours(module: str) -> bool:
    """Whether this MicroPython module is ours, for one port at least."""
    return any(name in _own_device() for name in (module, *_variants(module)))


@cache
def _ports() -> tuple[str, ...]:
    names = os.listdir(os.path.join(_HERE, "boards", "ports"))
    return tuple(sorted(name.removesuffix(".toml") for name in names if name.endswith(".toml")))


def _variants(module: str) -> tuple[str, ...]:
    """What the module is called where ports differ."""
    return tuple(f"{module}_{port}" for port in _ports())


def device_texts(module: str) -> list[str]:
    """The sources of a MicroPython module, those of all ports where they differ; none where nobody has it."""
    names, known = (module, *_variants(module)), _own_device()
    places = [Path(known[name][0]) for name in names if name in known]
    theirs = (bundle.folder / "device" / f"{name}.py" for bundle in bundles().values() for name in names)
    places += [place for place in theirs if place.is_file()]
    return [place.read_text("utf-8") for place in places]


def device_source(module: str, port: str) -> str | None:
    """The source of a MicroPython module, the one of `port` where ports differ; None where nobody has it.

    Raises ZapatoError where an extension has a module of a name of ours.
    """
    names, known = (f"{module}_{port}", module), _own_device()
    own = next((Path(known[name][0]) for name in names if name in known), None)
    for bundle in bundles().values():
        for name in names:
            file = bundle.folder / "device" / f"{name}.py"
            if not file.is_file():
                continue
            if own:
                raise ZapatoError(
                    f"device/{file.name} of the extension {bundle.name} has the name of a module of Zapato",
                    "another name for it",
                )
            return file.read_text("utf-8")
    return own.read_text("utf-8") if own else None


def costs(path: Path) -> Mapping[str, Mapping[str, Mapping[str, float]]]:
    """A cost.json: bytes by form of the build, memory and feature. Raises ZapatoError."""
    import json

    try:
        measured: Any = json.loads(path.read_text("utf-8"))
        return {
            str(form): {
                str(name): {str(what): float(size) for what, size in table.items()}
                for name, table in memories.items()
            }
            for form, memories in measured.items()
        }
    except (OSError, ValueError, AttributeError, TypeError, RecursionError) as error:
        raise ZapatoError(
            f"cost.json of the extension {path.parent.name} cannot be read: {error}",
            "zapato costs NAME writes it anew",
        ) from None


def blamed(error: BaseException) -> str:
    """In words, the extension in whose code an error arose; "" where it is none's."""
    import traceback

    for row in reversed(traceback.extract_tb(error.__traceback__)):
        for bundle in bundles().values():
            if Path(row.filename).is_relative_to(bundle.folder):
                return f"the extension {bundle.name} failed: {_said(error, bundle.folder)}"
    return ""
