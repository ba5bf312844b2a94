"""The release build of a small chip: other names, the same program, and the way back from its tracebacks."""

import ast
import json
import re
import subprocess

import pytest
from conftest import HEADER, NETWORK, steps

import zapato
from zapato import extensions
from zapato.firmware import program
from zapato.firmware.compile import compiler, runtime_source
from zapato.firmware.shorten import names_in_rom, port_names, shorten

MODULES = [
    "pins",
    "loop",
    "values",
    "output",
    "relay",
    "relay_persisted",
    "led",
    "switch",
    "button",
    "sensor",
    "s_dht",
    "store",
    "links",
    "net",
    "mqtt",
    "start",
    "fault",
    "group",
]
DIVIDES = '[flag.g]\n[number.n]\nstart = 0\n[[link]]\nwhen = "g.on"\ndo = "n.set(1 / n.value)"\n'


def _compiled_names(names, tmp_path) -> bytes:
    source = tmp_path / "names.py"
    source.write_text("".join(f"x.{name}\n" for name in names))
    out = tmp_path / "names.mpy"
    subprocess.run([compiler()[0], "-O3", "-o", str(out), str(source)], check=True)
    return out.read_bytes()


def test_names_of_the_rom_are_those_that_the_compiler_does_not_write_out(tmp_path):
    written = _compiled_names([*names_in_rom(), "surely_not_there"], tmp_path)
    assert b"surely_not_there" in written
    assert not [
        name
        for name in names_in_rom()
        if b"\0" + name.encode() + b"\0" in written or name.encode() in written[60:]
    ]


def test_what_the_program_takes_from_a_port_keeps_its_name():
    """`json.load` stays itself, though a module of ours has a function of that name."""
    for path in extensions.device_files().values():
        tree = ast.parse(path.read_text())
        imports = [a.name for n in ast.walk(tree) if isinstance(n, ast.Import) for a in n.names]
        foreign = {name for name in imports if not extensions.device_texts(name)} - {
            "levels",
            "plan",
            "device",
        }
        taken = {
            node.attr for node in ast.walk(tree)
            if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id in foreign
        }  # fmt: skip
        assert taken <= port_names(), path.name


LENT = {
    "clock": '[relay.r]\npin = 14\n[[link]]\nat = "06:00"\ndo = "r.on"\n',
    "store and lamp": '[relay.r]\npin = 14\nstart = "last"\n[led.l]\npin = 12\nshows = "status"\n',
    "pulses and a guard": '[relay.r]\npin = 14\n[sensor.s]\nchip = "pulse"\npin = 13\n[guard.g]\nwhen = "s.rate > 3"\noff = ["r"]\n',
}


@pytest.mark.parametrize("what", LENT)
def test_what_one_module_gives_to_anothers_object_has_a_name_of_its_own(what, put, tmp_path, monkeypatch):
    """`d.clock` of the plan and `d.changed` of the loop are attributes of one object, and neither module imports the other."""
    made = []
    shortened = program.shorten
    monkeypatch.setattr(
        program,
        "shorten",
        lambda sources: made.append((sources, shortened(sources)[1])) or shortened(sources),
    )
    head = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp8266-30pin"\n[wifi]\nname = "hut"\n[mqtt]\nhost = "10.0.0.2"\n'
    zone = '[time]\nzone = "Europe/Zurich"\n'
    path = put(head + zone + LENT[what])
    assert not [f for f in zapato.check(path) if f.code in ("unknown-key", "wrong-type", "missing-key")]
    zapato.build(path, tmp_path / "out")
    for sources, names in made:
        lent = {
            node.attr
            for text in sources.values()
            for node in ast.walk(ast.parse(text))
            if isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store)
            and not (isinstance(node.value, ast.Name) and node.value.id == "self")
        }  # fmt: skip
        for name in lent:
            new = {table[name] for table in names.values() if name in table}
            others = {old for table in names.values() for old, given in table.items() if given in new} - {
                name
            }
            assert len(new) <= 1 and not others, (name, new, others)
    assert made


def test_a_shortened_program_has_the_same_shape_and_keeps_what_others_see():
    sources = {name: runtime_source(name, "esp8266") for name in MODULES}
    short, names = shorten(sources)
    for name in MODULES:
        before, after = ast.parse(sources[name]), ast.parse(short[name])
        assert [type(n) for n in ast.walk(before)] == [type(n) for n in ast.walk(after)]
        assert sources[name].count("\n") == short[name].count("\n")
    kept = {
        "on",
        "down",
        "toggle",
        "value",
        "irq",
        "poll",
        "isconnected",
        "recv",
        "parts",
        "d",
        "temperature",
    }
    assert not kept & {old for table in names.values() for old in table}
    # what one object may have together stays apart
    assert len(set(names["relay"].values()) | set(names["loop"].values())) == len(
        names["relay"] | names["loop"]
    )
    assert all(names[m]["Part"] == names["loop"]["Part"] for m in MODULES)


