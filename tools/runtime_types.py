"""Type-checks the runtime against the published stubs of each MicroPython port.

usage: python tools/runtime_types.py STUBS     STUBS/<port>/ holds the stubs of a port
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

RUNTIME = Path(__file__).parents[1] / "src" / "zapato" / "runtime"
PORTS = ("esp32", "esp8266", "rp2")
GENERATED = {
    "levels.py": "OUT = ((1, 0),)\nOFFERED = {'io': (255, 0)}\n",
    "plan.py": "from loop import Device\n\nd = Device('a', 'b', 'c', 1.0)\nMORE = ('plan1',)\n\n\ndef connect(settings):\n    pass\n",
}
"""Stand for the modules that a build generates."""


def check(port: str, stubs: Path) -> bool:
    """True where the runtime of one port uses its modules as the stubs say; prints what pyright finds."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for path in RUNTIME.glob("*.py"):
            module, _, own = path.stem.rpartition("_")
            if own not in PORTS:
                (folder / path.name).write_text(path.read_text())
            elif own == port:
                (folder / f"{module}.py").write_text(path.read_text())
        for file, text in GENERATED.items():
            (folder / file).write_text(text)
        config = {
            "include": ["."],
            "stubPath": str(stubs),
            "typeshedPath": str(stubs),
            "pythonVersion": "3.11",
            "typeCheckingMode": "basic",
            "reportMissingModuleSource": False,
        }
        (folder / "pyrightconfig.json").write_text(json.dumps(config))
        done = subprocess.run(
            [str(Path(sys.executable).parent / "pyright"), "--project", name],
            capture_output=True,
            text=True,
            check=False,
        )
        print(f"runtime on {port}: {done.stdout.strip().splitlines()[-1]}")
        if done.returncode:
            print(done.stdout.replace(name, "runtime"))
        return done.returncode == 0


if __name__ == "__main__":
    good = [check(port, Path(sys.argv[1]).absolute() / port) for port in PORTS]
    sys.exit(not all(good))
