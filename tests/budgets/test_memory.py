"""Memory: what `check` says without running is what the VM then shows; a small chip lives for a week."""

import re
import sys
from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

import zapato
from zapato import extensions
from zapato.budgets.memory import costs, features, memory, owners, shares
from zapato.firmware.program import ALONE

sys.path.insert(0, str(Path(__file__).parents[2] / "tools"))

import costs as tool

DEMO = ("boot-dryer", "kettle-plug", "porch-light")


def test_what_owners_take_is_together_what_the_device_takes(site):
    """Counted in one go for a check, and by owner for `budget`."""
    for path in sorted((site / "devices").glob("*.toml")):
        design = zapato.load(path)
        by_owner = sum(owners(design).values(), Counter())
        assert by_owner == +features(design), path.name
        together = sum(size for _, _, size in shares(design))
        assert abs(together - memory(design).heap) <= len(shares(design)), path.name


@pytest.mark.slow(30)
def test_the_table_holds_for_devices_made_at_random():
    rows = tool.sample(4711, 12, workers=1)
    off = tool.errors(rows, costs())
    assert len(rows) >= 12 and max(map(abs, off)) < 0.2, max(off, key=abs)
    assert sum(map(abs, off)) / len(off) < 0.06


@pytest.mark.parametrize("name", DEMO)
@pytest.mark.slow
def test_the_table_holds_for_the_demo(site, name, demo_day):
    design, seen = demo_day(name)
    told = memory(design)
    assert told and abs(told.heap / seen.used.peak - 1) < 0.1
    flash = zapato.build(design, site / "out").size
    assert abs(told.flash / flash - 1) < 0.1


def test_every_piece_of_the_runtime_has_its_figure(site):
    """A kind that is added gets its costs by `tools/costs.py`; here is who was forgotten."""
    ports = ("_esp32", "_esp8266", "_rp2")
    modules = {name for name in extensions.device_files() if not name.endswith(ports)} - {
        *ALONE,
        "main",
        "go",
        "boot_slot",
        "update",
        "pins_offered",
        "flash_text",
    }
    for form in ("short", "whole"):
        assert modules <= {name.removeprefix("module ") for name in costs()[form]["heap"]}


@pytest.mark.parametrize(("links", "severity"), [(51, None), (54, "warning"), (58, "error"), (130, "error")])
def test_a_device_too_big_for_its_chip_is_told_at_the_desk(put, links, severity):
    body = "".join(
        f'[number.n{i}]\nstart = 0\n[[link]]\nwhen = "n{i}.value > {i}"\ndo = "lamp.toggle"\n'
        for i in range(links)
    )
    path = put(
        'zapato = 1\n[device]\nname = "bench"\nboard = "esp8266-30pin"\n[relay.lamp]\npin = 14\n' + body
    )
    found = [f for f in zapato.check(path) if f.code == "memory-heap"]
    assert [f.severity for f in found] == ([severity] if severity else [])
    script = path.parent / "s.toml"
    script.write_text('[rehearsal]\nlasts = "1min"\n')
    if severity == "error":
        assert "links" in found[0].why
    else:
        result = zapato.rehearse(path, script)
        assert result.passed and not result.faults


@pytest.mark.parametrize("name", ["kettle-plug", "porch-light"])
@pytest.mark.slow
def test_a_day_on_the_smallest_chip(site, tmp_path, name, demo_day):
    """A quarter of the heap stays free, in pieces of 1.5 KiB and more, and nothing grows in six hours (a day of every device: benchmarks/days.py)."""
    script = (site / "rehearsals" / f"{name}.toml").read_text()
    (tmp_path / "day.toml").write_text(re.sub(r'lasts = "[^"]+"', 'lasts = "6h"', script))
    result = zapato.rehearse(site / "devices" / f"{name}.toml", tmp_path / "day.toml")
    assert result.passed and result.lasts == 21600
    assert result.used.peak <= 0.75 * result.heap and result.used.largest >= 1536
    _, first = demo_day(name)
    assert result.used.peak <= first.used.peak + 512


