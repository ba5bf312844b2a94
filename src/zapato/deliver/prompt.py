"""The prompt of the MicroPython that is on a board, in raw mode: files are written through it, nothing under them.

Source: MicroPython documentation, "The MicroPython Interactive Interpreter Mode", raw mode: Ctrl-C interrupts, Ctrl-A enters,
Ctrl-D runs what was sent, the answer is "OK", the output, 0x04, the error, 0x04 and ">".
"""

from __future__ import annotations

import ast
import contextlib
import hashlib
import time
from base64 import b64encode
from collections.abc import Callable, Iterable, Mapping
from typing import cast

from zapato.boards.board import Chip
from zapato.deliver.cable import WriteResult, reset, said
from zapato.deliver.loader import LoaderLine, Silence
from zapato.deliver.ports import OpenPort
from zapato.errors import NotDelivered
from zapato.firmware.base import runs_on
from zapato.firmware.package import BASE

BREAK, RAW, FRIENDLY, END = b"\x03", b"\x01", b"\x02", b"\x04"
GREETING = b"raw REPL; CTRL-B to exit\r\n>"
ANSWER = 5.0
"""Seconds that a command may take: a block of flash is erased in one."""
CHUNK = 192
"""Bytes of a file that go in one command: with their letters less than a port's buffer of 256 holds."""
TRIES = 4
"""Times that a file is written before it is told as failed."""
HELPERS = """
import binascii, hashlib, machine, os, sys
dog = machine.WDT(timeout=5000)
if 'start' in sys.modules:
    sys.modules['start'].safe()
f = None
def begin(name):
    global f
    dog.feed()
    if f:
        f.close()
    f = open(name, 'wb')
def put(text):
    dog.feed()
    f.write(binascii.a2b_base64(text))
def digest(name):
    dog.feed()
    total = hashlib.sha256()
    try:
        with open(name, 'rb') as f:
            while True:
                dog.feed()
                piece = f.read(256)
                if not piece:
                    break
                total.update(piece)
    except OSError:
        return ''
    return binascii.hexlify(total.digest()).decode()
def all(folder):
    found = []
    dog.feed()
    for name in os.listdir(folder or '/'):
        path = folder + '/' + name
        found += all(path) + [path + '/'] if os.stat(path)[0] & 0x4000 else [path]
    return found
"""
"""What the board is told first, piece by piece; the watchdog of a program that ran before goes on wanting to be fed.
Outputs of a program that was interrupted go to their safe levels. A file that a garbled try left open is closed first: LittleFS
has no file that is open twice."""


class PromptError(Exception):
    """The board answered with an error."""


