"""BME280: temperature, humidity and pressure over I2C or SPI."""

from __future__ import annotations

from zapato.parts.sensors import SensorChip, on_bus, quantity

_DRIVER, _SIMULATION = on_bus("s_bme280", "Bme280", "bme280")

CHIP = SensorChip(
    name="bme280",
    help="temperature, humidity and pressure over I2C or SPI",
    properties={
        "temperature": quantity("Cel", "air temperature", -40, 85),
        "humidity": quantity("%RH", "relative humidity", 0, 100),
        "pressure": quantity("Pa", "air pressure", 30000, 110000),
    },
    bus_most=400000,
    addresses=(0x76, 0x77),
    spi=True,
    fastest=100,
    wiring=(
        "3.3 V; SDO to ground is address 0x76, to 3.3 V 0x77; CSB to 3.3 V. On SPI: SCL is SCK, SDA MOSI, SDO MISO, CSB the select line. Away from the board's warmth."
    ),
    takes=(1.71, 3.6),
    source="BME280 datasheet, General electrical specification and I2C interface (SDO sets 0x76 or 0x77); General electrical specification: VDD 1.71 V to 3.6 V",
    driver=_DRIVER,
    simulation=_SIMULATION,
)
