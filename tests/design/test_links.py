"""Links as text: what is refused, where the caret stands, what the way out says, and the code that is made."""

import re

import pytest
from conftest import HEADER

import zapato
from zapato.firmware.plan import make_plan
from zapato.parts import Property

PARTS = (
    "[relay.r]\npin = 26\n"
    '[button.b]\npin = 33\npull = "up"\n'
    '[sensor.s]\nchip = "dht22"\npin = 27\n'
    "[led.l]\npin = 17\n"
    "[dimmer.d]\npin = 25\n"
    "[number.n]\nlow = 0\nhigh = 10\n"
    "[flag.f]\n"
)
FIRST = HEADER.count("\n") + PARTS.count("\n") + 2

# [[link]] body -> (code, line after [[link]], column, part of the message) of every finding
REFUSED = {
    "an event that is none": (
        'when = "b.presed"\ndo = "r.on"',
        [("link-unknown", 1, 11, "b has no event or property presed")],
    ),
    "an event in a condition": (
        'when = "b.pressed and r.on"\ndo = "r.on"',
        [("link-unknown", 1, 9, "b has no property pressed")],
    ),
    "an event in if": (
        'when = "b.pressed"\nif = "b.released"\ndo = "r.on"',
        [("link-unknown", 2, 7, "b has no property released")],
    ),
    "a part alone": ('when = "r"\ndo = "r.on"', [("link-unknown", 1, 9, "r alone has no value")]),
    "an action with too much": (
        'when = "b.pressed"\ndo = "r.on(1)"',
        [("link-type", 2, 7, "r.on takes no arguments")],
    ),
    "an action with too little": (
        'when = "b.pressed"\ndo = "r.pulse"',
        [("link-type", 2, 7, "r.pulse needs in brackets: time")],
    ),
    "a time without quotes": (
        'when = "b.pressed"\ndo = "r.pulse(2)"',
        [("link-type", 2, 15, "takes a time in quotes")],
    ),
    "a time without unit": (
        'when = "b.pressed"\ndo = "r.pulse(\'2\')"',
        [("link-type", 2, 15, "has no unit")],
    ),
    "a level beyond its range": (
        'when = "b.pressed"\ndo = "d.level = 150"',
        [("link-type", 2, 17, "d.level is 0 to 100")],
    ),
    "a number beyond its own range": (
        'when = "b.pressed"\ndo = "n.value = -1"',
        [("link-type", 2, 17, "n.value is 0 to 10")],
    ),
    "a property that cannot be set": (
        'when = "b.pressed"\ndo = "s.temperature = 3"',
        [("link-type", 2, 7, "can be read, not set")],
    ),
    "the wrong type": (
        'when = "b.pressed"\ndo = "r.on = s.temperature"',
        [("link-type", 2, 14, "r.on takes a boolean, not a number")],
    ),
    "a chain of targets": (
        'when = "b.pressed"\ndo = "r.on = f.on = true"',
        [("link-type", 2, 7, "do takes")],
    ),
    "a name alone": ('when = "b.pressed"\ndo = "r"', [("link-type", 2, 7, "do takes")]),
    "two statements": ('when = "b.pressed"\ndo = "r.on; l.on"', [("link-type", 2, 7, "one action")]),
    "a call of something else": ('when = "b.pressed"\ndo = "print(1)"', [("link-type", 2, 7, "do takes")]),
    "notify without a text": (
        'when = "b.pressed"\ndo = "notify(3)"',
        [("link-type", 2, 7, "notify takes one text")],
    ),
    "notify of what is not there": (
        'when = "b.pressed"\ndo = "notify(\'{s.temp}\')"',
        [("link-unknown", 2, 14, "s has no property temp")],
    ),
    "notify with an open brace": (
        'when = "b.pressed"\ndo = "notify(\'{s.temperature\')"',
        [("link-type", 2, 14, "{ without its }")],
    ),
    "an empty do": ('when = "b.pressed"\ndo = ""', [("link-type", 2, 7, "one action")]),
    "an empty list": ('when = "b.pressed"\ndo = []', [("wrong-type", 2, 6, "takes an action")]),
    "a number for do": ('when = "b.pressed"\ndo = 3', [("wrong-type", 2, 6, "takes an action")]),
    "held with an event": (
        'when = "b.pressed"\nheld = "2s"\ndo = "r.on"',
        [("link-type", 2, 8, "held goes with a condition")],
    ),
    "back with an event": ('when = "b.pressed"\nback = 3\ndo = "r.on"', []),
    "back with two comparisons": (
        'when = "s.temperature > 3 and r.on"\nback = 3\ndo = "r.on"',
        [("link-type", 2, 8, "one comparison")],
    ),
    "back of nothing": (
        'when = "s.temperature > 3"\nback = 0\ndo = "r.on"',
        [("link-type", 2, 8, "more than 0")],
    ),
    "for without a way back": (
        'when = "b.pressed"\nfor = "2s"\ndo = "n.value = 3"',
        [("link-type", 2, 7, "nothing takes n.value = 3 back")],
    ),
    "no when": ('do = "r.on"', [("missing-key", 0, 3, "needs when")]),
    "an unknown key": (
        'when = "b.pressed"\ndo = "r.on"\ndelay = "2s"',
        [("unknown-key", 3, 1, "delay is not a key")],
    ),
    "both sides wrong": (
        'when = "x.on"\ndo = "y.on"',
        [("link-unknown", 1, 9, "no part is called x"), ("link-unknown", 2, 7, "no part is called y")],
    ),
    "a list with two mistakes": (
        'when = "b.pressed"\ndo = ["r.onn", "r.on", "q.on"]',
        [("link-unknown", 2, 8, "r has no action onn"), ("link-unknown", 2, 25, "no part is called q")],
    ),
    "a comparison with nothing": (
        'when = "s.temperature >"\ndo = "r.on"',
        [("link-type", 1, None, "not an expression")],
    ),
    "a keyword argument": (
        'when = "b.pressed"\ndo = "r.pulse(time=\'2s\')"',
        [("link-type", 2, 7, "do takes")],
    ),
    "division by zero": (
        'when = "s.temperature / 0 > 1"\ndo = "r.on"',
        [("link-type", 1, 9, "division by zero")],
    ),
    "a power": ('when = "s.temperature ** 2 > 1"\ndo = "r.on"', [("link-type", 1, 9, "arithmetic has")]),
    "not of a number": (
        'when = "not s.temperature"\ndo = "r.on"',
        [("link-type", 1, 13, "not takes true or false")],
    ),
    "a sign before a truth": (
        'when = "-r.on"\ndo = "r.on"',
        [("link-type", 1, 10, "a sign goes before a number")],
    ),
    "order of truths": ('when = "r.on > f.on"\ndo = "r.on"', [("link-type", 1, 9, "> compares numbers")]),
    "membership": ('when = "r.on in f.on"\ndo = "r.on"', [("link-type", 1, 9, "comparisons are")]),
    "too few numbers": (
        'when = "min(1) > s.temperature"\ndo = "r.on"',
        [("link-type", 1, 9, "min takes 2 to 9 numbers")],
    ),
    "a deeper name": (
        'when = "s.temperature.real > 1"\ndo = "r.on"',
        [("link-type", 1, 9, "written part.property")],
    ),
    "a long text": (
        'when = "' + "r.on or " * 200 + 'r.on"\ndo = "r.on"',
        [("wrong-type", 1, 8, "1000 is the most")],
    ),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_is_refused(name, checked):
    body, expected = REFUSED[name]
    report = checked(f"{PARTS}[[link]]\n{body}\n")
    found = [
        (f.code, f.place.line - FIRST + 1, f.place.column, f.message) for f in report if f.severity == "error"
    ]
    assert len(found) == len(expected), found
    for (code, line, column, message), (wanted, at, caret, words) in zip(found, expected, strict=True):
        assert (code, line) == (wanted, at) and words in message, found
        assert caret in (None, column), (column, message)


FIXED = {
    'when = "b.presed"\ndo = "r.on"': 'did you mean "pressed"?',
    'when = "b.pressed"\ndo = "r.toggel"': 'did you mean "toggle"?',
    'when = "b.pressed"\ndo = "rr.on"': 'did you mean "r"?',
    'when = "s.temperature > \'25 °C\'"\ndo = "r.on"': "a number stands without quotes: 25",
    'when = "b.pressed"\nheld = "2s"\ndo = "r.on"': 'when = "b.down"',
    'when = "s.humidity"\ndo = "r.on"': "compare it with something",
    'when = "s.tempreature > 3"\ndo = "r.on"': 'did you mean "s.temperature"?',
    'when = "b.pressed and r.on"\ndo = "r.on"': "b.pressed is an event: it can stand alone in when, not in a condition",
}


@pytest.mark.parametrize("body", FIXED)
def test_the_way_out(body, checked):
    fixes = [fix for f in checked(f"{PARTS}[[link]]\n{body}\n") for fix in f.fixes]
    assert any(FIXED[body] in fix for fix in fixes), fixes


def plan(put, links: str) -> str:
    body = PARTS.replace("[dimmer.d]\npin = 25\n", "")
    plans = make_plan(zapato.load(put(HEADER.format(board="esp32-38pin") + body + links))).plans
    return re.sub(r"\s*\n\s*", " ", "\n".join(plans.values()))


MADE = {
    'when = "b.pressed"\ndo = "r.toggle"': ["Link( d, 1, ((p_r, 'toggle'), ), event='b!pressed' )"],
    'when = "s.humidity < 35"\nback = 5\ndo = "r.on"\nfor = "15min"': [
        "Link( d, 1, ((p_r, 'on'), ), reads=('s.humidity',), when=lambda: (p_s.humidity is not None and ((p_s.humidity < 35))), takes=(p_r, ),",
        "rearm=lambda: (p_s.humidity is None or (p_s.humidity < 35 + 5)), span=900000 )",
    ],
    'when = "r.on"\nheld = "2h"\nafter = "1s"\ndo = ["r.off", "l.blink(\'500ms\')"]': [
        "((p_r, 'off'), lambda: (p_l.do('blink', 500)), ), reads=('r.on',), when=lambda: (p_r.on), held=7200000, wait=1000 )",
    ],
    'when = "b.pressed"\nif = "f.on or s.temperature > 3"\ndo = "n.value = s.temperature"': [
        "test=lambda: (p_s.temperature is not None and ((p_f.on or (p_s.temperature > 3))))",
        "p_n.set('value', p_s.temperature) if p_s.temperature is not None else unknown()",
    ],
    'when = "b.pressed"\ndo = "notify(\'it\\\\\'s {s.temperature:.1f}\')"': [
        "d.note(\"it's \" + show((p_s.temperature if p_s.temperature is not None else None), '.1f'))"
    ],
    'when = "not known(s.temperature) or s.humidity > 90"\ndo = "r.off"': [
        "when=lambda: (p_s.humidity is not None and (((not (p_s.temperature is not None)) or (p_s.humidity > 90))))"
    ],
}


@pytest.mark.parametrize("body", MADE)
def test_the_code_that_is_made(body, put):
    made = plan(put, f"[[link]]\n{body}\n")
    compile(made, "plan.py", "exec")
    for piece in MADE[body]:
        assert piece in made, made


def test_shows_of_an_led_is_checked_like_a_link(checked):
    body = '[relay.heater]\npin = 26\n[led.a]\npin = 17\nshows = "heatr.on"\n[led.c]\npin = 16\nshows = "heater.on > 3"\n[led.e]\npin = 4\nshows = "status"\n'
    found = [(f.code, f.place.line, f.place.column) for f in checked(body)]
    assert found == [("link-unknown", 9, 10), ("link-type", 12, 10)]


def test_a_link_of_a_renamed_part_shows_every_place(checked):
    body = (
        '[relay.heating]\npin = 26\nexcludes = ["vnt"]\n[relay.vent]\npin = 25\n[led.l]\npin = 17\nshows = "heater.on"\n[group.g]\nof = ["heater", "vent"]\n'
        '[[link]]\nwhen = "heater.on and not vent.on"\nif = "heater.on"\ndo = ["heater.off", "vent.on", "notify(\'{heater.on}\')"]\n'
    )
    report = checked(body)
    old = [f for f in report if "heater" in f.message]
    assert len(old) == 6 and all('did you mean "heating"?' in f.fixes for f in old)


# What an action's argument or a setting may be: a link's `do`, and the way out or message, "" where it is right.
ARGUMENTS = {
    "d.fade(50, '2s')": "",
    "d.fade(150, '2s')": "level is 0 to 100 %",
    "d.fade(-1, '2s')": "level is 0 to 100 %",
    "d.fade(s.temperature, '2s')": "level is in %, and this is in Cel",
    "d.fade('half', '2s')": "level takes a number",
    "d.fade(50, '0s')": "time is 1 ms to a year",
    "d.fade(50, '400d')": "time is 1 ms to a year",
    "d.level = 101": "d.level is 0 to 100 %",
    "n.set(11)": "value is 0 to 10",
    "n.value = 10": "",
    "h.value = 1e6": "",
    "h.value = 4": "h.value is at least 5",
    "m.set(6)": "value is at most 5",
    "m.value = -3": "",
    "p.show('flow')": "",
    "p.show('flwo')": 'did you mean "flow"?',
    "p.effect = 'party'": "there are: still, breathe, flow, sparkle",
    "f.set(r.on)": "",
    "f.set(1)": "on takes a boolean",
}


@pytest.mark.parametrize("do", ARGUMENTS)
def test_arguments_are_held_to_the_property_of_their_name(do, checked):
    more = "[number.h]\nlow = 5\n[number.m]\nhigh = 5\n[strip.p]\npin = 13\ncount = 5\nchip = 'ws2812b'\n"
    body = f'{PARTS}{more}[[link]]\nwhen = "b.pressed"\ndo = """{do}"""\n'
    found = [f for f in checked(body) if f.severity == "error"]
    words = " ".join(f.message + " " + " ".join(f.fixes) for f in found)
    assert bool(found) == bool(ARGUMENTS[do]) and ARGUMENTS[do] in words, words


KNOWN = {
    "known(s.temperature)": "",
    "not known(s.temperature) and r.on": "",
    "known(s.temperature) and s.temperature > 5": "",
    "known(s)": "known takes one property",
    "known(s.temperature, s.humidity)": "known takes one property",
    "known('s.temperature')": "known takes one property",
    "known(s.temp)": 'did you mean "s.temperature"?',
    "s.temperature > 5 for 10min": "a time is not a value here; in a condition it belongs to held, after or for",
    "r.on; b.down": "write a link for each event",
    "relay.r.on": "the part's name alone: r.on",
}


@pytest.mark.parametrize("when", KNOWN)
def test_known_and_words_for_what_was_meant(when, checked):
    found = [f for f in checked(f'{PARTS}[[link]]\nwhen = "{when}"\ndo = "r.off"\n') if f.severity == "error"]
    words = " ".join(f.message + " " + " ".join(f.fixes) for f in found)
    assert bool(found) == bool(KNOWN[when]) and KNOWN[when] in words, words


def test_follow_ups_of_one_mistake_are_not_told(checked):
    """The chip is the mistake; that its properties are not known follows from it."""
    body = '[sensor.x]\nchip = "bme820"\nbus = "main"\n[i2c.main]\nsda = 21\nscl = 22\n[relay.r]\npin = 26\n'
    body += '[[link]]\nwhen = "x.temperature > 5"\nback = 1\ndo = ["r.on", "notify(\'{x.humidity}\')"]\n'
    assert [f.code for f in checked(body)] == ["wrong-type"]


# The range of a property: low, high, in words, and values that it takes or not.
RANGES = [
    (None, None, "", [-1e9, 0, 1e9], []),
    (5, None, "at least 5", [5, 1e9], [4.9, -5]),
    (None, 30, "at most 30", [-1e9, 30], [30.1]),
    (5, 30, "5 to 30", [5, 17.5, 30], [4, 31]),
]


@pytest.mark.parametrize(("low", "high", "words", "good", "bad"), RANGES)
def test_half_a_range_is_a_range(low, high, words, good, bad):
    known = Property("number", "Cel", low=low, high=high)
    assert known.bounds == words
    assert all(known.takes(value) for value in [*good, True, "a text is judged by its type"])
    assert not any(known.takes(value) for value in bad)
