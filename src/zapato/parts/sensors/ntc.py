"""Temperature by a thermistor in a divider."""

from __future__ import annotations

from zapato.parts.model import Bench, Driver, Need, Part
from zapato.parts.sensors import SensorChip, common, line_acts, parallel, quantity


def _circuit(part: Part) -> tuple[float, float, float, float, bool]:
    """Ohms at 25 °C, beta, the fixed resistor's ohms, the divider's supply in V, and whether the thermistor is the lower one."""
    return (
        part.get("nominal", 10_000.0),
        part.get("beta", 3950),
        part.get("series", 10_000.0),
        3.3,
        part.get("side", "ground") == "ground",
    )


def _driver(part: Part) -> Driver:
    return Driver(
        "s_ntc", "Ntc", (*common(part), part.at("pin"), *_circuit(part)), ("s_analog", "sensor", "volts")
    )


def _bench(part: Part) -> Bench:
    at = part.pins["pin"].gpio
    cut = (
        "high" if part.get("side", "ground") == "ground" else "low"
    )  # the fixed resistor stands beside the pin
    return Bench(sets={"temperature": ["ntc", at, *_circuit(part)]}, acts=line_acts(at, cut))


CHIP = SensorChip(
    name="ntc",
    help="temperature by a thermistor in a divider",
    properties={"temperature": quantity("Cel", "temperature", -40, 150)},
    need=Need("pin", "analog", circuit="the middle of a thermistor and its fixed resistor"),
    fastest=100,
    wiring=(
        "Thermistor and a fixed resistor of about the same value in a row between 3.3 V and "
        "ground, the pin in the middle; `side` says on which side the thermistor is."
    ),
    source="beta equation of NTC thermistors (IEC 60539-1, 4.5)",
    driver=_driver,
    bench=_bench,
    source_ohm=lambda part: parallel(*_circuit(part)[::2][:2]),
)
