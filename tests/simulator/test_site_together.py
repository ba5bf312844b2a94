"""Devices that hear of each other, and a site rehearsed as one."""

import json
import re
from pathlib import Path
from types import SimpleNamespace

import pytest
from conftest import failed, steps

import zapato
from zapato.checks import device_files
from zapato.design.site_script import SiteScriptScope
from zapato.lang.expressions import NotThere

PAGE = (Path(__file__).parents[2] / "docs" / "sites.md").read_text("utf-8")
FILES = {text[2 : text.index("\n")]: text for text in re.findall(r"```toml\n(.*?)```", PAGE, re.DOTALL)}


@pytest.fixture
def lodge(put):
    """The site of the page; `more` adds to its files or changes them."""

    def made(more: dict[str, str] | None = None, **behind: str) -> Path:
        text = {**FILES, **(more or {})}
        for name, added in behind.items():
            text[f"devices/{name}.toml"] += added
        return put({name: text[name] for name in text if not name.startswith(">")}).parent

    return made


def site_of(root: Path) -> list[zapato.Design]:
    return [zapato.load(path) for path in device_files(root)]


def root(path: Path) -> Path:
    return path if (path / "site.toml").exists() else path.parent


def test_what_the_page_shows_checks_clean_and_does_what_it_says(lodge):
    home = root(lodge())
    assert not [f.message for f in zapato.check(home).findings]
    alone = zapato.rehearse(home / "devices" / "fan.toml")
    assert not failed(alone) and not alone.faults, alone.faults
    result = zapato.rehearse_site(site_of(home))
    assert result.passed, failed(result)
    assert set(result.devices) == {"fan", "hall"} and ("hall", "power") in {
        each[:2] for each in result.outages
    }
    assert {"hall", "fan", ""} == set(result.frame.device)
    assert not [each.faults for each in result.devices.values() if each.faults]
    again = zapato.rehearse_site(site_of(home))
    assert again.records == result.records  # the same seed, the same trace


WRONG = {
    "hal.door.closed": ("link-unknown", 'did you mean "hall"'),
    "hall.dor.closed": ("link-unknown", 'did you mean "door"'),
    "hall.door.closd": ("link-unknown", "closed"),
    "hall.bell.pressedd": ("link-unknown", "pressed"),
    "hall.air.temperature": ("link-type", "compare it"),
    "hall.air.temperature > 'warm'": ("link-type", ""),
    "hall.air.temperature > hall.air.humidity": ("link-type", ""),
    "hall.bell.lasted > 2": ("link-unheard", ""),
    "fan.blower.on": ("link-type", "alone: blower"),
    "known(hall.door.opened)": ("link-unknown", ""),
}


@pytest.mark.parametrize("when", WRONG)
def test_what_is_not_there_is_told_at_its_place(lodge, when):
    code, words = WRONG[when]
    home = root(lodge(fan=f'\n[[link]]\nwhen = "{when}"\ndo = "blower.off"\n'))
    found = [f for f in zapato.check(home / "devices" / "fan.toml").findings if f.severity == "error"]
    assert [f.code for f in found] == [code], found
    assert words in " ".join((found[0].message, *found[0].fixes))
    assert found[0].place.line == FILES["devices/fan.toml"].count("\n") + 3


def test_what_no_message_can_bring(lodge, tmp_path):
    own = '\n[mqtt]\nhost = "192.168.9.9"\n'
    away = root(lodge(hall=own))
    assert {f.code for f in zapato.check(away / "devices" / "fan.toml").findings} == {"link-unheard"}
    without = root(lodge({"site.toml": '[site]\nname = "lodge"\n[wifi]\nname = "x"\n'}))
    assert "link-unheard" in {f.code for f in zapato.check(without / "devices" / "fan.toml").findings}
    act = root(lodge(fan='\n[[link]]\nwhen = "hall.door.closed"\ndo = "hall.light.off"\n'))
    assert "own device" in zapato.check(act / "devices" / "fan.toml").findings[0].message
    alone = tmp_path / "elsewhere" / "deep" / "down"
    alone.mkdir(parents=True)
    (alone / "fan.toml").write_text(FILES["devices/fan.toml"])
    (tmp_path / "site.toml").unlink()
    message = next(f.message for f in zapato.check(alone / "fan.toml").findings if f.code == "link-unheard")
    assert "belongs to none" in message


