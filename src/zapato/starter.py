"""Starting a device: a commented device file that passes `check`, in a site that is begun where it is missing."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from zapato.boards import Board, Pin, board
from zapato.errors import UnknownName, Unwritable
from zapato.lang.files import make_folder, write, write_private
from zapato.lang.site import NAME, NAME_WORDS, add_update_key
from zapato.lang.source import shown

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
label = "{label}"                     # for people
board = "{board}"
{room}
# One table a part: [kind.name]. Names are yours; kinds are relay, led, button, contact, motion, sensor, i2c.

[relay.lamp]
pin    = {out}                           # the chip's number, or a label of the board in quotes
active = "high"                       # the level that closes it
start  = "off"                        # after power-up: on, off, last

[button.switch]
pin    = {into}
pull   = "up"                         # the switch is between pin and ground
active = "low"

# A link ties parts together: when this happens, do that.
[[link]]
when = "switch.pressed"
do   = "lamp.toggle"
"""


def start_device(
    folder: Path, name: str, board_id: str, label: str = "", room: str = ""
) -> Iterator[tuple[str, bool]]:
    """Write the starter files; yields each path and whether it was written or stood there already.

    Raises UnknownName for a name or board that cannot be, Unwritable where the device file exists.
    """
    if not re.fullmatch(NAME, name):
        raise UnknownName(f'"{name}" cannot be a device\'s name', NAME_WORDS)
    carrier = board(board_id)
    path = folder / "devices" / f"{name}.toml"
    if path.exists():
        raise Unwritable(f"{shown(path)} is there already", "choose another name, or remove it first")
    out, into = _two_pins(carrier)
    text = _DEVICE.format(
        name=name,
        label=_quoted(label or name.replace("-", " ").capitalize()),
        board=board_id,
        room=f'room  = "{_quoted(room)}"\n' if room else "",
        out=out.gpio,
        into=into.gpio,
    )
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


def _two_pins(carrier: Board) -> tuple[Pin, Pin]:
    """Two pins with nothing to mind: one to drive, one with a pull-up and an interrupt."""
    plain = [p for p in carrier.free if p.boot is None and p.drives and p.pull_up and p.interrupt]
    plain.sort(key=lambda p: (bool(p.adc), p.reset_level == "high", p.gpio))
    return plain[0], plain[1]


def _site_name(folder: Path) -> str:
    name = re.sub(r"[^a-z0-9]+", "-", folder.absolute().name.lower()).strip("-0123456789")[:31].strip("-")
    return name or "home"


def _quoted(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')
