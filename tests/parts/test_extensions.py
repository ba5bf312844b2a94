"""Extensions from outside: a kind, a chip, a rule and a board that nothing inside knows of, from a site and from an installed package."""

import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import failed, steps

import zapato
from zapato import extensions
from zapato.lang.site import site_of

EXAMPLES = Path(__file__).parents[2] / "examples"
SITE = 'zapato = 1\n[site]\nname = "refuge"\nextensions = [{names}]\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
BELL = """zapato = 1
[device]
name = "bell"
board = "{board}"
[buzzer.hall]
pin = {pins[0]}
[button.ring]
pin = {pins[1]}
pull = "up"
[i2c.main]
sda = {pins[2]}
scl = {pins[3]}
pull_ups = "4.7kohm"
[sensor.room]
chip = "lm75"
bus = "main"
address = 0x48
every = "5s"
[[link]]
when = "ring.pressed"
do = "hall.beep(3)"
[[link]]
when = "room.temperature > 30"
do = "hall.on"
"""
DAY = """[rehearsal]
lasts = "1min"
[world]
room.temperature = -10.5
[[step]]
at = "8s"
expect = "room.temperature == -10.5"
[[step]]
act = "ring.press"
[[step]]
within = "1s"
expect = "hall.on and hall.left == 3"
[[step]]
within = "2s"
expect = "not hall.on and hall.left == 0"
[[step]]
at = "20s"
act = "room.temperature = 35"
[[step]]
within = "10s"
expect = "hall.on"
"""
PINS = {"esp32-38pin": (26, 33, 21, 22), "esp8266-30pin": ('"D5"', '"D6"', '"D2"', '"D1"')}
CARRIER = 'id = "carrier"\ntitle = "Carrier"\nchip = "esp32"\n[headers]\nleft = ["3V3", "GND", "A=26", "B=33", "C=21", "D=22"]\n'


@pytest.fixture(autouse=True)
def _as_before():
    """No other test runs with the extensions of this one's site."""
    yield
    extensions.for_site(None, ())


@pytest.fixture
def site(tmp_path) -> Path:
    """A site with the examples' extensions: a kind, a chip, a rule, and a board in one of them."""
    root = tmp_path / "site"
    shutil.copytree(EXAMPLES / "extensions", root / "extensions")
    shutil.copytree(
        EXAMPLES / "extension_package" / "src" / "refuge_sensors" / "lm75", root / "extensions" / "lm75"
    )
    (root / "extensions" / "house_rules" / "boards").mkdir()
    (root / "extensions" / "house_rules" / "boards" / "carrier.toml").write_text(CARRIER)
    (root / "site.toml").write_text(SITE.format(names='"buzzer", "lm75", "house_rules"'))
    for name in ("devices", "rehearsals"):
        (root / name).mkdir()
    (root / "rehearsals" / "bell.toml").write_text(DAY)
    return root


def bell(root: Path, board: str = "esp32-38pin") -> Path:
    path = root / "devices" / "bell.toml"
    path.write_text(BELL.format(board=board, pins=PINS.get(board, PINS["esp32-38pin"])))
    return path


@pytest.mark.parametrize("board", [*PINS, "carrier"])
def test_a_kind_a_chip_a_rule_and_a_board_of_a_site(site, board, cli, tmp_path):
    path = bell(site, board)
    report = zapato.check(path)
    assert {f.code for f in report.findings} == {"house-label"} and report.ok
    assert failed(zapato.rehearse(path)) == []
    called = cli("check", site)
    assert "buzzer (this site)" in called.out and "house_rules (this site)" in called.out
    built = cli("build", path, "--out", tmp_path / "out")
    assert built.code == 0, built
    known = zapato.budget(path).of("memory")
    assert any("buzzer" in row.formula for row in known) and not zapato.load(path).findings


