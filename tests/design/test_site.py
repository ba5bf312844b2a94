"""A site as a whole: pieces, what must be unique, the address plan, overrides, its own boards, parts on buses."""

import contextlib
import os
import subprocess
from pathlib import Path

import pytest

import zapato
from zapato.checks import check
from zapato.errors import Refused

DEVICE = 'zapato = 1\n[device]\nname = "{}"\nboard = "esp32-38pin"\n'
SITE = '[site]\nname = "refuge"\n'


@pytest.fixture
def world(put):
    """Write the files of a site; gives its folder."""

    def write(**files: str) -> Path:
        return put({name.replace("__", "/") + ".toml": text for name, text in files.items()}).parent

    return write


def _codes(report):
    return [(f.code, Path(f.place.file).name, f.place.line) for f in report]


PIECE = '[relay.left]\npin = { with = "left_pin" }\n\n[relay.right]\npin = 25\n\n[[link]]\nwhen = "left.on"\ndo = "right.off"\n'


def test_a_piece_is_merged_and_the_device_file_wins(world):
    folder = world(
        site=SITE,
        pieces__two=PIECE,
        devices__a=DEVICE.format("a").replace(
            "zapato = 1", 'zapato = 1\nuse = ["pieces/two.toml"]\nwith = { left_pin = 26 }'
        )
        + '[relay.right]\npin = 27\nlabel = "Mine"\n[[link]]\nwhen = "right.on"\ndo = "left.off"\n',
    )
    design = zapato.load(folder / "devices" / "a.toml")
    assert not check(design).findings
    assert {n: p.pins["pin"].gpio for n, p in design.parts.items()} == {"left": 26, "right": 27}
    assert [link.commands[0].text for link in design.links] == ["right.off", "left.off"]


def test_findings_name_the_file_that_a_value_came_from(world):
    folder = world(
        site=SITE,
        pieces__two=PIECE.replace("pin = 25", "pin = 34").replace("right.off", "rigth.off"),
        devices__a=DEVICE.format("a").replace(
            "zapato = 1", 'zapato = 1\nuse = ["pieces/two.toml"]\nwith = { left_pin = 6, x = 1 }'
        )
        + '[relay.right]\nactive = "hgih"\n[[link]]\nwhen = "right.onn"\ndo = "left.off"\n',
    )
    found = _codes(check(folder))
    assert sorted(found) == sorted(
        [
            ("unknown-key", "a.toml", 3),
            ("wrong-type", "a.toml", 8),
            ("link-unknown", "a.toml", 10),
            ("pin-flash", "two.toml", 2),
            ("pin-input-only", "two.toml", 5),
            ("link-unknown", "two.toml", 9),
        ]
    )


@pytest.mark.parametrize(
    ("use", "code"),
    [
        ("pieces/none.toml", "unknown-reference"),
        ("pieces/loop.toml", "unknown-reference"),
        ("pieces/whole.toml", "unknown-key"),
    ],
)
def test_pieces_that_cannot_be(world, use, code):
    folder = world(
        site=SITE,
        pieces__loop='use = ["loop.toml"]\n[relay.b]\npin = 25\n',
        pieces__whole=DEVICE.format("b"),
        devices__a=DEVICE.format("a").replace("zapato = 1", f'zapato = 1\nuse = ["{use}"]'),
    )
    assert [f.code for f in check(folder / "devices" / "a.toml")] == [code]


def test_a_missing_value_of_a_piece(world):
    folder = world(
        site=SITE,
        pieces__two=PIECE,
        devices__a=DEVICE.format("a").replace("zapato = 1", 'zapato = 1\nuse = "pieces/two.toml"'),
    )
    report = check(folder)
    assert _codes(report).count(("missing-key", "two.toml", 2)) == 1
    assert "with = { left_pin = … }" in report.findings[0].fixes


def test_what_must_be_unique_over_a_site(world):
    folder = world(
        site=SITE, devices__a=DEVICE.format("a"), devices__b=DEVICE.format("a"), devices__c=DEVICE.format("c")
    )
    report = check(folder)
    assert _codes(report) == [("device-taken", "b.toml", 3)] and report.devices == ("a", "a", "c")
    own = DEVICE + '[wifi]\nname = "hall"\n[mqtt]\nhost = "h"\ntopic = "refuge/a"\n'
    world(devices__b=own.format("a"))
    assert _codes(check(folder)) == [("device-taken", "b.toml", 3)], (
        "one name is one device, whatever its topics"
    )
    world(devices__b=own.format("b"))
    assert _codes(check(folder)) == [("mqtt-topic-taken", "b.toml", 9)]
    world(devices__b=own.format("b").replace("refuge/a", "refuge/other"))
    assert not check(folder).findings


