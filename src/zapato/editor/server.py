"""The requests of an editor, each answered by one call into the language core."""

from __future__ import annotations

import asyncio
import inspect
import sys
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, TypeVar, cast

from lsprotocol import types
from pygls.lsp.server import LanguageServer

from zapato import __version__
from zapato.design import Design
from zapato.editing import places_of, rename, ways
from zapato.editing.change import path_of
from zapato.editing.cursor import Cursor, cursor
from zapato.editing.layout import formatted
from zapato.editing.notes import hints, home, note, property_at, sections
from zapato.editing.offers import Completion, offers, token
from zapato.editing.site_files import site_file
from zapato.editor.desk import Desk
from zapato.editor.last import last_value
from zapato.editor.lenses import accepting, lenses
from zapato.editor.wire import Units, changes, diagnostic, item, line_changes, path_of_uri, text_edits, uri_of
from zapato.errors import ZapatoError
from zapato.record import record

T = TypeVar("T")
PAUSE = 0.08
"""Seconds without a keystroke after which a file is checked."""


class Editor(LanguageServer):
    """The server of one editor."""

    def __init__(self) -> None:
        super().__init__("zapato", __version__)
        self.desk = Desk()
        self.results: dict[Path, str] = {}
        """What the last rehearsal of a device gave."""
        self.history: Path | None = None
        """Where a hub keeps its history, where the editor says so; else where it keeps one of the site's."""
        self._waiting: dict[Path, asyncio.TimerHandle] = {}

    def units(self, path: Path) -> Units:
        """Places in a file. Raises Unreadable."""
        return Units(self.desk.text(path), self.workspace.position_codec)

    def changed(self, uri: str, pause: float = PAUSE) -> None:
        """A text is another: it is checked as soon as nobody types."""
        path = path_of_uri(uri)
        self.desk.put(path, self.workspace.get_text_document(uri).source.replace("\r\n", "\n"))
        if waiting := self._waiting.pop(path, None):
            waiting.cancel()
        loop = asyncio.get_running_loop()
        self._waiting[path] = loop.call_later(pause, self.check, path)

    def check(self, path: Path) -> None:
        """Check, and tell the editor what was found."""
        self._waiting.pop(path, None)
        if path not in self.desk.texts:
            return
        for file, findings in self.desk.check(path).items():
            units = self.units(file)
            diagnostics = [diagnostic(finding, units) for finding in findings]
            self.text_document_publish_diagnostics(types.PublishDiagnosticsParams(uri_of(file), diagnostics))

    def closed(self, uri: str) -> None:
        """A file was closed."""
        path = path_of_uri(uri)
        if waiting := self._waiting.pop(path, None):
            waiting.cancel()
        self.desk.drop(path)
        self.text_document_publish_diagnostics(types.PublishDiagnosticsParams(uri, []))

    def or_report(self, work: Callable[[], T]) -> T | None:
        """Do this; what cannot be done is said to the person in one line."""
        try:
            return self.desk.seen(work)
        except ZapatoError as error:
            text = str(error) + (f" ({error.fix})" if error.fix else "")
            self.window_show_message(types.ShowMessageParams(types.MessageType.Warning, text))
            return None


def serve() -> None:
    """Serve one editor on standard input and output until it is done."""
    server().start_io()


def server() -> Editor:
    """A server with all its answers."""
    editor = Editor()
    for name, answer, options in _ANSWERS:
        editor.feature(name, options)(_with(editor, answer))
    editor.command("zapato.rehearse")(_with(editor, _rehearse))
    editor.command("zapato.draw")(_with(editor, _draw))
    return editor


def _begun(editor: Editor, given: types.InitializeParams) -> None:
    """The options of the editor: { "history": "…/hub.sqlite" }."""
    options: Any = given.initialization_options
    named = cast(dict[str, Any], options).get("history") if isinstance(options, dict) else None
    editor.history = Path(named) if isinstance(named, str) and named else None


