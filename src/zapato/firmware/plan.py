"""The plan: the design reduced to what the device must know, as a MicroPython module.

The text is generated from the checked design, never from the user's own text: names are names
of parts, numbers and texts are written by repr(), expressions come from the type checker.

It goes in modules of 16 statements: loading takes a module's bytecode in one piece, and in one module a plan did not load from
85 % of the heap on.
"""

from __future__ import annotations

import ast
import hashlib
import hmac
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from zapato.boards.port import port
from zapato.design.authority import authority
from zapato.design.commands import read_text
from zapato.design.design import Design
from zapato.design.links import STARTED, Link, rearmed
from zapato.design.program import drivers, follows, looked_up, runtime_modules, timed
from zapato.design.remote_parts import RemotePart
from zapato.design.scope import HOURS
from zapato.design.serial import serial_controllers
from zapato.design.sun import sun_table
from zapato.firmware.bundle import AIR
from zapato.firmware.bundle import NAME as BUNDLE
from zapato.lang.expressions import Expression, compile_expression
from zapato.lang.tables import broker_port
from zapato.lang.zones import Zone, zone
from zapato.parts.kind import Driver, Part
from zapato.record import record

MINUTE = "@.minute"
"""What conditions listen to that read the time of day."""
ALONE = 180_000
"""ms from a power-up until the device asks for other settings where nobody let it in."""
REST = 4000
"""ms that the program's loop waits at the most."""
AT_ONCE = 16
"""Statements of one module of the plan: loading a module takes its bytecode in one piece, and gives it back afterwards."""


@record(frozen=True)
class Plan:
    """The generated modules and the runtime modules they need.

    Attributes:
        plans: sources by name: "plan", and "plan1", "plan2" … where it goes in pieces; parts and links.
        levels: source of levels.py: the pins set before anything else.
        modules: names of the runtime modules that go into the bundle, sorted.
        apart: of the minimal program those that go into a second one, sorted.
    """

    plans: Mapping[str, str]
    levels: str
    modules: tuple[str, ...]
    apart: tuple[str, ...] = ()


def minimal(design: Design) -> Design:
    """The design of the minimal program: its network and its status LED, and nothing else."""
    lamps = {
        n: p for n, p in design.parts.items() if p.get("shows", "") == "status" and p.pins["pin"].gpio >= 0
    }
    mqtt = {k: v for k, v in (design.mqtt or {}).items() if k not in ("report", "apart")}
    return replace(design, parts=lamps, links=[], others=None, mqtt=mqtt or None, version="0")


def make_minimal_plan(design: Design) -> Plan:
    """The plan of the minimal program, which fetches updates and is there when the program itself is not."""
    small = minimal(design)
    alone = runtime_modules(replace(small, wifi=None, ethernet=None, mqtt=None))
    apart = tuple(sorted({*runtime_modules(small), "update"} - {*alone}))
    return Plan(_plans(small, _connect_minimal(small), clock=False), _levels(design, True), alone, apart)


def make_plan(design: Design) -> Plan:
    """The plan of a design without errors."""
    return Plan(_plans(design, _connect(design)), _levels(design), runtime_modules(design))


def _plans(design: Design, connect: Iterable[str], clock: bool = True) -> dict[str, str]:
    """The modules of the plan; `connect` are the lines of its connect(); without `clock` it is made there, if at all."""
    driver_of = drivers(design)
    made = [(part, driver_of[part.name]) for part in _ordered(design) if part.name in driver_of]
    statements = [_clock(design)] if clock and "clock" in runtime_modules(design) else []
    statements += [_hear(heard) for heard in design.heard.values()]
    statements += [_construct(part, driver) for part, driver in made]
    statements += [_watch(design, part, driver) for part, driver in made if driver.watches]
    statements += [_tell(design, part, driver) for part, driver in made if driver.tells]
    statements += [_link(link) for link in design.links]
    statements += [_follow(design, part) for part in design.parts.values() if follows(part)]
    pieces = [statements[at : at + AT_ONCE] for at in range(0, len(statements), AT_ONCE)] or [[]]
    full = design.board.analog.high if design.board else 0.0
    device = f"d = Device({design.name!r}, {design.topic!r}, {design.version!r}, {full!r})"
    if design.board and design.board.analog.low:
        device += f"\nd.floor = {design.board.analog.low!r}"
    names = ["plan", *(f"plan{number}" for number in range(1, len(pieces)))]
    pieces[0] = [device, *pieces[0], f"MORE = {tuple(names[1:])!r}", "\n".join(connect)]
    known = {"d": "plan"}
    plans = {name: _module(name, piece, known) for name, piece in zip(names, pieces, strict=True)}
    plans["plan"] = f"# {design.name} {design.version}\n{plans['plan']}"
    return plans


