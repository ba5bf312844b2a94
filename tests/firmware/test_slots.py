"""What stands in the files of the flash, and which program starts: the way up against every state it may meet."""

import json
import re
from pathlib import Path

import pytest
from conftest import HEADER
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from support.over_air import KEY, SITE, Place, broken, designs, imaged, packed, tree

import zapato
from zapato.deliver.offer import UpdateOffer
from zapato.firmware.compile import compile_all
from zapato.firmware.layout import FOLDERS, delivered
from zapato.firmware.package import canonical, manifest
from zapato.firmware.plan import make_minimal_plan
from zapato.firmware.plan import settings as settings_of
from zapato.firmware.program import compile_device
from zapato.simulator.files import Flash
from zapato.simulator.little import Blocks, LittleFlash
from zapato.simulator.scenario import PowerCut

OLD, NEW, MINIMAL = "bench 1.0.0", "bench 1.1.0", "bench 0"


@pytest.fixture(scope="module")
def both(tmp_path_factory):
    """Files of a flash whose slots hold one version each."""
    folder = tmp_path_factory.mktemp("slots")

    def put(files):
        for name, text in files.items():
            (folder / name).write_text(text)
        return folder / "device.toml"

    old, new = designs(put)
    files = delivered(old, compile_device(old), settings_of(old, KEY))
    program = compile_device(new).files
    files |= {f"b/{path}": data for path, data in program.items()}
    return old, files | {"b/manifest.json": canonical(manifest("bench", "1.1.0", ">=1.25,<2", program))}


def started(design, files: dict[str, bytes | None], seconds: float = 8, **changes: bytes | None) -> Place:
    """Boot from these files, some of them others or (None) not there."""
    flash = Flash()
    flash.files = {name: data for name, data in (files | changes).items() if data is not None}
    flash.folders = set(FOLDERS)
    place = Place(design, flash, seconds=seconds)
    place.flash = flash
    assert place.run() is None, place.log
    return place


def trial(slot: str, left: int) -> bytes:
    return json.dumps({"trial": slot, "left": left}).encode()


STATES = {
    "as delivered": ({}, OLD),
    "the other slot is good": ({"b.runs": b""}, NEW),
    "on trial": ({"slots.json": trial("b", 2)}, NEW),
    "on trial from the other side": ({"b.runs": b"", "slots.json": trial("a", 1)}, OLD),
    "its starts are used up": ({"slots.json": trial("b", 0)}, OLD),
    "its starts are used up, and it asked for something": ({"slots.json": trial("b", 0), "ask.json": b"{}"}, OLD),
    "negative starts": ({"slots.json": trial("b", -7)}, OLD),
    "on trial, and already good": ({"b.runs": b"", "slots.json": trial("b", 2)}, NEW),
    "on trial without a manifest": ({"slots.json": trial("b", 2), "b/manifest.json": None}, OLD),
    "a trial of nothing": ({"slots.json": trial("c", 2)}, OLD),
    "slots that are no JSON": ({"slots.json": b"{"}, OLD),
    "slots that are a list": ({"slots.json": b"[1]"}, OLD),
    "slots of other types": ({"slots.json": b'{"trial": ["b"], "left": "2"}'}, OLD),
    "the good slot is not whole": ({"a/manifest.json": None}, OLD),
    "the good one is not whole, the other is": ({"b.runs": b"", "b/manifest.json": None, "fault.json": b"{}"}, OLD),
    "asked for an update": ({"ask.json": b'{"update": "1.1.0"}'}, MINIMAL),
    "asked for nothing known": ({"ask.json": b'{"dance": 1}'}, MINIMAL),
    "an empty request": ({"ask.json": b""}, MINIMAL),
    "two faults": ({"fault.json": b'{"count": 2, "last": ["x"]}'}, OLD),
    "three faults": ({"fault.json": b'{"count": 3, "last": ["x"]}'}, MINIMAL),
    "faults that are no number": ({"fault.json": b'{"count": "many", "last": 7}'}, OLD),
    "a fault on trial": ({"slots.json": trial("b", 1), "fault.json": b'{"count": 9}'}, NEW),
    "no minimal program": ({"ask.json": b"{}", "a/safe/start.mpy": None}, OLD),
    "rests of a write": ({"slots.json.new": b"{", "kept.json.new": b"", "b/part": b"x", "b/head": b"", "b/begun": b"["}, OLD),
    "files of somebody else": ({"boot.py": b"print('hello')", "notes.txt": b"\xff" * 999}, OLD),
    "kept values that are none": ({"kept.json": b"nonsense"}, OLD),
}  # fmt: skip


