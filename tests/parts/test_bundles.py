"""Bundles, ours and others': whole, of one form, and each driver's arguments as its MicroPython class takes them."""

import ast
import dataclasses
import re
from functools import cache

import pytest
from conftest import HEADER

import zapato
from zapato import extensions
from zapato.design import resolve
from zapato.design.program import drivers
from zapato.lang import site as shapes
from zapato.lang import tables
from zapato.parts import kinds
from zapato.parts.sensors import chip, chip_names
from zapato.parts.simulation import Simulation
from zapato.simulator.chips import stand_in

FILES = {
    "__init__.py",
    "part.py",
    "chip.py",
    "sim.py",
    "cost.json",
    "quasi.py",
    "switch.py",
    "serial.py",
    "opcode.py",
    "device",
    "__pycache__",
}
SENSORS = {
    "i2c": '[i2c.b]\nsda = 21\nscl = 22\n[sensor.s]\nchip = "{0}"\nbus = "b"\n',
    "spi": '[spi.b]\nsck = 18\nmosi = 23\nmiso = 19\n[sensor.s]\nchip = "{0}"\nbus = "b"\nselect = 27\n',
    "onewire": '[onewire.b]\npin = 4\npull_up = "4.7kohm"\n[sensor.s]\nchip = "{0}"\nbus = "b"\n',
}


@pytest.mark.parametrize("bundle", extensions.own_bundles().values(), ids=lambda each: each.name)
def test_a_bundle_of_ours_is_whole(bundle):
    """It has what makes it a kind or a chip, nothing that nobody reads, and can be loaded."""
    assert {each.name for each in bundle.folder.iterdir()} <= FILES
    if bundle.chip_of:
        made = bundle.member("chip", "CHIP")
        assert made.name == bundle.name and getattr(made, "kind", "sensor") == bundle.chip_of
    else:
        assert bundle.member("part", "KIND").name == bundle.name
    if bundle.chip_of and bundle.has("sim.py") and made.addresses:
        assert hasattr(stand_in(bundle.name, lambda what: None), "write")


@cache
def _classes(module: str, port: str) -> dict[str, ast.ClassDef]:
    tree = ast.parse(extensions.device_source(module, port) or "")
    found = {each.name: each for each in tree.body if isinstance(each, ast.ClassDef)}
    for each in tree.body:
        if isinstance(each, ast.ImportFrom) and extensions.device_texts(each.module or ""):
            found = _classes(each.module or "", port) | found
    return found


def _takes(module: str, cls: str, port: str) -> tuple[int, int]:
    """How many arguments the class takes, least and most, without self."""
    known = _classes(module, port)
    while True:
        made = next(
            (f for f in known[cls].body if isinstance(f, ast.FunctionDef) and f.name == "__init__"), None
        )
        if made:
            most = 99 if made.args.vararg else len(made.args.args) - 1
            return len(made.args.args) - 1 - len(made.args.defaults), most
        base = known[cls].bases[0]
        assert isinstance(base, ast.Name)
        cls = base.id


def _devices():
    for kind in kinds():
        yield kind.name, kind.example
    for name in chip_names():
        made = chip(name)
        pins = "".join(
            f"{each} = {number}\n" for each, number in zip(("pin", *made.requires), (34, 25), strict=False)
        )
        if made.bus in SENSORS or made.need or made.inside:
            yield (
                name,
                SENSORS.get(made.bus, '[sensor.s]\nchip = "{0}"\n' + pins * (made.need is not None)).format(
                    name
                ),
            )


@pytest.mark.parametrize(("name", "body"), [*_devices()], ids=lambda each: each if "\n" not in each else "")
def test_a_rehearsal_is_read_while_pins_are_missing(put, name, body):
    """One that the solver is to choose, or that is left out: what can be done to a part is known all the same."""
    parts = resolve(put(HEADER.format(board="esp32-38pin") + body)).parts.values()
    acts = [f"{part.name}.{word}" for part in parts for word in part.simulation.gestures]
    acts += [f"{part.name}.{key} = 20" for part in parts for key in part.simulation.stimuli]
    script = '[rehearsal]\nlasts = "1min"\n' + "".join(f"[[step]]\nact = '{act}'\n" for act in acts)
    pin = "|".join({each.name for part in parts for each in part.fields if each.role == "pin"} or {"-"})
    auto = re.sub(rf"(?m)^({pin}) *= .*$", r'\1 = "auto"', body)
    for text in (
        auto,
        *(body.replace(line[0], "", 1) for line in re.finditer(rf"(?m)^({pin}) *= .*$", body)),
    ):
        site = {"site.toml": '[site]\nname = "s"\n', "rehearsals/bench.toml": script}
        put(site | {"devices/bench.toml": HEADER.format(board="esp32-38pin") + text})
        found = [f for f in zapato.check(put({}).parent) if f.place.file.endswith("rehearsals/bench.toml")]
        assert not [f.message for f in found if f.code == "link-unknown"], text


@pytest.mark.parametrize(("name", "body"), [*_devices()], ids=lambda each: each if "\n" not in each else "")
def test_a_driver_s_arguments_are_those_its_class_takes(put, name, body):
    design = resolve(put(HEADER.format(board="esp32-38pin") + body))
    found = drivers(design)
    assert found or all(part.kind.passive for part in design.parts.values())
    for driver in found.values():
        if driver.module.startswith("d_"):
            continue  # made of a description; it inherits
        least, most = _takes(driver.module, driver.cls, "esp32")
        assert least <= len(driver.arguments) + 2 <= most, driver
        for module, cls, given in driver.wraps:
            least, most = _takes(module, cls, "esp32")
            assert least <= len(given) + 2 <= most


TABLES = {
    "WIFI": "WifiTable",
    "MQTT": "MqttTable",
    "TIME": "TimeTable",
    "ETHERNET": "EthernetTable",
    "LAN": "LanTable",
}


@pytest.mark.parametrize("shape", TABLES)
def test_the_types_of_tables_have_the_keys_of_their_shapes(shape):
    assert getattr(tables, TABLES[shape]).__annotations__.keys() == getattr(shapes, shape).by_name.keys()


def test_a_resolved_design_does_not_change(put):
    design = zapato.load(put(HEADER.format(board="esp32-38pin") + "[relay.r]\npin = 26\n"))
    with pytest.raises(AttributeError, match=r"dataclasses\.replace"):
        design.name = "other"
    assert dataclasses.replace(design, name="other").name == "other"
    assert repr(design.parts["r"].needs[0]).startswith("Need(field='pin', use='output'")
    assert repr(Simulation()).startswith("Simulation(probes={}")