def _module(name: str, statements: Sequence[str], known: dict[str, str]) -> str:
    """One piece of the plan; `known` are the names of the pieces before it, and gets those of this one."""
    text = "\n\n".join(statements) + "\n"
    tree = ast.parse(text)
    own = {target.id: name for node in tree.body for target in _given(node)}
    read = {node.id for node in ast.walk(tree) if isinstance(node, ast.Name)}
    brought = {
        alias.name for node in ast.walk(tree) if isinstance(node, ast.ImportFrom) for alias in node.names
    }
    wanted: dict[str, list[str]] = {}
    for wanted_name in sorted(read - own.keys() - brought):
        if wanted_name in known:
            wanted.setdefault(known[wanted_name], []).append(wanted_name)
        elif wanted_name[0].isupper() or wanted_name in ("show", "unknown"):
            wanted.setdefault(BUNDLE, []).append(wanted_name)
    known |= own
    head = [f"from {module} import {', '.join(names)}" for module, names in wanted.items()]
    return "\n".join([*head, "", text])


def _given(node: ast.stmt) -> list[ast.Name]:
    targets = node.targets if isinstance(node, ast.Assign) else []
    return [target for target in targets if isinstance(target, ast.Name)]


def _ordered(design: Design) -> list[Part]:
    """What a part needs before it: its bus, who offers its pins, its members; else the order of the file, what only reads last.

    Serial links come first: a controller may take a pin for a moment that another part then has for itself.
    """
    serial = serial_controllers(design)
    parts: dict[str, Part] = {}

    def add(part: Part, above: tuple[str, ...] = ()) -> None:
        for other in _needed(design, part):
            if other.name not in (*parts, *above, part.name):
                add(other, (*above, part.name))
        parts.setdefault(part.name, part)

    for part in sorted(design.parts.values(), key=lambda part: (part.name not in serial, part.kind.late)):
        add(part)
    return list(parts.values())


def _needed(design: Design, part: Part) -> list[Part]:
    """The parts that its object on the device asks for when it is made."""
    owners = [pin.name.partition(".")[0] for pin in part.pins.values() if pin.gpio < 0]
    named = [other for key, other in part.linked.items() if not key.startswith("excludes.")]
    return [*named, *(design.parts[owner] for owner in owners)]


def _construct(part: Part, driver: Driver) -> str:
    arguments = ", ".join(["d", repr(part.name), *(repr(argument) for argument in driver.arguments)])
    lines = [f"p_{part.name} = d.add({driver.cls}({arguments}))"]
    if driver.through:
        argument = ", ".join(f"Treatment{given!r}" if given else "None" for given in driver.through)
        lines.append(f"Treated(p_{part.name}, ({argument},))")
    if driver.gives:
        lines.append(f"p_{part.name}.props = ({driver.gives!r},)")
        lines.append(f"p_{part.name}.{driver.gives} = None")
    lines += [f"p_{part.name}.{name} = {value!r}" for name, value in driver.sets.items()]
    lines += [
        f"{cls}({', '.join(['d', f'p_{part.name}', *map(repr, given)])})" for _, cls, given in driver.wraps
    ]
    return "\n".join(lines)


def _hear(heard: RemotePart) -> str:
    """A part of another device, with what of it is heard: each property by its name and type."""
    types = {"boolean": bool, "number": float, "text": str}
    rows = [f"({name!r}, {types[heard.part.properties[name].type].__name__})" for name in heard.properties]
    given = [
        repr(heard.name),
        repr(heard.design.topic),
        repr(heard.part.name),
        _tuple(rows),
        repr(tuple(heard.events)),
    ]
    return f"{heard.code} = RemotePart({', '.join(['d', *given])})"


