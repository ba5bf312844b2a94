"""Each described chip against a second entry of it, written without a look at the first: neither shares the other's slips."""

import tomllib
from pathlib import Path

import pytest

from zapato.parts.described import described_names
from zapato.parts.described.catalogue import description

SECOND = tomllib.loads(Path(__file__).with_name("second_pass.toml").read_text())


def test_every_described_chip_is_entered_twice():
    assert SECOND.keys() == set(described_names())


@pytest.mark.parametrize("name", sorted(SECOND))
def test_limits_are_never_wider_than_the_second_entry(name):
    """Addresses, supply, clock and times: a description may be more careful."""
    known, second = description(name).head, SECOND[name]
    low, high = second.get("supply", (0, 0))
    assert not known["supply"] or (low <= known["supply"][0] and known["supply"][1] <= high)
    assert (known["bus"], known["family"]) == (second.get("bus", known["bus"]), second.get("family", 0))
    assert set(known["addresses"] or ()) <= set(second.get("addresses", ()))
    assert (known["bus_most"] or 0) <= second.get("bus_hz", 0)
    assert known["start"] >= second.get("start_ms", 0)
    steps = description(name).steps
    waits = max((step.takes for step in (*description(name).begin, *steps)), default=0)
    assert max(waits, known["start"]) >= second.get("busy_ms", 0), "a reading is asked for too early"


@pytest.mark.parametrize("name", [name for name, second in sorted(SECOND.items()) if "written" in second])
def test_what_is_set_up_is_what_the_second_entry_sets_up(name):
    known = description(name)
    said = {data[0]: data[1] for step in (*known.begin, *known.steps) if len(data := known.said(step)) == 2}
    for register, allowed in SECOND[name]["written"].items():
        assert said.get(int(register, 16)) in {int(word, 16) for word in allowed.split("|")}, register


def asked(known, second, reading) -> list[bytes]:
    """The answer of the second entry to each step of the description that reads."""
    rows = list(reading.get("steps", ()))
    found: list[bytes] = []
    before = b""
    for step in known.steps:
        data = known.said(step)
        if step.layout:
            found.append(answer(step.layout.size, before, data, second, reading, rows))
        before = data
    return found


def answer(size: int, before: bytes, data: bytes, second, reading, rows) -> bytes:
    for command, register, raw in rows:
        if (before, data) == (bytes.fromhex(command), bytes.fromhex(register)):
            return bytes.fromhex(raw)[:size]
    for place in ("answers", "registers"):
        for said, raw in reading.get(place, {}).items():
            if bytes.fromhex(said) == data:
                return bytes.fromhex(raw)
    for begin, raw in reading.get("memory", {}).items():
        at = (data[0] & ~second.get("increment", 0)) - int(begin, 16)
        image = bytes.fromhex(raw)
        if len(data) == 1 and 0 <= at <= len(image) - size:
            return image[at : at + size]
    raise AssertionError(f"the second entry has no answer to {data.hex(' ')!r} after {before.hex(' ')!r}")


CASES = [(name, at) for name in sorted(SECOND) for at in range(len(SECOND[name]["readings"]))]


@pytest.mark.parametrize("name, at", CASES)
def test_bytes_mean_what_the_second_entry_says(name, at):
    known, second = description(name), SECOND[name]
    reading = second["readings"][at]
    if known.inputs:
        for key, value in reading["gives"].items():
            step = 0.51 * 10 ** -known.values[key].digits
            assert known.of_inputs(reading)[key] == pytest.approx(value, abs=step), key
        return
    calibration = tuple(
        answer(step.layout.size, b"", known.said(step), second, {"memory": second["calibration"]}, ())
        for step in known.calibration
    )
    worked = known.worked_out(tuple(asked(known, second, reading)), calibration)
    if reading.get("refused"):
        assert worked is None
        return
    assert worked is not None, "these bytes are no answer to the description"
    for key, value in reading["gives"].items():
        step = 0.51 * 10 ** -known.values[key].digits
        assert worked[key] == pytest.approx(value, abs=max(step, reading.get("within", 0))), key
