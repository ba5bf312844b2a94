"""Pins chosen by the solver: right by the check, optimal by brute force, honest where it cannot be."""

import itertools
import random
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import zapato
from zapato.boards import board, board_ids
from zapato.checks import check
from zapato.fitting import fit, fit_boards, write_pins
from zapato.fitting.cost import cost
from zapato.fitting.solve import all_pins, cost_table, open_uses, solve

HEAD = 'zapato = 1\n[device]\nname = "x"\nboard = "{}"\n[wifi]\nname = "refuge"\n'
PARTS = {
    "relay": '[relay.{n}]\npin = "auto"\nactive = "{level}"\n',
    "led": '[led.{n}]\npin = "auto"\nactive = "{level}"\n',
    "button": '[button.{n}]\npin = "auto"\npull = "up"\n',
    "contact": '[contact.{n}]\npin = "auto"\npull = "none"\nwatch = "interrupt"\n',
    "motion": '[motion.{n}]\npin = "auto"\n',
    "analog": '[sensor.{n}]\nchip = "analog"\npin = "auto"\n',
    "dht22": '[sensor.{n}]\nchip = "dht22"\npin = "auto"\n',
    "dimmer": '[dimmer.{n}]\npin = "auto"\n',
    "touch": '[touch.{n}]\npin = "auto"\n',
    "i2c": '[i2c.{n}]\nsda = "auto"\nscl = "auto"\ncontroller = "hardware"\n',
    "uart": '[uart.{n}]\ntx = "auto"\nrx = "auto"\nbaud = 9600\n',
    "spi": '[spi.{n}]\nsck = "auto"\nmosi = "auto"\nmiso = "auto"\n',
}
ANY = settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])


def _device(folder: Path, board_id: str, kinds: list[str], levels: str = "high", extra: str = "") -> Path:
    body = "".join(PARTS[kind].format(n=f"p{n}", level=levels) for n, kind in enumerate(kinds))
    path = folder / "x.toml"
    path.write_text(HEAD.format(board_id) + body + extra)
    return path


@ANY
@given(
    st.sampled_from(board_ids()),
    st.lists(st.sampled_from(sorted(PARTS)), min_size=1, max_size=9),
    st.sampled_from(["high", "low"]),
)
def test_after_fit_no_pin_error(tmp_path, board_id, kinds, levels):
    path = _device(tmp_path, board_id, kinds, levels)
    result = fit(path)
    if not result.ok:
        assert result.conflict.uses and result.conflict.reason
        return
    pins = [p.pin.gpio for p in result.placements]
    assert len(pins) == len(set(pins)) == sum(len(list(p.needs)) for p in result.design.parts.values())
    assert write_pins(result) == len(pins)
    errors = [f for f in check(path) if f.severity == "error" and f.code.startswith(("pin-", "pwm-"))]
    assert not errors, [(f.code, f.message) for f in errors]


@ANY
@given(
    st.sampled_from(["esp8266-8pin", "esp8266-2relay", "esp32c3-mini", "rp2040w-40pin"]),
    st.lists(
        st.sampled_from(["relay", "led", "button", "dht22", "analog", "dimmer", "uart"]),
        min_size=1,
        max_size=3,
    ),
    st.randoms(use_true_random=False),
)
def test_brute_force_agrees_that_it_is_the_optimum(tmp_path, board_id, kinds, chance):
    design = zapato.load(_device(tmp_path, board_id, kinds))
    uses = open_uses(design, design.board)
    pins = all_pins(design.board)
    kept = set(chance.sample([p.gpio for p in pins], min(8, len(pins))))
    blocker = _blocker(tmp_path, board_id)
    result = solve(design, uses, [blocker.on(p) for p in pins if p.gpio not in kept])
    pins = [p for p in pins if p.gpio in kept]
    best = _brute_force(design, uses, pins)
    assert (result.cost if result.ok else None) == best


def _blocker(folder: Path, board_id: str):
    """A use that takes a pin and nothing else."""
    path = folder / "blocker.toml"
    path.write_text(HEAD.format(board_id) + PARTS["led"].format(n="blocker", level="high"))
    design = zapato.load(path)
    return open_uses(design, design.board)[0]


def _brute_force(design, uses, pins):
    from zapato.rules.pin_routing import controllers

    chip, best = design.board.chip, None
    for chosen in itertools.permutations(pins, len(uses)):
        prices = [_price(design, use, pin) for use, pin in zip(uses, chosen, strict=True)]
        if None in prices or (best is not None and sum(prices) >= best):
            continue
        placed = [use.on(pin) for use, pin in zip(uses, chosen, strict=True)]
        if chip.resources.pwm_fixed:
            outputs = [u.pin.gpio % chip.resources.pwm_fixed for u in placed if u.need.pwm]
            if len(outputs) != len(set(outputs)):
                continue
        held = []
        for part in {u.part.name for u in placed if u.need.controller in chip.routes}:
            held.append(controllers(chip, [u for u in placed if u.part.name == part]))
        if all(len(h) for h in held) and any(len(set(c)) == len(c) for c in itertools.product(*held)):
            best = sum(prices)
    return best


def _price(design, use, pin):
    return cost_table(design, [use], [pin])[0][0]


def test_fixed_pins_stay_and_comments_and_layout_are_kept(tmp_path: Path):
    text = (
        'zapato = 1   # first\n\n[device]\nname  = "x"\nboard = "esp8266-30pin"\n\n# the lamp\n[relay.lamp]\n'
        'pin    = "auto"    # chosen\nactive = "high"\n\n[button.wall]\npin  = "D6"\npull = "up"\n'
    )
    path = tmp_path / "x.toml"
    path.write_text(text)
    path.chmod(0o640)
    result = fit(path)
    write_pins(result)
    assert path.read_text() == text.replace('"auto"', f'"{result.placements[0].written}"')
    assert path.stat().st_mode & 0o777 == 0o640 and result.placements[0].written in ("D1", "D2", "D5", "D7")


