"""time-missing: a time of day is used, and the device has no source for it."""

from collections.abc import Iterator

from zapato.checks.rule import DesignRule, device
from zapato.design.design import Design
from zapato.design.program import timed
from zapato.findings import Finding

_RELAY = '[relay.lamp]\npin = 26\n\n[[link]]\nat = "sunset"\ndo = "lamp.on"'
_SITE = '[site]\nname = "refuge"\n\n[wifi]\nname = "refuge-hall"\n'
_TIME = '\n[time]\nzone = "Europe/Zurich"\nlatitude = 46.02\nlongitude = 7.75\n'


def _find(design: Design) -> Iterator[Finding]:
    for path, sunny in timed(design):
        missing = _missing(design, sunny)
        if missing:
            message, why, fix = missing
            yield design.finding("time-missing", "error", path, message, why=why, fixes=(fix,))


def _missing(design: Design, sunny: bool) -> tuple[str, str, str] | None:
    """What keeps the device from knowing the time, the reason and the way out."""
    if design.time is None:
        return (
            "this needs the time of day, and the time zone is not said",
            "a time server tells the time of Greenwich; what the clock on the wall shows depends on the zone.",
            '[time] with zone = "Europe/Zurich", in site.toml or in this file',
        )
    if (
        design.wifi is None
        and design.ethernet is None
        and not any(part.kind.tells_time for part in design.parts.values())
    ):
        return (
            "this needs the time of day, and no network leads to a time server",
            "the board has no clock that outlives a power cut.",
            "[wifi] with name and password, in site.toml or in this file; or [clock.wall], a clock chip with a battery",
        )
    if sunny and (design.time.get("latitude") is None or design.time.get("longitude") is None):
        return (
            "this needs the sun's rising and setting, and the place is not said",
            "they depend on where the device is; a tenth of a degree is exact to half a minute.",
            "latitude and longitude in [time], in degrees",
        )
    return None


RULE = DesignRule(
    code="time-missing",
    family="links",
    severities=("error",),
    title="a time of day is used, and the device has no source for it",
    story="""
`at`, `between`, `weekday` and daily totals go by the clock on the wall. A board learns the time from
a time server (SNTP) once it has joined its network, and reckons it in the zone that `[time]` names,
summer time included. Sunrise and sunset are worked out for the place that `latitude` and `longitude`
name. Until the time is known nothing rings, and conditions that read it are false. TLS needs the time,
too: a certificate holds from one day to another, and the chip's own clock begins years ago.
""",
    failing={"site.toml": _SITE, "device.toml": device(_RELAY)},
    mended={"site.toml": _SITE + _TIME, "device.toml": device(_RELAY)},
    find=_find,
)
