"""The language server, driven as an editor drives it: over its standard input and output."""

import asyncio
import json
import sys
import time
import tomllib
from pathlib import Path
from random import Random

import pytest
from lsprotocol import types as t
from pygls.lsp.client import LanguageClient

import zapato
from zapato.editing.change import path_of
from zapato.editing.layout import formatted
from zapato.editor.desk import Desk
from zapato.editor.server import _ANSWERS
from zapato.hub.history import History, HistoryRow

WAIT = 60


class Client:
    """An editor with the server that it started."""

    def __init__(self) -> None:
        self.client = LanguageClient("test", "1")
        self.told: dict[str, t.PublishDiagnosticsParams] = {}
        self.said: list[str] = []
        self.news = asyncio.Event()
        self.client.feature(t.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)(lambda given: self._told(given))
        self.client.feature(t.WINDOW_SHOW_MESSAGE)(lambda given: self.said.append(given.message))
        self.versions: dict[str, int] = {}

    def _told(self, given: t.PublishDiagnosticsParams) -> None:
        self.told[given.uri] = given
        self.news.set()

    async def start(self, *, utf8: bool = False) -> None:
        await self.client.start_io(sys.executable, "-m", "zapato", "editor")
        units = [t.PositionEncodingKind.Utf8] if utf8 else None
        general = t.GeneralClientCapabilities(position_encodings=units)
        made = t.InitializeParams(capabilities=t.ClientCapabilities(general=general))
        await asyncio.wait_for(self.client.initialize_async(made), WAIT)
        self.client.initialized(t.InitializedParams())

    async def stop(self) -> None:
        await asyncio.wait_for(self.client.shutdown_async(None), WAIT)
        self.client.exit(None)
        await self.client.stop()

    async def heard(self, uri: str) -> list[t.Diagnostic]:
        """The next findings of a file."""
        while uri not in self.told:
            self.news.clear()
            await asyncio.wait_for(self.news.wait(), WAIT)
        return list(self.told.pop(uri).diagnostics)

    async def open(self, path: Path, text: str | None = None) -> list[t.Diagnostic]:
        uri = path.as_uri()
        self.versions[uri] = 1
        made = t.TextDocumentItem(uri, "toml", 1, path.read_text() if text is None else text)
        self.client.text_document_did_open(t.DidOpenTextDocumentParams(made))
        return await self.heard(uri)

    async def type(self, path: Path, text: str, where: t.Range | None = None) -> list[t.Diagnostic]:
        uri = path.as_uri()
        self.versions[uri] += 1
        named = t.VersionedTextDocumentIdentifier(version=self.versions[uri], uri=uri)
        change = (
            t.TextDocumentContentChangePartial(where, text)
            if where
            else t.TextDocumentContentChangeWholeDocument(text)
        )
        self.told.pop(uri, None)
        self.client.text_document_did_change(t.DidChangeTextDocumentParams(named, [change]))
        return await self.heard(uri)


def edited(work, **more) -> None:
    """Run a test against a server of its own."""

    async def whole() -> None:
        client = Client()
        await client.start(**more)
        try:
            await work(client)
        finally:
            await client.stop()

    asyncio.run(whole())


