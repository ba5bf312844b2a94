"""Reads chips and boards from their data files, each once a process."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

import tomli

from zapato.boards.board import (
    Analog,
    Board,
    Boot,
    Chip,
    Draw,
    Fitted,
    HeaderPin,
    Pin,
    Resources,
    Rmii,
    SpiEthernet,
    SupplyInput,
)
from zapato.errors import UnknownName
from zapato.lang.units import quantity

_HERE = Path(__file__).parent


@cache
def board_ids() -> tuple[str, ...]:
    """The ids of the catalogue's boards, in order."""
    return tuple(sorted(path.stem for path in (_HERE / "data").glob("*.toml")))


@cache
def chip_ids() -> tuple[str, ...]:
    """The ids of the catalogue's chips, in order."""
    return tuple(sorted(path.stem for path in (_HERE / "chips").glob("*.toml")))


def boards() -> tuple[Board, ...]:
    """Every board of the catalogue."""
    return tuple(board(name) for name in board_ids())


@cache
def board(name: str) -> Board:
    """The board with this id. Raises UnknownName."""
    if name not in board_ids():
        from zapato.lang.fields import nearest

        near = nearest(name, board_ids())
        raise UnknownName(
            f'no board is called "{name}"',
            near[0]
            if near
            else f"zapato boards lists the {len(board_ids())} boards; describe your own board in a file in boards/",
        )
    return board_of(tomli.loads((_HERE / "data" / f"{name}.toml").read_text("utf-8")))


@cache
def chip(name: str) -> Chip:
    """The chip with this id; KeyError-free use is the catalogue's own concern."""
    return chip_of(tomli.loads((_HERE / "chips" / f"{name}.toml").read_text("utf-8")))


def chip_of(data: Mapping[str, Any]) -> Chip:
    """A chip from the values of its data file."""
    sources, why, block = data["sources"], dict(data["why"]), data["pins"]
    busy = why.pop("radio_adc", [])
    routes = dict(data.get("routes", {}))
    routes_source = routes.pop("source", "")
    rows = [_pin(block["defaults"] | row, sources, busy) for row in block["rows"]]
    plain = (
        "id",
        "title",
        "port",
        "logic",
        "input_most",
        "heap",
        "flash",
        "cores",
        "mhz",
        "wifi",
        "bluetooth",
    )
    return Chip(
        **{key: data[key] for key in plain},
        pull_ohm=data.get("pull_ohm", 0.0),
        analog=Analog(**data["analog"]),
        resources=Resources(**data["resources"]),
        pins={pin.gpio: pin for pin in rows},
        sources=sources,
        why=why,
        routes={name: _route(row) for name, row in routes.items()},
        routes_source=routes_source,
        collect_share=data.get("collect_share", 0.0),
        image=data.get("image", 0),
        image_1mib=data.get("image_1mib", 0),
        tail=data.get("tail", 0),
        input_high=data.get("input_high", 0.0),
        draw=Draw(**data.get("draw", {})),
        total=data.get("total", 0.0),
        speed=data.get("speed", 50_000),
    )


def _route(row: Mapping[str, list[int]]) -> dict[int, tuple[int, ...]]:
    return {int(number): tuple(pins) for number, pins in row.items()}


def _pin(row: Mapping[str, Any], sources: Mapping[str, str], busy: list[int]) -> Pin:
    can = set(row["can"].split())
    adc: str = row.get("adc", "")
    only = row.get("analog_only", False)
    boot = row.get("boot")
    return Pin(
        gpio=row["gpio"],
        name=row.get("name") or f"GPIO{row['gpio']}",
        reads="in" in can and not only,
        drives="out" in can,
        pull_up="pull-up" in can,
        pull_down="pull-down" in can,
        interrupt="irq" in can,
        pwm="pwm" in can,
        adc=adc,
        adc_radio=bool(adc) and int(adc.partition(".")[0]) not in busy,
        analog_only=only,
        touch=row.get("touch"),
        dac=row.get("dac"),
        rtc=row.get("rtc"),
        flash=row.get("flash", ""),
        usb=row.get("usb", ""),
        console=row.get("console", ""),
        boot=Boot(**boot) if boot else None,
        reset=row.get("reset", ""),
        drive_ma=row["drive_ma"],
        source=sources[row["source"]],
    )


def _divided(own: Analog, analog: Mapping[str, Any]) -> Analog:
    """The input of a board with a divider before the chip's."""
    return Analog(own.low, analog["high"], own.bits, own.source, loads=sum(analog["divider"]))


def board_of(data: Mapping[str, Any]) -> Board:
    """A board from the values of its data file."""
    silicon = chip(data["chip"])
    analog, supply = data.get("analog"), data.get("supply", {})
    own = silicon.analog
    return Board(
        id=data["id"],
        title=data["title"],
        chip=silicon,
        headers={side: tuple(_place(text) for text in row) for side, row in data["headers"].items()},
        fitted=tuple(_fitted(part) for part in data.get("fitted", [])),
        usb=data.get("usb", ""),
        inputs=tuple(_input(row) for row in data.get("input", ())),
        rail_ma=supply.get("rail_ma", 0),
        rail_note=supply.get("note", ""),
        boot_mode=tuple(data.get("boot_mode", ())),
        flash=data.get("flash", silicon.flash),
        analog=_divided(own, analog) if analog else own,
        analog_why=analog["why"] if analog else "",
        flash_mode=data.get("flash_mode", "dio"),
        images=tuple(data.get("images", ["bin"])),
        ethernet=data.get("ethernet", ""),
        rmii=Rmii(**data["rmii"]) if "rmii" in data else None,
        spi_ethernet=SpiEthernet(**data["spi_ethernet"]) if "spi_ethernet" in data else None,
        psram=data.get("psram", 0),
        wants=tuple(data.get("wants", ())),
        resistors={int(gpio): _resistor(text) for gpio, text in data.get("resistors", {}).items()},
    )


def _fitted(data: Mapping[str, Any]) -> Fitted:
    plain: dict[str, Any] = {**data, "pins": tuple(data["pins"])}
    return Fitted(**plain)


def _input(data: Mapping[str, Any]) -> SupplyInput:
    plain = {key: value for key, value in data.items() if key != "volts"}
    volts = data["volts"]
    low, high = (quantity(end, "V") for end in volts.split("-")) if isinstance(volts, str) else volts
    return SupplyInput(**plain, low=low, high=high)


def _resistor(text: str) -> tuple[str, float]:
    """ "down 12kohm" -> ("down", 12000.0)"""
    side, _, ohms = text.partition(" ")
    return side, quantity(ohms, "ohm")


def _place(text: str) -> HeaderPin:
    label, _, gpio = text.partition("=")
    return HeaderPin(label, int(gpio) if gpio else None)
