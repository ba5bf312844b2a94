"""SenML (RFC 8428): its registry of units (section 12.1; RFC 8798, sections 3 and 4), and packs of one record, as `report = "senml"` tells values."""

from __future__ import annotations

from typing import Any, cast

from zapato.lang.fields import Wrong, nearest

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
    "bar": "hPa",
    "mbar": "hPa",
    "psi": "hPa",
    "mmhg": "hPa",
    "inhg": "hPa",
    "atm": "hPa",
    "°f": "Cel",
    "f": "Cel",
    "fahrenheit": "Cel",
    "kelvin": "K",
    "mph": "km/h",
    "kmh": "km/h",
    "knots": "m/s",
    "ft": "m",
    "inch": "mm",
    "gal": "l",
    "litre": "l",
    "liter": "l",
    "l/min": "l/s",
    "rpm": "1/min",
    "ppb": "ppm",
    "sec": "s",
    "hour": "h",
    "watt": "W",
    "volt": "V",
    "amp": "A",
}
"""What people write -> the registry's symbol."""


def read_unit(value: object, none: bool = True) -> str:
    """A unit of the registry, or "" where there may be none. Raises Wrong."""
    if isinstance(value, str) and (value in UNITS or (none and not value)):
        return value
    meant = MEANT.get(value.lower()) if isinstance(value, str) else None
    fixes = (f'did you mean "{meant}"?',) if meant else nearest(str(value), sorted(UNITS))
    raise Wrong(f"is {value!r}, which is no unit of the SenML registry (RFC 8428)", *fixes)


KEYS = {"number": "v", "boolean": "vb", "text": "vs"}
"""The key of a value, by its type (section 4.2)."""


def key_of(value: object) -> str:
    """The key under which this value stands."""
    return KEYS["boolean" if isinstance(value, bool) else "text" if isinstance(value, str) else "number"]


def unpacked(value: Any) -> Any:
    """The value of a pack's only record, None of an empty pack; what is none stays as it is."""
    if not isinstance(value, list):
        return value
    pack = cast(list[Any], value)
    if not pack:
        return None
    only = cast(dict[str, Any], pack[0]) if len(pack) == 1 and isinstance(pack[0], dict) else {}
    return next((only[key] for key in KEYS.values() if key in only), pack)