class Prompt:
    """MicroPython on the other end of a line, in raw mode."""

    def __init__(self, line: LoaderLine) -> None:
        self.line = line
        self._into = b""

    def enter(self, seconds: float = 3.0) -> bool:
        """End what runs, and enter raw mode; False where nobody answers like that."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            self.line.drop_input()
            self._into = b""
            self.line.write(b"\r" + BREAK + BREAK)
            self.line.write(b"\r" + RAW)
            try:
                self._until(GREETING, 0.5)
                self.run("pass")
                return True
            except (Silence, PromptError):
                continue
        return False

    def prepare(self) -> None:
        """Tell the board what the commands need."""
        for block in ast.parse(HELPERS).body:
            self.run(ast.unparse(block))

    def run(self, code: str, seconds: float = ANSWER) -> str:
        """Run a short text and give what it printed. Raises Silence; PromptError with the last line of an error."""
        self.line.write(code.encode() + END)
        self._until(b"OK", seconds)
        said = self._until(END, seconds)
        error = self._until(END, seconds)
        self._until(b">", seconds)
        if error:
            raise PromptError(error.decode("utf-8", "replace").strip().splitlines()[-1])
        return said.decode("utf-8", "replace").replace("\r\n", "\n")

    def value(self, expression: str) -> object:
        """What an expression has for a value, where that can be written down."""
        try:
            return ast.literal_eval(self.run(f"print(repr({expression}))").strip())
        except (ValueError, SyntaxError):
            raise PromptError("a damaged answer") from None

    def restart(self) -> bytes:
        """Start the board anew; gives what it has said since."""
        self.line.write(b"import machine\nmachine.reset()" + END)
        with contextlib.suppress(Silence):
            self._until(b"OK", 1.0)
        return self._into

    def _until(self, mark: bytes, seconds: float) -> bytes:
        until = time.monotonic() + seconds
        while mark not in self._into:
            left = until - time.monotonic()
            if left <= 0:
                raise Silence("MicroPython's prompt")
            self.line.patience(min(0.25, left))
            self._into += self.line.read(1 << 12)
        data, _, self._into = self._into.partition(mark)
        return data


Tell = Callable[[str, float], None]


def identify(prompt: Prompt, chip: Chip) -> str:
    """The version of MicroPython there. Raises NotDelivered where it runs on another chip, or is too old or too new."""
    about = str(prompt.value("__import__('os').uname().machine"))
    name = about.rpartition(" ")[2].lower()
    if name != chip.id:
        raise NotDelivered(
            f"the board reports {about}, and the device file needs an {chip.id}",
            "another port, or another board in the device file",
        )
    version = prompt.value("__import__('sys').implementation[1]")
    numbers = cast(tuple[int, int, int], version[:3]) if isinstance(version, tuple) else (0, 0, 0)
    running = ".".join(map(str, numbers))
    if not runs_on(numbers):
        raise NotDelivered(
            f"MicroPython {running} is on the board, and the program needs {BASE}",
            "--base FILE writes another one under it",
        )
    return running


def write_file(
    prompt: Prompt, path: str, data: bytes, tell: Callable[[int], None] = lambda size: None
) -> None:
    """Write one file beside its place, hold it against its digest, and put it there. Raises Silence, NotDelivered."""
    wanted = hashlib.sha256(data).hexdigest()
    why = "it does not hold what was written"
    for _ in range(TRIES):
        try:
            prompt.run(f"begin({path + '.new'!r})")
            for at in range(0, len(data), CHUNK):
                prompt.run(f"put({b64encode(data[at : at + CHUNK]).decode()!r})")
                tell(min(at + CHUNK, len(data)))
            prompt.run("dog.feed(); f.close()")
            if prompt.value(f"digest({path + '.new'!r})") == wanted:
                prompt.run(f"dog.feed(); os.rename({path + '.new'!r}, {path!r})")
                return
        except PromptError as wrong:
            why = str(wrong)
    raise NotDelivered(f"{path} could not be written: {why}", "run the command again; correct files stay")


def write_all(prompt: Prompt, files: Mapping[str, bytes], folders: Iterable[str], tell: Tell) -> int:
    """Make these the only files of the board; gives the bytes that went over. What is right already stays.

    What starts the program goes first and comes last, so that a board that is half written runs nothing of it.
    Raises Silence, NotDelivered.
    """
    paths = {f"/{path}": data for path, data in files.items()}
    try:
        there = [str(path) for path in _listed(prompt)]
        first = sorted(path for path in there if path.rpartition("/")[2] in ("main.py", "boot.py"))
        for path in (*first, *(path for path in there if path not in paths and path not in first)):
            if not path.endswith("/"):
                prompt.run(f"dog.feed(); os.remove({path!r})")
        for folder in folders:
            if f"/{folder}/" not in there:
                prompt.run(f"dog.feed(); os.mkdir({'/' + folder!r})")
    except PromptError as wrong:
        raise NotDelivered(
            f"the board's files cannot be changed: {wrong}", "--base FILE writes the whole flash"
        ) from None
    total, done, sent = sum(map(len, paths.values())), 0, 0
    for path, data in sorted(paths.items(), key=lambda row: row[0].endswith("main.py")):

        def share(size: int, done: int = done) -> None:
            tell("writing", (done + size) / total)

        if _digest(prompt, path) != hashlib.sha256(data).hexdigest():
            write_file(prompt, path, data, share)
            sent += len(data)
        done += len(data)
        tell("writing", done / total)
    for path in map(str, _listed(prompt)):  # a name that was harmed on the way made a file of its own
        if path not in paths and not path.endswith("/"):
            prompt.run(f"dog.feed(); os.remove({path!r})")
    return sent


def _listed(prompt: Prompt) -> list[object]:
    listing = prompt.value("all('')")
    if not isinstance(listing, list):
        raise PromptError("a damaged answer")
    return cast(list[object], listing)


def _digest(prompt: Prompt, path: str) -> object:
    try:
        return prompt.value(f"digest({path!r})")
    except PromptError:
        return ""


def by_prompt(
    chip: Chip,
    files: Mapping[str, bytes],
    folders: Iterable[str],
    port: str,
    *,
    only: bool = False,
    tell: Tell,
) -> WriteResult | None:
    """Write files through the prompt of the MicroPython that is on the board, and start it; None where none answers.

    With `only` what else stands there stays. Raises NotDelivered: nothing half-written is started, and the same
    call goes on where it broke off.
    """
    line = OpenPort(port)
    try:
        prompt = Prompt(line)
        tell("waiting for MicroPython's prompt", 0.0)
        if not prompt.enter():
            return None
        identify(prompt, chip)
        prompt.prepare()
        begun = time.monotonic()
        if only:
            for path, data in files.items():
                write_file(prompt, f"/{path}", data)
            sent = sum(map(len, files.values()))
        else:
            sent = write_all(prompt, files, folders, tell)
        took = time.monotonic() - begun
        tell("starting", 1.0)
        heard = prompt.restart()
        reset(line)
        return WriteResult(chip.id, sent, took, True, said(line, heard))
    except (Silence, PromptError) as error:
        raise NotDelivered(
            f"the board on {port} stopped answering at its prompt ({error})",
            "run the command again; it continues where it stopped",
        ) from None
    finally:
        line.close()