def test_every_command_knows_them(site, cli, monkeypatch, tmp_path):
    path = bell(site)
    assert (
        "buzzer" not in cli("models").out
    )  # nothing of it is in force yet, and nothing of this answer stays
    monkeypatch.chdir(site)
    assert "People who read the hub" in cli("explain", "house-label").out
    assert "buzzer" in json.loads(cli("schema").out)["properties"]
    assert "beep" in cli("models", "buzzer").out
    assert "hall/do/beep" in cli("topics", path).out
    sarif = json.loads(cli("check", path, "--format", "sarif").out)
    assert any(rule["id"] == "house-label" for rule in sarif["runs"][0]["tool"]["driver"]["rules"])
    assert cli("draw", path, "--out", tmp_path / "bell.png").code == 0
    measured = json.loads((EXAMPLES / "extensions" / "buzzer" / "cost.json").read_text())
    assert cli("costs", "buzzer").code == 0
    again = json.loads((site / "extensions" / "buzzer" / "cost.json").read_text())
    for form, name in (("short", "heap"), ("whole", "flash")):
        assert again[form][name] == pytest.approx(measured[form][name], rel=0.5, abs=250)


def test_code_of_a_site_runs_only_where_it_is_named(site, cli, monkeypatch):
    path = bell(site)
    (site / "extensions" / "spy").mkdir()
    (site / "extensions" / "spy" / "rule.py").write_text("raise RuntimeError('it ran')\n")
    assert cli("check", path).code == 0
    (site / "site.toml").write_text(SITE.format(names='"buzzer", "lm75"'))
    assert "house-label" not in {f.code for f in zapato.check(path).findings}
    (site / "site.toml").write_text(SITE.format(names='"spy"'))
    called = cli("check", path)
    assert (
        called.code == 2
        and "the extension spy cannot be loaded: RuntimeError: it ran, rule.py:1" in called.err
    )
    (site / "site.toml").write_text(SITE.format(names='"../x", "nothing"'))
    told = [f.message for f in zapato.check(path).findings if f.code == "unknown-reference"]
    assert len(told) >= 1 and "no folder extensions/" in told[0]
    monkeypatch.setattr(os, "environ", dict(os.environ))
    (site / "site.toml").write_text(SITE.format(names='"spy"'))
    called = cli("--no-extensions", "check", path)
    assert called.code == 1 and "buzzer is not a kind of part" in called.out


BROKEN = {
    "no KIND": ("part.py", "x = 1\n", "the extension buzzer has no KIND in part.py"),
    "no Python": ("part.py", "def f(:\n", "the extension buzzer cannot be loaded: "),
    "costs of another form": (
        "cost.json",
        '{"short": [1]}',
        "cost.json of the extension buzzer cannot be read",
    ),
    "costs that are no JSON": ("cost.json", "{", "cost.json of the extension buzzer cannot be read"),
}


@pytest.mark.parametrize("what", BROKEN)
def test_a_broken_extension_is_one_line(site, cli, what):
    file, text, words = BROKEN[what]
    (site / "extensions" / "buzzer" / file).write_text(text)
    called = cli("check", bell(site))
    assert called.code == 2 and words in called.err and called.err.count("\n") <= 2, called


CONFLICTS = {
    "a kind of ours": ("relay", "part.py", "has the name of a kind of part that Zapato has"),
    "a chip of ours": ("dht22", "chip.py", "has the name of a chip that Zapato has"),
}


@pytest.mark.parametrize("what", CONFLICTS)
def test_a_name_of_ours_is_refused(site, cli, what):
    name, file, words = CONFLICTS[what]
    (site / "extensions" / name).mkdir()
    (site / "extensions" / name / file).write_text("KIND = CHIP = 1\n")
    (site / "site.toml").write_text(SITE.format(names=f'"buzzer", "lm75", "{name}"'))
    called = cli("check", bell(site))
    assert called.code == 2 and words in called.err, called


