"""Every code's own examples: the failing one gives the finding, the mended one gives none at all."""

import re
from pathlib import Path

import pytest
from conftest import HEADER
from support.approved import approve
from support.examples import BUSES

import zapato
from zapato.checks import rules
from zapato.checks.rule import PinRule, files
from zapato.parts import kind, kind_names


def _findings(put, example):
    device = put(example)
    return zapato.check(device if device.exists() else device.parent)


ABOUT_ANOTHER_VALUE = {"analog-source", "current-pin", "pwm-rate", "volt-analog"}
"""Codes of a pin whose place is not the pin's number but what does not suit it."""


def _value(finding) -> str:
    """What stands at a finding's place."""
    line = Path(finding.place.file).read_text().splitlines()[finding.place.line - 1]
    return line[finding.place.column - 1 :][: finding.place.width]


SAY_IT_ALL = frozenset(
    [
        "accept-unknown",
        "bad-name",
        "bus-missing",
        "feed-unknown",
        "file-kind",
        "file-unreadable",
        "limits-clash",
        "link-type",
        "link-unheard",
        "link-unknown",
        "missing-key",
        "name-taken",
        "placeholder-left",
        "secret-missing",
        "toml-syntax",
        "unknown-board",
        "unknown-key",
        "unknown-kind",
        "unknown-reference",
        "value-treatment",
        "wrong-type",
    ]
)
"""Codes whose message is its own reason; all others have one."""


@pytest.mark.parametrize("code", rules())
def test_examples(code: str, put):
    rule = rules()[code]
    failing = [f for f in _findings(put, files(rule.failing)) if f.code == code]
    assert failing and {f.severity for f in failing} <= set(rule.severities)
    assert code in SAY_IT_ALL or all(re.match(r"\w", f.why) for f in failing)
    assert not isinstance(rule, PinRule) or all("(" in f.why for f in failing), "its source"
    folder = put({}).parent
    for finding in failing:
        if finding.pin and code not in ABOUT_ANOTHER_VALUE:
            assert re.fullmatch(
                rf'"[A-Z]+\d+"|"?(\w+\.)?{re.sub("[^0-9]", "", finding.pin)}"?', _value(finding)
            )
    for name in files(rule.failing):
        (folder / name).unlink()
    for empty in sorted((p for p in folder.rglob("*.toml") if p.is_dir()), reverse=True):
        empty.rmdir()
    assert not [(f.code, f.message) for f in _findings(put, files(rule.mended))]


@pytest.mark.parametrize("code", rules())
def test_every_code_tells_its_story(code: str, cli):
    page = cli("explain", code)
    assert page.code == 0 and rules()[code].title in page.out and "This is mended:" in page.out


def test_codes_are_unique_and_documented_by_family(cli):
    listing = cli("explain").out
    assert all(code in listing for code in rules())
    assert {r.family for r in rules().values()} <= {
        "reading",
        "pins",
        "resources",
        "buses",
        "electrical",
        "network",
        "links",
    }


def test_an_unknown_code_is_one_line_with_the_nearest(cli):
    called = cli("explain", "pin-input-onyl")
    assert called.code == 2 and 'did you mean "pin-input-only"?' in called.err and called.err.count("\n") == 1