def test_the_shortened_program_does_the_same_in_less(bench, monkeypatch):
    body = (
        '[relay.lamp]\npin = 14\nstart = "last"\n[button.wall]\npin = 4\npull = "up"\n[group.all]\nof = ["lamp"]\n'
        '[[link]]\nwhen = "wall.pressed"\ndo = ["all.toggle", "notify(\'lamp {lamp.on}\')"]\nfor = "20s"\n'
    )
    script = steps("5s: wall.press", "<1s? lamp.on", "28s? not lamp.on", "40s: wall.press", "50s: power.cut")
    given = {"body": body, "steps": script, "board": "esp8266-30pin"}
    short = bench(**given)
    monkeypatch.setattr(program, "ROOMY", 0)
    whole = bench(**given)

    def told(result):
        rows = [r for r in result.records if "heap" not in str(r["value"]) and r["what"] != "expect"]
        return [
            (r["t"] // 1000, r["what"], r["name"], r["value"]) for r in rows
        ]  # it computes a little less, too

    assert told(short) == told(whole) and short.passed
    assert short.used.peak < 0.92 * whole.used.peak


@pytest.mark.parametrize(
    ("board", "place"),
    [("esp8266-30pin", "in <lambda>"), ("esp32-38pin", 'File "plan.py", line {line}, in <lambda>')],
)
def test_a_fault_names_its_place_in_our_sources(put, cli, tmp_path, board, place):
    body = HEADER.format(board=board) + DIVIDES
    path = put({"site.toml": NETWORK.format(qos=0), "device.toml": body})
    script = tmp_path / "s.toml"
    script.write_text('[rehearsal]\nlasts = "12s"\n' + steps("9s: message('g/on/set', 'true')", "10s? g.on"))
    built = zapato.build(path, tmp_path / "out")
    result = zapato.rehearse(path, script, app=built.app)
    told = "\n".join(text for _, text in result.log)
    assert "fault in link 1: ZeroDivisionError" in told and "links.py" in told
    lines = program.make_plan(zapato.load(path)).plans["plan"].split("\n")
    line = next(at for at, text in enumerate(lines, 1) if text.strip().startswith("(lambda:"))
    assert place.format(line=line) in told
    data = json.loads((built.folder / "map.json").read_text())
    assert bool(data["functions"]) == ("esp8266" in board) and bool(data["lines"]) == ("esp32" in board)


def test_a_fault_told_by_a_device_is_explained_with_its_build(site, tmp_path, cli):
    built = zapato.build(site / "devices" / "porch-light.toml", tmp_path)
    functions = json.loads((built.folder / "map.json").read_text())["functions"]
    name, places = next((k, v) for k, v in functions.items() if v[0].endswith("Mqtt.flush"))
    module, _, function = name.partition(".")
    text = f'fault in File "{module}.py", line 1, in {function}: OSError: 5'
    called = cli("explain", "--build", built.folder, text)
    assert called.out.strip() == f"fault in {places[0]}: OSError: 5" and called.code == 0
    missing = cli("explain", "--build", tmp_path / "nothing", text)
    assert missing.code == 2 and "zapato build" in missing.err
    (built.folder / "map.json").write_text('{"lines": 3}')
    assert cli("explain", "--build", built.folder, text).code == 2


def test_arguments_by_name_to_the_ports_functions_keep_their_names():
    """Where the published stubs do not tell of an argument, tools/port_names must."""
    own = {re.sub("_(esp32|esp8266|rp2)$", "", name) for name in extensions.device_files()}
    for path in extensions.device_files().values():
        tree = ast.parse(path.read_text("utf-8"))
        foreign = {
            alias.asname or alias.name
            for node in ast.walk(tree)
            if isinstance(node, (ast.Import, ast.ImportFrom))
            for alias in node.names
            if (node.module if isinstance(node, ast.ImportFrom) else alias.name) not in own
        }
        for node in ast.walk(tree):
            if isinstance(node, ast.Call) and node.keywords:
                names = {each.id for each in ast.walk(node.func) if isinstance(each, ast.Name)}
                if names & foreign or "context" in names:
                    assert {k.arg for k in node.keywords if k.arg} <= set(port_names()), (
                        f"{path.name}:{node.lineno}"
                    )
