"""i2s-exhausted, i2s-order, sound-both: what the chip's I2S circuits cannot do, and microphones that are two."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding
from zapato.parts.kind import Part

_SOURCE = (
    "MicroPython, machine.I2S: ports/esp32, ports/rp2 (machine_i2s.c: MAX_I2S_RP2 is 2); not in ports/esp8266"
)
_ORDER = "MicroPython, ports/rp2/machine_i2s.c: the state machine drives two pins that follow each other"


def _digital(design: Design) -> list[Part]:
    return [part for part in design.with_role("sound") if "sck" in part.pins]


def _many(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    chip, parts = design.board.chip, _digital(design)
    for part in parts[chip.resources.i2s :]:
        words = f"has {chip.resources.i2s or 'no'} I2S circuit{'s' * (chip.resources.i2s != 1)}"
        fixes = ("an analog microphone, on an analog pin", "a board with more")
        message = f"the {chip.title} {words} for microphones; this device has {len(parts)}"
        yield design.finding(
            "i2s-exhausted", "error", part.path, message, why=f"{_SOURCE}.", fixes=fixes, of="key"
        )


def _order(design: Design) -> Iterator[Finding]:
    if design.board is None or design.board.chip.port != "rp2":
        return
    for part in _digital(design):
        sck, ws = part.pins["sck"], part.pins.get("ws")
        if ws and ws.gpio != sck.gpio + 1:
            yield design.finding(
                "i2s-order",
                "error",
                (*part.path, "ws"),
                f"ws of {part.id} is on GPIO{ws.gpio}, and on this chip it must be on the pin after sck, GPIO{sck.gpio + 1}",
                why=f"{_ORDER}.",
                fixes=(f"ws = {sck.gpio + 1}",),
            )


def _both(design: Design) -> Iterator[Finding]:
    for part in design.with_role("sound"):
        if part.values.get("pin") is not None and part.values.get("sck") is not None:
            yield design.finding(
                "sound-both",
                "error",
                (*part.path, "pin"),
                f"{part.id} has an analog pin and the lines of a digital microphone",
                why="one part listens to one microphone.",
                fixes=("pin alone, for an analog one", "sck, ws and sd alone, for a digital one"),
                of="key",
            )


_LINES = "[sound.hall]\nsck = {}\nws = {}\nsd = {}"
RULES = (
    DesignRule(
        code="i2s-exhausted",
        family="resources",
        severities=("error",),
        title="more I2S microphones than the chip has circuits for them",
        story="""
A digital microphone sends a bit stream of a million bits a second. Only a circuit of its own takes that in: a chip has
one or two of them, and the ESP8266's MicroPython uses none.
""",
        failing=device(_LINES.format(14, 12, 13), "esp8266-30pin"),
        mended=device(_LINES.format(26, 25, 33)),
        find=_many,
    ),
    DesignRule(
        code="i2s-order",
        family="pins",
        severities=("error",),
        title="word select is not on the pin after the bit clock",
        story="""
The RP2040 has no I2S circuit; one of its small programmable machines makes the two clocks. It drives pins that follow
each other: word select is the one after the bit clock. The data line is free.
""",
        failing=device(_LINES.format(10, 12, 13), "rp2040w-40pin"),
        mended=device(_LINES.format(10, 11, 13), "rp2040w-40pin"),
        find=_order,
    ),
    DesignRule(
        code="sound-both",
        family="reading",
        severities=("error",),
        title="a microphone that is analog and digital",
        story="""
An analog microphone has one line, a voltage; a digital one has three, with a bit stream. A part is one of them; a second
microphone is a second part.
""",
        failing=device(_LINES.format(26, 25, 33) + "\npin = 34"),
        mended=device(_LINES.format(26, 25, 33)),
        find=_both,
    ),
)