def test_one_file_is_held_against_the_others_of_its_site(world):
    """The mistake is found where it is made, not when the whole site is looked at; build refuses it, too."""
    folder = world(site=SITE, devices__a=DEVICE.format("a"), devices__z=DEVICE.format("a"))
    for name in ("a", "z"):
        report = check(folder / "devices" / f"{name}.toml")
        assert _codes(report) == [("device-taken", f"{name}.toml", 3)] and report.devices == ("a",)
        assert report.findings[0].device == "a" and report.as_dict()["findings"][0]["device"] == "a"
    with pytest.raises(Refused):
        zapato.build(folder / "devices" / "a.toml", folder / "out")
    world(devices__z="= not TOML")
    assert not check(folder / "devices" / "a.toml").findings, "what is wrong elsewhere is told elsewhere"


def test_other_files_of_a_site_are_checked_and_told_for_what_they_are(world, cli):
    rehearsal = '[rehearsal]\nlasts = "1h"\n[[step]]\nat = "1s"\nexpect = "lmap.on"\n'
    secrets = 'wifi = "marmots whistle at dusk"\nbroken = "gentian blue\n[update_keys]\na = "-0"\n'
    folder = world(
        site=SITE,
        secrets=secrets,
        devices__a=DEVICE.format("a") + "[relay.lamp]\npin = 26\n",
        rehearsals__a=rehearsal,
        rehearsals__gone=rehearsal,
        pieces__p="[relya.x]\npin = 25\n",
    )
    report = check(folder)
    found = {(f.code, Path(f.place.file).name) for f in report}
    assert found >= {
        ("link-unknown", "a.toml"),
        ("file-kind", "gone.toml"),
        ("unknown-kind", "p.toml"),
        ("toml-syntax", "secrets.toml"),
    }
    for words in (
        ["check", folder],
        ["check", folder / "secrets.toml"],
        ["check", folder, "--format", "json"],
        ["check", folder, "--format", "sarif"],
    ):
        said = cli(*words)
        assert (
            said.code == 1 and "marmots" not in said.out + said.err and "gentian" not in said.out + said.err
        )
    for name, words in (
        ("site.toml", "a site's own file"),
        ("rehearsals/a.toml", "this is a rehearsal"),
        ("pieces/p.toml", "this is a piece"),
    ):
        assert words in cli("check", folder / name).out


def test_a_bad_update_key_is_a_finding(world):
    folder = world(
        site=SITE,
        secrets='[update_keys]\na = "-0"\nb = "abcd"\n',
        devices__a=DEVICE.format("a") + "[relay.lamp]\npin = 26\n",
    )
    assert [(f.code, f.place.line) for f in check(folder)] == [("wrong-type", 2), ("wrong-type", 3)]
    assert not any("-0" in f.message or "abcd" in f.message for f in check(folder))


def test_one_device_never_stops_the_rest(world, cli, tmp_path):
    folder = world(
        site=SITE,
        devices__a=DEVICE.format("a") + "[relay.lamp]\npin = 26\n",
        devices__b=DEVICE.format("b") + "[relay.lamp]\npin = 34\n",
        devices__c=DEVICE.format("c") + "[relay.lamp]\npin = 26\n",
    )
    (folder / "devices" / "d.toml").mkdir()
    said = cli("check", folder)
    assert (
        said.code == 1
        and "pin-input-only" in said.out
        and "d.toml: is not a file" not in said.err
        and "file-unreadable" in said.out
    )
    built = cli("build", folder, "--out", tmp_path / "out")
    assert built.code == 1 and "2 of 4 devices built; not: b, d" in built.out
    assert {p.name for p in (tmp_path / "out").iterdir()} == {"a", "c"}


def test_many_devices_are_readable(world, cli):
    """Equal findings fold, totals tell what is where, and each free address is offered once."""
    files = {f"devices__d{n:03}": DEVICE.format(f"d{n:03}") + "[relay.lamp]\npin = 34\n" for n in range(120)}
    addresses = "".join(f'd{n:03} = "192.168.4.{100 + n}"\n' for n in range(40))
    lan = '[lan]\nnetwork = "192.168.4.0/24"\ndhcp = ["192.168.4.100", "192.168.4.199"]\n[lan.addresses]\n'
    folder = world(site=SITE + lan + addresses, **files)
    said = cli("check", folder)
    assert (
        said.out.count("pin-input-only  ") == 1
        and "and 109 more" in said.out
        and "120  error pin-input-only" in said.out
    )
    assert len(said.out.splitlines()) < 400
    offers = [fix for f in check(folder) for fix in f.fixes if fix.startswith("a free one")]
    assert len(offers) == len(set(offers)) == 40
    only = cli("check", folder, "--only", "pin-input-only", "--device", "d007", "--brief")
    assert only.out.count("d007.toml:6:7: error pin-input-only") == 1 and only.out.count("\n") == 2
    assert (
        cli("check", folder, "--only", "pin-inpt-only").code == 2
        and cli("check", folder, "--device", "nobody").code == 2
    )


