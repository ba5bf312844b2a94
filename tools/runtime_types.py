"""Type-checks the runtime against the published stubs of each MicroPython port, of the oldest and the newest release.

usage: python tools/runtime_types.py STUBS     STUBS/<port>/ and STUBS/oldest/<port>/ hold the stubs of a port

The stubs also name what stands in the documentation and not in the port. What the port's own file lists as absent
(src/zapato/boards/ports/<port>.toml) is taken out of them first.
"""

from __future__ import annotations

import ast
import json
import shutil
import subprocess
import sys
import tempfile
from collections import defaultdict
from pathlib import Path

from zapato import extensions
from zapato.boards.port import port, port_ids

GENERATED = {
    "levels.py": "OUT = ((1, 0),)\nMODULATED = (2,)\nSILENT = (1,)\nDOG = 5000\nREST = 1000\nWATCHED = True\nOFFERED = {'io': (255, 0)}\n",
    "plan.py": "from loop import Device\n\nd = Device('a', 'b', 'c', 1.0)\nMORE = ('plan1',)\n\n\ndef opens(settings):\n    return False\n\n\ndef connect(settings):\n    pass\n",
}
"""Stand for the modules that a build generates."""


def cleaned(stubs: Path, to: Path, name: str) -> None:
    """Copy a port's stubs without the names that the port lacks."""
    shutil.copytree(stubs, to)
    absent: dict[str, list[list[str]]] = defaultdict(list)
    for dotted in port(name).absent:
        module, *path = dotted.split(".")
        if path:
            absent[module].append(path)
    for module, paths in absent.items():
        file = to / f"{module}.pyi"
        if file.is_file():
            lines = file.read_text("utf-8").splitlines(keepends=True)
            for first, last in sorted(_spans(ast.parse("".join(lines)), paths), reverse=True):
                lines[first - 1 : last] = [
                    f"{' ' * (len(lines[first - 1]) - len(lines[first - 1].lstrip()))}...\n"
                ]
            file.write_text("".join(lines), "utf-8")


def _spans(tree: ast.Module, paths: list[list[str]]) -> set[tuple[int, int]]:
    """First and last line of each statement that defines one of these names."""
    found: set[tuple[int, int]] = set()
    for path in paths:
        bodies = [tree.body]
        for owner in path[:-1]:
            bodies = [
                n.body for body in bodies for n in body if isinstance(n, ast.ClassDef) and n.name == owner
            ]
        for node in (node for body in bodies for node in body):
            names = [getattr(node, "name", "")]
            if isinstance(node, ast.AnnAssign) and isinstance(node.target, ast.Name):
                names = [node.target.id]
            if path[-1] in names:
                first = min([node.lineno, *(d.lineno for d in getattr(node, "decorator_list", []))])
                found.add((first, node.end_lineno or first))
    return found


def check(name: str, stubs: Path, release: str) -> bool:
    """True where the runtime of one port uses its modules as the stubs say; prints what pyright finds."""
    with tempfile.TemporaryDirectory() as place:
        folder, known = Path(place) / "runtime", Path(place) / "stubs"
        folder.mkdir()
        cleaned(stubs, known, name)
        files = extensions.device_files()
        for path in files.values():
            module, _, own = path.stem.rpartition("_")
            if own not in port_ids():
                if f"{path.stem}_{name}" not in files:
                    (folder / path.name).write_text(path.read_text())
            elif own == name:
                (folder / f"{module}.py").write_text(path.read_text())
        for file, text in GENERATED.items():
            (folder / file).write_text(text)
        config = {
            "include": ["."],
            "stubPath": str(known),
            "typeshedPath": str(known),
            "pythonVersion": "3.11",
            "typeCheckingMode": "basic",
            "reportMissingModuleSource": False,
        }
        (folder / "pyrightconfig.json").write_text(json.dumps(config))
        done = subprocess.run(
            [str(Path(sys.executable).parent / "pyright"), "--project", str(folder)],
            capture_output=True,
            text=True,
            check=False,
        )
        print(f"runtime on {name}, {release} release: {done.stdout.strip().splitlines()[-1]}")
        if done.returncode:
            print(done.stdout.replace(str(folder), "runtime"))
        return done.returncode == 0


if __name__ == "__main__":
    stubs = Path(sys.argv[1]).absolute()
    places = {"newest": stubs, "oldest": stubs / "oldest"}
    good = [check(name, place / name, release) for release, place in places.items() for name in port_ids()]
    sys.exit(not all(good))
