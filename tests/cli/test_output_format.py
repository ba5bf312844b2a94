"""How figures, tables and progress are told: in sizes that people read, in any width, in a pipe."""

import io

import click
import pytest
from conftest import HEADER, NETWORK, steps
from hypothesis import given
from hypothesis import strategies as st

import zapato
from zapato.budgets.row import row
from zapato.cli.commands.watch import _line as line_of
from zapato.cli.pictures import budget_text, pins_text, wires_text
from zapato.cli.report import _years, brief_line
from zapato.cli.rollout import Rollout
from zapato.cli.terminal import table
from zapato.deliver import broker
from zapato.deliver.rollout import roll_out, waves
from zapato.deliver.watch import Said
from zapato.draw.budgets import shown
from zapato.errors import AlreadyThere, NotDelivered
from zapato.simulator.embedded import EmbeddedBroker

SHOWN = {
    (0.0039, "A"): "3.9 mA", (4.32, "A"): "4.32 A", (0, "A"): "0 A", (1e-10, "F"): "100 pF", (4700, "ohm"): "4.7 kohm",
    (2.2e6, "ohm"): "2.2 Mohm", (0.0093, "s"): "9.3 ms", (37888, "B"): "37.0 KiB", (0.0731, "/"): "7%", (107.5, "1/s"): "108 1/s",
    (2, ""): "2", (18.18, "h"): "18.2 h", (43.2, "W"): "43.2 W", (868.06, "m"): "868 m", (0.9996, "A"): "1 A", (2.4e-3, "V"): "2.4 mV",
}  # fmt: skip


@pytest.mark.parametrize(("value", "unit"), SHOWN)
def test_a_figure_in_a_size_that_people_read(value, unit):
    assert shown(value, unit) == SHOWN[value, unit]


@given(st.floats(1e-11, 1e8), st.sampled_from(["A", "V", "s", "ohm", "F", "W"]))
def test_no_figure_needs_more_than_a_few_letters(value, unit):
    text = shown(value, unit)
    assert text.endswith(unit) and len(text) <= 13


@given(st.floats(0.001, 1e6), st.floats(0.001, 1e6))
def test_a_verdict_follows_the_share_of_its_limit(value, limit):
    most, least = (
        row("t", "x", "what", value, "A", limit),
        row("t", "x", "what", value, "A", limit, least=True),
    )
    assert (most.verdict == "over") == (value > limit) and (least.verdict == "over") == (value < limit)
    assert most.share == pytest.approx(value / limit) and least.share == pytest.approx(limit / value)
    for each in (most, least):
        assert (each.verdict == "close") == (0.8 < each.share <= 1)


@pytest.mark.parametrize(("years", "text"), [(0.5, "6 months"), (1.9, "23 months"), (2.0, "2 years"), (44.2, "44 years"), (1234, "over 100 years")])  # fmt: skip
def test_years(years, text):
    assert _years(years) == text


def test_a_table_with_colours_stands_in_columns():
    rows = [{"a": click.style("red", fg="red"), "b": "x"}, {"a": "longer", "b": click.style("y", bold=True)}]
    lines = [click.unstyle(line) for line in table(rows).split("\n")]
    assert lines == ["a       b", "red     x", "longer  y"]
    assert table([]) == ""


def test_a_device_as_text(put):
    made = zapato.load(
        put(HEADER.format(board="esp8266-30pin") + '[relay.lamp]\npin = "D5"\nswitches = "230V"\n')
    )
    pins = pins_text(made)
    assert "pins of esp8266-30pin" in pins and any(
        line.split()[:4] == ["#", "right", "D5", "14"] for line in pins.split("\n")
    )
    assert any(line.startswith("x  left") and "flash" in line for line in pins.split("\n"))
    wires = wires_text(made)
    assert "mains at: lamp" in wires and "  1. " in wires and "board D5" in wires
    text = budget_text(zapato.budget(made))
    assert text.split("\n")[0].split() == ["topic", "of", "what", "value", "limit", "how"]
    assert len(text.split("\n")) == len(zapato.budget(made).rows) + 1