def test_only_what_changed(world, cli):
    folder = world(site=SITE, devices__a=DEVICE.format("a"), devices__b=DEVICE.format("b"))
    git = ["git", "-c", "user.name=t", "-c", "user.email=t@example.org"]
    for words in (["init", "-q"], ["add", "."], ["commit", "-qm", "x"]):
        subprocess.run([*git, *words], cwd=folder, check=True)
    assert "no device" in cli("check", folder, "--changed", "HEAD").out
    world(devices__b=DEVICE.format("b") + "[relay.x]\npin = 34\n")
    assert cli("check", folder, "--changed", "HEAD").out.rstrip().endswith("b: 1 error")
    world(site=SITE + "\n")
    assert "a, b: 1 error" in cli("check", folder, "--changed", "HEAD").out
    assert cli("check", folder, "--changed", "nowhere").code == 2


def test_the_address_plan(world):
    lan = '[lan]\nnetwork = "192.168.4.0/24"\nrouter = "192.168.4.1"\ndhcp = ["192.168.4.100", "192.168.4.199"]\n'
    addresses = '[lan.addresses]\na = "192.168.4.20"\nb = "192.168.4.150"\nc = "10.0.0.1"\nd = "192.168.4.255"\ne = "192.168.4.1"\nf = "x"\n'
    folder = world(site=SITE + lan + addresses, devices__a=DEVICE.format("a"))
    report = check(folder)
    assert _codes(report) == [
        ("ip-in-dhcp", "site.toml", 9),
        ("ip-outside", "site.toml", 10),
        ("ip-outside", "site.toml", 11),
        ("ip-taken", "site.toml", 12),
        ("ip-outside", "site.toml", 13),
    ]
    assert "a free one: 192.168.4.2" in report.findings[0].fixes
    ones = zapato.load(folder / "devices" / "a.toml")
    assert ones.address == ("192.168.4.20", "255.255.255.0", "192.168.4.1", "192.168.4.1")
    other = world(devices__other=DEVICE.format("other")) / "devices" / "other.toml"
    assert zapato.load(other).address is None, "the router gives it one"
    other.unlink()
    wired = DEVICE.format("w").replace("esp32-38pin", "esp32-poe") + '[ethernet]\naddress = "192.168.4.20"\n'
    world(site=SITE + lan + '[lan.addresses]\na = "192.168.4.20"\n', devices__w=wired)
    assert _codes(check(folder)) == [("ip-taken", "w.toml", 6)]


def test_a_device_overrides_the_sites_network(world):
    folder = world(
        site=SITE + '[wifi]\nname = "hall"\n[mqtt]\nhost = "h"\n',
        devices__a=DEVICE.format("a") + '[wifi]\nname = "annex"\n',
    )
    design = zapato.load(folder / "devices" / "a.toml")
    assert design.wifi["name"] == "annex" and design.mqtt["host"] == "h" and design.radio
    wired = zapato.load(
        world(devices__b=DEVICE.format("b").replace("38pin", "poe") + "[ethernet]\n") / "devices" / "b.toml"
    )
    assert wired.wifi is None and not wired.radio


def test_the_sites_own_boards_join_the_catalogue(world, cli):
    own = 'id = "esp32-bench"\ntitle = "Bench board"\nchip = "esp32"\n[headers]\nleft = ["GND", "LAMP=26", "IN=34"]\n'
    text = DEVICE.format("a").replace("esp32-38pin", "esp32-bench") + '[relay.a]\npin = "LAMP"\n'
    folder = world(site=SITE, boards__bench=own, devices__a=text)
    assert not check(folder).findings
    assert (
        "esp32-bench" in cli("boards", "--site", folder).out
        and "LAMP" in cli("boards", "esp32-bench", "--site", folder).out
    )
    world(devices__a=text.replace("LAMP", "IN"))
    assert [f.code for f in check(folder)] == ["pin-input-only"]


