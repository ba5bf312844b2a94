"""Sound: how loud it is at a microphone, an analog one on a pin or a digital one on I2S."""

from __future__ import annotations

import sys
import wave
from array import array
from collections.abc import Iterable, Mapping
from pathlib import Path

from zapato.lang.fields import Wrong, measured, number, pin, whole
from zapato.parts.electrical import RAIL, Load, Supplied, drawing, fed, supplied_with
from zapato.parts.kind import Driver, Kind, Need, Part, Property
from zapato.parts.simulation import Simulation, WorldInput
from zapato.parts.stimuli import SetAttached
from zapato.record import record

LINES = ("sck", "ws", "sd")
LARGEST = 64 << 20
"""Bytes of a recording at the most: six minutes in two channels at 48 kHz."""


@record(frozen=True)
class Recording:
    """Samples of 16 bits, and how many a second."""

    rate: int
    samples: array[int]


def read_wave(folder: Path, value: str) -> Recording:
    """The recording in a WAV file of 16-bit PCM, its first channel. Raises Wrong."""
    path = folder / value
    if not path.resolve().is_relative_to(folder.resolve().parent):
        raise Wrong("is outside the site", "its place is beside the rehearsal")
    if path.exists() and not path.is_file():
        raise Wrong("is no file")
    try:
        with wave.open(str(path), "rb") as file:
            channels, width, rate, count = file.getparams()[:4]
            if width != 2:
                raise Wrong(f"has {8 * width} bits a sample", "a WAV file with 16 bits a sample")
            if not rate or count * channels * width > LARGEST:
                raise Wrong(f"has more than {LARGEST >> 20} MiB")
            samples = array("h", file.readframes(count))
    except OSError as error:
        raise Wrong(
            f"cannot be read: {error.strerror or error}", "its place is beside the rehearsal"
        ) from None
    except (wave.Error, EOFError) as error:
        raise Wrong(f"is no WAV file of PCM: {error or 'it ends too early'}") from None
    if sys.byteorder == "big":
        samples.byteswap()
    return Recording(rate, samples[::channels])


class SoundKind(Kind):
    """How loud it is at a microphone: an analog one on a pin, or a digital one on I2S."""

    name = "sound"
    help = "how loud it is at a microphone: an analog one on a pin, or a digital one on I2S"
    fields = (
        *fed('"3V3"'),
        pin("pin", "the output of an analog microphone's amplifier", None),
        pin("sck", "the bit clock of a digital one", None),
        pin("ws", "its word select", None),
        pin("sd", "its data", None),
        measured("every", "how often it listens", "time", 200, least=50),
        number("change", "the least difference that counts, dB and %", 2),
        measured(
            "apart", "over MQTT it is told no more often; links hear of it at once", "time", 2000, least=200
        ),
        whole(
            "quiet",
            "dB that count as silence: level is 0 % there, and 100 % where sound fills the range",
            -40,
            least=-90,
            most=-10,
        ),
    )
    wiring = (
        "Analog: a capsule with an amplifier whose output rests in the middle of the pin's range. Digital: SCK, WS and SD "
        "to the pins, L/R to ground, 3.3 V; on an RP2040 WS is the pin after SCK. Lines of some centimetres."
    )
    example = "[sound.hall]\npin = 34"

    def properties(self, part: Part) -> Mapping[str, Property]:
        return {
            "level": Property(
                "number",
                "%",
                unknown=True,
                low=0,
                high=100,
                help="from `quiet` to the full range, evenly in dB",
            ),
            "loudness": Property(
                "number",
                "dB",
                unknown=True,
                low=-99,
                high=3,
                help="against a tone that fills the range, which is 0 dB",
            ),
        }

    def needs(self, part: Part) -> Iterable[Need]:
        if part.values.get("pin") is not None:
            yield Need("pin", "analog", timed=True, circuit="the output of a microphone's amplifier")
        for line in LINES:
            if part.values.get(line) is not None:
                use = "input" if line == "sd" else "output"
                yield Need(
                    line, use, controller=f"i2s.{line}", circuit=f"the {line} line of an I2S microphone"
                )

    def requires(self, part: Part) -> Iterable[str]:
        digital = any(part.values.get(line) is not None for line in LINES)
        return LINES if digital else ("pin",)

    def often(self, part: Part) -> Mapping[str, float]:
        return dict.fromkeys(("level", "loudness"), float(part.get("apart", 2000)))

    def driver(self, part: Part) -> Driver:
        common = (
            part.get("every", 200),
            part.get("change", 2),
            part.get("quiet", -40),
            part.get("apart", 2000),
        )
        if "pin" in part.pins:
            arguments = (*common, part.pins["pin"].gpio)
            return Driver("sound_volts", "HeardVolts", arguments, data=160)
        lines = tuple(part.pins[line].gpio for line in LINES)
        return Driver("sound_i2s", "HeardI2s", (*common, *lines), data=5200)

    def simulation(self, part: Part) -> Simulation:
        pin = part.pins.get("pin") or part.pins.get("sd")
        if pin is None:
            return Simulation()
        at = ("sound", pin.gpio)
        return Simulation(
            stimuli={"loudness": SetAttached(at, "loudness"), "plays": SetAttached(at, "plays")},
            inputs={"plays": WorldInput("storm.wav", read_wave)},
        )

    def loads(self, part: Part) -> Iterable[Load]:
        return drawing(part, "the microphone", RAIL, 0.003)

    def supplied(self, part: Part) -> Supplied | None:
        return supplied_with(
            part,
            "a microphone module",
            1.6,
            5.5,
            "INMP441 datasheet, Absolute maximum ratings: 3.63 V for a bare digital one; modules with an amplifier take 5 V",
        )


KIND = SoundKind()
