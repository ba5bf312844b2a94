"""Type-checks a user's script (tests/data/typed_script.py) against the built wheel, with mypy --strict and pyright in strict mode.

usage: python tools/user_types.py
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
BIN = Path(sys.executable).parent


def main() -> int:
    with tempfile.TemporaryDirectory() as name:
        place = Path(name)
        python = installed(place)
        (place / "script.py").write_text((ROOT / "tests" / "data" / "typed_script.py").read_text())
        (place / "pyrightconfig.json").write_text(json.dumps({"typeCheckingMode": "strict"}))
        mypy = [
            sys.executable,
            "-m",
            "mypy",
            "--strict",
            "--cache-dir",
            str(place / "mypy"),
            "--python-executable",
        ]
        good = [said("mypy", [*mypy, str(python), "script.py"], place)]
        good += [said("pyright", [str(BIN / "pyright"), "--pythonpath", str(python), "script.py"], place)]
    return int(not all(good))


def installed(place: Path) -> Path:
    """An environment with the wheel and nothing else; gives its Python."""
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check"]
    wheel = ["wheel", "--quiet", "--no-deps", "--no-build-isolation", "-w", str(place), str(ROOT)]
    subprocess.run([*pip, *wheel], check=True)
    subprocess.run([sys.executable, "-m", "venv", "--without-pip", place / "v"], check=True)
    python = next(place.glob("v/[bS]*/python*"))
    into = next(place.glob("v/lib/python*/site-packages"), place / "v" / "Lib" / "site-packages")
    built = str(next(place.glob("*.whl")))
    subprocess.run([*pip, "install", "--quiet", "--no-deps", "--target", str(into), built], check=True)
    return python


def said(what: str, words: list[str], place: Path) -> bool:
    done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
    print(
        f"{what} on a user's script: {done.stdout.strip().splitlines()[-1] if done.stdout else done.stderr}"
    )
    if done.returncode:
        print(done.stdout)
    return done.returncode == 0


if __name__ == "__main__":
    sys.exit(main())