@pytest.mark.parametrize(
    ("change", "code", "line"),
    [
        (('chip = "esp32"', 'chip = "esp33"'), "wrong-type", 3),
        (("LAMP=26", "LAMP=24"), "pin-absent", 5),
        (('title = "Bench board"\n', ""), "missing-key", 1),
        (("IN=34", "lamp=34"), "name-taken", 5),
        (('"esp32-bench"', '"esp32-38pin"'), "name-taken", 1),
        (("[headers]", "[header]"), "unknown-key", 4),
        (("LAMP=26", "LAMP=x"), "wrong-type", 4),
        (("GND", "GND\n"), "toml-syntax", 5),
    ],
)
def test_a_malformed_board_gives_findings_and_no_traceback(change, code, line, world):
    own = 'id = "esp32-bench"\ntitle = "Bench board"\nchip = "esp32"\n[headers]\nleft = ["GND", "LAMP=26", "IN=34"]\n'
    folder = world(site=SITE, boards__bench=own.replace(*change), devices__a=DEVICE.format("a"))
    assert (code, "bench.toml", line) in _codes(check(folder)), _codes(check(folder))


BUS = "[i2c.main]\nsda = 21\nscl = 22\n"
ON_BUSES = {
    "an expander's pins": (
        BUS
        + '[expander.io]\nchip = "mcp23017"\nbus = "main"\n[relay.a]\npin = "io.3"\n[relay.b]\npin = "io.3"\n',
        ["pin-taken"],
    ),
    "no such pin": (
        BUS + '[expander.io]\nchip = "pcf8574"\nbus = "main"\n[relay.a]\npin = "io.8"\n',
        ["pin-absent"],
    ),
    "an analog input that can only measure": (
        BUS + '[converter.adc]\nchip = "ads1115"\nbus = "main"\n[button.a]\npin = "adc.0"\npull = "none"\n',
        ["pin-analog-only"],
    ),
    "analog beside Wi-Fi through a converter": (
        BUS
        + '[converter.adc]\nchip = "ads1115"\nbus = "main"\n[sensor.a]\nchip = "analog"\npin = "adc.1"\n[wifi]\nname = "x"\n',
        [],
    ),
    "the wrong kind of bus": (
        '[spi.main]\nsck = 18\nmosi = 23\nmiso = 19\n[sensor.a]\nchip = "bme280"\nbus = "main"\n',
        ["bus-missing"],
    ),
    "an expander and a sensor at one address": (
        BUS + '[expander.a]\nchip = "mcp23017"\nbus = "main"\n[expander.b]\nchip = "pcf8574"\nbus = "main"\n',
        ["address-taken"],
    ),
    "five volts": ('[uart.m]\ntx = 17\nrx = 16\nbaud = 9600\nlevel = "5V"\n', ["volt-logic"]),
    "saturates but bears it": ('[sensor.a]\nchip = "analog"\npin = 34\nrange = "0V-3.3V"\n', ["volt-analog"]),
    "a label for a number": ('[relay.a]\npin = 26\n[group.g]\nof = "a, a"\n', ["wrong-type"]),
}


@pytest.mark.parametrize("name", ON_BUSES)
def test_parts_on_buses(name, checked):
    body, codes = ON_BUSES[name]
    assert [f.code for f in checked(body)] == codes


def test_boards_are_filtered_and_compared(cli):
    assert cli("boards", "--needs", "analog=4,ethernet").out.split("\n")[1].startswith("esp32-poe")
    assert cli("boards", "--needs", "analog=99").code == 1 and cli("boards", "--needs", "anlog").code == 2
    compared = cli("boards", "esp32-38pin", "esp32c3-mini").out
    assert (
        compared.split("\n")[0].split() == ["esp32-38pin", "esp32c3-mini"] and "beside Wi-Fi  6" in compared
    )


def test_the_references_are_fresh():
    import subprocess
    import sys

    tool = Path(__file__).parents[2] / "tools" / "reference.py"
    done = subprocess.run([sys.executable, str(tool), "--check"], capture_output=True, text=True)
    assert done.returncode == 0, f"{done.stdout}{done.stderr}run: make docs"


GROUPS = [
    ('[group.a]\nof = ["a"]\n', ["group-member"]),
    ('[group.a]\nof = ["c"]\n[group.c]\nof = ["a"]\n', ["group-member", "group-member"]),
    ('[group.a]\nof = ["c", "r"]\n[group.c]\nof = ["r"]\n[relay.r]\npin = 26\n', []),
]


@pytest.mark.parametrize(("body", "codes"), GROUPS)
def test_groups_of_groups(body, codes, checked):
    assert [f.code for f in checked(body)] == codes