def _levels(design: Design, minimal: bool = False) -> str:
    rows: list[tuple[int, int]] = []
    for use in design.uses:
        if use.need.use == "output" and use.need.active and use.pin.gpio >= 0:
            active = int(use.need.active == "high")
            rows.append((use.pin.gpio, active if use.part.get("start", "off") == "on" else 1 - active))
    return f"OUT = {tuple(rows)!r}\nMODULATED = {_modulated(design)!r}\n{_watchdog(design, minimal)}{_offered_levels(design)}"


def _modulated(design: Design) -> tuple[int, ...]:
    """The pins whose modulation goes on after they were made plain outputs, until it is ended."""
    if design.board is None or not port(design.board.chip.port).pwm.outlives:
        return ()
    return tuple(use.pin.gpio for use in design.uses if use.need.pwm and use.pin.gpio >= 0)


def _watchdog(design: Design, minimal: bool) -> str:
    """What the port begins with: interfaces of its radio to be switched off (0 station, 1 access point); the watchdog's period, how long
    the loop waits at the most, and whether the watchdog begins before the program is loaded."""
    if design.board is None:
        return ""
    known = port(design.board.chip.port)
    dog = known.watchdog
    silent = ((1,) if design.wifi is not None else (0, 1)) if known.radio.remembers else ()
    return f"SILENT = {silent!r}\nDOG = {dog.timeout}\nREST = {min(REST, dog.patience * 5 // 8)}\nWATCHED = {not (minimal and _late(design))}\n"


def _late(design: Design) -> bool:
    """The access point scans, which takes longer than the watchdog waits: the minimal program starts it only without one."""
    if design.board is None or design.wifi is None:
        return False
    known = port(design.board.chip.port)
    return known.watchdog.patience <= known.time.scan


def _offered_levels(design: Design) -> str:
    """OFFERED: for each expander the levels of its pins as they begin (an input is high), and which of them it drives."""
    levels = {part.name: [(1 << len(part.kind.offers(part))) - 1, 0] for part in design.with_role("expander")}
    for use in design.uses:
        owner, _, number = use.pin.name.rpartition(".")
        if use.pin.gpio < 0 and use.need.use == "output" and owner in levels:
            on = (use.need.active == "high") == (use.part.get("start", "off") == "on")
            levels[owner][0] &= ~(0 if on else 1 << int(number))
            levels[owner][1] |= 1 << int(number)
    return f"OFFERED = { ({name: tuple(row) for name, row in levels.items()})!r}\n" if levels else ""


def _clock(design: Design) -> str:
    """The device's clock: its zone, and the sun's table where somebody asks for the sun."""
    about = design.time or {}
    rule = zone(about.get("zone", "UTC")) or Zone(0)
    sun = b""
    if any(sunny for _, sunny in timed(design)):
        sun = sun_table(about.get("latitude") or 0.0, about.get("longitude") or 0.0, rule.standard)
    return f"d.clock = Clock(d, {rule.plain!r}, {sun!r})"


def _function(code: str) -> str:
    return f"lambda: ({code})"


def _link(link: Link) -> str:
    """The object that runs one link, with its expressions."""
    acts = [
        _function(command.code) if command.code else f"(p_{command.part}, {command.action!r})"
        for command in link.commands
    ]
    takes = dict.fromkeys(
        f"p_{command.part}" for command in link.commands if command.takes_back and link.undo_after
    )
    given = {
        "reads": _keys(link.when) if link.when else "",
        "event": repr("!".join(link.event)) if link.event and link.event != STARTED else "",
        "when": _function(link.when.code) if link.when else "",
        "test": _function(link.condition.code) if link.condition else "",
        "takes": _tuple(takes) if takes else "",
        "rearm": _function(link.rearm) if link.rearm else "",
        "held": str(link.held or ""),
        "wait": str(link.after or ""),
        "span": str(link.undo_after or ""),
        "every" if link.alone else "period": str(link.every or ""),
        "times": str(link.times or ""),
    }
    more = [f"{key}={code}" for key, code in given.items() if code]
    made = "RepeatedLink" if link.every and not link.alone else "Link"
    text = f"{made}(\n    {_lines(['d', str(link.number), _tuple(acts), *more])}\n)"
    if link.event == STARTED:  # when everything is there
        return f"d.starts.append({text}.fire)"
    if not link.at:
        return text
    return f"d.clock.ring({_tuple(moment.code for moment in link.at)}, {link.days}, {text})"


