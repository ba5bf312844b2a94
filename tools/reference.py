"""Writes docs/device-file.md, docs/findings.md and docs/figures.md from the code. With --check: exit 1 where they are stale.

usage: python tools/reference.py [--check]
"""

from __future__ import annotations

import ast
import contextlib
import sys
import tempfile
from collections.abc import Iterator, Mapping
from dataclasses import replace
from importlib import import_module
from itertools import pairwise
from pathlib import Path

from zapato.boards.board_file import ANALOG, BOARD, FITTED, SUPPLY
from zapato.budgets.memory import costs, features
from zapato.checks import check, rules
from zapato.checks.rule import Rule, files
from zapato.cli.report import text_of
from zapato.design import Design
from zapato.design.links import SHAPE as LINK
from zapato.design.models import SHAPE as MODEL
from zapato.design.resolve import DEVICE, resolve
from zapato.design.script import STEP
from zapato.design.site_script import SITE_HEAD
from zapato.lang.fields import Field, Shape
from zapato.lang.site import ETHERNET, LAN, MQTT, SITE, TIME, WIFI
from zapato.lang.units import EXAMPLES, shown_time
from zapato.parts import Kind, Part, kinds
from zapato.parts.sensors import SensorChip, chip, chip_names

DOCS = Path(__file__).parents[1] / "docs"
SOURCES = DOCS.parent / "src" / "zapato"
NOTE = "<!-- made by tools/reference.py; change the code, then run `make docs` -->\n"


def _takes(field: Field) -> str:
    schema = field.schema
    if field.role == "pin":
        return "pin"
    if "enum" in schema:
        words = schema["enum"]
        return " ".join(f"`{word}`" for word in words) if len(words) < 12 else "word"
    if "minimum" in schema:
        return f"whole number {schema['minimum']} to {schema['maximum']}"
    if field.dimension:
        example = EXAMPLES[field.dimension].split(", ")[0]
        return f"{'time' if field.dimension == 'time' else 'value'}, such as `{example}`"
    kinds_of = {
        "boolean": "`true` `false`",
        "number": "number",
        "array": "list",
        "object": "table",
        "string": "text",
    }
    return kinds_of.get(str(schema.get("type")), "list of names" if "anyOf" in schema else "value")


def _default(field: Field) -> str:
    if field.required:
        return "**must be given**"
    value = field.default
    if value in (None, "", (), {}):
        return ""
    if isinstance(value, bool):
        return f"`{str(value).lower()}`"
    if isinstance(value, str):
        return f'`"{value}"`'
    return (
        shown_time(value)
        if _takes(field).startswith("time") and isinstance(value, (int, float))
        else f"`{value:g}`"
        if isinstance(value, (int, float))
        else f"`{value}`"
    )


def _table(shape: Shape | tuple[Field, ...]) -> Iterator[str]:
    yield "| key | takes | default | meaning |"
    yield "|---|---|---|---|"
    for field in shape.fields if isinstance(shape, Shape) else shape:
        yield f"| `{field.name}` | {_takes(field)} | {_default(field)} | {field.help} |"
    yield ""


