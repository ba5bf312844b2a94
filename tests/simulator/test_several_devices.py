"""Several devices in one virtual time: the same seed gives the same trace, one does to another what it would alone, and one that fails ends nobody else."""

import json

import pytest
from conftest import HEADER, NETWORK

import zapato
from zapato.checks import device_files
from zapato.design.script import read_script
from zapato.simulator.rehearse import default_script
from zapato.simulator.scheduler import Scheduler, TurnClock
from zapato.simulator.site_simulation import SiteSimulation

NAMES = ("boot-dryer", "kettle-plug", "porch-light", "water-tank")


@pytest.fixture
def devices(site):
    designs = [zapato.load(path) for path in device_files(site) if path.stem in NAMES]
    return designs, {each.name: read_script(default_script(each), each) for each in designs}


def traces(together: SiteSimulation) -> list:
    return [together.trace.rows, *(each.trace.rows for each in together.members.values())]


@pytest.mark.slow
def test_the_same_seed_gives_the_same_trace(devices):
    made = []
    for _ in range(2):
        made.append(SiteSimulation(*devices, seed=7))
        plug = made[-1].members["kettle-plug"]
        for at in range(20_000, 60_000, 3000):  # contacts bounce as the seed has it
            plug.board.clock.at(at, lambda runner=plug.runner: runner.gesture("top.press"))
        made[-1].run(180_000)
    assert traces(made[0]) == traces(made[1])
    said = {row["name"] for row in made[0].trace.rows if row["what"] == "mqtt"}
    assert {f"refuge/{name}/state" for name in NAMES} <= said and "refuge/water-tank/mains/voltage" in said
    for each in (made[0].trace.rows, *(member.trace.rows for member in made[0].members.values())):
        assert [row["t"] for row in each] == sorted(row["t"] for row in each)


def test_a_message_a_cut_and_a_will_reach_whom_they_concern(devices):
    together = SiteSimulation(*devices)
    dryer, plug = together.members["boot-dryer"], together.members["kettle-plug"]
    clock, heard = together.turns.world, []
    together.broker.listeners.append(
        lambda topic, payload: heard.append((together.turns.now, topic, payload))
    )
    clock.at(20_000, lambda: together.broker.message("refuge/boot-dryer/vent/on/set", "true"))
    clock.at(21_000, lambda: dryer.board.clock.at(21_000, lambda: dryer.runner.cut(60_000)))
    clock.at(25_000, lambda: plug.board.clock.at(25_000, lambda: plug.runner.gesture("top.press")))
    shares = []
    together.run(180_000, shares.append)
    assert (
        not [each.crash for each in together.members.values() if each.crash]
        and shares[0] == 0
        and max(shares) <= 1
    )
    pins = [(r["t"], r["name"], r["value"]) for r in plug.trace.rows if r["what"] == "pin"]
    assert [t for t, _, value in pins if 25_000 <= t < 25_400], pins
    offline = [
        t for t, topic, payload in heard if topic == "refuge/boot-dryer/state" and payload == b"offline"
    ]
    assert len(offline) == 1 and 21_000 < offline[0] < 81_000 + 120_000
    assert [row["value"] for row in dryer.trace.rows if row["what"] == "power" and row["name"] == "on"] == [
        True,
        False,
        True,
    ]
    assert not [row for row in plug.trace.rows if row["what"] == "power" and row["value"] is False]


def test_alone_it_does_what_it_does_in_a_rehearsal(put):
    body = '[relay.lamp]\npin = 26\n[flag.f]\n[[link]]\nwhen = "f.on"\nafter = "2s"\ndo = "lamp.toggle"\n[[link]]\nevery = "7s"\ndo = "f.on = not f.on"\n'
    files = {
        "device.toml": HEADER.format(board="esp32-38pin") + body,
        "site.toml": NETWORK.format(qos=1),
        "script.toml": '[rehearsal]\nlasts = "1min"\n',
    }
    design = zapato.load(put(files))
    script = design.document.source.path.parent / "script.toml"
    alone = zapato.rehearse(design, script)
    together = SiteSimulation([design], {"bench": read_script(script, design)})
    together.run(60_000)
    mine = [row for row in together.members["bench"].trace.rows if row["what"] == "pin"]
    assert mine == [row for row in alone.records if row["what"] == "pin"] and len(mine) > 4
    assert [r["name"] for r in together.trace.rows if r["what"] == "mqtt"] == [
        r["name"] for r in alone.records if r["what"] == "mqtt"
    ]


def test_what_goes_wrong_in_the_world_is_raised(devices):
    together = SiteSimulation(*devices)

    def wrong() -> None:
        raise ValueError("the world is wrong")

    together.turns.world.at(5000, wrong)
    with pytest.raises(ValueError, match="the world is wrong"):
        together.run(60_000)
    together = SiteSimulation(*devices)
    member = together.members["porch-light"]
    member.board.clock.at(5000, wrong)
    with pytest.raises(ValueError, match="the world is wrong"):
        together.run(60_000)


def test_the_earliest_goes_first_and_of_two_the_first():
    turns, seen = Scheduler(), []
    clocks = [TurnClock(turns) for _ in range(3)]

    def work(number: int):
        def run() -> None:
            clock = clocks[number]
            for step in (30, 10, 50, 10):
                clock.go(clock.now + step * (number + 1))
                seen.append((clock.now, number, turns.now))

        return run

    turns.world.at(45, lambda: seen.append((45, -1, turns.now)))
    clocks[2].at(33, lambda: clocks[0].after(1, lambda: seen.append((34, "told", turns.now))))
    turns.run([work(0), work(1), work(2)])
    assert all(at == now for at, _, now in seen) and [at for at, _, _ in seen] == sorted(
        at for at, _, _ in seen
    )
    assert json.dumps(seen) == json.dumps(
        [
            (30, 0, 30),
            (34, "told", 34),
            (40, 0, 40),
            (45, -1, 45),
            (60, 1, 60),
            (80, 1, 80),
            (90, 0, 90),
            (90, 2, 90),
            (100, 0, 100),
            (120, 2, 120),
            (180, 1, 180),
            (200, 1, 200),
            (270, 2, 270),
            (300, 2, 300),
        ]
    )