# What a builder gets wrong: body, board, code, the column the caret stands at, a text of the ways out.
PINS = [
    ("[relay.a]\npin = 34", "esp32-38pin", "pin-input-only", "free pins that can do this: "),
    ('[relay.a]\npin = "VP"', "esp32-38pin", "pin-input-only", "free pins"),
    ("[led.a]\npin = 9", "esp32-38pin", "pin-flash", "free pins"),
    ('[led.a]\npin = "SD2"', "esp8266-30pin", "pin-flash", "4 (D2)"),
    ('[led.a]\npin = "3V3"', "esp8266-30pin", "pin-absent", "pins of esp8266-30pin"),
    ('[led.a]\npin = "D9"', "esp8266-30pin", "pin-absent", "pins of esp8266-30pin"),
    ("[led.a]\npin = 37", "esp32-38pin", "pin-absent", "pins of esp32-38pin"),
    ('[contact.a]\npin = "D0"\npull = "up"', "esp8266-30pin", "pin-no-pull", "10 kohm resistor"),
    ('[contact.a]\npin = 4\npull = "down"', "esp8266-30pin", "pin-no-pull", 'pull = "up" and active = "low"'),
    ('[sensor.a]\nchip = "analog"\npin = 4', "esp8266-30pin", "pin-no-analog", '"A0"'),
    ('[sensor.a]\nchip = "dht22"\npin = 15', "esp8266-30pin", "pin-boot-level", "free pins"),
    ("[relay.a]\npin = 29", "rp2040w-40pin", "pin-fitted", "free pins"),
    ("[i2c.a]\nsda = 34\nscl = 22", "esp32-38pin", "pin-input-only", "free pins"),
]


@pytest.mark.parametrize(("body", "board", "code", "way_out"), PINS)
def test_pin_mistakes(body, board, code, way_out, checked):
    found = [f for f in checked(body, board) if f.code == code]
    assert len(found) == 1, [f.message for f in checked(body, board)]
    assert any(way_out in fix for fix in found[0].fixes), found[0].fixes
    assert found[0].place.line >= 5 and found[0].part


def test_the_ways_out_are_true(checked):
    """Every pin that a way out proposes really gives no error there."""
    for body, board, code, _ in PINS:
        found = next((f for f in checked(body, board) if f.code == code), None)
        fix = next((x for x in found.fixes if x.startswith("free pins")), "") if found else ""
        old = body.rsplit("= ", 1)[1] if body.count("pin =") == 1 else ""
        for word in fix.partition(": ")[2].partition(" and ")[0].split(", ") if fix and old.isdigit() else []:
            pin = word.split(" ")[0]
            mended = body.replace(f"pin = {old}", f"pin = {pin}")
            assert not [f for f in checked(mended, board) if f.severity == "error"], (mended, board)


def test_severity_follows_the_circuit(checked):
    """On a boot pin: a firm pull-up is an error, a button is a warning, a harmless load is nothing."""
    severities = {}
    for name, body in {
        "dht": '[sensor.a]\nchip = "dht22"\npin = 12',
        "button": '[button.a]\npin = 12\npull = "down"\nactive = "high"',
        "relay low": '[relay.a]\npin = 12\nactive = "low"',
        "relay high": '[relay.a]\npin = 12\nactive = "high"',
    }.items():
        severities[name] = [f.severity for f in checked(body) if f.code == "pin-boot-level"]
    assert severities == {"dht": ["error"], "button": ["warning"], "relay low": ["warning"], "relay high": []}


def test_the_fitted_led_is_no_finding_unless_upside_down(checked):
    assert not checked('[led.a]\npin = "D4"\nactive = "low"', "esp8266-30pin").findings
    found = [f for f in checked('[led.a]\npin = "D4"', "esp8266-30pin") if f.code == "pin-fitted"]
    assert [f.fixes[0] for f in found] == ['active = "low"']


def test_accept_silences_one_and_the_report_counts_it(checked):
    body = '[relay.a]\npin = 1\naccept = ["pin-console"]\nbecause = "loaded before it is wired"'
    report = checked(body)
    assert (
        report.ok
        and not report.findings
        and [f.accepted for f in report.accepted] == ["loaded before it is wired"]
    )


def test_analog_beside_wifi(put):
    text = 'zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n[sensor.a]\nchip = "analog"\npin = 26\n'
    assert zapato.check(put(text)).ok
    report = zapato.check(put(text + '[wifi]\nname = "refuge"\n'))
    assert [f.code for f in report] == ["pin-analog-radio"]
    assert report.findings[0].fixes == ("free pins that can do this: 32, 33, 34, 35, 36 (VP), 39 (VN)",)


