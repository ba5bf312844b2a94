"""A device with its flash, a broker and whoever wants to update it."""

import json
from dataclasses import dataclass, field
from pathlib import Path
from random import Random

import pytest
from conftest import HEADER

import zapato
from zapato.deliver.offer import UpdateOffer
from zapato.design.design import once
from zapato.firmware.image import data_image, sizes
from zapato.firmware.layout import FOLDERS, delivered
from zapato.firmware.package import BASE, manifest, pack
from zapato.firmware.plan import settings
from zapato.firmware.program import compile_device
from zapato.simulator.board import SimulatedBoard
from zapato.simulator.broker import Broker
from zapato.simulator.clock import Clock
from zapato.simulator.little import Blocks, LittleFlash
from zapato.simulator.network import AccessPoint
from zapato.simulator.rehearse import machine_modules, play_out
from zapato.simulator.scenario import PowerCut
from zapato.simulator.trace import Trace

KEY = "5a" * 32


SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'


LAMP = (
    '[relay.lamp]\npin = 14\nstart = "last"\n[[link]]\nwhen = "lamp.on"\nafter = "{after}"\ndo = "lamp.off"\n'
)


@once
def whole(design) -> dict[str, bytes]:
    """Every file of a new device's flash, made once for each design."""
    return delivered(design, compile_device(design), settings(design, KEY))


@dataclass
class Place:
    """A device with its flash, a broker, and whoever wants to update it."""

    design: zapato.Design
    flash: object = None
    seconds: float = 240
    clock: Clock = field(default_factory=Clock)

    def __post_init__(self):
        design = self.design
        self.trace = Trace(self.clock)
        self.air = AccessPoint(self.clock, self.trace, ("hall", ""))
        self.broker = Broker(self.clock, self.trace)
        data = whole(design)
        given = {"flash": self.flash} if self.flash else {}
        self.board = SimulatedBoard(
            design.board, data, machine_modules(design.board.chip.port), 7, self.clock, self.trace, Random(1), self.air, self.broker, **given
        )  # fmt: skip
        self.heard: list[tuple[str, bytes]] = []
        self.broker.listeners.append(lambda topic, payload: self.heard.append((topic, payload)))
        self.broker.listeners.append(self._numbered)
        self.pending: list = []
        self.made = -5000

    def make(self, made_to) -> None:
        """Ask the device for its number, and make the offer to it: made_to(number) gives topic and payload."""
        if self.clock.now - self.made >= 5000:  # it tells how it is with its number, and is offered again
            self.made = self.clock.now
            self.pending.append(made_to)
            self.broker.message(f"{self.design.topic}/device/do/tell", "")

    def _numbered(self, topic: str, payload: bytes) -> None:
        while topic.endswith("/update/number") and self.pending:
            self.broker.message(*self.pending.pop()(payload.decode()))

    def offer(self, offer: UpdateOffer, running: str, again: bool = False) -> None:
        self.make(lambda number: offer.made_to(running, number, again))

    def serve(self, offer: UpdateOffer, again: bool = False, running: str = "") -> None:
        """Offer at every sign of life until it runs."""

        def hear(topic: str, payload: bytes) -> None:
            if topic.endswith("/update/want") and (found := offer.answer(payload)):
                self.broker.message(*found)
            if topic.endswith("/vitals") and json.loads(payload)["version"] != offer.version:
                self.offer(offer, json.loads(payload)["version"], again)

        self.broker.listeners.append(hear)

    def run(self):
        def end() -> None:
            from zapato.simulator.clock import End

            raise End

        self.clock.at(self.clock.now + int(self.seconds * 1000), end)
        return play_out(self.board, self.clock, self.trace)

    @property
    def log(self) -> list[str]:
        return [r["value"] for r in self.trace.rows if r["what"] == "print"]

    @property
    def notes(self) -> list[str]:
        return [p.decode() for t, p in self.heard if t.endswith("/notes")]

    @property
    def versions(self) -> list[str]:
        return [json.loads(p)["version"] for t, p in self.heard if t.endswith("/vitals")]


def designs(put, board: str = "esp8266-30pin", old="1.0.0", new="1.1.0", site: str = SITE):
    """One device in two versions, of which one link differs."""
    made = []
    for version, after in ((old, "10s"), (new, "20s")):
        head = HEADER.format(board=board).replace("[device]\n", f'[device]\nversion = "{version}"\n')
        authority = (Path(__file__).parents[1] / "data" / "tls" / "ca.pem").read_text()
        files = {"ca.pem": authority, "site.toml": site, "device.toml": head + LAMP.format(after=after)}
        made.append(zapato.load(put(files)))
    return made


def packed(design, tmp_path: Path, key: str = KEY) -> bytes:
    files = compile_device(design).files
    return pack(manifest(design.name, design.version, BASE, files), files, bytes.fromhex(key))


NAMED = SITE.replace("192.168.4.2", "broker.refuge.example")


SECURED = NAMED + 'tls = true\nauthority = "ca.pem"\n[time]\nzone = "Europe/Zurich"\n'


def imaged(design):
    """A new device's flash, as the real file system has it."""
    data = whole(design)
    size = 392 * 1024  # what a flash of 1 MiB has
    image = data_image(design.board.chip, data, FOLDERS, size).ljust(size, b"\xff")
    return LittleFlash(design.board.chip, image, lambda: PowerCut(500))


def tree(flash: LittleFlash) -> dict[str, bytes]:
    """Every file of a flash, read in whole blocks. Raises where there is no file system any more."""
    from littlefs import LittleFS

    found = {}
    with pytest.raises(FileNotFoundError):
        flash.system.remove("-")  # as go.mpy does: a rename cut in two hides what stands behind it until then
    memory = Blocks(bytes(flash.blocks.buffer))
    quick = sizes(flash.chip) | {"cache_size": 4096, "read_size": 4096 // 4}
    system = LittleFS(memory, mount=False, block_count=len(memory.buffer) // 4096, **quick)
    system.mount()
    for folder in ("", *FOLDERS):
        for name in (e.name for e in system.scandir(folder or "/") if e.type == 1):
            with system.open(f"{folder}/{name}", "rb") as file:
                found[f"{folder}/{name}".strip("/")] = file.read()
    return found


def broken(design, tmp_path, module: str, source: str) -> bytes:
    """A package of the design with one module exchanged for another, rightly sealed."""
    from zapato.firmware.compile import compile_all

    files = compile_device(design).files | {f"{module}.mpy": compile_all({module: source}, tmp_path)[module]}
    return pack(manifest(design.name, design.version, BASE, files), files, bytes.fromhex(KEY))


def offered(place: Place, topic: str, payload: str, at: int = 20_000):
    place.clock.at(at, lambda: place.broker.message(topic, payload))


class Said:
    """Messages as if a broker had them; what is published is kept."""

    def __init__(self, *messages):
        self.messages, self.published = list(messages), []

    def publish(self, topic, payload):
        self.published.append((topic, payload))

    def next(self, seconds):
        return self.messages.pop(0) if self.messages else None
