"""INA219: voltage and current of a supply over I2C, with a 0.1 ohm shunt."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_ina219", "Ina219", "ina219")

CHIP = SensorChip(
    name="ina219",
    help="voltage and current of a supply over I2C, with a 0.1 ohm shunt",
    properties={
        "voltage": quantity("V", "volts behind the shunt", 0, 26),
        "current": quantity("A", "amperes through the shunt", -3.2, 3.2),
        "power": quantity("W", "watts drawn"),
    },
    bus_most=400000,
    addresses=tuple(range(0x40, 0x50)),
    fastest=100,
    wiring=(
        "The load's positive line goes through its shunt (0.1 ohm on most breakouts), at most 26 "
        "V and 3.2 A; grounds joined."
    ),
    takes=(3.0, 5.5),
    reads_high=0.7,
    source="INA219 datasheet, Bus timing diagram definitions; Serial bus address; Register details (LSB of 4 mV and 10 uV); Electrical characteristics: VS 3 V to 5.5 V, input high from 0.7 VS",
    derived=("power",),
    driver=_DRIVER,
    simulation=_SIMULATION,
)