def _lines(arguments: Iterable[str]) -> str:
    return ",\n    ".join(arguments)


def _tuple(codes: Iterable[str]) -> str:
    return f"({''.join(f'{code}, ' for code in codes)})"


def _keys(expression: Expression | None) -> str:
    reads = list(dict.fromkeys(".".join(read) for read in expression.reads)) if expression else []
    if expression and any(name in HOURS for name, _ in expression.calls):
        reads.append(MINUTE)
    return repr(tuple(reads))


def _follow(design: Design, part: Part) -> str:
    expression = compile_expression(follows(part), design.scope)
    arguments = ["d", f"p_{part.name}", _function(expression.code), _keys(expression)]
    return f"Follow(\n    {_lines(arguments)}\n)"


def _watch(design: Design, part: Part, driver: Driver) -> str:
    """What a part is told to watch: its value, whether that is known, what it reads, and when it has gone back."""
    when = compile_expression(part.get(driver.watches, ""), design.scope)
    known = " and ".join(f"{guard} is not None" for guard in when.guards) or "True"
    code = when.code if when.value.type == "boolean" else f"{when.value.code} if {known} else None"
    given = [_function(code), _function(known), _keys(when)]
    if back := part.get("back", 0):
        given.append(_function(rearmed(when, back)))
    return f"p_{part.name}.watch({_lines(given)})"


def _tell(design: Design, part: Part, driver: Driver) -> str:
    """What a part is given to tell: pages of lines, each a function, and what they read."""
    scope = design.scope
    read = [[read_text(scope, line) for line in page] for page in part.pages(driver.tells)]
    keys = dict.fromkeys(".".join(key) for page in read for _, reads, _ in page for key in reads)
    if driver.plain:
        texts = [
            [compile_expression(line[1:-1], scope).value.code for line in page]
            for page in part.pages(driver.tells)
        ]
    else:
        texts = [[code for code, _, _ in page] for page in read]
    pages = _tuple(_tuple(map(_function, page)) for page in texts)
    return f"p_{part.name}.{driver.tells}({_lines([pages, repr(tuple(keys))])})"


def _connect(design: Design) -> Iterable[str]:
    """connect(): the network from the settings of the data partition, so that no plan holds a secret."""
    if design.wifi is None and design.ethernet is None:
        yield "connect = None"
        return
    yield "def connect(settings):"
    yield from _network(design)
    if design.wifi is not None and design.wifi.get("access") != "asked":
        yield f"    d.after({ALONE}, lambda: d.net.met or __import__('cmd_settings').alone(d))"


def _connect_minimal(design: Design) -> Iterable[str]:
    """connect() of the minimal program: the access point where somebody asked for it, else the network and an update."""
    given = f"settings or {{}}, {design.wifi is not None}, {design.mqtt is not None}"
    yield f"def opens(settings):\n    return __import__('access').opened(d, {given})\n\n"
    yield "def connect(settings):"
    if _late(design):
        yield "    import start"
        yield "    start.watch()"
        yield "    d.dog = start.dog"
    if "clock" in runtime_modules(design):  # TLS asks for the date
        yield f"    from {AIR} import Clock"
        yield f"    {_clock(design)}"
    yield from (line.replace(f"from {BUNDLE} ", f"from {AIR} ") for line in _network(design))
    yield f"    from {AIR} import Update"
    yield f"    Update(d, {'mqtt' if design.mqtt else None})"