@pytest.mark.parametrize(
    "lan",
    [
        'network = "192.168.4.0/99"',
        'network = "10.0.0.0/8"\ndhcp = ["10.0.0.5"]',
        'dhcp = ["a", "b"]\nnetwork = "10.0.0.0/8"',
    ],
)
def test_a_plan_that_cannot_be_read_is_said(lan, world):
    report = check(world(site=f"{SITE}[lan]\n{lan}\n", devices__a=DEVICE.format("a")))
    assert [f.code for f in report] == ["ip-outside"]


LISTENER = """zapato = 1
[device]
name = "{}"
board = "esp32-38pin"
[relay.lamp]
pin = 26
[[link]]
when = "not {}.lamp.on"
do = "lamp.off"
"""


@pytest.mark.parametrize("prefix", ["", "x"], ids=["file called as the device", "file called otherwise"])
def test_the_work_grows_with_the_devices_and_not_with_their_square(prefix, world, monkeypatch, cli):
    """Devices that hear each other ask who else there is: of files a few are looked at for each device."""
    looked_at = []
    entries = os.scandir

    def scandir(path):
        found = list(entries(path))
        looked_at.extend(found)
        return contextlib.nullcontext(found)

    def count(devices: int) -> int:
        files = {
            f"devices__{prefix}d{n}": LISTENER.format(f"d{n}", f"d{(n + 1) % devices}")
            for n in range(devices)
        }
        root = world(site=SITE + '[mqtt]\nhost = "10.0.0.2"\n[wifi]\nname = "hut"\n', **files)
        looked_at.clear()
        with monkeypatch.context() as patched:
            patched.setattr(os, "scandir", scandir)
            assert cli("topics", root).code == 0
            assert not [each for each in zapato.check(root) if each.severity == "error"]
        return len(looked_at)

    count(2)  # imports look into folders, too
    few = count(10)
    assert count(40) <= 5 * few


ON_SPI = "[spi.card]\nsck = 18\nmosi = 23\nmiso = 19\n"
WRONG_BUS = {
    "a chip on either, on SPI without select": (ON_SPI + '[sensor.s]\nchip = "bme280"\nbus = "card"\n', "[spi.card] and no I2C bus", "select = …, the pin that selects it on card"),
    "a chip on either, on I2C with select": (BUS + '[sensor.s]\nchip = "bme280"\nbus = "main"\nselect = 5\n', "[i2c.main] and no SPI bus", "without select it is on the I2C bus"),
    "a chip of I2C alone": (ON_SPI + '[converter.c]\nchip = "ads1115"\nbus = "card"\n', "[spi.card] and no I2C bus", "add [i2c.main] with sda and scl"),
    "a chip of SPI alone": (BUS + '[converter.c]\nchip = "mcp3008"\nbus = "main"\nselect = 5\n', "[i2c.main] and no SPI bus", "add [spi.main_2] with sck, mosi and miso"),
    "a described chip of SPI alone, beside an SPI bus": (BUS + ON_SPI + '[sensor.s]\nchip = "max31865"\nbus = "main"\nselect = 5\n', "[i2c.main] and no SPI bus", "there are: card"),
    "no bus at all": ('[sensor.s]\nchip = "sht31"\nbus = "main"\n', "no I2C bus is called that", "add [i2c.main] with sda and scl"),
}  # fmt: skip


@pytest.mark.parametrize("what", WRONG_BUS)
def test_a_part_on_the_wrong_bus_is_told_what_helps(checked, what):
    body, words, fix = WRONG_BUS[what]
    (finding,) = (f for f in checked(body).findings if f.code == "bus-missing")
    assert words in finding.message and finding.fixes == (fix,)


@pytest.mark.parametrize(
    ("pin", "there", "fixes"),
    [
        ("panel.3", False, ()),
        ("far.3", True, ("parts that offer pins: panel",)),
        ("panle.3", True, ('did you mean "panel"?',)),
        ("panel.16", True, ("it has panel.0 to panel.15",)),
        ("panel.15", True, None),
    ],
)
def test_a_pin_of_another_part(pin, there, fixes, checked):
    bus = (
        '[i2c.main]\nsda = 21\nscl = 22\n[expander.panel]\nchip = "mcp23017"\nbus = "main"\n' if there else ""
    )
    found = [f for f in checked(f'{bus}[relay.r]\npin = "{pin}"\n') if f.code == "pin-absent"]
    assert [f.fixes for f in found] == ([] if fixes is None else [fixes])