def test_an_auto_of_a_piece_is_answered_in_the_device_file(tmp_path: Path):
    (tmp_path / "lamp.toml").write_text('[relay.lamp]\npin = "auto"\n')
    path = tmp_path / "x.toml"
    path.write_text('zapato = 1\nuse = ["lamp.toml"]\n[device]\nname = "x"\nboard = "esp32-38pin"\n')
    write_pins(fit(path))
    assert "auto" in (tmp_path / "lamp.toml").read_text() and zapato.load(path).parts["lamp"].pins


def test_the_smallest_set_that_cannot_be_placed(tmp_path: Path, cli):
    path = _device(
        tmp_path, "rp2040w-40pin", ["relay", "analog", "button", "analog", "analog", "relay", "analog"]
    )
    found = fit(path).conflict
    assert [part for part, _ in found.uses] == ["p1", "p3", "p4", "p6"] and [p.gpio for p in found.pins] == [
        26,
        27,
        28,
    ]
    assert found.reason.startswith(
        "4 parts need analog inputs that work beside Wi-Fi; rp2040w-40pin has 3 free: GPIO26, GPIO27, GPIO28"
    )
    before = path.read_text()
    called = cli("fit", path, "--write")
    assert called.code == 1 and "4 parts need analog inputs" in called.out and path.read_text() == before


def test_hazards_are_avoided_in_their_order(tmp_path: Path):
    """Plain pins first; a pin read at reset or a click at power-up only when nothing else is left."""
    result = fit(_device(tmp_path, "esp32-38pin", ["relay"] * 8))
    assert not [p for p in result.placements if p.pin.boot or p.minds]
    crowded = fit(_device(tmp_path, "esp8266-30pin", ["relay"] * 6))
    assert {p.pin.gpio for p in crowded.placements} == {4, 5, 12, 13, 14, 15}, (
        "15 is low at reset, as a relay that is off"
    )


def test_analog_beside_wifi_is_kept_for_analog(tmp_path: Path):
    result = fit(_device(tmp_path, "esp32c3-mini", ["relay", "relay", "relay", "analog", "analog"]))
    by_part = {p.part: p.pin for p in result.placements}
    assert by_part["p3"].adc_radio and by_part["p4"].adc_radio
    assert not any(by_part[name].adc for name in ("p0", "p1"))


def test_boards_are_ranked_and_say_what_is_lost(tmp_path: Path, cli):
    path = _device(tmp_path, "esp32-38pin", ["analog"] * 4 + ["relay"] * 3 + ["touch"])
    ranked = fit_boards(path)
    carries = [each.board.id for each in ranked if each.ok]
    assert {r.board.id for r in ranked} == set(board_ids()) and "esp32-38pin" in carries
    assert not {"esp8266-30pin", "rp2040w-40pin", "esp32c3-mini"} & set(carries)
    assert [each.ok for each in ranked] == sorted((each.ok for each in ranked), reverse=True)
    assert all(each.loses for each in ranked if not each.ok)
    assert cli("fit", path, "--boards").out.startswith(ranked[0].board.id)


def test_the_public_call_stays_a_call(tmp_path: Path):
    path = _device(tmp_path, "esp32-38pin", ["relay"])
    assert zapato.fit(path).ok and zapato.fit(path).frame["part"].tolist() == ["p0"]


def test_command_line(tmp_path: Path, cli):
    path = _device(tmp_path, "esp32-38pin", ["relay", "i2c"])
    called = cli("fit", path)
    assert called.code == 0 and "p0.pin" in called.out and '"auto"' in path.read_text()
    assert cli("build", path, "--out", tmp_path / "out").code == 1
    assert cli("fit", path, "--write").code == 0 and '"auto"' not in path.read_text()
    assert "nothing to choose" in cli("fit", path).out
    path.write_text(path.read_text().replace("sda", "sdaa"))
    assert cli("fit", path).code == 1


@pytest.mark.parametrize("seed", range(3))
def test_a_full_board_is_filled(seed, tmp_path: Path):
    """As many parts as the largest board has pins: every one finds its own."""
    chance = random.Random(seed)
    kinds = ["relay", "button", "led", "motion"]
    result = fit(_device(tmp_path, "esp32s3-44pin", [chance.choice(kinds) for _ in range(30)]))
    assert result.ok and len({p.pin.gpio for p in result.placements}) == 30


def test_cost_is_none_exactly_where_an_error_stands(tmp_path: Path):
    design = zapato.load(_device(tmp_path, "esp32-38pin", ["relay"]))
    use = open_uses(design, design.board)[0]
    assert (
        cost(use.on(board("esp32-38pin").pin(34)), design) is None
        and cost(use.on(board("esp32-38pin").pin(26)), design) is not None
    )


def test_a_board_whose_chip_cannot_start_the_program_does_not_fit(tmp_path):
    path = tmp_path / "full.toml"
    links = "".join(
        f'[number.n{i}]\n[[link]]\nwhen = "n{i}.value > {i}"\ndo = "r.toggle"\n' for i in range(60)
    )
    path.write_text(
        f'zapato = 1\n[device]\nname = "full"\nboard = "esp32-38pin"\n[relay.r]\npin = 26\n{links}'
    )
    found = {each.board.id: each for each in fit_boards(path)}
    assert found["esp32-38pin"].ok and not found["esp8266-30pin"].ok
    assert any("KiB of heap" in words for words in found["esp8266-30pin"].loses)