def test_links_that_set_each_other_off_across_devices(lodge):
    fan = '\n[[link]]\nwhen = "hall.light.on"\ndo = "blower.on"\n[[link]]\nwhen = "not hall.light.on"\ndo = "blower.off"\n'
    hall = '\n[[link]]\nwhen = "fan.blower.on"\n{}do = "light.off"\n[[link]]\nwhen = "not fan.blower.on"\ndo = "light.on"\n'
    found = [
        f for f in zapato.check(root(lodge(fan=fan, hall=hall.format("")))).findings if f.severity != "note"
    ]
    assert [f.code for f in found] == ["link-loop"] and "hall line" in found[0].message
    calm = root(lodge(fan=fan, hall=hall.format('held = "1s"\n')))
    assert not [f for f in zapato.check(calm).findings if f.code == "link-loop"]
    follows = '\n[[link]]\nwhen = "fan.blower.on"\ndo = "light.on"\n[[link]]\nwhen = "not fan.blower.on"\ndo = "light.off"\n'
    same = root(lodge(fan=fan, hall=follows))
    assert not [f for f in zapato.check(same).findings if f.code == "link-loop"]


SILENCE = """
[rehearsal]
lasts = "6min"
[world]
hall.door.closed  = false
hall.light.on     = true
hall.air.humidity = 50
"""


def rehearsed(home: Path, *rows: str):
    script = home / "quiet.toml"
    script.write_text(SILENCE + steps(*rows))
    return zapato.rehearse(home / "devices" / "fan.toml", script)


def test_a_minute_without_the_broker_and_nothing_is_known(lodge):
    home = root(lodge())
    result = rehearsed(
        home, "5s? lamp.on", "20s: wifi.down", "=55s? lamp.on", "<20s? not lamp.on", "+5s: wifi.up", "<30s? lamp.on",
        "3min: broker.down", "+30s: broker.up", "=20s? lamp.on", "+1s: hall.offline", "<1s? not lamp.on", "+5s: hall.online", "=10s? not lamp.on",
    )  # fmt: skip
    assert not failed(result), failed(result)


def test_what_comes_over_the_air_is_looked_at(lodge):
    """Whatever anybody publishes on the other's topics: wrong types, no JSON, endless, retained events, odd topics."""
    home = root(lodge())
    odd = ["true", "{", "", "1e999", "[]", "[1]", "[{}]", "null", "x" * 300, "y" * 900, "{1:1}"]
    rows = [f"{10 + n}s: message('lodge/hall/air/humidity', {text!r})" for n, text in enumerate(odd)]
    rows += [
        "30s: retained('lodge/hall/bell/pressed', '{}')", "31s: message('lodge/hall/state', 'odd')", "32s: hall.online",
        "33s: hall.air.humidity = 80", "34s: hall.door.closed = true", "<1s? blower.on",
        "60s: power.cut", "90s? not blower.on or blower.on", "100s: message('lodge/hall/air/humidity/deep', '99')",
        "110s: hall.bell.pressed", "<1s? not blower.on",
    ]  # fmt: skip
    result = rehearsed(home, *rows)
    assert not failed(result), failed(result)
    assert result.crash is None and len(result.faults) <= 12, result.faults