def test_a_kind_and_a_chip_may_have_one_name(site):
    """A kind called like a chip of ours, and a chip called like a kind of ours."""
    sources = site / "extensions"
    for old, new, names in (("buzzer", "echo", "part.py"), ("lm75", "relay", "chip.py sim.py")):
        (sources / old).rename(sources / new)
        for file in (sources / new / name for name in names.split()):
            file.write_text(re.sub(rf'(name\s*=\s*|, )"{old}"', rf'\1"{new}"', file.read_text()))
    (site / "site.toml").write_text(SITE.format(names='"echo", "relay"'))
    path = bell(site)
    body = path.read_text().replace("[buzzer.hall]", "[echo.hall]").replace('"lm75"', '"relay"')
    path.write_text(body + '[relay.pump]\npin = 27\n[sensor.level]\nchip = "echo"\npin = 34\ntrigger = 25\n')
    report = zapato.check(path)
    assert report.ok, report.findings
    assert failed(zapato.rehearse(path)) == []


def anew() -> None:
    """As a new process begins."""
    for name in [each for each in sys.modules if each.startswith("zapato_site_")]:
        del sys.modules[name]
    extensions.for_site(None, ())


def test_what_an_extension_raises_is_one_line_that_names_it(site, cli):
    path, rule = bell(site), site / "extensions" / "house_rules" / "rule.py"
    rule.write_text(rule.read_text().replace("    for part in", "    design.nothing\n    for part in"))
    called = cli("check", path)
    assert (
        called.code == 2
        and "the extension house_rules failed: AttributeError" in called.err
        and "rule.py:" in called.err
    )
    anew()
    rule.write_text("import sys\nsys.exit(3)\n")
    assert "house_rules cannot be loaded: SystemExit" in cli("check", path).err
    anew()
    rule.write_text(
        (EXAMPLES / "extensions" / "house_rules" / "rule.py")
        .read_text()
        .replace('code="house-label"', 'code="pin-taken"')
    )
    assert "two rules have the code pin-taken" in cli("check", path).err
    anew()
    rule.unlink()
    (site / "extensions" / "buzzer" / "device" / "loop.py").write_text("x = 1\n")
    assert (
        "device/loop.py of the extension buzzer has the name of a module of Zapato" in cli("build", path).err
    )


KNOCKER = """from zapato.extend import Simulation, Driver, WorldInput, Kind, Need, Probe, Property, Simulation, Stimulus, pin


class Loud(Probe):
    def __init__(self, gpio): self.gpio = gpio
    def read(self, world): return round(100 * world.share(self.gpio))


class Knock(Stimulus):
    def __init__(self, gpio): self.gpio = gpio
    def put(self, world, value, over=0):
        world.contact(self.gpio, 1 if value is None else int(value))
        if value is None:
            world.after(200, lambda: world.contact(self.gpio, 0))


class KnockerKind(Kind):
    name, help, example = "knocker", "a knock is answered by a lamp", "[knocker.k]\\npin = 26\\nhears = 27"
    fields = (pin("pin", "the lamp"), pin("hears", "the contact"))

    def properties(self, part):
        return {"loud": Property("number", "%"), "touched": Property("boolean")}

    def needs(self, part):
        return (Need("pin", "output", rest="low"), Need("hears", "input", pull="down"))

    def driver(self, part):
        return Driver("knocker", "Knocker", (part.at("pin"), part.at("hears")))

    def simulation(self, part):
        knock = Knock(part.pins["hears"].gpio)
        return Simulation(probes={"loud": Loud(part.pins["pin"].gpio)}, stimuli={"touched": knock}, gestures={"knock": knock})


KIND = KnockerKind()
"""
KNOCKS = """from machine import Pin
from loop import Part


class Knocker(Part):
    loud = 0
    touched = False

    def __init__(self, d, name, lamp, hears):
        super().__init__(d, name)
        self.lamp = Pin(lamp, Pin.OUT, value=0)
        self.ear = Pin(hears, Pin.IN)
        d.every(20, self.hear)

    def hear(self):
        self.lamp.value(self.ear.value())
"""


