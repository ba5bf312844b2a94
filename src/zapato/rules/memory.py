"""memory-heap and memory-flash: the firmware that this device needs, against what its chip has."""

from collections.abc import Iterator

from zapato.budgets.memory import Memory, memory
from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.findings import Finding

FULL = 0.89
"""The share of the heap from which on some programs run out of memory for a moment (benchmarks/edge.py)."""
KEPT = 16 * 1024
"""Bytes of the data partition for settings and kept values, each written beside the old one first."""

MINIMAL = (33 + 112) * 1024
"""Bytes of the minimal program that stands beside each version, and what 28 files and their folders leave of their last blocks of 4 KiB."""


def _heap(design: Design) -> Iterator[Finding]:
    taken = memory(design)
    if taken is None or taken.heap <= FULL * taken.heap_has:
        return
    share, starts = taken.heap / taken.heap_has, taken.heap <= taken.starts
    words = (
        ""
        if starts
        else f", and from {taken.starts / taken.heap_has:.0%} on it does not start or runs out of memory"
    )
    yield design.finding(
        "memory-heap",
        "warning" if starts else "error",
        ("device",),
        f"the firmware of this device takes {_kib(taken.heap)} of heap, {share:.0%} of the {_kib(taken.heap_has)} that its chip leaves a program{words}",
        why=_why(design, taken),
        fixes=(
            *(("rehearse it: the figure is an estimate, most are right within a tenth",) if starts else ()),
            "fewer parts or links",
            "a chip with more memory: zapato fit --boards PATH ranks the boards",
        ),
        of="key",
    )


def _why(design: Design, memory: Memory) -> str:
    parts = ", ".join(f"{what} {_kib(size)}" for what, size in memory.largest if size > 100)
    source = design.board.chip.sources.get("heap", "") if design.board else ""
    return f"{parts} ({source}; what each takes was measured in the VM)."


def _kib(size: int) -> str:
    return f"{size / 1024:.1f} KiB"


def _flash(design: Design) -> Iterator[Finding]:
    taken, board = memory(design), design.board
    if taken is None or board is None or not board.chip.image:
        return
    at, room = board.partition
    needs = 2 * (taken.flash + MINIMAL) + KEPT
    if needs > room:
        yield design.finding(
            "memory-flash",
            "error",
            ("device",),
            f"two versions of this program and its settings take {_kib(needs)}, and the board's flash has room for {_kib(room)}",
            why=f"a new version is written beside the running one; the vendor's image takes the first {_kib(at)} ({board.chip.sources.get('image', '')}).",
            fixes=("a board with more flash",),
            of="key",
        )


_MANY = "\n".join(
    f'[number.n{i}]\nstart = 0\n[[link]]\nwhen = "n{i}.value > {i}"\ndo = "lamp.toggle"' for i in range(110)
)
_TIGHT = (
    'id = "tight"\ntitle = "Tight"\nchip = "esp32c3"\nflash = 2113536\n[headers]\nleft = ["A=4", "B=5"]\n'
)
_ROOMY = _TIGHT.replace("2113536", "4194304")

_KIND = """from zapato.extend import Driver, Kind


class TickerKind(Kind):
    name, help, example = "ticker", "counts", "[ticker.t]"

    def driver(self, part):
        return Driver("ticker", "Ticker")


KIND = TickerKind()
"""
_CODE = "from loop import Part\n\n\nclass Ticker(Part):\n    pass\n"
_COST = '{"short": {"heap": {"module ticker": 90, "part Ticker": 60}}, "whole": {"heap": {"module ticker": 120, "part Ticker": 60}}}'
_TICKER = {
    "device.toml": device("[ticker.t]"),
    "site.toml": '[site]\nname = "refuge"\nextensions = ["ticker"]\n',
    "extensions/ticker/part.py": _KIND,
    "extensions/ticker/device/ticker.py": _CODE,
}


def _unmeasured(design: Design) -> Iterator[Finding]:
    taken = memory(design)
    if taken and taken.unmeasured:
        yield design.finding(
            "memory-unmeasured",
            "error",
            ("device",),
            f"nobody measured how much memory these take: {', '.join(taken.unmeasured)}",
            why="the estimate of heap and flash leaves them out, so it would be too low.",
            fixes=("zapato costs NAME measures an extension and writes its cost.json",),
            of="key",
        )


RULES = (
    DesignRule(
        code="memory-unmeasured",
        family="resources",
        severities=("error",),
        title="an extension's memory was never measured",
        story="""
An extension brings what its modules and parts take of the device's memory, in its cost.json. Without that the estimate would be too
low, and a device that passes could run out of memory. `zapato costs NAME` measures the extension in the VM and writes the file.
""",
        failing=_TICKER,
        mended={**_TICKER, "extensions/ticker/cost.json": _COST},
        find=_unmeasured,
    ),
    DesignRule(
        code="memory-heap",
        family="resources",
        severities=("error", "warning"),
        title="the firmware takes more heap than the chip has",
        story="""
What a device needs of the chip's working memory is known before it is built: each piece of the
firmware, each part and each link was measured in a 32-bit MicroPython VM, and the figures were held
against devices made at random (most within a twentieth, the worst within a fifth). Loading wants room of its own: on a small
chip programs from 93 % on ended while they were loaded, and most from 92 % on ran out of memory when the broker came back
(benchmarks/edge.py): an error. From 90 % on some ran out of memory once, and went on: a warning above 89 %.

`zapato rehearse` shows the same device in exactly the chip's heap.
""",
        failing=device(f"[relay.lamp]\npin = 14\n{_MANY}", "esp8266-30pin"),
        mended=device(f"[relay.lamp]\npin = 25\n{_MANY}"),
        find=_heap,
    ),
    DesignRule(
        code="memory-flash",
        family="resources",
        severities=("error",),
        title="the program does not fit twice into the flash",
        story="""
The flash holds the vendor's MicroPython image and, behind it, the data partition: two versions of
the program, so that a bad update can go back, the settings, and what is kept through a power cut.
Where the board's flash leaves no room for that, it cannot be updated safely.
""",
        failing={
            "device.toml": device("[led.a]\npin = 4", "tight"),
            "boards/tight.toml": _TIGHT,
            "site.toml": '[site]\nname = "refuge"\n',
        },
        mended={
            "device.toml": device("[led.a]\npin = 4", "tight"),
            "boards/tight.toml": _ROOMY,
            "site.toml": '[site]\nname = "refuge"\n',
        },
        find=_flash,
    ),
)