def test_a_power_up_acts_on_what_holds_and_not_on_an_event_from_before(lodge):
    more = '\n[flag.rang]\n[[link]]\nwhen = "hall.bell.pressed"\ndo = "rang.on = true"\n'
    home = root(lodge(fan=more))
    result = rehearsed(
        home, "5s: retained('lodge/hall/bell/pressed', '{}')", "<1s? rang.on", "10s: power.cut",
        "+20s? not rang.on and lamp.on", "40s: hall.door.closed = true", "41s: hall.air.humidity = 70", "<1s? blower.on",
    )  # fmt: skip
    assert not failed(result), failed(result)


def test_a_pack_and_a_topic_of_its_own_are_heard(lodge):
    own = '\n[mqtt]\nhost = "192.168.4.2"\nreport = "senml"\ntopic = "wing/east/hall"\n'
    site = FILES["rehearsals/site.toml"].replace(
        "published('hall/door/closed', 'false')", "not hall.door.closed"
    )
    home = root(lodge({"rehearsals/site.toml": site}, hall=own))
    result = zapato.rehearse_site(site_of(home))
    assert result.passed, failed(result)
    heard = [each for each in _topics(home) if each.of == "heard"]
    assert {"wing/east/hall/door/closed", "wing/east/hall/state", "wing/east/hall/bell/pressed"} <= {
        t.name for t in heard
    }


def _topics(home: Path):
    from zapato.topics import topics

    return topics(zapato.load(home / "devices" / "fan.toml"))


def test_a_model_goes_across_devices_and_a_cut_takes_what_it_takes(lodge):
    site = """
[rehearsal]
lasts = "20min"
[world]
hall.door.closed = true
hall.air.temperature = 20
[model.steam]
drives   = "hall.air.humidity"
like     = "room"
start    = 40
outside  = 80
constant = "3min"
by       = { "fan.blower.on" = -50 }
""" + steps("1min? hall.air.humidity < 60", "<8min? fan.blower.on", "<10min? hall.air.humidity < 60")
    home = root(lodge({"rehearsals/site.toml": site}))
    result = zapato.rehearse_site(site_of(home))
    assert result.passed, failed(result)
    values = [float(r["value"]) for r in result.records if str(r["name"]).endswith("air/humidity")]
    assert max(values) > 65 > 60 > values[-1]


MISTAKES = {
    'act = "hal.bell.press"': "hall",
    'act = "hall.bell.pres"': "press",
    'act = "hall.broker.down"': "broker.down",
    'act = "bell.press"': "device.part",
    'act = "hall.light.on = true"': "message('hall/light/on/set'",
    'expect = "light.on"': "hall.light.on",
    'expect = "hall.light.one"': "on",
    'expect = "cellar.light.on"': "devices: fan, hall",
    'act = "hall.air.humidity = 400"': "0 to 100",
}


@pytest.mark.parametrize("line", MISTAKES)
def test_a_mistake_in_a_site_rehearsal_is_told_by_check(lodge, line):
    site = f'[rehearsal]\nlasts = "1min"\n[[step]]\nat = "1s"\n{line}\n'
    home = root(lodge({"rehearsals/site.toml": site}))
    found = [f for f in zapato.check(home).findings if f.severity == "error"]
    assert (
        len(found) == 1 and found[0].place.file.endswith("rehearsals/site.toml") and found[0].place.line == 5
    )
    assert MISTAKES[line] in " ".join((found[0].message, *found[0].fixes)), found
    with pytest.raises(zapato.ZapatoError, match="cannot be rehearsed"):
        zapato.rehearse_site(site_of(home))


def test_what_moves_is_seen_where_it_is(lodge):
    """However long ago the device's own program last ran."""
    blind = '\n[blind.gate]\nopen = 12\nclose = 13\ntravel = "50s"\n[[link]]\nwhen = "bell.pressed"\ndo = "gate.open"\n'
    rows = ["20s: hall.gate.position = 0", "21s: hall.bell.press"]
    rows += [
        f"{21_050 + ms}ms? abs(hall.gate.position - {ms / 500}) < 0.5"
        for ms in (7_310, 13_770, 22_490, 31_930)
    ]
    site = '[rehearsal]\nlasts = "70s"\n' + steps(*rows)
    result = zapato.rehearse_site(site_of(root(lodge({"rehearsals/site.toml": site}, hall=blind))))
    assert not failed(result), failed(result)