def test_stand_ins_that_an_extension_brings(put):
    """A Probe measures, a Stimulus is set and done."""
    path = put(
        {
            "site.toml": '[site]\nname = "refuge"\nextensions = ["knocker"]\n',
            "extensions/knocker/part.py": KNOCKER,
            "extensions/knocker/device/knocker.py": KNOCKS,
            "extensions/knocker/cost.json": '{"short": {"heap": {"module knocker": 300, "part Knocker": 100}}, "whole": {"heap": {"module knocker": 300, "part Knocker": 100}}}',
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[knocker.k]\npin = 26\nhears = 27\n',
            "script.toml": '[rehearsal]\nlasts = "30s"\n'
            + steps(
                "5s: k.knock",
                "+0s: k.knock",
                "<1s? k.loud == 100",
                "<1s? k.loud == 0",
                "10s: k.touched = true",
                "=5s? k.loud == 100 or k.loud == 0",
                "18s? k.loud == 100",
            ),
        }
    )
    assert failed(zapato.rehearse(path, path.parent / "script.toml")) == []


def test_what_was_never_measured_is_an_error(site):
    (site / "extensions" / "buzzer" / "cost.json").unlink()
    found = [f for f in zapato.check(bell(site)).findings if f.code == "memory-unmeasured"]
    assert found and "part Buzzer" in found[0].message and "zapato costs" in found[0].fixes[0]


def test_what_changes_in_an_extension_or_a_chip_is_built_anew(site, cli):
    path = bell(site)
    (site / "chips").mkdir()
    assert cli("build", site, "--out", site / "out").code == 0
    assert "unchanged" in cli("build", site, "--out", site / "out").out
    driver = site / "extensions" / "buzzer" / "device" / "buzzer.py"
    driver.write_text(driver.read_text().replace("1, 100", "1, 50"))
    assert "built bell" in cli("build", site, "--out", site / "out").out
    described = (Path(zapato.__file__).parent / "chips" / "tmp102.toml").read_text()
    (site / "chips" / "tmp102.toml").write_text(described)
    path.write_text(path.read_text().replace('chip = "lm75"', 'chip = "tmp102"'))
    assert "built bell" in cli("build", site, "--out", site / "out").out
    (site / "chips" / "tmp102.toml").write_text(
        described.replace("digits = 4", "digits = 1").replace("0.25", "0.2").replace("127.9375", "127.9")
    )
    assert "built bell" in cli("build", site, "--out", site / "out").out


def test_two_sites_with_an_extension_of_the_same_name(site, tmp_path):
    """Each has its own, in whatever order they are read."""
    other = tmp_path / "other"
    shutil.copytree(site, other)
    file = other / "extensions" / "buzzer" / "part.py"
    file.write_text(
        file.read_text().replace('"so many short tones"', '"another one"').replace('"tone"', '"length"')
    )
    (one, two) = (bell(each) for each in (site, other))
    two.write_text(two.read_text().replace("[buzzer.hall]\n", '[buzzer.hall]\nlength = "1s"\n'))
    for _ in range(2):
        assert zapato.check(one).ok and zapato.check(two).ok
    one.write_text(two.read_text())
    assert [f.code for f in zapato.check(one).findings if f.severity == "error"] == ["unknown-key"]


