"""Starting a device: a commented device file that passes `check`, in a site that is begun where it is missing."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path

from zapato.boards import Board, board
from zapato.checks.compatibility import hazard
from zapato.design import Design, PinUse
from zapato.errors import UnknownName, Unwritable
from zapato.lang.document import Document
from zapato.lang.files import make_folder, write, write_private
from zapato.lang.site import NAME, NAME_WORDS, Site, add_update_key
from zapato.lang.source import Source, shown
from zapato.parts import Part, kind

_SITE = """\
# The site: what all devices of this place share.
[site]
name = "{name}"                       # first part of every MQTT topic

# [wifi]                              # uncomment when you know them
# name     = "refuge"
# password = {{ secret = "wifi_password" }}

# [mqtt]
# host = "192.168.4.2"
"""

_SECRETS = """\
# Secrets of this site. Keep this file to yourself: it belongs in no version control.
# wifi_password = "…"
"""

_DEVICE = """\
zapato = 1                            # language version

[device]
name  = "{name}"
{label} # for people
board = "{board}"
{room}
# One table a part: [kind.name]. The kind says what it is, the name is yours.

{out}

{into}

# A link ties parts together: when this happens, do that.
{links}
"""

_TOGGLE = """\
[[link]]
when = "switch.pressed"
do   = "lamp.toggle\""""

_FOLLOW = """\
[[link]]
when = "switch.on"
do   = "lamp.on"

[[link]]
when = "not switch.on"
do   = "lamp.off\""""

_RELAY = """\
[relay.lamp]
pin    = {pin:<28} # the chip's number, or a label of the board in quotes
active = "high"                       # the level that closes it
start  = "off"                        # after power-up: on, off, last"""

_LED = """\
[led.lamp]
pin    = {pin:<28} # the chip's number, or a label of the board in quotes
active = "{active}"                        # the level that lights it
start  = "off"                        # after power-up: on, off"""

_BUTTON = """\
[button.switch]
pin    = {pin:<28}
pull   = "{pull}"                         # "up": the switch is between pin and ground
active = "low\""""

_FLAG = """\
# This board has no pin left for a button; the flag is set over MQTT.
[flag.switch]
start = false"""


def start_device(
    folder: Path, name: str, board_id: str, label: str = "", room: str = ""
) -> Iterator[tuple[str, bool]]:
    """Write the starter files; yields each path and whether it was written or stood there already.

    Raises UnknownName for a name or board that cannot be, Unwritable where the device file exists.
    """
    if not re.fullmatch(NAME, name):
        near = re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:31].strip("-")
        fix = f'"{near}" can: {NAME_WORDS}' if re.fullmatch(NAME, near) else NAME_WORDS
        raise UnknownName(f'"{name}" cannot be a device\'s name', fix)
    carrier = board(board_id)
    path = folder / "devices" / f"{name}.toml"
    if path.exists():
        raise Unwritable(f"{shown(path)} is there already", "choose another name, or remove it first")
    out, into, links = _parts(carrier)
    text = _DEVICE.format(
        name=name,
        label=f'label = "{_quoted(label or name.replace("-", " ").capitalize())}"'.ljust(37),
        board=board_id,
        room=f'room  = "{_quoted(room)}"\n' if room else "",
        out=out,
        into=into,
        links=links,
    )
    text = "\n".join(line.rstrip() for line in text.split("\n"))
    site, secrets = folder / "site.toml", folder / "secrets.toml"
    make_folder(folder)
    if not site.exists():
        yield shown(site), write(site, _SITE.format(name=_site_name(folder)))
    else:
        yield shown(site), False
    made = not secrets.exists()
    if made:
        write_private(secrets, _SECRETS)
    add_update_key(folder, name)
    yield shown(secrets), made
    yield shown(path), write(path, text)


def _parts(carrier: Board) -> tuple[str, str, str]:
    """Two parts that give no finding on this board, and the links that tie them."""
    taken: set[int] = set()
    lamp = _lamp(carrier, taken)
    for pull in ("up", "none"):
        if into := _place(carrier, "button", {"active": "low", "pull": pull}, taken):
            return lamp, _BUTTON.format(pin=into, pull=pull), _TOGGLE
    return lamp, _FLAG, _FOLLOW


def _lamp(carrier: Board, taken: set[int]) -> str:
    for kind_name, active, text in (("relay", "high", _RELAY), ("led", "low", _LED), ("led", "high", _LED)):
        if out := _place(carrier, kind_name, {"active": active}, taken):
            return text.format(pin=out, active=active)
    raise UnknownName(f"no pin of {carrier.id} is free for an output", "describe its fitted parts by hand")


def _place(carrier: Board, kind_name: str, values: dict[str, str], taken: set[int]) -> str:
    """The pin as the file names it: a fitted part of that kind, else the first pin nothing speaks against."""
    kind_of_part = kind(kind_name)
    assert kind_of_part is not None
    part = Part(kind_of_part, "lamp", values)
    design = Design(Document(Source(Path("new.toml"), ""), {}), Site(), board=carrier)
    names = {
        f.pins[0]: f'"{f.name}"'
        for f in carrier.fitted
        if f.kind.split()[:1] == [kind_name] and f.active == values["active"] and len(f.pins) == 1
    }
    plain = sorted(
        carrier.usable, key=lambda p: (p.boot is not None, bool(p.adc), p.reset_level == "high", p.gpio)
    )
    for pin in [*(carrier.pin(gpio) for gpio in names), *plain]:
        use = PinUse(part, next(iter(part.needs)), pin)
        if pin.gpio not in taken and not hazard(use, design):
            taken.add(pin.gpio)
            return names.get(pin.gpio, str(pin.gpio))
    return ""


def _site_name(folder: Path) -> str:
    name = re.sub(r"[^a-z0-9]+", "-", folder.absolute().name.lower()).strip("-0123456789")[:31].strip("-")
    return name or "home"


def _quoted(text: str) -> str:
    """The text as it stands between the quotes of a TOML basic string (JSON escapes the same way)."""
    return json.dumps(text, ensure_ascii=False)[1:-1]