def test_who_takes_part(lodge):
    """Those that the file names, and those they listen to; a cut of one ends nobody else's program."""
    site = '[rehearsal]\nlasts = "40s"\n[[step]]\nat = "20s"\nact = "fan.power.cut"\n'
    more = {
        "devices/far.toml": FILES["devices/hall.toml"].replace('"hall"', '"far"'),
        "rehearsals/site.toml": site,
    }
    result = zapato.rehearse_site(site_of(root(lodge(more))))
    assert set(result.devices) == {"fan", "hall"} and not [
        each.restarts for each in result.devices.values() if each.restarts
    ]
    assert [each[:2] for each in result.outages] == [("fan", "power")]
    assert result.as_dict()["devices"].keys() == {"fan", "hall"}


def test_one_that_is_named_takes_part(lodge):
    """A list of devices that leaves one out which the file names is a mistake, not a KeyError in the middle."""
    step = '[[step]]\nat = "1s"\n'
    for line in ('act = "hall.bell.press"', 'expect = "hall.door.closed"', 'act = "hall.wifi.down"'):
        site = f'[rehearsal]\nlasts = "5s"\ndevices = ["fan"]\n{step}{line}\n'
        home = root(lodge({"rehearsals/site.toml": site}))
        found = [f for f in zapato.check(home).findings if f.severity == "error"]
        assert [(f.code, f.place.line) for f in found] == [
            ("link-unknown", 3)
        ] and "hall is in this file" in found[0].message
    alone = root(
        lodge(
            {
                "rehearsals/site.toml": f'[rehearsal]\nlasts = "20s"\ndevices = ["fan"]\n{step}expect = "not fan.lamp.on"\n'
            }
        )
    )
    result = zapato.rehearse_site(site_of(alone))
    assert result.passed and set(result.devices) == {"fan"}


def test_the_world_is_the_site_s_then_the_device_s_own(lodge):
    own = """
[rehearsal]
lasts = "10s"
[world]
door.closed = false
air.temperature = 3
[model.air]
drives = "air.humidity"
like = "tank"
start = 20
by = { "light.on" = 10 }
"""
    rows = ["20s? not hall.door.closed and hall.air.temperature == 25 and hall.air.humidity == 20"]
    rows += [
        "30s: message('hall/light/on/set', 'true')",
        "100s? hall.air.humidity > 28 and hall.air.humidity < 35",
    ]
    site = '[rehearsal]\nlasts = "2min"\n[world]\nhall.air.temperature = 25\n' + steps(*rows)
    result = zapato.rehearse_site(
        site_of(root(lodge({"rehearsals/site.toml": site, "rehearsals/hall.toml": own})))
    )
    assert not failed(result), failed(result)
    driven = site.replace(
        "[world]",
        '[model.mine]\ndrives = "hall.air.humidity"\nlike = "tank"\nstart = 70\nby = { "hall.light.on" = 0 }\n[world]',
    )
    result = zapato.rehearse_site(
        site_of(root(lodge({"rehearsals/site.toml": driven, "rehearsals/hall.toml": own})))
    )
    assert [e.seen["hall.air.humidity"] for e in result.expectations] == [
        70,
        70,
    ]  # the site's own model, not both


