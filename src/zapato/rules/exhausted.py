"""pwm-exhausted, pwm-rate, pulse-exhausted, uart-, i2c- and spi-exhausted: more parts than the chip has circuits for them.

Strips beyond the chip's pulse engines are a warning: they wait for their turn, and do work.
"""

from collections.abc import Iterator

from zapato.boards.board import Chip
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design, PinUse
from zapato.design.serial import SWAPPED, usable
from zapato.findings import Finding, Severity
from zapato.parts.kind import Part
from zapato.rules.pin_routing import controllers


def _many(
    design: Design, code: str, severity: Severity, parts: list[Part], most: int, words: str, fix: str
) -> Iterator[Finding]:
    """A finding on each part beyond the `most` that can be."""
    source = design.board.chip.resources.source if design.board else ""
    for part in parts[most:]:
        names = ", ".join(part.name for part in parts)
        yield design.finding(
            code,
            severity,
            part.path,
            f"{words}; this device has {len(parts)}: {names}",
            why=f"{source}.",
            fixes=(fix,),
            of="key",
        )


def _pwm(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    limits = design.board.chip.resources
    uses = [use for use in design.uses if use.need.pwm and use.pin.gpio >= 0]
    yield from _many(
        design,
        "pwm-exhausted",
        "error",
        list({use.part.name: use.part for use in uses}.values()),
        limits.pwm_channels,
        f"the {design.board.chip.title} has {limits.pwm_channels} channels for pulse-width modulation",
        "a chip with its own channels on the I2C bus, or a board with more",
    )
    if limits.pwm_fixed:
        yield from _same_output(design, uses, limits.pwm_fixed)


def _same_output(design: Design, uses: list[PinUse], fixed: int) -> Iterator[Finding]:
    seen: dict[int, PinUse] = {}
    for use in uses:
        other = seen.setdefault(use.pin.gpio % fixed, use)
        if other is not use and other.pin.gpio != use.pin.gpio:
            yield design.finding(
                "pwm-exhausted",
                "error",
                use.path,
                f"{design.called(use.pin)} and {design.called(other.pin)} carry the same output, so {use.part.id} and {other.part.id} cannot differ",
                why=f"modulation output n belongs to GPIO n and GPIO n + {fixed} ({design.board.chip.resources.source if design.board else ''}).",
                fixes=(
                    f"a pin whose number is not {use.pin.gpio % fixed} or {use.pin.gpio % fixed + fixed}",
                ),
                pin=use.pin,
            )


def _pulse(design: Design) -> Iterator[Finding]:
    if design.board is None or not design.board.chip.resources.pulse:
        return
    most = design.board.chip.resources.pulse
    words = f"the {design.board.chip.title} sends pulses to {most} strips at a time, and the others wait for their turn"
    yield from _many(
        design,
        "pulse-exhausted",
        "warning",
        list(design.with_role("strip")),
        most,
        words,
        "join strips end to end, or take a board with more",
    )


def _uart(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    chip = design.board.chip
    parts = list(design.with_role("uart"))
    console = len(usable(design)) < chip.resources.uart or (
        any(pin.console for pin in design.board.brought_out)
        and not any(_on_console(part, chip) for part in parts)
    )
    words = f"the {chip.title} has {chip.resources.uart} serial controllers" + (
        ", and the console takes one" if console else ""
    )
    fix = "a serial link over an expander chip, or a board with more"
    taken = {0} if console else set[int]()
    yield from _unserved(design, "uart-exhausted", parts, chip.resources.uart, taken, words, fix)


def _on_console(part: Part, chip: Chip) -> bool:
    """True where the link takes the console's controller: on its own pins, or on the ones it can be swapped to."""
    swapped = {gpio for routes in chip.routes.values() for gpio in routes.get(SWAPPED, ())}
    return any(pin.console or pin.gpio in swapped for pin in part.pins.values())


def _i2c(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    most = design.board.chip.resources.i2c
    parts = [part for part in design.with_role("i2c") if part.get("controller", "software") == "hardware"]
    words = f"the {design.board.chip.title} has {most or 'no'} I2C controller{'s' * (most != 1)}"
    fix = 'controller = "software": the program makes the clock, on any pins'
    yield from _unserved(design, "i2c-exhausted", parts, most, set(), words, fix)


def _spi(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    most = design.board.chip.resources.spi - (design.ethernet is not None and bool(design.board.spi_ethernet))
    parts = [part for part in design.with_role("spi") if part.get("controller", "hardware") == "hardware"]
    words = f"the {design.board.chip.title} has {most} SPI controller{'s' * (most != 1)} for parts"
    fix = 'controller = "software": the program makes the clock, on any pins'
    yield from _unserved(design, "spi-exhausted", parts, most, set(), words, fix)


def _unserved(
    design: Design, code: str, parts: list[Part], most: int, taken: set[int], words: str, fix: str
) -> Iterator[Finding]:
    """A finding on each part for which no controller is left, however they are dealt out."""
    assert design.board is not None
    chip = design.board.chip
    holder: dict[int, Part] = {}
    for part in parts:
        if not _serve(part, holder, design, most, taken, set()):
            names = ", ".join(part.name for part in parts)
            yield design.finding(
                code,
                "error",
                part.path,
                f"{words}, and none is left for {part.name}; this device has {len(parts)}: {names}",
                why=f"{chip.routes_source or chip.resources.source}.",
                fixes=(fix,),
                of="key",
            )


def _serve(
    part: Part, holder: dict[int, Part], design: Design, most: int, taken: set[int], tried: set[int]
) -> bool:
    """Give the part a controller, moving others where they have a choice (Kuhn's augmenting path)."""
    assert design.board is not None
    uses = [use for use in design.uses if use.part is part and use.need.controller]
    reached = controllers(design.board.chip, uses)
    own = {pin_number % SWAPPED for pin_number in reached} if reached is not None else set(range(most))
    for number in sorted(own - taken - tried):
        tried.add(number)
        if number not in holder or _serve(holder[number], holder, design, most, taken, tried):
            holder[number] = part
            return True
    return reached == set()  # pins that no controller reaches are told by pin-routing


def _rates(design: Design) -> Iterator[Finding]:
    """Rates of modulated pins: within the chip's, and no more different ones than it has timers."""
    if design.board is None:
        return
    chip = design.board.chip
    limits = chip.resources
    uses = [use for use in design.uses if use.need.pwm and use.pin.gpio >= 0]
    for use in uses:
        low, high = limits.pwm_least, limits.pwm_most
        if (low and use.need.rate < low) or (high and use.need.rate > high):
            yield _rate(
                design,
                use,
                f"{use.part.id} asks for {use.need.rate:g} Hz, and the {chip.title} makes {low:g} to {high:g} Hz",
            )
    shared: dict[int, PinUse] = {}
    rates: dict[float, PinUse] = {}
    for use in uses:
        group = use.pin.gpio // 2 % limits.pwm_timers if limits.pwm_fixed else -1
        other = shared.setdefault(group, use) if limits.pwm_fixed else use
        if other.need.rate != use.need.rate:
            pins = f"{design.called(other.pin)} and {design.called(use.pin)}"
            yield _rate(
                design,
                use,
                f"{pins} share one timer, and {other.part.id} and {use.part.id} ask for two rates",
            )
        rates.setdefault(use.need.rate, use)
    if not limits.pwm_fixed:
        for use in list(rates.values())[limits.pwm_timers :]:
            timers = f"{limits.pwm_timers} timer{'s' * (limits.pwm_timers != 1)}"
            yield _rate(
                design,
                use,
                f"the {chip.title} has {timers} for modulated pins, and this device asks for {len(rates)} rates",
            )


def _rate(design: Design, use: PinUse, message: str) -> Finding:
    source = design.board.chip.resources.source if design.board else ""
    why = f"all pins on one timer have its rate ({source})."
    return design.finding(
        "pwm-rate",
        "error",
        (*use.part.path, "rate"),
        message,
        why=why,
        fixes=("the same rate for these parts",),
        pin=use.pin,
    )


RULES = (
    DesignRule(
        code="pwm-exhausted",
        family="resources",
        severities=("error",),
        title="more dimmers than modulation channels",
        story="""
Each dimmed output takes a channel of the chip's modulation circuit. On the RP2040 two pins that
are 16 apart even share one output: both would show the same level.
""",
        failing=device("[dimmer.left]\npin = 2\n\n[dimmer.right]\npin = 18", "rp2040w-40pin"),
        mended=device("[dimmer.left]\npin = 2\n\n[dimmer.right]\npin = 19", "rp2040w-40pin"),
        find=_pwm,
    ),
    DesignRule(
        code="pulse-exhausted",
        family="resources",
        severities=("warning",),
        title="more strips than pulse engines",
        story="""
The data of an addressable strip is a train of exact pulses, sent by a circuit of its own. Strips
beyond the number of such circuits wait until another one is done, so all of them get slower.
""",
        failing=device(
            "".join(
                f'[strip.s{n}]\npin = {n + 3}\ncount = 3\nchip = "ws2812b"\nlevel = "5V"\n\n'
                for n in range(3)
            ),
            "esp32c3-mini",
        ),
        mended=device(
            "".join(
                f'[strip.s{n}]\npin = {n + 3}\ncount = 4\nchip = "ws2812b"\nlevel = "5V"\n\n'
                for n in range(2)
            ),
            "esp32c3-mini",
        ),
        find=_pulse,
    ),
    DesignRule(
        code="uart-exhausted",
        family="resources",
        severities=("error",),
        title="more serial links than serial controllers",
        story="""
Each serial link takes a controller, and the console has one of them. The ESP32 family keeps the
console's controller for good; on the ESP8266 a link on the console's own pins takes the console's place.
""",
        failing=device(
            "".join(
                f"[uart.u{n}]\ntx = {tx}\nrx = {rx}\nbaud = 9600\n\n"
                for n, (tx, rx) in enumerate(((17, 16), (18, 19), (22, 23)))
            )
        ),
        mended=device(
            "".join(
                f"[uart.u{n}]\ntx = {tx}\nrx = {rx}\nbaud = 9600\n\n"
                for n, (tx, rx) in enumerate(((17, 16), (18, 19)))
            )
        ),
        find=_uart,
    ),
    DesignRule(
        code="i2c-exhausted",
        family="resources",
        severities=("error",),
        title="more hardware I2C buses than controllers",
        story="""
An I2C bus with controller = "hardware" takes one of the chip's controllers. A software bus, which
is the default, takes none: the program makes the clock itself, on any two pins.
""",
        failing=device(
            "".join(
                f'[i2c.b{n}]\nsda = {n * 2 + 3}\nscl = {n * 2 + 4}\ncontroller = "hardware"\n\n'
                for n in range(2)
            ),
            "esp32c3-mini",
        ),
        mended=device(
            '[i2c.b0]\nsda = 3\nscl = 4\ncontroller = "hardware"\n\n[i2c.b1]\nsda = 5\nscl = 6',
            "esp32c3-mini",
        ),
        find=_i2c,
    ),
    DesignRule(
        code="spi-exhausted",
        family="resources",
        severities=("error",),
        title="more hardware SPI buses than controllers",
        story="""
An SPI bus takes one of the chip's controllers, of which some are busy with the flash. A bus with
controller = "software" takes none: the program makes the clock, more slowly, on any pins.
""",
        failing=device(
            "[spi.a]\nsck = 4\nmosi = 5\nmiso = 10\n\n[spi.b]\nsck = 6\nmosi = 7\nmiso = 3", "esp32c3-mini"
        ),
        mended=device(
            '[spi.a]\nsck = 4\nmosi = 5\nmiso = 10\n\n[spi.b]\nsck = 6\nmosi = 7\nmiso = 3\ncontroller = "software"',
            "esp32c3-mini",
        ),
        find=_spi,
    ),
    DesignRule(
        code="pwm-rate",
        family="resources",
        severities=("error",),
        title="the chip cannot make these rates together",
        story="""
A timer makes the rate of a modulated pin, and several pins share one: on the ESP8266 all of them, on
the RP2040 two neighbours. Pins on one timer have one rate, however different their levels are. Every
chip also has a slowest and a fastest rate.
""",
        failing=device(
            '[dimmer.left]\npin = "D1"\n\n[dimmer.right]\npin = "D2"\nrate = "200Hz"', "esp8266-30pin"
        ),
        mended=device(
            '[dimmer.left]\npin = "D1"\nrate = "200Hz"\n\n[dimmer.right]\npin = "D2"\nrate = "200Hz"',
            "esp8266-30pin",
        ),
        find=_rates,
    ),
)