def _network(design: Design) -> Iterable[str]:
    """The way to others, with what the settings say."""
    mqtt = "None"
    if design.mqtt is not None:
        looks_up = looked_up(str(design.mqtt.get("host") or ""))
        client = "TlsMqtt" if design.mqtt.get("tls") else "Mqtt"
        yield f"    from {BUNDLE} import {client}{', Names' * looks_up}"
        yield "    m = settings['mqtt']"
        keys = ("host", "port", "user", "password", "qos", "keep_alive")
        yield f"    mqtt = {client}(d, {', '.join(f'm[{key!r}]' for key in keys)}{', Names(d)' * looks_up})"
        if design.mqtt.get("tls"):
            yield "    mqtt.authority = settings['authority']"
        yield from _report(design)
        if design.heard:
            yield f"    from {BUNDLE} import Peers"
            yield "    Peers(mqtt)"
        mqtt = "mqtt"
    yield from _cable(design, mqtt) if design.ethernet is not None else _radio(design, mqtt)
    if "clock" in runtime_modules(design):
        yield "    d.clock.server = settings.get('time') or ''"


def _report(design: Design) -> Iterable[str]:
    """Other ways to report than plain JSON at once."""
    about = design.mqtt or {}
    if about.get("report") == "senml":
        units = {
            f"{part.name}/{name}": known.unit
            for part in design.parts.values()
            for name, known in part.properties.items()
            if known.unit
        }
        yield f"    from {BUNDLE} import Senml"
        yield f"    Senml(mqtt, {units!r})"
    if apart := about.get("apart"):
        yield f"    from {BUNDLE} import Apart"
        yield f"    Apart(mqtt, {apart})"


def _radio(design: Design, mqtt: str) -> Iterable[str]:
    name = "FixedNet" if design.address else "Net"
    yield f"    from {BUNDLE} import {name}"
    yield "    w = settings['wifi']"
    yield f"    {name}(d, w['name'], w['password'], {mqtt}, w['country'])"
    if design.address:
        yield "    d.net.address = settings.get('address')"


def _cable(design: Design, mqtt: str) -> Iterable[str]:
    assert design.board
    phy, chip = design.board.rmii, design.board.spi_ethernet
    if phy:
        opens, given = "rmii", (phy.phy, phy.address, phy.mdc, phy.mdio, phy.power, phy.clock, phy.clock_out)
    else:
        assert chip
        last = design.board.chip.resources.spi
        opens, given = "on_spi", (chip.phy, last, chip.sck, chip.mosi, chip.miso, chip.select, chip.interrupt)
    yield f"    from {BUNDLE} import Cable, LanNet, {opens}"
    yield f"    lan = {opens}({', '.join(map(repr, given))})"
    yield f"    LanNet(d, Cable(lan, settings.get('address')), {mqtt})"


PAGE_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
"""Letters of a page's password: none that looks like another."""


def page_password(update_key: str) -> str:
    """What the page of the device's own access point wants once it has secrets; it follows from the update key, so it can be told again."""
    made = hmac.new(bytes.fromhex(update_key), b"page", hashlib.sha256).digest()
    letters = "".join(PAGE_LETTERS[byte % len(PAGE_LETTERS)] for byte in made[:10])
    return f"{letters[:5]}-{letters[5:]}"


def settings(design: Design, update_key: str) -> dict[str, object]:
    """What the data partition holds and no update ever does: network, passwords, the update key."""
    wifi, mqtt = design.wifi or {}, design.mqtt or {}
    values: dict[str, object] = {"update_key": update_key}
    if design.wifi is not None:
        known = ("name", "password", "country") if wifi.get("name") else ("country",)
        values["wifi"] = {key: wifi.get(key) or "" for key in known}
        if access := wifi.get("access_password"):
            values["wifi"]["access"] = access
    alone = design.wifi is None and design.ethernet is None
    if not alone and not wifi.get("access_password"):  # nobody sets anything who does not know one of the two
        values["page"] = page_password(update_key)
    if design.address:
        values["address"] = design.address
    if design.time is not None:
        values["time"] = design.time.get("server") or ""
    if design.mqtt is not None and design.mqtt.get("tls"):
        values["authority"] = authority(design).hex()
    if design.mqtt is not None:
        names = {key: mqtt.get(key) or "" for key in ("host", "user", "password")}
        values["mqtt"] = {
            **names,
            "port": broker_port(mqtt),
            "qos": mqtt.get("qos", 0),
            "keep_alive": mqtt.get("keep_alive", 30_000),
        }
    return values