def _at(text: str, word: str, offset: int = 0) -> t.Position:
    """Where a word begins, in UTF-16 units."""
    at = text.index(word) + offset
    line = text.rfind("\n", 0, at) + 1
    return t.Position(text[:at].count("\n"), len(text[line:at].encode("utf-16-le")) // 2)


def _applied(text: str, edits) -> str:
    """What an editor makes of the text."""
    rows = text.split("\n")
    for each in sorted(edits, key=lambda e: (e.range.start.line, e.range.start.character), reverse=True):
        (first, begin), (last, end) = ((p.line, p.character) for p in (each.range.start, each.range.end))
        head = rows[first].encode("utf-16-le")[: 2 * begin].decode("utf-16-le")
        tail = rows[last].encode("utf-16-le")[2 * end :].decode("utf-16-le")
        rows[first : last + 1] = (head + each.new_text + tail).split("\n")
    return "\n".join(rows)


def test_findings_come_while_typing_and_go_with_a_quick_fix(site):
    path = site / "devices" / "boot-dryer.toml"
    text, uri = path.read_text(), path.as_uri()

    async def work(client: Client) -> None:
        assert await client.open(path) == []
        broken = text.replace("pin      = 25", "pin      = 26")
        (found,) = await client.type(path, broken)
        assert found.code == "pin-taken" and found.severity == t.DiagnosticSeverity.Error
        assert found.range.start == _at(
            broken, "26", broken.rindex("pin      = 26") + 11 - broken.index("26")
        )
        assert "way out: free pins" in found.message
        context = t.CodeActionContext([found])
        asked = t.CodeActionParams(t.TextDocumentIdentifier(uri), found.range, context)
        actions = await client.client.text_document_code_action_async(asked)
        assert [each.title for each in actions][:1] == ["pin 18"]
        assert await client.type(path, _applied(broken, actions[0].edit.changes[uri])) == []
        assert path.read_text() == text, "nothing is written but by the editor"

    edited(work)


def test_columns_are_the_editors_own(put):
    """Signs beyond the basic plane are two units of UTF-16, and line ends may be of either kind."""
    text = (
        'zapato = 1\r\n[device]\r\nname = "p"\r\nboard = "esp32-38pin"\r\n'
        '[relay.lamp]\r\nlabel = "🏔️ Lämpli" # 🏔️\r\npin = 26\r\n[[link]]\r\nlabel = "🏔"\r\n'
        "when = 'lamp.on'\r\ndo = [\"notify('🏔🏔')\", \"lampe.off\"]\r\n"
    )
    path = put(text)

    async def work(client: Client) -> None:
        (found,) = await client.open(path, text)
        assert found.code == "link-unknown" and found.range.start == _at(text, "lampe.off")
        uri = t.TextDocumentIdentifier(path.as_uri())
        asked = t.CodeActionParams(uri, found.range, t.CodeActionContext([found]))
        (action,) = await client.client.text_document_code_action_async(asked)
        assert action.is_preferred and '"lamp.off"' in _applied(text, action.edit.changes[path.as_uri()])
        where = t.Range(_at(text, "lampe.off", 4), _at(text, "lampe.off", 5))
        assert await client.type(path, "", where) == []

    edited(work)


def test_names_are_the_whole_sites(site):
    path, other = site / "devices" / "boot-dryer.toml", site / "devices" / "gear-locker.toml"
    text, uri = path.read_text(), t.TextDocumentIdentifier(path.as_uri())

    async def work(client: Client) -> None:
        await client.open(path)
        spot = _at(text, "heater.on or", 2)
        found = await client.client.text_document_references_async(
            t.ReferenceParams(t.ReferenceContext(True), uri, spot)
        )
        assert len({each.uri for each in found}) == 4 and len(found) > 30
        home = await client.client.text_document_definition_async(
            t.DefinitionParams(uri, _at(text, "gear-locker.door", 13))
        )
        assert home.uri == other.as_uri() and "door" in other.read_text().split("\n")[home.range.start.line]
        where = await client.client.text_document_prepare_rename_async(t.PrepareRenameParams(uri, spot))
        assert where.end.character - where.start.character == len("heater")
        made = await client.client.text_document_rename_async(t.RenameParams(uri, spot, "oven"))
        for each, edits in made.changes.items():
            file = path_of(each.removeprefix("file://"))
            file.write_text(_applied(file.read_text(), edits))
        assert len(zapato.check(site)) == 0 and "oven" in zapato.load(path).parts
        await client.client.text_document_rename_async(t.RenameParams(uri, spot, "vent"))
        assert "the name vent is taken" in client.said[-1]

    edited(work)


def test_what_is_typed_and_not_saved_counts_in_other_files(site):
    """A part renamed in one open file is missed in another one, though both are unsaved."""
    path, other = site / "devices" / "boot-dryer.toml", site / "devices" / "gear-locker.toml"
    script = site / "rehearsals" / "boot-dryer.toml"

    async def work(client: Client) -> None:
        assert await client.open(path) == [] and await client.open(other) == []
        assert await client.open(script) == []
        await client.type(other, other.read_text().replace("[contact.door]", "[contact.hatch]"))
        found = await client.type(path, path.read_text() + "\n")
        assert [each.code for each in found] == ["link-unknown"]
        found = await client.type(script, script.read_text() + "\n")
        assert "link-unknown" in {each.code for each in found}

    edited(work)


def test_at_the_cursor(site):
    path = site / "devices" / "boot-dryer.toml"
    text, uri = path.read_text(), t.TextDocumentIdentifier(path.as_uri())

    async def work(client: Client) -> None:
        await client.open(path)
        hover = await client.client.text_document_hover_async(
            t.HoverParams(uri, _at(text, "cabinet.humidity", 10))
        )
        assert "%RH" in hover.contents.value
        typed = text + '\n[led.more]\npin = \n[[link]]\nwhen = "do'
        await client.type(path, typed)
        for word, wanted in (("pin = \n", "18"), ('"do', "door")):
            spot = _at(typed, word, len(word.rstrip("\n")))
            found = await client.client.text_document_completion_async(t.CompletionParams(uri, spot))
            assert wanted in [each.label for each in found]
        symbols = await client.client.text_document_document_symbol_async(t.DocumentSymbolParams(uri))
        assert "relay.heater" in [each.name for each in symbols]
        folds = await client.client.text_document_folding_range_async(t.FoldingRangeParams(uri))
        assert all(each.start_line < each.end_line for each in folds) and len(folds) > 10
        lenses = await client.client.text_document_code_lens_async(t.CodeLensParams(uri))
        assert any(each.command.title.startswith("heap ") for each in lenses)
        assert any(each.command.command == "zapato.rehearse" for each in lenses)

    edited(work)


def test_a_rehearsal_is_written_with_the_devices_own_words(site):
    path = site / "rehearsals" / "boot-dryer.toml"
    text = (
        path.read_text()
        + '\n[world]\n\n[[step]]\nact = "start.\n[[step]]\nexpect = "cabinet.\n[[step]]\nact = "wi\n[[\n'
    )
    wanted = {
        "[world]\n": (8, {"cabinet.temperature", "door.closed"}, {"heater.on"}),
        'act = "start.': (13, {"press", "hold"}, {"pressed"}),
        'expect = "cabinet.': (18, {"humidity"}, {"press"}),
        'act = "wi': (9, {"wifi.down", "heater"}, set()),
        "[[\n": (2, {"step"}, {"relay"}),
    }

    async def work(client: Client) -> None:
        await client.open(path, text)
        uri = t.TextDocumentIdentifier(path.as_uri())
        for word, (offset, there, absent) in wanted.items():
            at = text.rindex(word) + offset
            spot = t.Position(text[:at].count("\n"), at - text.rfind("\n", 0, at) - 1)
            found = await client.client.text_document_completion_async(t.CompletionParams(uri, spot))
            labels = {each.label for each in found}
            assert there <= labels and not absent & labels, (word, sorted(labels)[:20])
        spot = _at(text, "heater.on", 2)
        made = await client.client.text_document_rename_async(t.RenameParams(uri, spot, "oven"))
        assert len(made.changes) == 4, "from a rehearsal as well"

    edited(work)


def test_other_files_of_a_site_are_served_too(site):
    async def served(client: Client, path: Path) -> None:
        assert await client.open(path) == []
        assert await client.type(path, path.read_text() + "\n[wrong\n")
        uri = t.TextDocumentIdentifier(path.as_uri())
        for answer in ("hover", "completion", "definition"):
            made = {
                "hover": t.HoverParams,
                "completion": t.CompletionParams,
                "definition": t.DefinitionParams,
            }
            call = getattr(client.client, f"text_document_{answer}_async")
            found = await call(made[answer](uri, t.Position(0, 3)))
            assert not found or answer != "definition"
        assert await client.type(path, path.read_text()) == []

    async def work(client: Client) -> None:
        for name in ("alerts.toml", "secrets.toml", "rehearsals/site.toml", "site.toml"):
            await served(client, site / name)

    edited(work)


def _same(findings):
    return sorted((f.code, f.place.line, f.place.column, f.message) for f in findings)


@pytest.mark.slow
def test_whatever_is_typed_the_desk_agrees_with_the_check(site):
    """Letters, signs and lines put in and taken out at random: never an exception, always what the check says of the same text."""
    path = site / "devices" / "boot-dryer.toml"
    text, chance, desk = path.read_text(), Random(27), Desk()
    for count in range(300):
        at = chance.randrange(len(text) + 1)
        if chance.random() < 0.5:
            text = text[:at] + text[at + chance.choice((1, 1, 1, 7, 40)) :]
        else:
            text = (
                text[:at]
                + chance.choice(
                    (
                        '"',
                        "'",
                        "[",
                        "]",
                        "=",
                        "\n",
                        "x",
                        "{",
                        "}",
                        ".",
                        "#",
                        "é",
                        "🏔",
                        "\r\n",
                        "relay",
                        "\x00",
                    )
                )
                + text[at:]
            )
        desk.put(path, text)
        found = desk.check(path)[path]
        if count % 10 == 0:
            path.write_bytes(text.encode())
            assert _same(found) == _same(
                each for each in zapato.check(path) if path_of(each.place.file) == path
            )
        if count % 60 == 59:
            text = (Path(zapato.__file__).parent / "demo" / "site" / "devices" / path.name).read_text()


@pytest.mark.slow
def test_every_answer_bears_any_cursor_in_a_broken_file(site):
    """Each request, everywhere in a file that is cut in its middle: an answer, and no error."""
    path = site / "devices" / "gear-locker.toml"
    text = path.read_text()
    text = text[: len(text) * 2 // 3] + '\n[[link]]\nwhen = "main.\n'
    spots = [t.Position(line, column) for line in range(0, text.count("\n"), 3) for column in (0, 4, 30)]

    async def work(client: Client) -> None:
        await client.open(path, text)
        uri = t.TextDocumentIdentifier(path.as_uri())
        for spot in spots:
            for call, made in (
                (client.client.text_document_completion_async, t.CompletionParams),
                (client.client.text_document_hover_async, t.HoverParams),
                (client.client.text_document_definition_async, t.DefinitionParams),
                (client.client.text_document_prepare_rename_async, t.PrepareRenameParams),
            ):
                await asyncio.wait_for(call(made(uri, spot)), WAIT)

    edited(work)
    assert len(_ANSWERS) == 17


SITE_FILES = {
    "alerts.toml": ('[[alert]]\nwhen = "boot-dryer.cabinet.', {"temperature", "humidity"}),
    "secrets.toml": ("other = '1'\n", {"door_word"}),
    "boards/own.toml": ("", {"id", "chip"}),
    "chips/own.toml": ("[[step]]\n", {"write", "read"}),
    "pieces/own.toml": ("[relay.lamp]\n", {"pin", "follows"}),
    "tables/energy-meter.csv": ("", {"unit", "scale"}),
    "rehearsals/site.toml": ('[[step]]\nact = "boot-dryer.cabinet.', {"temperature"}),
    "site.toml": ("[mqtt]\n", {"host", "apart"}),
}


def _prepared(site: Path, name: str) -> Path:
    """One of the site's files, with what is being typed at its end."""
    path, (text, _) = site / name, SITE_FILES[name]
    path.parent.mkdir(exist_ok=True)
    before = path.read_text() if path.exists() and name in ("secrets.toml", "tables/energy-meter.csv") else ""
    path.write_text("name,at" if name.endswith(".csv") else before + text)
    return path


def test_what_can_stand_in_a_site_s_own_files(site):
    """Tables, keys, words and names, as in device files; a key is explained where the cursor is on it."""
    (site / "site.toml").write_text(
        (site / "site.toml").read_text() + '\n# password = { secret = "door_word" }\n'
    )

    async def stands(client: Client, name: str, wanted: set[str]) -> None:
        path = _prepared(site, name)
        await client.open(path)
        text = path.read_text()
        end = t.Position(text.count("\n"), len(text.split("\n")[-1]))
        uri = t.TextDocumentIdentifier(path.as_uri())
        found = await client.client.text_document_completion_async(t.CompletionParams(uri, end))
        assert wanted <= {each.label for each in found}, (name, [each.label for each in found])
        if name == "boards/own.toml":
            await client.type(path, 'chip = "esp32"\n')
            said = await client.client.text_document_hover_async(t.HoverParams(uri, t.Position(0, 2)))
            assert "the silicon" in said.contents.value

    async def work(client: Client) -> None:
        for name, (_, wanted) in SITE_FILES.items():
            await stands(client, name, wanted)

    edited(work)


def test_the_layout_is_evened_and_the_last_value_is_told(site):
    path = site / "devices" / "boot-dryer.toml"
    text = path.read_text()
    (site / "out").mkdir()
    history = History(site / "out" / "hub.sqlite")
    history.put([HistoryRow(time.time() - 200, "boot-dryer.cabinet.temperature", 21.5)])
    history.close()

    async def work(client: Client) -> None:
        rough = text.replace("\n[", "\n\n\n[").replace('start    = "off"', 'start="off"   ') + "\n\n\n"
        await client.open(path, rough)
        uri = t.TextDocumentIdentifier(path.as_uri())
        given = t.DocumentFormattingParams(uri, t.FormattingOptions(4, True))
        edits = await client.client.text_document_formatting_async(given)
        even = _applied(rough, edits)
        assert even == formatted(rough) != rough and tomllib.loads(even) == tomllib.loads(rough)
        await client.type(path, text)
        place = _at(text, "cabinet.temperature", 10)
        said = await client.client.text_document_hover_async(t.HoverParams(uri, place))
        assert "last 21.5, 3 min ago" in said.contents.value

    edited(work)


def test_the_settings_for_editors_start_this_server():
    """docs/editors: what a person copies."""
    folder = Path(__file__).parents[2] / "docs" / "editors"
    assert json.loads((folder / "kate" / "settings.json").read_text())["servers"]["toml"]["command"] == [
        "zapato",
        "editor",
    ]
    assert '{ "zapato", "editor" }' in (folder / "neovim.lua").read_text()


@pytest.mark.slow(15)
def test_the_lens_draws(site):
    path = site / "devices" / "kettle-plug.toml"

    async def work(client: Client) -> None:
        await client.open(path)
        uri = t.TextDocumentIdentifier(path.as_uri())
        seen = await client.client.text_document_code_lens_async(t.CodeLensParams(uri))
        command = next(each.command for each in seen if each.command.command == "zapato.draw")
        given = t.ExecuteCommandParams(command.command, command.arguments)
        await asyncio.wait_for(client.client.workspace_execute_command_async(given), WAIT)
        assert len(list((site / "out").glob("kettle-plug*.png"))) == 4, client.said

    edited(work)