def _with(editor: Editor, answer: Callable[[Editor, Any], Any]) -> Callable[[Any], Any]:
    if inspect.iscoroutinefunction(answer):

        async def later(given: Any) -> Any:
            return await answer(editor, given)

        return later
    return lambda given: answer(editor, given)


# --- texts


def _opened(editor: Editor, given: types.DidOpenTextDocumentParams) -> None:
    editor.changed(given.text_document.uri, 0)


def _changed(editor: Editor, given: types.DidChangeTextDocumentParams) -> None:
    editor.changed(given.text_document.uri)


def _saved(editor: Editor, given: types.DidSaveTextDocumentParams) -> None:
    editor.changed(given.text_document.uri, 0)


def _closed(editor: Editor, given: types.DidCloseTextDocumentParams) -> None:
    editor.closed(given.text_document.uri)


# --- at the cursor


@record
class _Spot:
    """A place that an editor asks about, in a device file or in its rehearsal.

    Attributes:
        device, design: the device file that it speaks of, and what it says.
        script: it is the rehearsal.
        text, units: of the file itself, and its places in the client's units.
        line, column: the place, from 1.
    """

    device: Path
    design: Design
    script: bool
    text: str
    units: Units
    line: int
    column: int

    @property
    def cursor(self) -> Cursor:
        return cursor(self.text, self.line, self.column)


def _spot(editor: Editor, given: Any) -> _Spot | None:
    """The place of a request; None in a file that speaks of no device."""
    path = path_of_uri(given.text_document.uri)
    device, design = editor.desk.device_of(path), editor.desk.spoken_of(path)
    if device is None or design is None:
        return None
    units = editor.units(path)
    return _Spot(device, design, device != path, editor.desk.text(path), units, *units.place(given.position))


def _complete(editor: Editor, given: types.CompletionParams) -> list[types.CompletionItem]:
    spot = _spot(editor, given)
    if spot is None:
        return _complete_site(editor, given)
    options = editor.desk.seen(lambda: offers(spot.design, spot.cursor, spot.script))
    return _items(options, spot.cursor, spot.units, spot.line, spot.column)


def _complete_site(editor: Editor, given: types.CompletionParams) -> list[types.CompletionItem]:
    """In a file that speaks of no single device."""
    path = path_of_uri(given.text_document.uri)
    file = site_file(path, editor.desk.root_of(path))
    if file is None:
        return []
    units, text = editor.units(path), editor.desk.text(path)
    line, column = units.place(given.position)
    at = cursor(text, line, column)
    return _items(editor.desk.seen(lambda: file.offers(at, text, line == 1)), at, units, line, column)


def _items(
    completions: Iterable[Completion], at: Cursor, units: Units, line: int, column: int
) -> list[types.CompletionItem]:
    where = units.range(line, at.begin, column - at.begin)
    return [item(option, rank, where) for rank, option in enumerate(completions)]


def _hover(editor: Editor, given: types.HoverParams) -> types.Hover | None:
    spot = _spot(editor, given)
    if spot is None:
        said = _site_note(editor, given)
    else:
        said = editor.desk.seen(lambda: note(spot.design, spot.cursor, spot.text, spot.line, spot.column))
        name = property_at(spot.design, spot.cursor, spot.text, spot.line, spot.column)
        last = last_value(editor.desk.root_of(spot.device), name, editor.history) if said and name else ""
        said += f"  \n{last}" if last else ""
    return types.Hover(types.MarkupContent(types.MarkupKind.Markdown, said)) if said else None


def _site_note(editor: Editor, given: types.HoverParams) -> str:
    path = path_of_uri(given.text_document.uri)
    file = site_file(path, editor.desk.root_of(path))
    if file is None:
        return ""
    line, column = editor.units(path).place(given.position)
    return file.note(cursor(editor.desk.text(path), line, column))


