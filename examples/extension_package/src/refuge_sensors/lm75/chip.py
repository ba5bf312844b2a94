"""LM75A: temperature over I2C."""

from zapato.extend import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_lm75", "Lm75", "lm75")

CHIP = SensorChip(
    name="lm75",
    help="temperature over I2C",
    properties={"temperature": quantity("Cel", "of the air or of what it is glued to", -55, 125)},
    addresses=(0x48, 0x49, 0x4A, 0x4B, 0x4C, 0x4D, 0x4E, 0x4F),
    bus_most=400_000,
    fastest=300,
    takes=(2.8, 5.5),
    reads_high=0.7,
    wiring="3.3 V; A0 to A2 to ground is 0x48.",
    source="LM75A datasheet (NXP), 7.4.3 Temperature register, 7.6 Slave address, 10 Static characteristics; from memory",
    driver=_DRIVER,
    simulation=_SIMULATION,
)
