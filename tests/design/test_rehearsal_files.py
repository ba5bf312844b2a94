"""Rehearsal files as text, and the fields of every table: what is refused, at its place."""

import pytest

import zapato
from zapato.design.script import read_script
from zapato.lang import fields
from zapato.lang.fields import Wrong

DEVICE = (
    'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n'
    '[relay.r]\npin = 26\n[button.b]\npin = 33\npull = "up"\n[sensor.s]\nchip = "dht22"\npin = 27\n[group.g]\nof = ["r"]\n'
)
HEAD = '[rehearsal]\nlasts = "1min"\n'

# after the two lines of the head: text -> (code, line, part of the message or of a way out) of every finding
SCRIPTS = {
    "a table that is none": ("[steps]\nat = '1s'\n", [("unknown-key", 3, "steps is not a table")]),
    "steps in single brackets": ("[step]\nat = '1s'\n", [("wrong-type", 3, "[[step]]")]),
    "both act and expect": (
        "[[step]]\nat = '1s'\nact = 'b.press'\nexpect = 'r.on'\n",
        [("missing-key", 3, "either act or expect")],
    ),
    "an unknown key": (
        "[[step]]\nat = '1s'\nexpects = 'r.on'\n",
        [("unknown-key", 5, 'did you mean "expect"?'), ("missing-key", 3, "either")],
    ),
    "no unit": ("[[step]]\nat = 5\nact = 'b.press'\n", [("wrong-type", 4, '"5s"')]),
    "an expectation that is a number": (
        "[[step]]\nat = '1s'\nexpect = 's.temperature'\n",
        [("link-type", 5, "this is a number")],
    ),
    "an unknown part": (
        "[[step]]\nat = '1s'\nact = 'c.press'\n",
        [("link-unknown", 5, "no part is called c")],
    ),
    "an unknown gesture": (
        "[[step]]\nat = '1s'\nact = 'b.push'\n",
        [("link-unknown", 5, "press, hold, double")],
    ),
    "a gesture of a sensor": (
        "[[step]]\nat = '1s'\nact = 's.press'\n",
        [("link-unknown", 5, "s has: fall_silent, garbage, answer")],
    ),
    "a value of an output": (
        "[[step]]\nat = '1s'\nact = 'r.on = true'\n",
        [("link-unknown", 5, "nothing of a relay is set by the world")],
    ),
    "a value of the wrong type": (
        "[[step]]\nat = '1s'\nact = 'b.down = 3'\n",
        [("link-type", 5, "b.down is a boolean, not a number")],
    ),
    "a value that is computed": (
        "[[step]]\nat = '1s'\nact = 's.temperature = 2 + 3'\n",
        [("link-type", 5, "the value is a number")],
    ),
    "a misspelt network word": (
        "[[step]]\nat = '1s'\nact = 'wifi.off'\n",
        [("link-unknown", 5, "wifi.down")],
    ),
    "a message without payload": (
        "[[step]]\nat = '1s'\nact = \"message('r/on/set')\"\n",
        [("link-type", 5, "a topic and a payload")],
    ),
    "an act that is none": (
        "[[step]]\nat = '1s'\nact = '3 + 4'\n",
        [("link-type", 5, "an act is part.gesture")],
    ),
    "an act that cannot be read": (
        "[[step]]\nat = '1s'\nact = 'b.press('\n",
        [("link-type", 5, "not an expression")],
    ),
    "an empty list of acts": ("[[step]]\nat = '1s'\nact = []\n", [("wrong-type", 5, "takes an act")]),
    "a world of unknown parts": ("[world]\nx.on = true\n", [("link-unknown", 4, "no part is called x")]),
    "a world of unknown values": ("[world]\ns.temp = 3\n", [("link-unknown", 4, "s.temperature")]),
    "a world of the wrong type": (
        "[world]\ns.temperature = true\n",
        [("link-type", 4, "s.temperature is a number, not a boolean")],
    ),
    "published of a number": (
        "[[step]]\nat = '1s'\nexpect = 'published(1, 2)'\n",
        [("link-type", 5, "takes texts"), ("link-type", 5, "takes texts")],
    ),
    "published of nothing": (
        "[[step]]\nat = '1s'\nexpect = 'published()'\n",
        [("link-type", 5, "takes 1 to 2 texts")],
    ),
    "beyond the end": (
        "[[step]]\nat = '2min'\nact = 'b.press'\n",
        [("wrong-type", 4, "after the rehearsal's end")],
    ),
    "a first step without a moment": (
        "[[step]]\nwithin = '2s'\nexpect = 'r.on'\n",
        [("missing-key", 3, "the first step needs at")],
    ),
    "several at once": (
        "[world]\ns.humidity = 'wet'\n[[step]]\nat = '1s'\nact = ['b.press', 'x.press']\n[[step]]\nwithin = '2'\nexpect = 'r.off'\n",
        [
            ("link-type", 4, "is a number"),
            ("link-unknown", 7, "no part is called x"),
            ("wrong-type", 9, "no unit"),
            ("link-unknown", 10, "no property off"),
        ],
    ),
}