@pytest.mark.parametrize("state", STATES)
def test_which_program_starts(both, state):
    design, files = both
    changes, first = STATES[state]
    place = started(design, files, **changes)
    assert place.log[0] == first, place.log
    assert "broker reached" in place.log


@settings(max_examples=25, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.dictionaries(
        st.sampled_from(["slots.json", "fault.json", "ask.json", "kept.json", "b.runs"]),
        st.binary(max_size=60),
        min_size=1,
    )
)
@example(
    {"slots.json": b'{"trial": {"a": []}, "left": 1e99}', "fault.json": b'{"count": 1e99, "last": [[]]}'}
)
@example({"ask.json": b"null", "fault.json": b'{"back": {}}'})
def test_whatever_these_files_hold_something_starts(both, found):
    design, files = both
    place = started(design, files, **found)
    assert place.log[0] in (OLD, NEW, MINIMAL) and "broker reached" in place.log
    assert not any(r["name"] == "reset" for r in place.trace.rows)


@pytest.mark.parametrize(
    "left",
    [b"", b"{", b"[1]", b"{}", b'{"wifi": {}}', None],
    ids=["empty", "torn", "a list", "nothing", "no name", "gone"],
)
def test_without_settings_it_opens_its_access_point_and_does_no_harm(both, left):
    design, files = both
    place = started(design, files, 30, **{"settings.json": left})
    assert place.board.station.access == ("bench", "")
    assert len([r for r in place.trace.rows if r["name"] == "reset"]) == 1
    assert not any(r["what"] == "pin" and r["value"] == 1 for r in place.trace.rows)


def test_the_last_three_faults_are_kept_with_their_places(both, tmp_path):
    design, files = both
    bad = compile_all({"plan": "def a():\n    return 1 / 0\n\n\na()"}, tmp_path)["plan"]
    place = started(design, files, 60, **{"a/plan.mpy": bad})
    kept = json.loads(place.flash.files["fault.json"])
    assert kept["count"] == 3 and len(kept["last"]) == 3
    assert all(
        each.startswith("ZeroDivisionError: divide by zero, at ") and len(each) <= 240
        for each in kept["last"]
    )
    last = kept["last"][-1].partition(", at ")[2].split("; ")
    assert len(last) == 2 and all(re.fullmatch(r'"\w+\.py", line \d+, in \S+', row) for row in last)
    assert last[1].endswith("in a") and last[0].endswith("in <module>")
    assert any("minimal program runs" in note for note in place.notes)


def test_after_ten_minutes_the_minimal_program_lets_the_other_try_again(both):
    """What failed three times, and would run now: a chip on the bus that came back, say."""
    design, files = both
    place = started(design, files, 640, **{"fault.json": b'{"count": 3, "last": ["a", "b", "c"]}'})
    names = [text for text in place.log if text.startswith("bench ")]
    assert names == [MINIMAL, OLD] and "fault.json" not in place.flash.files


def test_faults_are_forgotten_after_ten_calm_minutes(both):
    design, files = both
    place = started(design, files, 620, **{"fault.json": b'{"count": 1, "last": ["OSError: 5, at plan"]}'})
    assert "fault.json" not in place.flash.files
    assert any("started again after a fault: OSError: 5, at plan" in note for note in place.notes)


def two(put, lamp: str) -> list[zapato.Design]:
    """A lamp and a status LED in two versions, of which a link of a flag differs."""
    body = f'[relay.lamp]\npin = 26\n{lamp}[led.state]\npin = 2\nshows = "status"\n[flag.f]\n[[link]]\nwhen = "f.on"\nafter = "{{after}}"\ndo = "f.off"\n'
    made = []
    for version, after in (("1.0.0", "10s"), ("1.1.0", "20s")):
        head = HEADER.format(board="esp32-38pin").replace("[device]\n", f'[device]\nversion = "{version}"\n')
        made.append(zapato.load(put({"site.toml": SITE, "device.toml": head + body.format(after=after)})))
    return made


