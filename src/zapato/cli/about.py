"""The commands, as `zapato --help` lists them: a table, so that nothing of a command is imported to list it."""

from __future__ import annotations

from typing import Literal

from zapato.record import record

Step = Literal["Start", "Check", "Look", "Rehearse", "Put on the board", "Follow"]
STEPS: tuple[Step, ...] = ("Start", "Check", "Look", "Rehearse", "Put on the board", "Follow")
"""The groups of commands, in the order of the work."""


@record(frozen=True)
class About:
    """The step of the work that a command belongs to, what it does in a few words, and a call of it as an example."""

    step: Step
    short: str
    example: str


COMMANDS: dict[str, About] = {
    "boards": About("Start", "boards, their pins, and what each can do", "zapato boards esp32-38pin"),
    "chips": About(
        "Start", "the sensor chips: what each measures, and on what", "zapato chips --measures humidity"
    ),
    "costs": About(
        "Start", "measure what an extension takes of a device's memory", "zapato costs buzzer --site ."
    ),
    "demo": About("Start", "the demo site, checked, built, rehearsed", "zapato demo --out refuge"),
    "fit": About(
        "Start", 'choose a pin for every pin = "auto"', "zapato fit devices/porch-light.toml --write"
    ),
    "new": About(
        "Start", "begin a device: a commented file", "zapato new porch-light --board esp32-38pin --room Porch"
    ),
    "budget": About(
        "Check", "currents, buses, memory, time against limits", "zapato budget devices/porch-light.toml"
    ),
    "check": About(
        "Check", "what cannot work on the board, and why", "zapato check devices/porch-light.toml"
    ),
    "diff": About(
        "Check", "what a change changes on wires and topics", "zapato diff HEAD devices/porch-light.toml"
    ),
    "editor": About("Check", "the check in an editor, while typing", "zapato editor"),
    "explain": About("Check", "the story behind the code of a finding", "zapato explain pin-boot-level"),
    "fix": About("Check", "correct misspelt names in the files", "zapato fix devices/porch-light.toml"),
    "rename": About(
        "Check",
        "rename a part in every file that names it",
        "zapato rename devices/boot-dryer.toml heater oven",
    ),
    "schema": About(
        "Check", "the JSON Schema of device files, for editors", "zapato schema > device.schema.json"
    ),
    "draw": About(
        "Look",
        "pins, wires and links as pictures or tables",
        "zapato draw devices/porch-light.toml --out porch.png",
    ),
    "look": About(
        "Look", "pins, wires and findings beside the editor", "zapato look devices/boot-dryer.toml"
    ),
    "models": About("Look", "the W3C Thing Model of a kind of part", "zapato models relay"),
    "report": About("Look", "a page with all of it, without a network", "zapato report . --out report"),
    "topics": About("Look", "what devices say and hear over MQTT", "zapato topics devices/porch-light.toml"),
    "rehearse": About("Rehearse", "run the firmware at the desk", "zapato rehearse devices/porch-light.toml"),
    "build": About(
        "Put on the board", "modules, update package, images", "zapato build devices/porch-light.toml"
    ),
    "deliver": About(
        "Put on the board",
        "by cable, or over the air",
        "zapato deliver devices/porch-light.toml --port /dev/ttyUSB0",
    ),
    "ports": About("Put on the board", "serial ports, and what hangs on each", "zapato ports"),
    "fleet": About("Follow", "which devices are there, with which version", "zapato fleet ."),
    "heard": About(
        "Follow", "what a device met on its buses, into its file", "zapato heard devices/porch-light.toml"
    ),
    "hub": About("Follow", "values, history and alerts of a whole site", "zapato hub . --web 8123"),
    "watch": About("Follow", "log and values of devices, live", "zapato watch devices/porch-light.toml"),
}
"""The modules of `zapato.cli.commands`, in the order of the work."""