@pytest.mark.parametrize("name", SCRIPTS)
def test_mistakes_in_a_rehearsal(name, put):
    text, expected = SCRIPTS[name]
    device = put({"device.toml": DEVICE, "script.toml": HEAD + text})
    found = sorted(
        read_script(device.parent / "script.toml", zapato.load(device)).document.findings,
        key=lambda f: f.place.line,
    )
    assert [(f.code, f.place.line) for f in found] == sorted(
        ((c, n) for c, n, _ in expected), key=lambda row: row[1]
    ), [f.message for f in found]
    said = " ".join(f.message + " " + " ".join(f.fixes) for f in found)
    assert all(words in said for _, _, words in expected), said


@pytest.mark.parametrize(
    ("head", "code", "line"),
    [
        ("", "missing-key", 1),
        ("[rehearsal]\n", "missing-key", 1),
        ('[rehearsal]\nlasts = "1ms"\n', "wrong-type", 2),
        ('[rehearsal]\nlasts = "1min"\nseed = -1\n', "wrong-type", 3),
        ("[rehearsal\n", "toml-syntax", 1),
    ],
)
def test_mistakes_in_the_head(head, code, line, put):
    device = put({"device.toml": DEVICE, "script.toml": head})
    found = read_script(device.parent / "script.toml", zapato.load(device)).document.findings
    assert (code, line) in [(f.code, f.place.line) for f in found]


# field -> values that it takes with what they become, and values that it refuses with a part of why
FIELDS = [
    (
        fields.text("x", ""),
        [("a", "a"), ("", "")],
        [(3, "takes a text"), ("a" * 201, "200 is the most"), (["a"], "a list")],
    ),
    (
        fields.boolean("x", ""),
        [(True, True), (False, False)],
        [("true", "without quotes"), (1, "a whole number")],
    ),
    (
        fields.whole("x", "", least=1, most=9),
        [(1, 1), (9, 9)],
        [
            (0, "must be 1 to 9"),
            (10, "must be"),
            (True, "true or false"),
            ("3", "without quotes"),
            (1.5, "a number"),
        ],
    ),
    (
        fields.number("x", ""),
        [(1, 1), (-2.5, -2.5)],
        [
            ("1", "without quotes"),
            (True, "true or false"),
            (float("nan"), "finite"),
            (float("inf"), "finite"),
        ],
    ),
    (
        fields.choice("x", "", "up", "down"),
        [("up", "up")],
        [("Up", '"Up"'), (True, "true"), (["up"], "one of")],
    ),
    (
        fields.measured("x", "", "time", least=100),
        [("2s", 2000), ("1.5 min", 90_000), ("1h30min", 5_400_000), (" 250ms ", 250)],
        [
            (2, "with its unit"),
            ("2", "no unit"),
            ("2 V", "not a unit of time"),
            ("50ms", "out of range"),
            ("soon", "not a number"),
            (True, "with its unit"),
        ],
    ),
    (
        fields.measured("x", "", "ohm"),
        [("4.7kohm", 4700), ("10 kΩ", 10_000), ("1Mohm", 1e6)],
        [("4k7", "not a unit"), ("-1ohm", "out of range")],
    ),
    (fields.measured("x", "", "V"), [("500mV", 0.5), ("12V", 12)], [("12", "no unit")]),
    (
        fields.span("x", "", "V"),
        [("0V-5V", (0, 5))],
        [
            ("5V-0V", "lower end comes first"),
            ("5V", "takes a range"),
            (5, "takes"),
            ("0-5V", "takes a range"),
        ],
    ),
    (
        fields.names("x", ""),
        [("a", ("a",)), (["a", "b"], ("a", "b")), ([], ())],
        [(3, "list of names"), ([1], "list of names"), ("a, b", "not one text")],
    ),
    (
        fields.quantities("x", "", "ohm", 2),
        [(["1kohm", "2kohm"], (1000, 2000))],
        [(["1kohm"], "2 values"), ("1kohm", "2 values"), (["1kohm", 2], "with its unit")],
    ),
    (
        fields.pin("x", ""),
        [(26, 26), ("D4", "D4"), ("auto", "auto")],
        [(True, "takes a pin"), (2.5, "takes a pin"), ([26], "takes a pin")],
    ),
    (
        fields.named("x", "", "[a-z]+", "only a to z"),
        [("abc", "abc")],
        [("Ab1", "only a to z"), (3, "takes a text")],
    ),
]


