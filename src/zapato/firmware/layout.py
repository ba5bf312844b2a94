"""The data partition: what stands where in the device's own file system.

main.py, go.mpy, boot_slot.mpy what the port runs, and what chooses the slot; no update touches them
a/, b/                the slots: manifest.json, the program's modules, safe/ with the minimal program's
settings.json         the network with its secrets, the update key
b.runs                there while slot b is the good one
slots.json            the slot on trial and its starts left; absent otherwise
ask.json              what the minimal program is to do; absent otherwise
kept.json, fault.json written by the program
"""

from __future__ import annotations

import json
from collections.abc import Mapping

from zapato.design import Design
from zapato.firmware.compile import cache_folder, compile_all, runtime_source
from zapato.firmware.package import BASE, MANIFEST, canonical, manifest
from zapato.firmware.program import SAFE, Program

SLOTS = ("a", "b")
START = ("go", "boot_slot")
"""What main.py imports to find the slot."""
SETTINGS = "settings.json"
FOLDERS = tuple(f"{slot}{below}" for slot in SLOTS for below in ("", f"/{SAFE}"))
"""Folders that are there from the beginning, parents first."""


def start_files(port: str) -> dict[str, bytes]:
    """What the port runs at every start, and what that needs."""
    made = compile_all({name: runtime_source(name, port) for name in START}, cache_folder(), lines=False)
    text = "".join(
        line for line in runtime_source("main", port).splitlines(True) if line.strip()[:1] not in ("", "#")
    )
    return {"main.py": text.encode(), **{f"{name}.mpy": data for name, data in made.items()}}


def delivered(design: Design, program: Program, settings: Mapping[str, object]) -> dict[str, bytes]:
    """Every file of a new device's data partition, by path: the program in slot a, described by its manifest."""
    about = manifest(design.name, design.version, BASE, program.files)
    slot = {f"{SLOTS[0]}/{path}": data for path, data in program.files.items()}
    return {
        **start_files(design.board.chip.port if design.board else ""),
        **slot,
        f"{SLOTS[0]}/{MANIFEST}": canonical(about),
        SETTINGS: json.dumps(settings, sort_keys=True).encode(),
    }
