"""The stand-in for a chip on a bus, by the chip's name: its bundle's own, or made of its description."""

from __future__ import annotations

from zapato import extensions
from zapato.errors import ZapatoError
from zapato.parts.chip_files import described_names
from zapato.parts.described.catalogue import description
from zapato.parts.described.sim import Chip as Described
from zapato.parts.described.sim import SpiChip as OnSpi
from zapato.parts.simulated import BusStandIn, ReadStimulus


def stand_in(name: str, stimulus: ReadStimulus) -> BusStandIn:
    """The stand-in for the chip of this name, its registers as its datasheet has them. Raises ZapatoError."""
    bundle = extensions.bundle(name, "chip.py")
    if bundle and bundle.has("sim.py"):
        return bundle.member("sim", "Chip")(stimulus)
    if name in described_names():
        chip = description(name)
        return (OnSpi if chip.on_spi else Described)(chip, stimulus)
    raise ZapatoError(
        f"a {name} has no stand-in (sim.py), so it cannot be rehearsed",
        f"a class Chip in sim.py of the bundle {name}",
    )