def _design(body: str) -> Design:
    """A device with nothing but this."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "device.toml"
        path.write_text(f'zapato = 1\n[device]\nname = "x"\nboard = "esp32-38pin"\n{body}\n', "utf-8")
        return resolve(path)


def _costs(body: str) -> str:
    """What a device file takes beyond an empty one, in bytes, on a chip with little memory: heap and flash."""
    table, empty = costs()["short"], features(_design(""))
    found = features(_design(body))
    found.subtract(empty)
    heap, flash = (
        sum(n * table[what].get(name, 0) for name, n in found.items()) for what in ("heap", "flash")
    )
    return f"{round(heap, -1):,.0f} bytes of heap, {round(flash, -1):,.0f} of flash"


def _sensor_costs(name: str) -> str:
    """The same for a sensor chip, with the bus that it hangs on."""
    one = chip(name)
    if one.driver is None:
        return ""
    bus = {"i2c": "[i2c.b]\nsda = 21\nscl = 22\n", "onewire": "[onewire.b]\npin = 4\n"}.get(one.bus, "")
    hangs = 'bus = "b"' if bus else "" if one.need is None else "pin = 33"
    more = "".join(f"\n{each} = 25" for each in one.requires)
    return _costs(f'{bus}[sensor.s]\nchip = "{name}"\n{hangs}{more}')


def _kind(kind: Kind) -> Iterator[str]:
    yield f"### `{kind.name}`: {kind.help}\n"
    yield f"```toml\n{kind.example}\n```\n"
    if kind.wiring:
        yield f"**Wiring.** {kind.wiring}\n"
    if not kind.passive:
        yield f"**Memory.** This takes {_costs(kind.example)} on a chip with 36 KiB for everything.\n"
    yield from _table(kind.fields)
    part = Part(kind, "x", {})
    for name, prop in kind.properties(part).items():
        unit = f", {prop.unit}" if prop.unit else ""
        extent = f", {prop.low:g} to {prop.high:g}" if prop.low is not None and prop.high is not None else ""
        options = f"; one of {', '.join(f'`{each}`' for each in prop.options)}" if prop.options else ""
        settable = ", settable" if prop.settable else ""
        yield f"- property `{name}` ({prop.type}{unit}{extent}{settable}): {prop.help}{options}"
    for name, help in kind.events.items():
        yield f"- event `{name}`: {help}"
    for name, action in kind.actions.items():
        arguments = f"({', '.join(a.name for a in action.arguments)})" if action.arguments else ""
        yield f"- action `{name}{arguments}`: {action.help}"
    yield from _rehearsed(kind)
    yield ""


def _rehearsed(kind: Kind) -> Iterator[str]:
    """What a rehearsal can do to such a part, as its example stands there."""
    part = next((each for each in _design(kind.example).parts.values() if each.kind is kind), None)
    if part is None:
        return
    simulation = part.simulation
    sets = [f"`{part.name}.{name} = …`" for name in simulation.stimuli]
    acts = [f"`{part.name}.{name}`" for name in simulation.gestures]
    if sets or acts:
        yield f"- in a rehearsal: {', '.join([*sets, *acts])}"


def _hangs(one: SensorChip) -> str:
    return one.bus or ("a pin" if one.need else "nothing")


def _sensors() -> Iterator[str]:
    yield "### Sensor chips\n"
    yield "| chip | measures | hangs on | addresses | wiring | memory, with its bus | source |"
    yield "|---|---|---|---|---|---|---|"
    for name in chip_names():
        one = chip(name)
        measures = ", ".join(f"`{p}` ({v.unit})" for p, v in one.properties.items())
        addresses = ", ".join(f"0x{a:02x}" for a in one.addresses)
        yield f"| `{name}` | {measures} | {_hangs(one)} | {addresses} | {one.wiring} | {_sensor_costs(name)} | {one.source} |"
    yield ""
    for name in chip_names():
        if fields := chip(name).fields:
            yield f'With `chip = "{name}"` there are also:\n'
            yield from _table(fields)


def device_file() -> str:
    """The reference of the language."""
    lines = [
        "# The device file",
        "",
        NOTE,
        "TOML 1.0. The first line is `zapato = 1`. Values with units are texts: "
        + "; ".join(EXAMPLES.values())
        + '. `{ secret = "name" }` may stand for the Wi-Fi name and password and the broker\'s host, user and password.',
        "",
        'A **pin** is the chip\'s GPIO number (`26`), a label of the board (`"D4"`), the name of a fitted part (`"relay1"`), a pin that '
        'another part offers (`"io.3"`), or `"auto"`: `zapato fit` chooses.',
        "",
        "## `[device]`\n",
        *_table(DEVICE),
        "What follows a table's name belongs to that table: `zapato`, `use` and `with` stand above `[device]`; `[wifi]`, `[mqtt]` and `[time]` "
        "are tables of their own, and one of them in a device file adds to the site's, key by key. The name is part of topics and of file "
        "names: a-z, 0-9 and hyphens; what people read stands in `label`.\n",
        "## Kinds of parts\n",
        "`[kind.name]`; a name is unique in the device over all kinds. Every part may also have:\n",
        *_table(tuple(kinds()[0].shape.fields[len(kinds()[0].fields) :])),
    ]
    for kind in kinds():
        lines += _kind(kind)
        if kind.has_role("sensor"):
            lines += _sensors()
    lines += [*_links(), *_shared(), *_network(), *_boards(), *_rehearsals()]
    return "\n".join(lines).rstrip() + "\n"


def _links() -> Iterator[str]:
    yield from ("## `[[link]]`: when, if, do\n", *_table(LINK))
    yield (
        "Expressions have `part.property`, numbers, texts, `true`, `false`, comparisons, `and` `or` `not`, `+ - * /`, `min` `max` `abs` "
        "`round`, `known(part.property)`, and by the clock on the wall `between('22:00', 'sunrise')` and `weekday('mon-fri')`. What another "
        "device of the site says is `device.part.property`: [a site as one](sites.md). A condition that reads a value not yet known is not true. "
        "`do` takes `part.action`, `part.action(…)`, `part.property = expression` and `notify('… {part.property} …')`. What each key does, with "
        "rehearsed examples and a picture: [links](links.md).\n"
    )


def _shared() -> Iterator[str]:
    yield "## Pieces and families\n"
    yield (
        '`use = ["pieces/two-relays.toml"]` merges files of parts and links, relative to the site; `with = { lamp_pin = 26 }` fills '
        'their `{ with = "lamp_pin" }`. The device file wins. With a table, `with = "tables/lockers.csv"`, the file is a family: a device for '
        "each row, which fills `{ with = … }` in the file itself, too: [a site as one](sites.md).\n"
    )


def _network() -> Iterator[str]:
    yield from ("## Network: in site.toml, or in a device that differs\n", "### `[wifi]`\n", *_table(WIFI))
    yield from ("### `[time]`\n", *_table(TIME), "### `[mqtt]`\n", *_table(MQTT))
    yield from ("### `[ethernet]`, in a device that is wired\n", *_table(ETHERNET))
    yield from ("## site.toml\n", "### `[site]`\n", *_table(SITE), "### `[lan]`\n", *_table(LAN))


OWN_BOARD = """# boards/carrier.toml
id = "carrier-c3"                # board = "carrier-c3" in a device file
title = "our own carrier"
chip = "esp32c3"
flash = 4194304                  # bytes: 4 MiB
usb = "the chip's own"