def test_an_installed_extension(tmp_path):
    """Installed by pip into a folder of its own, it is found by its entry point."""
    where, root = tmp_path / "packages", tmp_path / "site"
    subprocess.run(
        [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--no-build-isolation", "--target", where, EXAMPLES / "extension_package"],
        check=True,
    )  # fmt: skip
    (root / "devices").mkdir(parents=True)
    (root / "site.toml").write_text(SITE.format(names='"buzzer"'))
    shutil.copytree(EXAMPLES / "extensions", root / "extensions")
    (root / "rehearsals").mkdir()
    (root / "rehearsals" / "bell.toml").write_text(DAY)
    path, env = bell(root), {**os.environ, "PYTHONPATH": os.pathsep.join([str(where), *sys.path])}
    for words in (["check", root], ["rehearse", path], ["build", path, "--out", tmp_path / "out"]):
        done = subprocess.run(
            [sys.executable, "-m", "zapato", *words], env=env, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stdout + done.stderr
        if words[0] == "check":
            assert "lm75 (refuge_sensors.lm75)" in done.stdout


def test_a_site_without_extensions_uses_none(site):
    site_of(bell(site))
    assert extensions.bundles()
    site_of(Path(__file__))
    assert not any(each.site for each in extensions.bundles().values())


BANK = """from zapato.extend import Kind, measured


class BankKind(Kind):
    name, help, example = "bank", "a power bank", '[bank.pocket]\\nvoltage = "5V"'
    fields = (measured("voltage", "V", "V", 5.0), measured("current", "A", "A", None))
    passive, roles = True, ("supply",)


KIND = BankKind()
"""


def test_a_kind_that_stands_for_another(put):
    """Rules, budgets and wiring treat it as a supply, though no module of ours names it."""
    path = put(
        {
            "site.toml": '[site]\nname = "refuge"\nextensions = ["bank"]\n',
            "extensions/bank/part.py": BANK,
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[bank.pocket]\nvoltage = "5V"\ncurrent = "0.02A"\n'
            '[relay.pump]\npin = 26\nfed_from = "pocket"\ncoil = "70mA"\n',
        },
    )
    codes = {each.code for each in zapato.check(path).findings}
    assert "feed-unknown" not in codes and "current-supply" in codes
    assert any(row.of == "pocket" for row in zapato.budget(path).of("supply"))


def test_nothing_of_ours_asks_for_a_kind_by_its_name():
    """What a kind can do, it says itself, so that one from outside is treated as ours are."""
    ours = (Path(zapato.__file__).parent).rglob("*.py")
    asks = [path for path in ours if re.search(r"kind\.name\s*(==|!=|in\b)", path.read_text("utf-8"))]
    assert not asks


PX8 = """from zapato.extend import ExpanderChip

CHIP = ExpanderChip(
    kind="expander", name="px8", addresses=(0x30, 0x31), source="PX8 datasheet, Device address", takes=(2.5, 5.5),
    reads_high=0.7, pins=8, weak_high=True, driver=("expander", "Expander"),
)
"""


def test_a_chip_of_another_kind(put, cli):
    """An expander's chip from outside: its pins are pins, and no sensor can be it."""
    path = put(
        {
            "site.toml": '[site]\nname = "refuge"\nextensions = ["px8"]\n',
            "extensions/px8/chip.py": PX8,
            "extensions/px8/sim.py": "from zapato.parts.expander.quasi import Quasi as Chip\n",
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n[i2c.main]\nsda = 21\nscl = 22\n'
            '[expander.io]\nchip = "px8"\nbus = "main"\n[relay.pump]\npin = "io.3"\nactive = "low"\n[contact.door]\npin = "io.6"\npull = "up"\n'
            '[[link]]\nwhen = "door.opened"\ndo = "pump.on"\n',
            "script.toml": '[rehearsal]\nlasts = "20s"\n[world]\ndoor.closed = true\n'
            + steps("2s? not pump.on", "5s: door.closed = false", "<2s? pump.on"),
        }
    )
    assert zapato.check(path).ok, zapato.check(path).findings
    assert failed(zapato.rehearse(path, path.parent / "script.toml")) == []
    path.write_text(path.read_text() + '[sensor.s]\nchip = "px8"\nbus = "main"\n')
    assert [each.code for each in zapato.check(path).findings if each.severity == "error"] == ["wrong-type"]