@pytest.mark.parametrize(("field", "takes", "refuses"), FIELDS, ids=[str(n) for n in range(len(FIELDS))])
def test_what_a_field_takes(field, takes, refuses):
    import jsonschema_rs

    schema = jsonschema_rs.Draft202012Validator(dict(field.schema))
    for raw, value in takes:
        assert field.read(raw) == (
            pytest.approx(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else value
        )
        assert schema.is_valid(raw), (raw, field.schema)
    for raw, why in refuses:
        with pytest.raises(Wrong) as wrong:
            field.read(raw)
        assert why in wrong.value.message, (raw, wrong.value.message)


def test_what_the_commands_print_as_json(cli, put):
    import json

    device = put(DEVICE.replace("pin = 26", 'pin = "auto"'))
    fitted = json.loads(cli("fit", device, "--format", "json").out)
    assert fitted["ok"] and fitted["placements"][0]["part"] == "r" and fitted["conflict"] is None
    ranked = json.loads(cli("fit", device, "--boards", "--format", "json").out)
    assert ranked[0]["ok"] and {"board", "free", "loses"} <= ranked[0].keys()
    boards = json.loads(cli("boards", "--format", "json").out)
    assert {row["board"] for row in boards} >= {"esp32-38pin"} and all(
        row["free pins"] >= 0 for row in boards
    )
    pins = json.loads(cli("boards", "esp32-38pin", "--format", "json").out)
    assert {"label": "12", "pin": "GPIO12"}.items() <= next(
        row for row in pins if row["pin"] == "GPIO12"
    ).items()
    assert json.loads(cli("schema").out)["title"] == "Zapato device file"


def test_one_device_at_a_time_for_a_picture(site, cli, tmp_path):
    called = cli("rehearse", site, "--plot", tmp_path / "t.png")
    assert called.code == 2 and "go with one device" in called.err


# A step of a rehearsal on a device with a broker, and what is said of it; "" where it is right.
STEPS = {
    "over beside an expectation": (
        "at = '1s'\nover = '2s'\nexpect = 'r.on'\n",
        "over does nothing in a step with expect",
    ),
    "within beside an act": (
        "at = '1s'\nwithin = '2s'\nact = 'b.press'\n",
        "within does nothing in a step with act",
    ),
    "within and stays": (
        "at = '1s'\nwithin = '2s'\nstays = '2s'\nexpect = 'r.on'\n",
        "stays does nothing in a step with within",
    ),
    "wait beside a moment": (
        "at = '1s'\nwait = '2s'\nact = 'b.press'\n",
        "wait does nothing in a step with at",
    ),
    "a gesture that takes long": (
        "at = '1s'\nover = '2s'\nact = 'b.press'\n",
        "over does nothing with b.press",
    ),
    "a value that goes there evenly": ("at = '1s'\nover = '2s'\nact = 's.temperature = 30'\n", ""),
    "a power cut that lasts": ("at = '1s'\nover = '2s'\nact = 'power.cut'\n", ""),
    "colder than the chip measures": (
        "at = '1s'\nact = 's.temperature = -41'\n",
        "-40 to 80 Cel: the chip measures nothing else",
    ),
    "as cold as it measures": ("at = '1s'\nact = 's.temperature = -40'\n", ""),
    "an output set like a sensor": ("at = '1s'\nact = 'r.on = true'\n", "message('r/on/set', 'true')"),
    "a broker that refuses": ("at = '1s'\nact = 'broker.refuses'\n", ""),
}


@pytest.mark.parametrize("name", STEPS)
def test_keys_and_values_that_do_nothing(name, put):
    text, said = STEPS[name]
    site = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
    device = put({"device.toml": DEVICE, "script.toml": f"{HEAD}[[step]]\n{text}", "site.toml": site})
    found = read_script(device.parent / "script.toml", zapato.load(device)).document.findings
    words = " ".join([f.message + " " + " ".join(f.fixes) for f in found])
    assert bool(found) == bool(said) and said in words, words


@pytest.mark.parametrize(
    "act", ["wifi.down", "broker.down", "message('r/on/set', 'true')", "retained('x/y', '1')"]
)
def test_what_cannot_reach_a_device_without_a_network(act, put):
    device = put({"device.toml": DEVICE, "script.toml": f'{HEAD}[[step]]\nat = "1s"\nact = "{act}"\n'})
    found = read_script(device.parent / "script.toml", zapato.load(device)).document.findings
    assert [f.code for f in found] == ["network-missing"] and "[wifi] with name" in found[0].fixes[0]


def test_what_the_world_leaves_out_and_what_nobody_heard_is_told(put, cli):
    """No verdict blames the firmware for the simulator: a sensor that nobody feeds is named, and so is a lost message."""
    site = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
    steps = "[world]\ns.humidity = 50\n[[step]]\nat = '100ms'\nact = \"message('r/on/set', 'true')\"\n"
    device = put({"device.toml": DEVICE, "script.toml": HEAD + steps, "site.toml": site})
    called = cli("rehearse", device, "--script", device.parent / "script.toml")
    assert called.code == 0 and "[world] does not set s.temperature, so s does not answer" in called.out
    assert (
        "1 message did not reach the device: it was not connected (refuge/bench/r/on/set at 0:00:00.100)"
        in called.out
    )


BUS = "[i2c.main]\nsda = 21\nscl = 22\n"
LEFT_OUT = {
    "a chip on a pin answers with all or nothing": (
        '[sensor.s]\nchip = "dht22"\npin = 27\n', "s.humidity = 50",
        "[world] does not set s.temperature, so s does not answer",
    ),
    "a chip on a bus answers with what there is": (
        BUS + '[sensor.s]\nbus = "main"\nchip = "sht31"\n', "s.humidity = 50",
        "[world] does not set s.temperature: what s says of it means nothing",
    ),
    "or with nothing": (
        BUS + '[sensor.s]\nbus = "main"\nchip = "sht31"\n', "",
        "[world] does not set s.temperature, s.humidity, so s does not answer",
    ),
    "what is inside the chip is never without an answer": ('[sensor.s]\nchip = "board"\n', "", ""),
    "all is set": ('[sensor.s]\nchip = "dht22"\npin = 27\n', "s.humidity = 50\ns.temperature = 20", ""),
}  # fmt: skip


@pytest.mark.parametrize("what", LEFT_OUT)
def test_what_a_sensor_would_feel_and_nobody_sets(what, put):
    body, world, said = LEFT_OUT[what]
    head = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n'
    device = put({"device.toml": head + body, "script.toml": f"{HEAD}[world]\n{world}\n"})
    design = zapato.load(device)
    assert not design.findings
    script = read_script(device.parent / "script.toml", design)
    assert not script.document.findings and script.notes == ([said] if said else [])


def test_a_picture_that_cannot_be_is_refused_before_the_run(put, cli):
    device = put({"device.toml": DEVICE, "script.toml": '[rehearsal]\nlasts = "300d"\n'})
    called = cli(
        "rehearse", device, "--script", device.parent / "script.toml", "--plot", device.parent / "day.jpeg"
    )
    assert called.code == 2 and "a picture ends in" in called.err
