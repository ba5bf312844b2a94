"""A new version for many devices: the order of the waves, the stop at failures, Ctrl-C, and what is told."""

import threading

import pytest
from hypothesis import given
from hypothesis import strategies as st

from zapato.cli.rollout import Rollout
from zapato.deliver.rollout import roll_out, waves
from zapato.errors import AlreadyThere, NotDelivered


@given(st.integers(1, 40), st.sets(st.integers(0, 39)), st.integers(1, 5))
def test_one_goes_first_then_a_quarter_and_too_many_failures_stop_it(count, bad, failures):
    turns = waves([f"d{n}" for n in range(count)])
    sizes = [sum(turn.wave == wave for turn in turns) for wave in (1, 2, 3)]
    assert sizes[0] == 1 and sum(sizes) == count and sizes[1] == min(count - 1, -(-count // 4))
    tried, lock = [], threading.Lock()

    def deliver(name, tell, goes_on):
        with lock:
            tried.append(name)
        tell("sending", 0.5)
        if int(name[1:]) in bad:
            raise NotDelivered("it is silent", "look at it")
        if int(name[1:]) % 7 == 6:
            raise AlreadyThere("1.0 runs there already")
        return "1.0 -> 1.1"

    roll_out(turns, deliver, failures=failures)
    states = {turn.name: turn.state for turn in turns}
    failed = [name for name, state in states.items() if state == "failed"]
    assert all(int(name[1:]) in bad for name in failed) and "running" not in states.values()
    if 0 in bad and failures == 1:
        assert tried == ["d0"] and set(states.values()) == {"failed"} | ({"left"} if count > 1 else set())
    if len({n for n in bad if n < count}) < failures:
        assert set(tried) == set(states) and "left" not in states.values()
    else:
        assert failures <= len(failed) < failures + 4  # who ran beside the last one


def test_ctrl_c_stops_those_who_run(capsys):
    turns = waves(["a", "b", "c"])
    shown = Rollout(turns)

    def deliver(name, tell, goes_on):
        if name == "a":
            return "1.0 -> 1.1"
        if name == "b":
            raise KeyboardInterrupt
        while goes_on():
            threading.Event().wait(0.01)
        raise NotDelivered("stopped by hand")

    with shown.shown(), pytest.raises(KeyboardInterrupt):
        roll_out(turns, deliver, changed=shown.changed)
    assert capsys.readouterr().out.startswith("wave 1  a: done  1.0 -> 1.1\n")
