"""Puts the counts of docs/vendor-tests.json into docs/ports.md."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parents[1]
PORTS = ("esp8266", "esp32", "rp2")
ROWS = {
    "language": "tests of the language: passed / failed / skipped",
    "stress": "the same with a collection at every allocation",
    "hardware": "tests of hardware modules, on a simulated board",
}


def page(text: str, found: dict[str, Any]) -> str:
    """The page with these counts and failures."""
    for kind, title in ROWS.items():
        cells = [found[name].get(kind) for name in PORTS]
        row = " | ".join(f"{c['passed']} / {c['failed']} / {c['skipped']}" if c else "–" for c in cells)
        text = re.sub(rf"^\| {re.escape(title)} \|.*$", f"| {title} | {row} |", text, flags=re.M)
    failed = {
        (test, why): [n for n in PORTS for k in ROWS if test in found[n].get(k, {}).get("failures", {})]
        for n in PORTS
        for k in ROWS
        for test, why in found[n].get(k, {}).get("failures", {}).items()
    }
    lines = [
        f"- `{test}` ({', '.join(dict.fromkeys(names))}): {why}"
        for (test, why), names in sorted(failed.items())
    ]
    body = "\n".join(lines) or "nothing."
    return re.sub(
        r"(What fails:\n).*?(\n\n## Verified)",
        lambda m: f"{m[1]}\n{body}{m[2]}" if lines else f"{m[1]}{body}{m[2]}",
        text,
        flags=re.S,
    )


if __name__ == "__main__":
    to = ROOT / "docs" / "ports.md"
    to.write_text(page(to.read_text(), json.loads((ROOT / "docs" / "vendor-tests.json").read_text())))