[supply]
rail_ma = 500
note = "the regulator's datasheet"

[headers]                        # in their order, as they are printed
left = ["3V3", "GND", "D4=4", "D5=5", "D6=6"]
right = ["5V", "GND", "SDA=8", "SCL=9"]

[[input]]
name = "5V"
volts = "4.5V-5.5V"
source = "as printed"

[[fitted]]
name = "lamp"
kind = "led"
what = "the blue LED"
pins = [7]
active = "low"
why = "the LED hangs on this pin"
"""


def _boards() -> Iterator[str]:
    yield from (
        "## A site's own boards: `boards/*.toml`\n",
        "A board that the catalogue does not have is described beside the devices; its chip's limits hold as for the others.\n",
        f"```toml\n{OWN_BOARD}```\n",
        *_table(BOARD),
        "### `supply`\n",
        *_table(SUPPLY),
    )
    yield from ("### `analog`\n", *_table(ANALOG), "### `[[fitted]]`\n", *_table(FITTED))


def _rehearsals() -> Iterator[str]:
    yield from (
        "## Rehearsals\n",
        "### `[rehearsal]`\n",
        *_table(SITE_HEAD),
        "### `[world]`, and acts\n",
        "What stands outside: `part.property = value` at the beginning, the same words as in an act. Which words a part has stands with its "
        'kind above ("in a rehearsal"); a sensor\'s are what its chip feels, before `scale`, `points` and the like.\n',
        "### `[[step]]`\n",
        *_table(STEP),
    )
    yield "### `[model.NAME]`\n"
    yield (
        "What the device feels follows from what it drives. A `room` goes towards `outside` plus the sum of what works on it, "
        "dT/dt = (end - T) / `constant`; a `tank` changes by the sum, a minute. A blind travels by itself: its `position` in "
        "expectations is where its two pins have driven it, from where the world's `position` said that it was.\n"
    )
    yield from _table(MODEL)


def findings() -> str:
    """The reference of findings: every code with its story and its examples."""
    lines = [
        "# Findings",
        "",
        NOTE,
        "An error means it cannot work; a warning, it may bite; a note, worth knowing.",
        "",
    ]
    families = dict.fromkeys(rule.family for rule in rules().values())
    for family in families:
        lines.append(
            f"- {family}: "
            + ", ".join(f"[{r.code}](#{r.code})" for r in rules().values() if r.family == family)
        )
    lines.append("")
    for rule in rules().values():
        lines += [
            f"## {rule.code}",
            "",
            f"*{'/'.join(rule.severities)}: {rule.title}*",
            "",
            rule.story.strip(),
            "",
        ]
        lines += ["This fails:", "", *_files(rule.failing), "`zapato check` says:", "", _said(rule)]
        lines += ["This is mended:", "", *_files(rule.mended)]
    return "\n".join(lines).rstrip() + "\n"


def _files(example: str | Mapping[str, str]) -> Iterator[str]:
    """The files of an example, a block each."""
    named = files(example)
    for name, text in named.items():
        head = f"# {name}\n" if len(named) > 1 else ""
        yield f"```toml\n{head}{text.strip()}\n```"
        yield ""


def _said(rule: Rule) -> str:
    """What a check says of the failing example: the findings of this code, as people read them."""
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        for name, text in files(rule.failing).items():
            path = Path(name)
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, "utf-8")
        found = check(path if (path := Path("device.toml")).exists() else Path("."))
        own = replace(found, findings=tuple(f for f in found.findings if f.code == rule.code))
        return f"```text\n{text_of(own).rstrip()}\n```\n"


def _named_figures(path: Path) -> Iterator[tuple[str, object, str]]:
    """The numbers that a module gives names to and explains: the name, the value and the text below it."""
    body = ast.parse(path.read_text("utf-8")).body
    module = ".".join(path.relative_to(SOURCES.parent).with_suffix("").parts).removesuffix(".__init__")
    for made, said in pairwise(body):
        if (
            not isinstance(made, ast.Assign)
            or not isinstance(said, ast.Expr)
            or not isinstance(said.value, ast.Constant)
        ):
            continue
        target = made.targets[0]
        for name in target.elts if isinstance(target, ast.Tuple) else [target]:
            value = getattr(import_module(module), name.id) if isinstance(name, ast.Name) else None
            plain = value if isinstance(value, tuple) else (value,)
            if all(isinstance(each, (int, float)) and not isinstance(each, bool) for each in plain):
                yield name.id.strip("_"), value, " ".join(str(said.value.value).split())  # type: ignore[union-attr]


def figures() -> str:
    """The page of the numbers that the code decides by."""
    text = f"{NOTE}# Figures\n\nThe numbers that Zapato decides by, with what each is; where one is a datasheet's or a standard's, that is named.\n"
    for path in sorted(SOURCES.rglob("*.py")):
        if "device" in path.parts or path.name == "__main__.py":
            continue
        rows = [
            f"| `{name}` | {value!r} | {what.replace('|', chr(92) + '|')} |"
            for name, value, what in _named_figures(path)
        ]
        if rows:
            where = path.relative_to(SOURCES).with_suffix("").as_posix()
            text += f"\n## {where}\n\n| name | value | what it is |\n|---|---|---|\n" + "\n".join(rows) + "\n"
    return text


def main(check: bool) -> int:
    stale = []
    for name, text in (
        ("device-file.md", device_file()),
        ("findings.md", findings()),
        ("figures.md", figures()),
    ):
        path = DOCS / name
        if not path.is_file() or path.read_text("utf-8") != text:
            stale.append(name)
            if not check:
                path.write_text(text, "utf-8")
    for name in stale:
        print(f"{'stale' if check else 'wrote'} docs/{name}")
    return int(check and bool(stale))


if __name__ == "__main__":
    sys.exit(main("--check" in sys.argv[1:]))
