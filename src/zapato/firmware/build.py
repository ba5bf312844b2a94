"""Building: from a design to everything a board runs, under out/<device>/."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path

from zapato.budgets.wear import Wear, wear
from zapato.checks import report as report_of
from zapato.descriptions import thing
from zapato.design import Design, resolve
from zapato.errors import Refused, Unwritable
from zapato.findings import Report
from zapato.firmware.base import Base, read_base
from zapato.firmware.first import data_place, first_image
from zapato.firmware.image import BLOCK, data_image
from zapato.firmware.layout import FOLDERS, delivered
from zapato.firmware.lock import Entry, entry_of
from zapato.firmware.package import BASE, manifest, pack
from zapato.firmware.plan import settings
from zapato.firmware.program import MAP, Program, compile_device
from zapato.lang.files import make_folder, write, write_private
from zapato.lang.site import add_update_key, site_of
from zapato.record import record

FOLDER_ROOM = 4 * BLOCK
"""What a slot's two folders take: two blocks each (LittleFS, metadata pairs)."""
MARK = "mark"
SECRET = "secret"
"""The folder, in a build's, of the files with secrets in them."""


@record(frozen=True)
class Build:
    """What a build made.

    Attributes:
        device: whose it is.
        version: of its program: the same for the same input.
        board: the board's id.
        folder: `out/<device>`.
        modules: size in bytes of each compiled module, by name.
        update: the update package.
        heap: bytes of memory that the board's chip has for the program.
        flash: bytes that its partition has for the program's files.
        report: the findings that stand (no errors among them).
        changed: False where everything stood there already, byte by byte.
        key_made: True where the device had no update key and one was made.
        data: the first bytes of the data partition, with the network's secrets.
        first: the whole flash of a new device, where a base image was given.
        wear: how long the flash lasts; None for a device that writes nothing by itself.
        entry: for the lock file of the site; None for a device without a site.
        root: the folder of that site; None without one.
    """

    device: str
    version: str
    board: str
    folder: Path
    modules: Mapping[str, int]
    update: Path
    heap: int
    flash: int
    report: Report
    changed: bool
    key_made: bool
    data: Path
    first: Path | None = None
    wear: Wear | None = None
    entry: Entry | None = None
    root: Path | None = None

    @property
    def app(self) -> Path:
        """The folder with the compiled modules and the plan."""
        return self.folder / "app"

    @property
    def size(self) -> int:
        """Bytes of all compiled modules together."""
        return sum(self.modules.values())