def test_a_rehearsal_without_room_for_an_order_fails(demo_day):
    """Where no piece of 512 B is left an update can no longer be asked for."""
    _, day = demo_day("porch-light")
    for largest, passes in ((511, False), (512, True)):
        assert replace(day, used=replace(day.used, largest=largest)).passed is passes
    tight = replace(day, used=replace(day.used, largest=400))
    assert replace(tight, live=True).passed and replace(tight, records=()).starved is False


def test_a_device_that_does_not_fit_says_so_and_waits_before_each_new_try(put, monkeypatch):
    """Out of memory while loading: what keeps the fault finds room, outputs are safe, pauses grow, the world goes on."""
    body = "".join(
        f'[number.n{i}]\nstart = 0\n[[link]]\nwhen = "n{i}.value > {i}"\ndo = "lamp.toggle"\n'
        for i in range(90)
    )
    path = put(
        'zapato = 1\n[device]\nname = "bench"\nboard = "esp8266-30pin"\n[relay.lamp]\npin = 14\n' + body
    )
    script = path.parent / "s.toml"
    script.write_text('[rehearsal]\nlasts = "1min"\n')
    monkeypatch.setattr(
        sys.modules["zapato.simulator.rehearse"], "refuse", lambda design: None
    )  # the check would not let it through
    result = zapato.rehearse(path, script)
    assert any("MemoryError" in text for _, text in result.log)
    resets = [r["t"] for r in result.records if r["what"] == "power" and r["name"] == "reset"]
    assert 3 <= len(resets) <= 6 and not result.passed
    assert all(r["value"] == 0 for r in result.records if r["what"] == "pin" and r["name"] == "GPIO14")


def test_what_a_small_chip_keeps_on_the_flash_it_says_as_a_large_one_does(put):
    """The release build reads seldom texts from a file; every one that the broker can cause is caused."""
    bad = ["lamp/do/fly", "nobody/do/on", "lamp/x/set", "device/do/fly", "lamp/do/on"]
    acts = "".join(
        f'[[step]]\nat = "{10 + n}s"\nact = "message(\'{topic}\', {"{{" if topic == "lamp/do/on" else ""!r})"\n'
        for n, topic in enumerate(bad)
    )
    told = {}
    for board in ("esp8266-30pin", "esp32-38pin"):
        path = put(
            f'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n[wifi]\nname = "hall"\n'
            '[mqtt]\nhost = "192.168.4.2"\n[relay.lamp]\npin = 14\n'
        )
        script = path.parent / "s.toml"
        script.write_text('[rehearsal]\nlasts = "1min"\n' + acts)
        result = zapato.rehearse(path, script)
        told[board] = [r["value"] for r in result.records if r["name"].endswith("/notes")]
        told[board] = [re.sub(r' File ".*', "", text) for text in told[board]]
    assert told["esp8266-30pin"] == told["esp32-38pin"]
    assert len(told["esp32-38pin"]) == len(bad) and not any("text " in text for text in told["esp32-38pin"])


def test_texts_that_are_gone_from_the_flash_end_nothing(put):
    """The file is lost, or empty: what goes wrong is told all the same, in fewer words, and the device goes on."""
    from support.over_air import Place

    site = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
    device = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp8266-30pin"\n[relay.lamp]\npin = 14\n'
    for texts in (None, b""):
        place = Place(zapato.load(put({"site.toml": site, "device.toml": device})), seconds=40)
        if texts is None:
            del place.board.flash.files["a/texts"]
        else:
            place.board.flash.files["a/texts"] = texts
        place.clock.at(15_000, lambda place=place: place.broker.message("refuge/bench/lamp/do/fly", ""))
        place.clock.at(20_000, lambda place=place: place.broker.message("refuge/bench/lamp/do/on", ""))
        assert place.run() is None and any(note.startswith("fault in ") for note in place.notes), (
            place.notes,
            place.log,
        )
        assert ("refuge/bench/lamp/on", b"true") in place.heard and not any(
            r["name"] == "reset" for r in place.trace.rows
        )