def test_a_rollout_on_a_terminal_is_one_table_that_is_kept_current():
    from rich.console import Console

    turns = waves(["porch", "cellar", "attic"])
    board = Rollout(turns)
    assert board.live is None  # nobody looks: lines instead

    def drawn() -> str:
        held = io.StringIO()
        Console(file=held, width=90, no_color=True).print(board._table())
        return held.getvalue()

    seen: list[str] = []

    def deliver(name, tell, goes_on):
        tell("sending", 0.42)
        seen.append(drawn())
        if name == "cellar":
            raise NotDelivered("it is silent", "look at it")
        if name == "attic":
            raise AlreadyThere("1.1.0 runs there already")
        return "1.0.0 -> 1.1.0"

    roll_out(turns, deliver, failures=2)
    assert "running   42%  sending" in seen[0] and "waiting" in seen[0]
    last = drawn()
    assert "porch   done    100%  1.0.0 -> 1.1.0" in last and "it is silent (look at it)" in last
    assert "there   100%  1.1.0 runs there already" in last and "waiting" not in last


def test_a_rehearsal_in_one_line(bench):
    body = (
        '[relay.r]\npin = 26\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "{do}"\n'
    )
    script = steps("5s: b.press", "<1s? r.on")
    good = brief_line(bench(body.format(do="r.on"), script))
    assert good.startswith("passed bench: 1 of 1 expectations held, heap ") and "first not" not in good
    wrong = brief_line(bench(body.format(do="r.off"), script))
    assert "0 of 1" in wrong and "first not: r.on (" in wrong and "script.toml:" in wrong
    again = brief_line(bench(body.format(do="device.restart"), steps("5s: b.press")))
    assert again.startswith("passed") and "restarted" not in again, "it was asked to"


HOSTILE = "\x1b[2J[/red] gone\n[bold]\x07"


def test_nothing_that_a_device_says_steers_the_terminal():
    """Escapes are taken out of what is told of a device, and markup is text."""
    from rich.console import Console

    turns = waves(["a"])
    turns[0].state, turns[0].text = "failed", HOSTILE
    held = io.StringIO()
    Console(file=held, width=100).print(Rollout(turns)._table())
    said = Said(0.0, "lamp", "note", HOSTILE, HOSTILE)
    for text in (held.getvalue(), line_of(said, True)):
        assert "[/red] gone" in text and "\x1b" not in text and "\x07" not in text


def test_a_broker_that_goes_away_is_one_line(put, monkeypatch):
    design = zapato.load(
        put({"site.toml": NETWORK.format(qos=0), "device.toml": HEADER.format(board="esp32-38pin")})
    )
    there = EmbeddedBroker()
    there.start()
    with broker.connected(design, (there.host, there.port), ["refuge/bench/state"]) as way:
        assert broker.describe(design, way) is None
        there.stop()
        monkeypatch.setattr(broker, "JOIN", 0.5)
        way.publish("refuge/bench/device/do/tell", "")
        with pytest.raises(NotDelivered, match="the description of bench did not get to the broker"):
            broker.describe(design, way)


@pytest.mark.parametrize("key", ["password", "pasword", "passwort", "access_password", "wifi_secret"])
def test_a_password_in_a_file_is_not_printed(key, put, cli):
    """What is printed ends up in the logs of whoever builds."""
    path = put(
        f'zapato = 1\n[device]\nname = "a"\nboard = "esp32-38pin"\n[wifi]\nname = "hut"\n{key} = "goats and hay"\n'
    )
    for words in (
        ("check", path),
        ("check", "--brief", path),
        ("fix", "--dry-run", path),
        ("check", "--format", "sarif", path),
    ):
        said = cli(*words)
        assert "goats" not in said.out + said.err and key in said.out
