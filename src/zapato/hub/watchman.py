"""Alerts at work: each is told once, and again only after what it watches has gone back."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from types import CodeType
from typing import Any

from zapato.design.alerts import Alert, usual_text
from zapato.hub.history import History
from zapato.hub.hub import Hub, HubEvent, shown
from zapato.lang.expressions import Expression
from zapato.record import record

_NAMES: Mapping[str, Any] = {"__builtins__": {}, "min": min, "max": max, "abs": abs, "round": round}


@record
class _Watched:
    """An alert and how it stands: since when its condition is true (s), when it was told; both 0 where not."""

    alert: Alert
    judge: CodeType | None
    gone: CodeType | None
    since: float = 0.0
    notified: float = 0.0


class Watchman:
    """Looks at the alerts whenever a value comes, and once a second; how they stand outlives a restart.

    The conditions' code comes from the type checker's own syntax tree, never from the text.
    """

    def __init__(self, alerts: Iterable[Alert], hub: Hub, history: History) -> None:
        self.hub, self.history = hub, history
        self._begun = time.time()
        self._watched = [
            _Watched(alert, _code(alert.when.code if alert.when else ""), _code(alert.gone))
            for alert in alerts
        ]
        for watched in self._watched:
            stood = history.saved(f"alert:{watched.alert.name}") or [0.0, 0.0]
            watched.since, watched.notified = float(stood[0]), float(stood[1])

    @property
    def standing(self) -> list[str]:
        """The names of the alerts that were told and have not gone back."""
        return [watched.alert.name for watched in self._watched if watched.notified]

    def look(self, at: float, names: frozenset[str] | None = None) -> None:
        """Judge every alert that reads one of these names, or all; `at` is now, s since 1970."""
        for watched in self._watched:
            if names is None or watched.alert.silent or watched.alert.reads & names:
                self._judge(watched, at)

    def _judge(self, watched: _Watched, at: float) -> None:
        """What cannot be written down is not told either, and is judged again."""
        name, true = watched.alert.name, self._true(watched, at)
        since = (watched.since or self._began(watched.alert, at)) if true else 0.0
        due = true and (watched.alert.silent or at - since >= watched.alert.held / 1000)
        notified = watched.notified
        if due and not notified:
            text, notified = self._text(watched.alert), at
            self.history.raised(name, at, text)
            self.hub.tell(HubEvent("alert", name, text, at))
        elif notified and not true and not self._still(watched):
            notified = 0.0
            self.history.gone(name, at)
            self.hub.tell(HubEvent("over", name, None, at))
        if (since, notified) != (watched.since, watched.notified):
            watched.since, watched.notified = since, notified
            self.history.keep(f"alert:{name}", [since, notified])

    def _true(self, watched: _Watched, at: float) -> bool:
        if watched.alert.silent:
            return at - self._last(watched.alert.silent) >= watched.alert.held / 1000
        return bool(watched.judge and self._value(watched.judge))

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
        if "." not in name:
            return max(self.hub.heard.get(name, 0.0), self._begun)
        reading = self.hub.readings.get(name)
        return max(reading.at if reading else 0.0, self._begun)

    def _still(self, watched: _Watched) -> bool:
        return bool(watched.gone and self._value(watched.gone))

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
