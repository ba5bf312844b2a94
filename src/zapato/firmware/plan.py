"""The plan: the design reduced to what the device must know, as a MicroPython module.

The text is generated from the checked design, never from the user's own text: names are names
of parts, numbers and texts are written by repr(), expressions come from the type checker.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from zapato.design.links import Link, PartScope
from zapato.design.model import Design
from zapato.firmware.bundle import NAME as BUNDLE
from zapato.lang.expressions import Expression, compile_expression
from zapato.parts.model import Driver, Part


@dataclass(frozen=True)
class Plan:
    """The generated modules and the runtime modules they need.

    Attributes:
        plan: source of plan.py: parts and links.
        levels: source of levels.py: the pins set before anything else.
        modules: names of the runtime modules that go into the bundle, sorted.
    """

    plan: str
    levels: str
    modules: tuple[str, ...]


def make_plan(design: Design) -> Plan:
    """The plan of a design without errors."""
    drivers = [(part, driver) for part in _ordered(design) if (driver := part.kind.driver(part))]
    followers = [part for part in design.parts.values() if _follows(part)]
    used = {"Device", *(driver.cls for _, driver in drivers)}
    used |= {"Link"} if design.links else set[str]()
    used |= {"Follow"} if followers else set[str]()
    lines = [f"# {design.name} {design.version}", f"from {BUNDLE} import {', '.join(sorted(used))}"]
    full = design.board.analog.high if design.board else 0.0
    lines += ["", f"d = Device({design.name!r}, {design.topic!r}, {design.version!r}, {full!r})"]
    lines += [_construct(part, driver) for part, driver in drivers]
    for link in design.links:
        lines += _link(link)
    for part in followers:
        lines += _follow(design, part)
    lines += ["", *_connect(design)]
    return Plan("\n".join(lines) + "\n", _levels(design), _modules(design, [d for _, d in drivers]))


def _ordered(design: Design) -> list[Part]:
    """Buses before the parts that hang on them, groups after their members; else the order of the file."""

    first = [part for part in design.parts.values() if part.kind.name not in ("group", "sensor")]
    found = {part.name: part for part in first}
    waiting = [part for part in design.parts.values() if part.name not in found]
    waiting.reverse()
    while waiting:
        part = waiting[-1]
        before = [p for p in part.linked.values() if p is not part and p.name not in found]
        if before:
            waiting += before
            continue
        waiting.pop()
        found.setdefault(part.name, part)
    return list(found.values())


def _construct(part: Part, driver: Driver) -> str:
    arguments = ", ".join(["d", repr(part.name), *(repr(each) for each in driver.arguments)])
    return f"p_{part.name} = d.add({driver.cls}({arguments}))"


def _levels(design: Design) -> str:
    rows: list[tuple[int, int]] = []
    for use in design.uses:
        if use.need.use == "output" and use.need.active:
            active = int(use.need.active == "high")
            rows.append((use.pin.gpio, active if use.part.get("start", "off") == "on" else 1 - active))
    return f"OUT = {tuple(rows)!r}\n"


def _function(name: str, body: str) -> list[str]:
    return ["", f"def {name}():", f"    return {body}"]


def _link(link: Link) -> list[str]:
    """The functions of one link and the object that runs it."""
    n, lines = link.number, list[str]()
    names: dict[str, str] = {}
    for letter, expression in (("w", link.when), ("i", link.condition)):
        if expression:
            lines += _function(f"{letter}{n}", expression.code)
            names[letter] = f"{letter}{n}"
    if link.rearm:
        lines += _function(f"r{n}", link.rearm)
    acts: list[str] = []
    for place, command in enumerate(link.commands):
        if command.code:
            lines += _function(f"a{n}_{place}", command.code)
        acts.append(f"a{n}_{place}" if command.code else f"(p_{command.part}, {command.action!r})")
    takes = dict.fromkeys(f"p_{each.part}" for each in link.commands if each.takes_back and link.undo_after)
    given = {
        "reads": _keys(link.when) if link.when else "",
        "event": repr("!".join(link.event)) if link.event else "",
        "when": names.get("w", ""),
        "test": names.get("i", ""),
        "takes": _tuple(takes) if takes else "",
        "rearm": f"r{n}" if link.rearm else "",
        "held": str(link.held or ""),
        "wait": str(link.after or ""),
        "span": str(link.undo_after or ""),
    }
    more = "".join(f", {key}={code}" for key, code in given.items() if code)
    return [*lines, "", f"Link(d, {n}, {_tuple(acts)}{more})"]


def _tuple(codes: Iterable[str]) -> str:
    return f"({''.join(f'{code}, ' for code in codes)})"


def _keys(expression: Expression | None) -> str:
    reads = dict.fromkeys(".".join(read) for read in expression.reads) if expression else ()
    return repr(tuple(reads))


def _follows(part: Part) -> bool:
    return part.get("shows", "") not in ("", "status")


def _follow(design: Design, part: Part) -> list[str]:
    expression = compile_expression(part.get("shows", ""), PartScope(design.parts))
    name = f"s_{part.name}"
    return [*_function(name, expression.code), "", f"Follow(d, p_{part.name}, {name}, {_keys(expression)})"]


def _connect(design: Design) -> Iterable[str]:
    """connect(): the network from the settings of the data partition, so that no plan holds a secret."""
    yield "def connect(settings):"
    if design.wifi is None:
        yield "    pass"
        return
    mqtt = "None"
    if design.mqtt is not None:
        yield f"    from {BUNDLE} import Mqtt"
        yield "    m = settings['mqtt']"
        mqtt = "Mqtt(d, m['host'], m['port'], m['user'], m['password'], m['qos'], m['keep_alive'])"
    yield f"    from {BUNDLE} import Net"
    yield "    w = settings['wifi']"
    yield f"    Net(d, w['name'], w['password'], {mqtt}, w['country'])"


def _modules(design: Design, drivers: list[Driver]) -> tuple[str, ...]:
    found = {"loop", "values"}
    for driver in drivers:
        found |= {driver.module, *driver.also}
    if found & {"relay", "relay_kept", "led"}:
        found.add("output")
    if design.links or any(_follows(part) for part in design.parts.values()):
        found.add("links")
    if design.wifi is not None:
        found |= {"net"} | ({"mqtt"} if design.mqtt is not None else set[str]())
    return tuple(sorted(found))


def settings(design: Design, update_key: str) -> dict[str, object]:
    """What the data partition holds and no update ever does: network, passwords, the update key."""
    wifi, mqtt = design.wifi or {}, design.mqtt or {}
    found: dict[str, object] = {"update_key": update_key}
    if design.wifi is not None:
        found["wifi"] = {key: wifi.get(key) or "" for key in ("name", "password", "country")}
    if design.mqtt is not None:
        port = mqtt.get("port") or (8883 if mqtt.get("tls") else 1883)
        names = {key: mqtt.get(key) or "" for key in ("host", "user", "password")}
        found["mqtt"] = {
            **names,
            "port": port,
            "qos": mqtt.get("qos", 0),
            "keep_alive": mqtt.get("keep_alive", 30_000),
        }
    return found
