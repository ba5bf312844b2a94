"""link-unheard: something of another device is read that no message can bring."""

from zapato.checks.rule import Rule, device

_SITE = '[site]\nname = "refuge"\n\n[wifi]\nname = "refuge-hall"\n'
_BROKER = '\n[mqtt]\nhost = "192.168.4.2"\n'
_FAN = '[relay.fan]\npin = 26\n\n[[link]]\nwhen = "second.door.opened"\ndo   = "fan.on"'
_DOOR = device('[contact.door]\npin = 32\npull = "up"').replace('"example"', '"second"')

RULE = Rule(
    code="link-unheard",
    family="links",
    severities=("error",),
    title="a link reads another device that this one cannot receive",
    story="""
A link may name a property or an event of another device of the site: `gear-locker.door.opened`. It comes
over the broker, so both devices need one, and the same; the file must stand in a site; and what is named
must be said at all. `lasted` of a button, which only links of its own device ask for, is not.
""",
    failing={"site.toml": _SITE, "devices/first.toml": device(_FAN), "devices/second.toml": _DOOR},
    mended={"site.toml": _SITE + _BROKER, "devices/first.toml": device(_FAN), "devices/second.toml": _DOOR},
)