def test_what_is_for_one_is_for_one(lodge):
    rows = [
        "15s: fan.wifi.down", "16s: hall.door.closed = false", "=5s? not fan.lamp.on", "+1s: fan.wifi.up", "<30s? fan.lamp.on",
        "70s: hall.names.slow", "71s: broker.closes", "<20s? published('hall/state', 'online') and published('fan/state', 'online')",
        "100s: power.cut", "110s? fan.lamp.on == hall.light.on",
    ]  # fmt: skip
    site = '[rehearsal]\nlasts = "2min"\n[world]\nhall.door.closed = true\n' + steps(
        "10s: message('hall/light/on/set', 'true')", *rows
    )
    result = zapato.rehearse_site(site_of(root(lodge({"rehearsals/site.toml": site}))))
    assert not failed(result), failed(result)
    away = [(who, what) for who, what, _, _ in result.outages]
    assert away == [("fan", "network"), ("fan", "power"), ("hall", "power")]
    dark = [moment.text for moment in result.story if moment.what == "power"]
    assert dark == ["fan, hall: the power is gone", "fan, hall: the power is back"]
    plain = result.as_dict()
    assert plain["outages"][0]["device"] == "fan" and plain["devices"]["hall"]["passed"] and plain["story"]
    json.dumps(plain)


def test_a_program_that_fails_is_told_and_ends_nobody_else(lodge, tmp_path):
    from zapato.draw import site_timeline
    from zapato.firmware.program import compile_device

    designs = site_of(root(lodge()))
    programs = {each.name: compile_device(each) for each in designs}
    del programs["hall"].modules["plan"]  # half a program, as a flash may have it
    result = zapato.rehearse_site(designs, programs=programs)
    assert not result.passed and not result.devices["hall"].passed
    assert result.devices["fan"].passed and result.expectations[0].passed is False
    told = " ".join(each.get_text() for axis in site_timeline(result).axes for each in axis.texts)
    assert "not fan.blower.on and hall.air.humidity > 65; seen: fan.blower.on = False" in told


def test_the_timeline_has_what_the_steps_are_about(lodge):
    from zapato.draw.site_timeline import site_lanes

    own = '\n[mqtt]\nhost = "192.168.4.2"\nreport = "senml"\n'
    result = zapato.rehearse_site(site_of(root(lodge(hall=own))))
    found = {(device, lane.name): lane for device, lane in site_lanes(result)}
    assert {
        ("fan", "blower.on"),
        ("fan", "lamp.on"),
        ("hall", "door.closed"),
        ("hall", "air.humidity"),
        ("hall", "light.on"),
    } == set(found)
    assert [value for _, value in found["hall", "door.closed"].samples][:2] == [
        True,
        False,
    ]  # out of packs, too
    assert found["hall", "air.humidity"].curve and not found["fan", "blower.on"].curve


def test_what_is_heard_is_among_the_topics(lodge, cli, monkeypatch):
    home = root(lodge())
    monkeypatch.chdir(home)
    rows = json.loads(cli("topics", "devices/fan.toml", "--format", "json").out)
    heard = {row["name"]: row for row in rows if row["of"] == "heard"}
    assert set(heard) == {
        f"lodge/hall/{n}" for n in ("state", "door/closed", "light/on", "air/humidity", "bell/pressed")
    }
    assert heard["lodge/hall/air/humidity"]["unit"] == "%RH" and all(
        row["way"] == "to" for row in heard.values()
    )
    about = json.loads(cli("topics", "devices/fan.toml", "--format", "asyncapi").out)
    assert about["operations"]["lodge_hall_door_closed"]["action"] == "receive"
    thing = json.loads(cli("topics", "devices/fan.toml", "--format", "thing").out)
    assert "hall" not in json.dumps(thing)  # they are the other's own
    graph = cli("draw", "devices/fan.toml", "--what", "links", "--out", "links.svg")
    assert graph.code == 0 and "hall.bell" in (home / "links.svg").read_text()


def test_what_it_costs_is_counted(lodge):
    from zapato.budgets.memory import features, memory

    home = root(lodge())
    design = zapato.load(home / "devices" / "fan.toml")
    found = features(design)
    assert found["part RemotePart"] == 4 and found["heard"] == 4 and found["module remote_part"] == 1
    plain = zapato.load(home / "devices" / "hall.toml")
    assert "module remote_part" not in features(plain)
    result = zapato.rehearse(home / "devices" / "fan.toml")
    assert abs(memory(design).heap / result.heap_peak - 1) < 0.1


