"""Sensor chips on I2C and SPI that a table describes: no code, so always safe to read.

A file chips/NAME.toml, in the package, in an extension or beside site.toml, says what is written and read, which bytes are what, how
values follow from them, and examples of bytes and values out of the datasheet. From it come the driver (`source`), the stand-in of
rehearsals, and all that `SensorChip` has. Format: docs/chips.md.
"""

from zapato.parts.chip_files import described_names
from zapato.parts.described.catalogue import described, of_module
from zapato.parts.described.description import ChipValue, Description, ReadStep, class_name
from zapato.parts.described.reading import read_description
from zapato.parts.described.source import driver_source

__all__ = [
    "ChipValue",
    "Description",
    "ReadStep",
    "class_name",
    "described",
    "described_names",
    "driver_source",
    "of_module",
    "read_description",
]  # fmt: skip
