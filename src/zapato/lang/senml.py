"""Units of measurement: the SenML registry (RFC 8428, section 12.1; RFC 8798, sections 3 and 4)."""

from __future__ import annotations

_LIST = (
    "m kg g s A K cd mol Hz rad sr N Pa J W C V F Ohm S Wb T H Cel lm lx Bq Gy Sv kat m2 m3 l m/s m/s2 m3/s l/s "
    "W/m2 cd/m2 bit bit/s lat lon pH dB dBW Bspl count / % %RH %EL EL 1/s 1/min beat/min beats S/m B VA VAs var "
    "vars J/m kg/m3 deg ms min h MHz kW kVA kvar Ah Wh kWh varh kvarh kVAh Wh/km KiB GB Mbit/s B/s MB/s mV mA dBm "
    "ug/m3 mm/h m/h ppm /100 /1000 hPa mm cm km km/h"
)
UNITS = frozenset(_LIST.split())

MEANT = {
    "°c": "Cel",
    "c": "Cel",
    "celsius": "Cel",
    "degc": "Cel",
    "lux": "lx",
    "ohm": "Ohm",
    "pcs": "count",
    "°": "deg",
    "percent": "%",
}
"""What people write -> the registry's symbol."""
