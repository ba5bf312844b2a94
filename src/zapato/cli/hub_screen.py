"""The hub on a terminal: all devices live, and a line to type into."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from typing import Any

from prompt_toolkit.application import Application
from prompt_toolkit.auto_suggest import AutoSuggestFromHistory
from prompt_toolkit.completion import Completer, Completion
from prompt_toolkit.document import Document
from prompt_toolkit.formatted_text import StyleAndTextTuples as Line
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import Float, FloatContainer, HSplit, Layout, Window
from prompt_toolkit.layout.controls import FormattedTextControl
from prompt_toolkit.layout.menus import CompletionsMenu
from prompt_toolkit.output import ColorDepth
from prompt_toolkit.styles import Style
from prompt_toolkit.widgets import TextArea

from zapato.cli.hub_run import age, each_range
from zapato.cli.terminal import harmless, plain
from zapato.errors import ZapatoError
from zapato.hub import Service
from zapato.hub.hub import HubEvent, measured

STYLE = Style.from_dict(
    {
        "head": "reverse", "device": "bold", "on": "ansigreen", "off": "ansired", "soft": "ansibrightblack", "trend": "ansicyan",
        "alert": "ansired bold", "said": "ansiyellow", "fresh": "bold",
    }
)  # fmt: skip
MOST = 200
"""Devices that are listed; the others are found by their words."""
BARS = "▁▂▃▄▅▆▇█"
WIDEST = 30
"""Characters of a name or a label at the most."""
TREND = 16
"""Values that the small curve shows."""
HINT = "device.part.property = value   device.part.action 2s   /text finds   PgUp PgDn   Ctrl-C ends"


def show(service: Service, lasts: float | None = None) -> int:
    """Show the hub until Ctrl-C."""
    return _Screen(service, lasts).run()


class _Screen:
    def __init__(self, service: Service, lasts: float | None) -> None:
        self.service, self.hub = service, service.hub
        self.until = None if lasts is None else time.monotonic() + lasts
        self.top, self.wanted, self.said = 0, "", ""
        self.trends: dict[str, list[float]] = {}
        self.input = TextArea(
            height=1, prompt="> ", multiline=False, completer=_Names(self), accept_handler=self.typed,
            auto_suggest=AutoSuggestFromHistory(), complete_while_typing=True,
        )  # fmt: skip
        self.body = FormattedTextControl(self.lines)
        rows = HSplit(
            [
                Window(FormattedTextControl(self.head), height=1, style="class:head"),
                Window(self.body, wrap_lines=False),
                Window(FormattedTextControl(self.alerts), dont_extend_height=True),
                Window(FormattedTextControl(lambda: [("class:said", f" {self.said or HINT}")]), height=1),
                self.input,
            ]
        )
        floats = [Float(CompletionsMenu(max_height=8, scroll_offset=1), xcursor=True, ycursor=True)]
        self.app: Application[int] = Application(
            Layout(FloatContainer(rows, floats), focused_element=self.input),
            key_bindings=self.keys(),
            full_screen=True,
            style=STYLE,
            color_depth=ColorDepth.DEPTH_1_BIT if plain() else None,
            refresh_interval=0.5,
            min_redraw_interval=0.1,
            before_render=self.tick,
        )

    def run(self) -> int:
        stop = self.hub.listen(self.heard)
        try:
            return self.app.run()
        finally:
            stop()

    # --- what happens

    def heard(self, change: HubEvent) -> None:
        if (
            change.what == "value"
            and isinstance(change.value, (int, float))
            and not isinstance(change.value, bool)
        ):
            self.trends.setdefault(change.name, []).append(float(change.value))
            del self.trends[change.name][:-TREND]
        elif change.what == "event":
            self.said = f"{time.strftime('%H:%M:%S')}  {harmless(change.name)}"
        self.app.invalidate()

    def tick(self, app: Application[int]) -> None:
        if self.until is not None and time.monotonic() > self.until and not app.is_done:
            app.exit(result=0)

    def typed(self, buffer: Any) -> bool:
        text = str(buffer.text).strip()
        if text in ("quit", "exit"):
            self.app.exit(result=0)
        elif text.startswith("/"):
            self.wanted, self.top = text[1:].strip().lower(), 0
            self.said = f"only what has {self.wanted}; / alone shows all" if self.wanted else ""
        elif text:
            try:
                saying = self.service.do(text)
                self.said = harmless(f"sent: {saying.topic} {saying.payload}")
            except ZapatoError as wrong:
                self.said = harmless(f"{wrong}" + (f" ({wrong.fix})" if wrong.fix else ""))
        return False

    def keys(self) -> KeyBindings:
        bindings = KeyBindings()

        @bindings.add("c-c")
        @bindings.add("c-d")
        def _(event: KeyPressEvent) -> None:  # pyright: ignore[reportUnusedFunction]
            event.app.exit(result=0)

        for key, pages in (("pageup", -1), ("pagedown", 1)):

            def turn(event: KeyPressEvent, pages: int = pages) -> None:
                height = max(5, event.app.output.get_size().rows - 6)
                self.top = max(0, self.top + pages * height)

            bindings.add(key)(turn)
        return bindings

    # --- what is shown

    def head(self) -> Line:
        things = self.hub.things
        there = sum(self.hub.online(name) is True for name in [*things])
        host, port = self.service.broker
        broker_note = "" if self.service.connection.up else "   THE BROKER IS AWAY"
        wrong = self.service.trouble or self.service.odd
        trouble = f"   {wrong}" if wrong else ""
        return [
            (
                "",
                f" {len(things)} devices, {there} online   {host}:{port}{broker_note}{trouble}".ljust(
                    self.columns()
                ),
            )
        ]

    def columns(self) -> int:
        return self.app.output.get_size().columns

    def alerts(self) -> Line:
        lines: list[tuple[str, str]]
        standing_alerts = self.service.history.standing()[:4]
        lines = [
            (
                "class:alert",
                f" ! {time.strftime('%H:%M', time.localtime(alert['at']))}  {harmless(alert['text'])}\n",
            )
            for alert in standing_alerts
        ]
        return [*lines]

    def lines(self) -> Line:
        lines = [*self._lines()]
        self.top = min(self.top, max(0, len(lines) - 5))
        row: Line = []
        for line in lines[self.top :]:
            row += [*line, ("", "\n")]
        return row or [("class:soft", "\n no device is described at this broker yet")]

    def _lines(self) -> Iterable[Line]:
        page = self.hub.page(self.wanted, 0, MOST)
        shown = [
            (thing, [prop for prop in thing["properties"] if self._fits(thing, prop)])
            for thing in page["things"]
        ]
        every = [row for _, rows in shown for row in rows]
        columns = (max((len(thing[key]) for thing in every), default=0) for key in ("name", "label"))
        widths = tuple(min(width, WIDEST) for width in columns)
        for thing, rows in shown:
            if not rows and self.wanted:
                continue
            state = {True: ("class:on", "online"), False: ("class:off", "offline"), None: ("class:soft", "")}
            yield [
                ("class:device", f" {thing['label']}"),
                ("class:soft", f"  {thing['name']}  {thing['where']}  "),
                state[thing["online"]],
            ]
            silent = [] if self.wanted else [row for row in rows if row["at"] is None]
            for row in (row for row in rows if row not in silent):
                curve = trend(self.trends.get(f"{thing['name']}.{row['name']}", ()))
                yield _property(row, curve, widths, self.columns())
            if silent:
                yield [
                    (
                        "class:soft",
                        f"   {len(silent)} value{'s' * (len(silent) > 1)} never heard; /{thing['name']} shows them",
                    )
                ]
            yield []
        if page["found"] > MOST:
            yield [("class:soft", f" and {page['found'] - MOST} more devices: /text finds")]

    def _fits(self, thing: dict[str, Any], row: dict[str, Any]) -> bool:
        return (
            self.wanted
            in f"{thing['name']}.{row['name']} {thing['label']} {row['label']} {thing['where']}".lower()
        )


VALUE = 18
"""Columns of a value; the list, the page and the history have it whole."""


def _property(prop: dict[str, Any], curve: str, widths: Sequence[int], columns: int) -> Line:
    """A line, as wide as the terminal has room for."""
    value = harmless(measured(prop["value"], prop))
    value = value if len(value) <= VALUE else f"{value[: VALUE - 1]}…"
    style = "class:on" if prop["value"] is True else "class:fresh" if (prop["age"] or 99) < 2 else ""
    line: Line = [("", f"   {prop['name'][: widths[0]]:<{widths[0]}}  ")]
    if columns >= 96:
        line.append(("class:soft", f"{prop['label'][: widths[1]]:<{widths[1]}}  "))
    line += [(style, f"{value:>{VALUE}}"), ("class:soft", f"  {age(prop):<13}")]
    if columns >= 110:
        line.append(("class:trend", f"{curve:<{TREND}}  "))
    if prop["settable"]:
        line.append(("class:soft", each_range(prop) or "can be set"))
    return line


def trend(values: Sequence[float]) -> str:
    """The last values as a small curve."""
    low, high = min(values, default=0), max(values, default=0)
    if high <= low:
        return ""
    return "".join(BARS[min(7, int((v - low) / (high - low) * 8))] for v in values)


class _Names(Completer):
    """What may be typed: properties that can be set, and actions."""

    def __init__(self, screen: _Screen) -> None:
        self.screen = screen

    def get_completions(self, document: Document, complete_event: Any) -> Iterable[Completion]:
        text = document.text_before_cursor
        if " " in text or "=" in text or not text or text.startswith("/"):
            return
        for thing in self.screen.hub.page(text.partition(".")[0], 0, MOST)["things"]:
            for prop in thing["properties"]:
                if prop["settable"] and text in (name := f"{thing['name']}.{prop['name']}"):
                    yield Completion(
                        f"{name} = ", -len(text), display=name, display_meta=harmless(prop["label"])
                    )
            for action in thing["actions"]:
                if text in (name := f"{thing['name']}.{action['name']}"):
                    yield Completion(
                        name + (" " if action["takes"] else ""),
                        -len(text),
                        display=name,
                        display_meta="action",
                    )