def _home(editor: Editor, given: types.DefinitionParams) -> types.Location | None:
    spot = _spot(editor, given)
    place = spot and editor.desk.seen(lambda: home(spot.design, spot.text, spot.line, spot.column))
    if place is None:
        return None
    file = path_of(place.file)
    return types.Location(uri_of(file), editor.units(file).of(place))


def _actions(editor: Editor, given: types.CodeActionParams) -> list[types.CodeAction]:
    path = path_of_uri(given.text_document.uri)
    units = editor.units(path)
    text = editor.desk.text(path)
    first, last = units.place(given.range.start)[0], units.place(given.range.end)[0]
    actions: list[types.CodeAction] = []
    for finding in editor.desk.found.get(path, ()):
        if not first <= finding.place.line <= last:
            continue
        for way in (*ways(finding, text), *accepting(finding, text)):
            edit = types.WorkspaceEdit(changes={given.text_document.uri: text_edits(way.edits, units)})
            actions.append(
                types.CodeAction(
                    way.title,
                    types.CodeActionKind.QuickFix,
                    [diagnostic(finding, units)],
                    is_preferred=way.certain or None,
                    edit=edit,
                )
            )
    return actions


# --- names


def _part(editor: Editor, given: Any) -> tuple[_Spot, str, int] | None:
    """The part whose name stands at a place, and the column where the name begins."""
    spot = _spot(editor, given)
    if spot is None:
        return None
    names = token(spot.text, spot.line, spot.column).split(".")
    name = next((name for name in (names[0], names[-1]) if name in spot.design.parts), "")
    if not name:
        return None
    begin = spot.text.split("\n")[spot.line - 1].rfind(name, 0, spot.column + len(name) - 1) + 1
    return (spot, name, begin) if begin else None


def _prepare(editor: Editor, given: types.PrepareRenameParams) -> types.Range | None:
    target = _part(editor, given)
    if target is None:
        return None
    spot, name, begin = target
    return spot.units.range(spot.line, begin, len(name))


def _rename(editor: Editor, given: types.RenameParams) -> types.WorkspaceEdit | None:
    target = _part(editor, given)
    if target is None:
        return None
    spot, name, _ = target
    made = editor.or_report(lambda: rename(spot.device, name, given.new_name))
    if made is None:
        return None
    codec = editor.workspace.position_codec
    texts = made.texts.changed.items()
    return types.WorkspaceEdit(changes={uri_of(file): changes(old, new, codec) for file, (old, new) in texts})


def _references(editor: Editor, given: types.ReferenceParams) -> list[types.Location]:
    target = _part(editor, given)
    if target is None:
        return []
    spot, name, _ = target
    places = editor.or_report(lambda: places_of(spot.device, name)) or {}
    return [
        types.Location(uri_of(file), editor.units(file).range(edit.line, edit.column, edit.width))
        for file, edits in places.items()
        for edit in edits
    ]


# --- the file as a whole


def _outline(editor: Editor, given: types.DocumentSymbolParams) -> list[types.DocumentSymbol]:
    path = path_of_uri(given.text_document.uri)
    units = editor.units(path)
    return [
        types.DocumentSymbol(
            section.title,
            types.SymbolKind.Object,
            units.lines(section.first, section.last),
            units.lines(section.first, section.first),
        )
        for section in sections(editor.desk.text(path))
    ]


def _format(editor: Editor, given: types.DocumentFormattingParams) -> list[types.TextEdit]:
    path = path_of_uri(given.text_document.uri)
    text = editor.desk.text(path)
    made = formatted(text)
    return [] if made == text else line_changes(text, made, editor.workspace.position_codec)


def _folds(editor: Editor, given: types.FoldingRangeParams) -> list[types.FoldingRange]:
    path = path_of_uri(given.text_document.uri)
    return [
        types.FoldingRange(section.first - 1, section.last - 1)
        for section in sections(editor.desk.text(path))
        if section.last > section.first
    ]