def build(what: Design | Path | str, out: Path | str = "out", *, base: Path | None = None) -> Build:
    """Check and build one device into `out/<device>/`.

    `base` is the vendor's MicroPython image for the chip; with it the whole flash of a new device is made, too.
    Equal inputs give equal bytes. Raises Refused while errors stand, Unreadable, Unwritable,
    ToolMissing; an earlier build is replaced file by file, never left half-written.

    Examples:
        >>> import zapato
        >>> built = zapato.build("devices/kettle-plug.toml", "out")
        >>> built.update.name
        'kettle-plug-1.0.0.update'
    """
    design = what if isinstance(what, Design) else resolve(Path(what))
    checked = _checked(design)
    assert design.board
    under = read_base(base, design.board) if base else None
    entry = Entry.of(design)
    program = compile_device(design)
    key, made = update_key(design)
    folder = Path(out) / design.name
    about = manifest(design.name, design.version, BASE, program.files)
    update = folder / f"{design.name}-{design.version}.update"
    data = _data(design, program, key, under)
    changed = [
        *_put_program(folder, design, program),
        _forget(folder, program, update),
        write(update, pack(about, program.files, bytes.fromhex(key))),
        _put_secret(folder, f"{design.name}-data.bin", data),
    ]
    _put_secret(folder, MARK, _mark(design.site.secrets, key).encode())
    first = None
    if under:
        first = folder / SECRET / f"{design.name}-first.{'uf2' if design.board.chip.port == 'rp2' else 'bin'}"
        changed.append(_put_secret(folder, first.name, first_image(design.board, under, data)))
    sizes = {name: len(data) for name, data in sorted(program.modules.items())}
    worn = wear(design, sum(-(-len(file) // BLOCK) * BLOCK for file in program.files.values()) + FOLDER_ROOM)
    changed.append(write(folder / "build.json", _summary(design, sizes, about, update, worn)))
    return Build(
        design.name,
        design.version,
        design.board.id,
        folder,
        sizes,
        update,
        design.board.chip.heap,
        design.board.flash,
        checked,
        any(changed),
        made,
        folder / SECRET / f"{design.name}-data.bin",
        first,
        worn,
        entry and replace(entry, update=hashlib.sha256(update.read_bytes()).hexdigest()),
        design.site.root,
    )


def _checked(design: Design) -> Report:
    """What was found in a design that can be built. Raises Refused."""
    report = report_of([design])
    if not report.ok or design.board is None:
        raise Refused(
            f"{design.name or 'the device'} is not built: its file has errors",
            "zapato explain CODE explains each",
            report.findings,
            report.texts,
        )
    refuse_unplaced(design)
    return report


def _put_program(folder: Path, design: Design, program: Program) -> list[bool]:
    """The modules, their map and the description; which of them changed."""
    described = json.dumps(thing(design), indent=2, ensure_ascii=False) + "\n"
    return [
        *(write(folder / "app" / path, data) for path, data in program.files.items()),
        write(folder / MAP, program.map.as_bytes()),
        write(folder / "thing.json", described.encode()),
    ]


def _mark(secrets: Mapping[str, str], key: str) -> str:
    """What tells whether a secret changed since a build; it is one itself."""
    return hashlib.sha256(json.dumps([sorted(secrets.items()), key]).encode()).hexdigest()


def as_built(path: Path, out: Path) -> Entry | None:
    """The lock file's entry of a device whose results in `out` are what a build would make anew; None where they are not. Raises Unreadable."""
    entry = entry_of(path)
    if entry is None:
        return None
    folder, site = out / entry.device, site_of(path)
    update = folder / f"{entry.device}-{entry.version}.update"
    try:
        same = hashlib.sha256(update.read_bytes()).hexdigest() == entry.update
        mark = (folder / SECRET / MARK).read_text()
        whole = (folder / "build.json").is_file() and (folder / SECRET / f"{entry.device}-data.bin").is_file()
    except OSError:
        return None
    secrets = _mark(site.secrets, site.update_keys.get(entry.device, ""))
    return entry if same and whole and mark == secrets else None


def _data(design: Design, program: Program, key: str, base: Base | None) -> bytes:
    """The data partition's first bytes: all that is not erased."""
    assert design.board is not None
    files = delivered(design, program, settings(design, key))
    return data_image(design.board.chip, files, FOLDERS, data_place(design.board, base)[1])


def _put_secret(folder: Path, name: str, data: bytes) -> bool:
    """Write into the folder of what holds secrets, which only its owner may enter. Raises Unwritable."""
    secret = folder / SECRET
    make_folder(secret)
    with contextlib.suppress(OSError):  # where the file system has no such rights
        secret.chmod(0o700)
    return write_private(secret / name, data)


def refuse_unplaced(design: Design) -> None:
    """Raises Refused where the solver is still to choose a pin."""
    waiting = [f"{part.id} ({key})" for part in design.parts.values() for key in part.autos]
    if waiting:
        raise Refused(
            f"pins are still to be chosen for {', '.join(waiting)}", "zapato fit PATH --write chooses them"
        )


def update_key(design: Design) -> tuple[str, bool]:
    """The device's update key; made and stored where the site has none for it yet."""
    known = design.site.update_keys.get(design.name)
    if known:
        try:
            if len(bytes.fromhex(known)) >= 16:
                return known, False
        except ValueError:
            pass
        raise Refused(
            f"the update key of {design.name} in secrets.toml is not a text of at least 32 hexadecimal digits",
            "remove it, and a new one is made",
        )
    root = design.site.root or design.document.source.path.absolute().parent
    return add_update_key(root, design.name), True


def _forget(folder: Path, program: Program, update: Path) -> bool:
    """Remove modules and packages of an earlier build that this one does not have."""
    app = folder / "app"
    old = [p for p in app.rglob("*.mpy") if p.relative_to(app).as_posix() not in program.files]
    old += [p for p in folder.glob("*.update") if p != update]
    for path in old:
        try:
            path.unlink()
        except OSError as error:
            raise Unwritable(f"cannot remove {path}: {error.strerror}") from None
    return bool(old)


def _summary(
    design: Design, sizes: Mapping[str, int], about: Mapping[str, object], update: Path, worn: Wear | None
) -> bytes:
    """build.json: inputs, sizes, hashes."""
    board = design.board
    assert board is not None
    row = design.document.row
    pieces = {
        source.path.name: source
        for source, _ in design.document.origins.values()
        if row is None or source is not row.source
    }
    inputs = {
        "device": _hash(design.document.source.text),
        "topic": design.topic,
        **({"row": _hash(json.dumps(row.values, sort_keys=True, default=str))} if row else {}),
        "pieces": {
            name: _hash(source.text)
            for name, source in pieces.items()
            if source is not design.document.source
        },
    }
    data = {
        "device": design.name,
        "version": design.version,
        "board": board.id,
        "chip": board.chip.id,
        "base": BASE,
        "inputs": inputs,
        "modules": sizes,
        "size": sum(sizes.values()),
        "flash": board.flash,
        "heap": board.chip.heap,
        "wear": worn.as_dict() if worn else None,
        "files": about["files"],
        "update": {"name": update.name, "sha256": hashlib.sha256(update.read_bytes()).hexdigest()},
    }
    return (json.dumps(data, indent=2, sort_keys=True) + "\n").encode()


def _hash(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()