def test_report_as_table(checked):
    frame = checked("[relay.a]\npin = 34\n[relay.b]\npin = 6").frame
    assert list(frame["code"]) == ["pin-input-only", "pin-flash"] and set(frame.columns) >= {
        "line",
        "why",
        "fixes",
    }


def test_a_folder_is_all_its_devices(site: Path):
    assert zapato.check(site).devices == tuple(p.stem for p in sorted((site / "devices").glob("*.toml")))


BOARDS = ("esp32c3-mini", "esp32s3-44pin", "esp8266-30pin", "rp2040w-40pin")


@pytest.mark.parametrize("board", BOARDS)
def test_what_the_examples_give_on_other_boards(board, put):
    """Every message, reason and way out that the examples of all codes give on a board of another chip."""
    texts: dict[str, None] = {}
    folder = put({}).parent
    for rule in rules().values():
        for example in (rule.failing, rule.mended):
            if not isinstance(example, str):
                continue
            text = re.sub('board = "[^"]+"', f'board = "{board}"', example)
            for finding in _findings(put, text):
                fixes = "".join(f" / {fix}" for fix in finding.fixes)
                said = f"{finding.severity} {finding.code} {finding.message}: {finding.why}{fixes}"
                texts.setdefault(said.replace(str(folder), "."))
    approve(f"findings-{board}", "\n".join(sorted(texts)) + "\n")


@pytest.mark.parametrize("name", sorted({*kind_names(), *rules()}))
def test_on_a_board_that_nobody_knows_everything_else_is_still_checked(name, put):
    """A board's name written wrongly is one finding, and no rule needs the board so much that it fails."""
    if name in kind_names():
        example = {"device.toml": HEADER.format(board="none-such") + BUSES.get(name, "") + kind(name).example}
    else:
        example = {
            path: re.sub(r'board = "[^"]*"', 'board = "none-such"', text)
            for path, text in files(rules()[name].failing).items()
        }
    found = _findings(put, example)
    assert "unknown-board" in {f.code for f in found} or not any(
        "none-such" in text for text in example.values()
    )


LAMP = '[relay.lamp]\npin = 26\n[button.wall]\npin = 27\npull = "up"\n[[link]]\nwhen = "wall.pressed"\ndo = "lamp.on"\n'
ZONE = '[time]\nzone = "Europe/Vienna"\n'
HALL = '[wifi]\nname = "hall"\n'
OWN = {
    "hours without a zone": (LAMP + "if = \"between('22:00', '06:00')\"\n", "time-missing", "if"),
    "days without a zone": (LAMP + "if = \"weekday('sat sun')\"\n", "time-missing", "if"),
    "hours without a network": (ZONE + LAMP + "if = \"between('22:00', '06:00')\"\n", "time-missing", "if"),
    "hours with both": (ZONE + HALL + LAMP + "if = \"between('22:00', '06:00')\"\n", "", ""),
    "the sun without a place": (ZONE + HALL + LAMP + "if = \"between('sunset', '23:00')\"\n", "time-missing", "if"),
    "functions that are no hours": (LAMP + 'if = "max(lamp.on, wall.pressed) > 0"\n', "", ""),
    "a long name of its own": (f'[wifi]\nname = "{"hut " * 9}"\n', "wifi-name", "name"),
    "a short password of its own": ('[wifi]\nname = "hall"\npassword = "short"\n', "wifi-password", "password"),
    "a band of its own": ('[wifi]\nname = "hall"\nband = "5GHz"\n', "wifi-band", "band"),
}  # fmt: skip


@pytest.mark.parametrize(("body", "code", "key"), OWN.values(), ids=OWN)
def test_what_a_device_says_itself_without_a_site(body, code, key, checked):
    about = {"time-missing", "wifi-name", "wifi-password", "wifi-band"}
    found = [finding for finding in checked(body) if finding.code in about]
    lines = [Path(finding.place.file).read_text().splitlines()[finding.place.line - 1] for finding in found]
    assert [finding.code for finding in found] == ([code] if code else [])
    assert [line.partition(" =")[0] for line in lines] == ([key] if code else [])