FAR_ACTS = {
    "hall.door.closed = 3": "is a boolean, not a number",
    "hall.door.closed = maybe": "is a boolean",
    "hall.air.humidity = 300": "is 0 to 100",
    "hall.air.temperature = 3": "nothing here hears hall.air.temperature",
    "hall.cellar.on = true": "hears nothing of hall.cellar",
    "hall.bell.released": "has no event released that fan hears",
}


@pytest.mark.parametrize("act", FAR_ACTS)
def test_what_the_script_says_for_another_is_checked(lodge, act):
    home = root(lodge())
    (home / "rehearsals" / "fan.toml").write_text(
        f'[rehearsal]\nlasts = "5s"\n[[step]]\nat = "1s"\nact = "{act}"\n'
    )
    found = [f for f in zapato.check(home).findings if f.severity == "error"]
    assert len(found) == 1 and FAR_ACTS[act] in found[0].message, found
    world = {"hall.door.closed": "3", "hall.door.open": "true", "hall.attic.on": "true"}
    lines = "".join(f"{key} = {value}\n" for key, value in world.items())
    (home / "rehearsals" / "fan.toml").write_text(f'[rehearsal]\nlasts = "5s"\n[world]\n{lines}')
    found = [(f.code, f.place.line) for f in zapato.check(home).findings if f.severity == "error"]
    assert found == [("link-type", 4), ("link-unknown", 5), ("link-unknown", 6)]
    (home / "rehearsals" / "fan.toml").write_text('[rehearsal]\nlasts = "5s"\n')
    assert any("nothing of hall" in note for note in zapato.rehearse(home / "devices" / "fan.toml").notes)


def test_a_property_without_its_device_is_offered_with_three_at_the_most():
    designs = {name: SimpleNamespace(parts={"lamp": None}) for name in ("a", "b", "c", "d")}
    with pytest.raises(NotThere) as raised:
        SiteScriptScope(designs).read("lamp", "on")
    assert raised.value.fixes == ("a.lamp.on", "b.lamp.on", "c.lamp.on")


def test_on_the_command_line(lodge, cli, tmp_path):
    home = root(lodge())
    ran = cli(
        "rehearse",
        str(home),
        "--together",
        "--plot",
        str(tmp_path / "e.png"),
        "--trace",
        str(tmp_path / "e.csv"),
    )
    assert ran.code == 0 and "lodge, 2 devices together" in ran.out
    assert (tmp_path / "e.png").stat().st_size > 10_000 and "hall" in (tmp_path / "e.csv").read_text()
    (home / "rehearsals" / "hall.toml").write_text('[rehearsal]\nlasts = "10s"\n')
    ran = cli("rehearse", str(home), "--format", "json")
    assert [each.get("device") or each["site"] for each in json.loads(ran.out)] == ["fan", "hall", "lodge"]
    text = (home / "rehearsals" / "site.toml").read_text()
    (home / "rehearsals" / "site.toml").write_text(
        text.replace("fan.blower.on and hall", "not fan.blower.on and hall")
    )
    ran = cli("rehearse", str(home), "--brief")
    assert ran.code == 1 and "failed lodge" in ran.out and "site.toml" in ran.out
    (home / "devices" / "fan.toml").write_text(FILES["devices/fan.toml"].replace("hall.bell", "hall.bel"))
    ran = cli("rehearse", str(home), "--format", "json")
    assert ran.code == 1 and [each["device"] for each in json.loads(ran.out)] == ["hall"] and "fan" in ran.err
    assert cli("rehearse", str(home), "--together").code == 1
    (home / "devices" / "fan.toml").write_text(FILES["devices/fan.toml"])
    for words in (("--together", "--live"), ("--plot", "x.png")):
        assert cli("rehearse", str(home), *words).code == 2
    assert cli("rehearse", str(home / "devices" / "fan.toml"), "--together").code == 2