def test_values_kept_through_a_power_cut_are_kept_through_an_update(put, tmp_path):
    old, new = two(put, 'start = "last"\n')
    place = Place(old)
    place.clock.at(15_000, lambda: place.broker.message("refuge/bench/lamp/on/set", "true"))
    place.serve(UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path)))
    place.run()
    assert place.versions[-1] == "1.1.0"
    levels = [r["value"] for r in place.trace.rows if r["what"] == "pin" and r["name"] == "GPIO26"]
    said = [p for t, p in place.heard if t.endswith("lamp/on")]
    assert levels[-1] == 1 and 0 in levels[1:] and said[-1] == b"true"


def test_outputs_are_safe_and_the_status_led_tells_while_an_update_comes(put, tmp_path):
    """A relay that was on is at its level of power-up from the restart on; the LED blinks as explain tells."""
    made = two(put, "")
    plan = make_minimal_plan(made[0])
    assert (
        "led" in plan.modules
        and "relay" not in plan.modules
        and "(26, 0)" in plan.levels
        and "p_state" in plan.plans["plan"]
    )
    place = Place(made[0], seconds=100)
    place.clock.at(20_000, lambda: place.broker.message("refuge/bench/lamp/on/set", "true"))
    offer = UpdateOffer(made[0].topic, bytes.fromhex(KEY), packed(made[1], tmp_path))
    place.clock.at(30_000, lambda: place.offer(offer, "1.0.0"))
    place.run()  # nobody answers what it asks for
    levels = [(r["t"], r["value"]) for r in place.trace.rows if r["what"] == "pin" and r["name"] == "GPIO26"]
    reset = next(r["t"] for r in place.trace.rows if r["name"] == "reset")
    assert levels[-1][1] == 0 and reset <= levels[-1][0] < reset + 1000
    blinks = [
        r["t"]
        for r in place.trace.rows
        if r["what"] == "pin" and r["name"] == "GPIO2" and r["t"] > reset + 10_000
    ]
    gaps = {blinks[n + 1] - blinks[n] for n in range(len(blinks) - 1)}
    assert {round(gap / 50) for gap in gaps} <= {1, 9} and len(blinks) > 50


@pytest.mark.parametrize(
    ("away", "back"), [("broker", "broker"), ("wifi", "wifi"), ("power", "")], ids=["broker", "wifi", "power"]
)
def test_an_update_goes_on_where_it_broke_off(put, tmp_path, away, back):
    """Cut in the middle of a file; what had come is not sent again."""
    old, new = designs(put, "esp32-38pin")
    place = Place(old, seconds=400)
    filler = "x = '" + "".join(chr(97 + n * n * 7 % 26) for n in range(9000)) + "'\n"
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), broken(new, tmp_path, "extra", filler))
    begun = []

    def hear(topic: str, payload: bytes) -> None:
        if topic.endswith("/vitals") and json.loads(payload)["version"] == "1.0.0" and not begun:
            begun.append(1)
            place.offer(offer, "1.0.0")
        if topic.endswith("/update/want"):
            where, data = offer.answer(payload)
            place.broker.message(where, data)
            if b"extra.mpy 4" in data[:14] and len(begun) == 1:
                begun.append(2)
                cut()

    def cut() -> None:
        if away == "broker":
            place.broker.set(False)
            place.clock.after(20_000, lambda: place.broker.set(True))
        elif away == "wifi":
            place.air.set(False)
            place.clock.after(20_000, lambda: place.air.set(True))
        else:
            from zapato.simulator.scenario import PowerCut

            place.board.flash.before_write = once

            def never(name):
                return None

            def stop(name):
                place.board.flash.before_write = never
                raise PowerCut(2000)

            place.board.flash.before_write = stop

    def once(name):
        return None

    place.broker.listeners.append(hear)
    assert place.run() is None
    assert len(begun) == 2 and place.versions[-1] == "1.1.0", place.log
    assert offer.sent["extra.mpy"] < 9000 + 4 * 600


