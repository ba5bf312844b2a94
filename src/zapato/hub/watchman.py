"""Alerts at work: each is told once, and again only after what it watches has gone back."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from types import CodeType
from typing import Any

from zapato.design.alerts import Alert, usual_text
from zapato.hub.history import History
from zapato.hub.hub import Change, Hub, shown
from zapato.lang.expressions import Expression

_NAMES: Mapping[str, Any] = {"__builtins__": {}, "min": min, "max": max, "abs": abs, "round": round}


@dataclass
class _Watched:
    """An alert and how it stands: since when its condition is true (s), when it was told; both 0 where not."""

    alert: Alert
    judge: CodeType | None
    gone: CodeType | None
    since: float = 0.0
    told: float = 0.0


class Watchman:
    """Looks at the alerts whenever a value comes, and once a second; how they stand outlives a restart.

    The conditions' code comes from the type checker's own syntax tree, never from the text.
    """

    def __init__(self, alerts: Iterable[Alert], hub: Hub, history: History) -> None:
        self.hub, self.history = hub, history
        self._begun = time.time()
        self._watched = [
            _Watched(each, _code(each.when.code if each.when else ""), _code(each.gone)) for each in alerts
        ]
        for each in self._watched:
            stood = history.kept(f"alert:{each.alert.name}") or [0.0, 0.0]
            each.since, each.told = float(stood[0]), float(stood[1])

    @property
    def standing(self) -> list[str]:
        """The names of the alerts that were told and have not gone back."""
        return [each.alert.name for each in self._watched if each.told]

    def look(self, at: float, names: frozenset[str] | None = None) -> None:
        """Judge every alert that reads one of these names, or all; `at` is now, s since 1970."""
        for each in self._watched:
            reads = each.alert.reads
            if names is None or reads & names or (each.alert.silent and _heard(each.alert.silent, names)):
                self._judge(each, at)

    def _judge(self, each: _Watched, at: float) -> None:
        before = (each.since, each.told)
        true = self._true(each, at)
        if true and not each.since:
            each.since = self._began(each.alert, at)
        if not true:
            each.since = 0.0
        held = each.alert.held / 1000
        if true and not each.told and (each.alert.silent or at - each.since >= held):
            each.told = at
            text = self._text(each.alert)
            self.history.raised(each.alert.name, at, text)
            self.hub.tell(Change("alert", each.alert.name, text, at))
        elif each.told and not true and not self._still(each):
            each.told = 0.0
            self.history.gone(each.alert.name, at)
            self.hub.tell(Change("over", each.alert.name, None, at))
        if before != (each.since, each.told):
            self.history.keep(f"alert:{each.alert.name}", [each.since, each.told])

    def _true(self, each: _Watched, at: float) -> bool:
        if each.alert.silent:
            return at - self._last(each.alert.silent) >= each.alert.held / 1000
        return bool(each.judge and self._value(each.judge))

    def _began(self, alert: Alert, at: float) -> float:
        """Since when the condition is true: where it is about one thing, since that has its value."""
        reads = [self.hub.readings.get(name) for name in alert.reads]
        only = reads[0] if len(reads) == 1 else None
        if only is None or not isinstance(only.value, bool):
            return at
        name = next(iter(alert.reads))
        begun = only.at
        for row in self.history.latest(name):
            if row.value != only.value:
                break
            begun = min(begun, row.at)
        return begun

    def _last(self, name: str) -> float:
        """When this was last heard of; the hub's own beginning where it never was."""
        found = [
            reading.at for known, reading in self.hub.readings.items()
            if known == name or known.startswith(f"{name}.")
        ]  # fmt: skip
        return max([*found, self._begun])

    def _still(self, each: _Watched) -> bool:
        return bool(each.gone and self._value(each.gone))

    def _value(self, code: CodeType) -> Any:
        def v(name: str) -> Any:
            reading = self.hub.readings.get(name)
            return reading.value if reading else None

        try:
            return eval(code, {**_NAMES, "v": v})
        except (TypeError, ZeroDivisionError, OverflowError, ValueError):
            return False

    def _text(self, alert: Alert) -> str:
        return "".join(text + self._shown(inner) for text, inner in alert.says) or usual_text(alert)

    def _shown(self, inner: Expression | None) -> str:
        code = _code(inner.value.code) if inner else None
        return shown(self._value(code)) if code else ""


def _code(text: str) -> CodeType | None:
    return compile(text, "alert", "eval") if text else None


def _heard(silent: str, names: frozenset[str]) -> bool:
    return any(name == silent or name.startswith(f"{silent}.") for name in names)
