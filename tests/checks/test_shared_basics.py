"""Small promises that much else stands on: work done once, pieces that ship, figures in any shape of output."""

import dataclasses
import json
import subprocess
import sys
from collections.abc import Iterator
from itertools import permutations

import pytest
from conftest import HEADER, NETWORK

import zapato
from zapato.boards import boards
from zapato.budgets.memory import memory
from zapato.budgets.traffic import traffic
from zapato.design.design import once
from zapato.design.program import drivers, runtime_modules
from zapato.lang.pieces import SHIPPED, shipped
from zapato.topics import topics
from zapato.wiring import wiring


def test_what_is_worked_out_once_is_not_carried_to_another_design(put):
    """A changed copy of a design works everything out anew, and the two do not share what they know."""
    made = zapato.load(
        put(
            {
                "site.toml": NETWORK.format(qos=0),
                "device.toml": HEADER.format(board="esp32-38pin") + "[relay.r]\npin = 26\n",
            }
        )
    )
    counted: list[str] = []

    @once
    def work(design):
        counted.append(design.name)
        return len(design.parts)

    assert work(made) == work(made) == 1 and counted == ["bench"]
    alone = dataclasses.replace(made, parts={}, mqtt=None)
    assert work(alone) == 0 and counted == ["bench", "bench"] and work(made) == 1
    assert "mqtt" in runtime_modules(made) and "mqtt" not in runtime_modules(alone)
    assert drivers(made).keys() == {"r"} and drivers(alone) == {}
    assert topics(alone) == [] and traffic(alone) is None and memory(alone).heap < memory(made).heap


GAPS = {
    "settings-button": "settings_pin",
    "dust-pms5003": "dust_serial",
    "dust-sds011": "dust_serial",
    "co2-mhz19": "co2_serial",
    "distance-a02": "distance_serial",
    "presence-ld2410": "presence_serial",
    "meter-pzem004t": "meter_serial",
    "meter-sdm120": "meter_serial",
}
"""What each piece that ships wants to be told."""


def _fills(name: str, board) -> Iterator[tuple[str, str]]:
    """What may fill the gap of a piece on a board, and the tables that go with it: a pin, or a serial link on two."""
    free = [pin for pin in board.free if pin.reads and pin.pull_up and not pin.boot]
    if not GAPS[name].endswith("serial"):
        yield from ((str(pin.gpio), "") for pin in free[:1])
        return
    usable = [pin.gpio for pin in board.free if pin.reads and not pin.boot][:12]
    for tx, rx in permutations(usable, 2):
        yield '"line"', f"[uart.line]\ntx = {tx}\nrx = {rx}\nbaud = 9600\n"


@pytest.mark.parametrize("name", shipped())
def test_a_piece_that_ships_passes_the_check_on_every_board_that_has_the_pins(put, name):
    tried = 0
    for board in boards():
        reports = []
        for value, more in _fills(name, board):
            head = HEADER.format(board=board.id).replace(
                "[device]", f'use = ["{name}"]\nwith = {{ {GAPS[name]} = {value} }}\n[device]'
            )
            device = put({"site.toml": NETWORK.format(qos=0), "device.toml": head + more})
            reports.append(zapato.check(device))
            if reports[-1].ok and not [f for f in reports[-1] if f.severity == "warning"]:
                tried += 1
                break
        else:
            assert not reports or GAPS[name].endswith("serial"), (board.id, list(reports[0]))
    assert tried > 10
    text = (SHIPPED / f"{name}.toml").read_text("utf-8")
    assert text.startswith("# ") and GAPS[name] in text


CALLS = (
    ("draw", "-", "--what", "wires"),
    ("budget", "-", "--topic", "pins"),
    ("topics", "-"),
    ("draw", "-", "--what", "pins", "--format", "json"),
)


@pytest.mark.parametrize("words", CALLS, ids=" ".join)
def test_a_device_comes_through_a_pipe_and_goes_into_one(put, words):
    """Standard input, no colour, and a reader that has had enough."""
    device = put(
        {
            "site.toml": NETWORK.format(qos=0),
            "device.toml": HEADER.format(board="esp32-38pin")
            + '[relay.r]\npin = 26\nlabel = "Pumpe für Öl"\n',
        }
    )
    run = subprocess.run(
        [sys.executable, "-m", "zapato", *words],
        input=device.read_bytes(),
        capture_output=True,
        cwd=device.parent,
        env={"PATH": "", "PYTHONIOENCODING": "ascii", "HOME": str(device.parent)},
        check=False,
    )
    assert run.returncode == 0 and b"\x1b" not in run.stdout and b"Traceback" not in run.stderr, run.stderr
    text = run.stdout.decode("utf-8")
    assert "26" in text or "/r/on" in text
    if "json" in words:
        assert json.loads(text)["pins"]
    piped = subprocess.Popen(
        [sys.executable, "-m", "zapato", *words],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        cwd=device.parent,
    )
    piped.stdout.close()
    _, err = piped.communicate(device.read_bytes())
    assert b"Traceback" not in err


def test_every_supply_that_is_named_is_drawn_and_grounded(put):
    body = (
        '[supply.box]\nvoltage = "24V"\ncurrent = "2A"\n[supply.step]\nvoltage = "5V"\nfrom = "box"\nboard = true\n'
        '[supply.strip]\nvoltage = "5V"\ncurrent = "4A"\n'
        '[strip.s]\npin = 13\ncount = 30\nchip = "ws2812b"\nlevel = "5V"\nfed_from = "strip"\nlength = "1m"\n[relay.r]\npin = 26\nfed_from = "box"\n'
    )
    made = zapato.load(put(HEADER.format(board="esp32-38pin") + body))
    wires = [(wire.start, wire.end, wire.carries) for wire in wiring(made).wires]
    assert ("step +", "board 5V", "5 V") in wires and ("step -", "board GND", "ground") in wires
    assert ("box +", "step input +", "24 V") in wires and ("box -", "board GND", "ground") in wires
    assert ("strip -", "board GND", "ground") in wires and ("strip +", "s +", "5 V") in wires
    assert ("box +", "r +", "24 V") in wires and not any("USB" in start for start, *_ in wires)