def test_a_cut_at_every_step_of_keeping_a_value_leaves_one_that_was(put, tmp_path):
    """Each write and erase of LittleFS torn in its middle, while a relay is switched again and again: what is kept is whole."""
    old, _ = designs(put)
    flash = imaged(old)
    image = bytes(flash.blocks.buffer)
    place = Place(old, flash, seconds=200)
    for second in range(20, 190, 12):
        word = "true" if second // 12 % 2 else "false"
        place.clock.at(
            second * 1000, lambda word=word: place.broker.message("refuge/bench/lamp/on/set", word)
        )
    assert place.run() is None
    memory, seen = Blocks(image), {}
    for at, data, erase in flash.blocks.journal:
        torn = Blocks(bytes(memory.buffer))
        torn.apply(at, data[: len(data) // 2], erase)
        memory.apply(at, data, erase)
        left = LittleFlash(old.board.chip, bytes(torn.buffer), lambda: PowerCut(500))
        kept = tree(left).get("kept.json")
        assert kept is None or json.loads(kept) in ({"lamp": True}, {"lamp": False})
        seen.setdefault(frozenset(tree(left).items()), (kept, left))
    assert len(flash.blocks.journal) > 20 and len(seen) >= 3
    for kept, left in seen.values():
        again = Place(old, left, seconds=12)
        assert again.run() is None and "broker reached" in again.log
        lit = [r["value"] for r in again.trace.rows if r["what"] == "pin" and r["name"] == "GPIO14"]
        assert lit[-1] == (1 if kept and b"true" in kept else 0)


WAYS = {
    "plain": "",
    "broker by its name": 'host = "broker.refuge.example"\n',
    "TLS": 'host = "broker.refuge.example"\ntls = true\nauthority = "ca.pem"\n',
    "SenML, seldom": 'report = "senml"\napart = "10s"\n',
}
PARTS = '[led.l]\npin = 2\nshows = "status"\n[relay.r]\npin = 14\n[[link]]\nat = "sunset"\ndo = ["r.on", "notify(\'{r.on}\')"]\n[flag.f]\n'


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin", "esp32-poe", "rp2040w-40pin"])
@pytest.mark.parametrize("way", WAYS)
def test_both_programs_import_what_is_there(way, board, put, monkeypatch):
    """Whatever a module of the program, or of the minimal one, takes from another one is given there."""
    import ast

    from zapato.firmware import program

    host = "" if "host" in WAYS[way] else 'host = "192.168.4.2"\n'
    network = "[ethernet]\n" if board == "esp32-poe" else '[wifi]\nname = "hall"\n'
    zone = '[time]\nzone = "Europe/Zurich"\nlatitude = 46.5\nlongitude = 8.0\n'
    head = (
        f'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n{network}[mqtt]\n{host}{WAYS[way]}{zone}'
    )
    authority = (Path(__file__).parents[1] / "data" / "tls" / "ca.pem").read_text()
    design = zapato.load(
        put(
            {
                "ca.pem": authority,
                "device.toml": head + PARTS.replace("14", '"D5"' if "8266" in board else "14"),
            }
        )
    )
    made: list[dict[str, str]] = []
    compiled = program.compile_sets
    monkeypatch.setattr(
        program,
        "compile_sets",
        lambda sets, *more, **names: made.extend(sets) or compiled(sets, *more, **names),
    )
    program.compile_device(design)
    assert len(made) == 2
    for texts in made:
        given = {
            name: {
                each.id if isinstance(each, ast.Name) else each.name
                for node in ast.parse(text).body
                for each in ast.walk(node)
                if isinstance(each, (ast.FunctionDef, ast.ClassDef))
                or (isinstance(each, ast.Name) and isinstance(each.ctx, ast.Store))
            }
            for name, text in texts.items()
        }
        for name, text in texts.items():
            for node in ast.walk(ast.parse(text)):
                if isinstance(node, ast.ImportFrom) and node.module in texts:
                    assert {each.name for each in node.names} <= given[node.module], (name, ast.unparse(node))
