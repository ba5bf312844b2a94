"""pwm-exhausted, pulse-exhausted, uart-exhausted, i2c-exhausted: more parts than the chip has circuits for them."""

from collections.abc import Iterator

from zapato.checks.model import Rule, device
from zapato.design.model import Design, PinUse
from zapato.findings import Finding, Severity
from zapato.parts.model import Part


def _many(
    design: Design, code: str, severity: Severity, parts: list[Part], most: int, words: str, fix: str
) -> Iterator[Finding]:
    """A finding on each part beyond the `most` that can be."""
    source = design.board.chip.resources.source if design.board else ""
    for part in parts[most:]:
        names = ", ".join(each.name for each in parts)
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
        list(design.of_kind("strip")),
        most,
        words,
        "join strips end to end, or take a board with more",
    )


def _uart(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    has = design.board.chip.resources.uart
    console = (
        1 if any(pin.console for pin in design.board.brought_out) and "own, on" not in design.board.usb else 0
    )
    parts = [part for part in design.of_kind("uart") if not _on_console(part)]
    words = f"the {design.board.chip.title} has {has} serial controllers" + (
        ", and the console takes one" if console else ""
    )
    yield from _many(
        design,
        "uart-exhausted",
        "error",
        parts,
        has - console,
        words,
        "a serial link over an expander chip, or a board with more",
    )


def _on_console(part: Part) -> bool:
    return any(pin.console for pin in part.pins.values())


def _i2c(design: Design) -> Iterator[Finding]:
    if design.board is None:
        return
    most = design.board.chip.resources.i2c
    parts = [part for part in design.of_kind("i2c") if part.get("controller", "software") == "hardware"]
    words = f"the {design.board.chip.title} has {most} I2C controller{'s' * (most != 1)}"
    yield from _many(
        design,
        "i2c-exhausted",
        "error",
        parts,
        most,
        words,
        'controller = "software": the program makes the clock, on any pins',
    )


RULES = (
    Rule(
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
    Rule(
        code="pulse-exhausted",
        family="resources",
        severities=("warning",),
        title="more strips than pulse engines",
        story="""
The data of an addressable strip is a train of exact pulses, sent by a circuit of its own. Strips
beyond the number of such circuits wait until another one is done, so all of them get slower.
""",
        failing=device(
            "".join(f'[strip.s{n}]\npin = {n + 3}\ncount = 30\nchip = "ws2812b"\n\n' for n in range(3)),
            "esp32c3-mini",
        ),
        mended=device(
            "".join(f'[strip.s{n}]\npin = {n + 3}\ncount = 45\nchip = "ws2812b"\n\n' for n in range(2)),
            "esp32c3-mini",
        ),
        find=_pulse,
    ),
    Rule(
        code="uart-exhausted",
        family="resources",
        severities=("error",),
        title="more serial links than serial controllers",
        story="""
Each serial link takes a controller, and on a board with a serial bridge the console has one of
them. A link on the console's own pins takes the console's place and does not count.
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
    Rule(
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
)
