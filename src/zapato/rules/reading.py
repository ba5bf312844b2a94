"""The codes that are found while a file is read and resolved, not by a rule of their own."""

from zapato.checks.rule import Files, Rule, device
from zapato.findings import Severity

_RELAY = "[relay.heater]\npin = 26"
_BUTTON = '[button.start]\npin = 33\npull = "up"'
_SITE = '[site]\nname = "refuge"\n\n[wifi]\nname = "refuge"\n'


def _reading(
    code: str,
    title: str,
    story: str,
    failing: str | Files,
    mended: str | Files,
    family: str = "reading",
    severity: Severity = "error",
) -> Rule:
    return Rule(code, family, (severity,), title, story, failing, mended)


RULES = (
    _reading(
        "toml-syntax",
        "the file is not TOML",
        """
A device file is TOML 1.0: tables in square brackets, one key = value a line, texts in quotes.
Every line that cannot be read is reported in one run; what could be read is checked all the same.
""",
        device("[relay.heater]\npin = "),
        device(_RELAY),
    ),
    _reading(
        "file-unreadable",
        "a file that cannot be read",
        """
The file is not there, is no plain file, or its permissions keep it from being read. The other files
of the same call are checked all the same.
""",
        {
            "devices/here.toml": device(_RELAY),
            "devices/gone.toml/page.txt": "",
            "site.toml": '[site]\nname = "refuge"\n',
        },
        {"devices/here.toml": device(_RELAY), "site.toml": '[site]\nname = "refuge"\n'},
    ),
    _reading(
        "file-kind",
        "a file that is no device file",
        """
A rehearsal, a piece, site.toml or secrets.toml was given where a device file belongs. They are checked
with their site: give its folder. Lines of secrets.toml are never shown.
""",
        {
            "devices/here.toml": device(_RELAY),
            "devices/odd.toml": '[rehearsal]\nlasts = "1h"\n',
            "site.toml": '[site]\nname = "refuge"\n',
        },
        {"devices/here.toml": device(_RELAY), "site.toml": '[site]\nname = "refuge"\n'},
    ),
    _reading(
        "unknown-key",
        "a key that does not belong there",
        """
The table has no such key. Mostly a letter is wrong; the nearest key is proposed. A key is never
ignored in silence: a misspelt `active` would leave a relay closed at power-up.
""",
        device('[relay.heater]\npin = 26\nactiv = "low"'),
        device('[relay.heater]\npin = 26\nactive = "low"'),
    ),
    _reading(
        "wrong-type",
        "a value that the key cannot take",
        """
The value is of another type than the key takes, is not one of its words, or lacks its unit.
Numbers and true/false stand without quotes, texts with quotes, and values with a unit are
texts: "20s", "4.7kohm".
""",
        device('[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = 20'),
        device('[sensor.cabinet]\nchip = "dht22"\npin = 27\nevery = "20s"'),
    ),
    _reading(
        "missing-key",
        "a key that must be given is not there",
        """
Some keys have no sensible default: the pin of a relay, the pull of a button. The pull is asked
for on purpose, because an input without any resistor triggers by itself.
""",
        device("[button.start]\npin = 33"),
        device(_BUTTON),
    ),
    _reading(
        "unknown-kind",
        "no such kind of part",
        """
The first word of a table is a kind: [relay.heater] is a relay called heater. `zapato schema`
and the device file reference list the kinds.
""",
        device("[relais.heater]\npin = 26"),
        device(_RELAY),
    ),
    _reading(
        "unknown-board",
        "no such board",
        """
Boards are named by chip and shape. `zapato boards` lists them; a site can add its own as files
in its folder boards/.
""",
        device(_RELAY, "esp32-39pin"),
        device(_RELAY),
    ),
    _reading(
        "bad-name",
        "a name that cannot be used everywhere it must go",
        """
A device's name becomes its network name, its MQTT topic and its file name, so it keeps to what
all of them take: 1 to 31 of a-z, 0-9 and -, a letter first (RFC 952 and RFC 1123 for host
names). A part's name is also a word in expressions, where - would be a minus: a-z, 0-9 and _.
The label is for people and takes anything.
""",
        device("[relay.Heater-1]\npin = 26"),
        device("[relay.heater_1]\npin = 26"),
    ),
    _reading(
        "name-taken",
        "the name is taken",
        """
A name is unique in the device over all kinds, because links and topics use it alone: with a
relay and a button both called lamp, lamp.on could mean either.
""",
        device('[relay.lamp]\npin = 26\n\n[button.lamp]\npin = 33\npull = "up"'),
        device('[relay.lamp]\npin = 26\n\n[button.switch]\npin = 33\npull = "up"'),
    ),
    _reading(
        "unknown-reference",
        "a part that is named does not exist",
        """
A key names another part and no part has that name; mostly the part was renamed in one place.
""",
        device('[relay.heater]\npin = 26\nexcludes = ["vent"]'),
        device('[relay.heater]\npin = 26\nexcludes = ["fan"]\n\n[relay.fan]\npin = 25'),
    ),
    _reading(
        "bus-missing",
        "the bus that a chip hangs on does not exist",
        """
A chip on I2C names its bus, and the bus is a part of its own that has the pins.
""",
        device('[sensor.daylight]\nchip = "bh1750"\nbus = "main"'),
        device('[i2c.main]\nsda = 21\nscl = 22\n\n[sensor.daylight]\nchip = "bh1750"\nbus = "main"'),
        family="buses",
    ),
    _reading(
        "secret-missing",
        "a secret is named that secrets.toml does not have",
        """
{ secret = "name" } stands for a text in the site's secrets.toml, which is not shared. The name
must be there.
""",
        {
            "site.toml": _SITE + 'password = { secret = "wifi_password" }\n',
            "secrets.toml": "",
            "device.toml": device(_RELAY),
        },
        {
            "site.toml": _SITE + 'password = { secret = "wifi_password" }\n',
            "secrets.toml": 'wifi_password = "chamois on the ridge"\n',
            "device.toml": device(_RELAY),
        },
    ),
    _reading(
        "secret-in-clear",
        "a password stands in a file that gets shared",
        """
Device and site files are copied, shown to others and kept in version control. Passwords live in
secrets.toml beside site.toml, readable by you alone, and are named by { secret = "…" }.
""",
        {"site.toml": _SITE + 'password = "chamois on the ridge"\n', "device.toml": device(_RELAY)},
        {
            "site.toml": _SITE + 'password = { secret = "wifi_password" }\n',
            "secrets.toml": 'wifi_password = "chamois on the ridge"\n',
            "device.toml": device(_RELAY),
        },
        severity="warning",
    ),
    _reading(
        "placeholder-left",
        "a placeholder from a copied file is still there",
        """
Files that are passed on carry texts such as changeme or <your network>. The device would try to
join a network of that name.
""",
        {
            "site.toml": '[site]\nname = "refuge"\n\n[wifi]\nname = "<your network>"\n',
            "device.toml": device(_RELAY),
        },
        {"site.toml": _SITE, "device.toml": device(_RELAY)},
        severity="warning",
    ),
    _reading(
        "pin-absent",
        "the board has no such pin",
        """
The number is no GPIO of the chip, or the board does not bring it out, or the label is not one of
the board's. Labels and chip numbers differ on many boards: D4 of the 30-pin ESP8266 board is
GPIO2. A bare number always means the chip's number.
""",
        device("[relay.heater]\npin = 24"),
        device("[relay.heater]\npin = 25"),
        family="pins",
    ),
    _reading(
        "link-unknown",
        "a link names something that does not exist",
        """
A link names a part, property, event or action that the device does not have. After renaming a
part, every link that still uses the old name is shown, with the nearest name.
""",
        device(_RELAY + "\n\n" + _BUTTON + '\n\n[[link]]\nwhen = "start.pressed"\ndo = "heatr.toggle"'),
        device(_RELAY + "\n\n" + _BUTTON + '\n\n[[link]]\nwhen = "start.pressed"\ndo = "heater.toggle"'),
        family="links",
    ),
    _reading(
        "link-type",
        "a link's expression does not fit together",
        """
Expressions are checked before anything runs: a number is compared with a number, degrees with
degrees, a condition is true or false, an action gets the arguments it takes.
""",
        device(
            '[sensor.room]\nchip = "dht22"\npin = 27\n\n'
            + _RELAY
            + '\n\n[[link]]\nwhen = "room.temperature > \'30\'"\ndo = "heater.off"'
        ),
        device(
            '[sensor.room]\nchip = "dht22"\npin = 27\n\n'
            + _RELAY
            + '\n\n[[link]]\nwhen = "room.temperature > 30"\ndo = "heater.off"'
        ),
        family="links",
    ),
)