def _hints(editor: Editor, given: types.InlayHintParams) -> list[types.InlayHint]:
    path = path_of_uri(given.text_document.uri)
    design = editor.desk.design(path)
    if design is None:
        return []
    units = editor.units(path)
    return [
        types.InlayHint(units.position(line, column), words, padding_left=True)
        for line, column, words in hints(design)
        if given.range.start.line <= line - 1 <= given.range.end.line
    ]


def _lenses(editor: Editor, given: types.CodeLensParams) -> list[types.CodeLens]:
    path = path_of_uri(given.text_document.uri)
    design = editor.desk.design(path)
    if design is None:
        return []
    units = editor.units(path)
    lens_list = editor.desk.seen(lambda: list(lenses(design, editor.results.get(path, ""))))
    return [
        types.CodeLens(
            units.lines(line, line), types.Command(title, command, arguments=[str(path)] if command else None)
        )
        for line, title, command in lens_list
    ]


async def _rehearse(editor: Editor, given: Any) -> None:
    """Run the device's rehearsal as it is on the disk."""
    path = Path(str(given))
    editor.results[path] = await _run(editor, "rehearse", "--brief", str(path))
    wanted = editor.client_capabilities.workspace
    if wanted and wanted.code_lens and wanted.code_lens.refresh_support:
        editor.workspace_code_lens_refresh(None)


async def _draw(editor: Editor, given: Any) -> None:
    """Draw the device as it is on the disk into out/NAME.png and its like, beside the site's other results."""
    path = Path(str(given))
    root = editor.desk.root_of(path) or path.parent
    await _run(editor, "draw", str(path), "--out", str(root / "out" / f"{path.stem}.png"))


async def _run(editor: Editor, *words: str) -> str:
    """Run one of our commands in a process of its own, so that the check goes on meanwhile; tells its first line, and gives it."""
    process = await asyncio.create_subprocess_exec(
        sys.executable,
        "-m",
        "zapato",
        *words,
        stdin=asyncio.subprocess.DEVNULL,
        stdout=asyncio.subprocess.PIPE,
        stderr=asyncio.subprocess.PIPE,
    )
    output, errors = await process.communicate()
    text = output if process.returncode == 0 or output.strip() else errors
    lines = text.decode(errors="replace").split("\n")
    said = next((line.strip() for line in lines if line.strip()), "nothing was said")
    editor.window_show_message(types.ShowMessageParams(types.MessageType.Info, said))
    return said


def _answers() -> Iterator[tuple[str, Callable[[Editor, Any], Any], Any]]:
    yield types.INITIALIZE, _begun, None
    yield types.TEXT_DOCUMENT_DID_OPEN, _opened, None
    yield types.TEXT_DOCUMENT_DID_CHANGE, _changed, None
    yield types.TEXT_DOCUMENT_DID_SAVE, _saved, None
    yield types.TEXT_DOCUMENT_DID_CLOSE, _closed, None
    yield (
        types.TEXT_DOCUMENT_COMPLETION,
        _complete,
        types.CompletionOptions(trigger_characters=[".", "[", '"', "=", " "]),
    )
    yield types.TEXT_DOCUMENT_HOVER, _hover, None
    yield types.TEXT_DOCUMENT_DEFINITION, _home, None
    yield types.TEXT_DOCUMENT_REFERENCES, _references, None
    yield types.TEXT_DOCUMENT_PREPARE_RENAME, _prepare, None
    yield types.TEXT_DOCUMENT_RENAME, _rename, types.RenameOptions(prepare_provider=True)
    yield types.TEXT_DOCUMENT_CODE_ACTION, _actions, types.CodeActionOptions([types.CodeActionKind.QuickFix])
    yield types.TEXT_DOCUMENT_DOCUMENT_SYMBOL, _outline, None
    yield types.TEXT_DOCUMENT_FOLDING_RANGE, _folds, None
    yield types.TEXT_DOCUMENT_FORMATTING, _format, None
    yield types.TEXT_DOCUMENT_INLAY_HINT, _hints, None
    yield types.TEXT_DOCUMENT_CODE_LENS, _lenses, None


_ANSWERS = tuple(_answers())
