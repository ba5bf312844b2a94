"""The MicroPython VM: the vendor's own, configured as a port configures it, built for WebAssembly and run by wasmtime.

There is one image a port, made by tools/make_vm from the source of MicroPython 1.25.0; vm_image/README.md says how,
and holds the licences.
"""

from __future__ import annotations

import atexit
import ctypes
import sys
from collections.abc import Callable, Mapping
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any, cast

from zapato.errors import ToolMissing
from zapato.record import record
from zapato.simulator.crossing import fuel_of, function, view_of
from zapato.simulator.wasi import Fault, Files, System

if TYPE_CHECKING:
    import wasmtime

REFUSED = -10_000
"""An answer to host.number() at or below this fails the call, with the error REFUSED - answer (tools/vm/modhost.c)."""
CALL = 560
"""Bytes of the VM's C stack that a call from one function of a program to another takes (measured: a recursion to its end)."""
OWN_CALLS = 4
"""Calls that the board's modules nest where the port has C code: power_up around the program, and Pin.value, ask, fire."""
START = 1 << 34
"""Instructions that a program may spend until it waits for the first time."""


class Stopped(Exception):
    """The program used up its instructions without ever waiting."""


@cache
def _fixed() -> bool:
    """With 64 bits of addresses, room for all that a VM may ever take can be set aside: its memory then stays where it is."""
    import wasmtime

    return sys.maxsize > 1 << 32 and hasattr(wasmtime.Config, "memory_may_move")


@cache
def _loaded(port: str) -> tuple[wasmtime.Engine, wasmtime.Module]:
    """The compiled image of a port. wasmtime keeps it on disk, so only the first run on a machine compiles."""
    try:
        import wasmtime
    except (ImportError, OSError) as error:
        raise ToolMissing(
            f"the MicroPython VM cannot be loaded here: {error}", "pip install --force-reinstall wasmtime"
        ) from None
    settings = wasmtime.Config()
    settings.wasm_exceptions = True
    settings.consume_fuel = True
    if _fixed():
        settings.memory_may_move = False
    try:
        settings.cache = True
        engine = wasmtime.Engine(settings)
        image = (files("zapato") / "simulator" / "vm_image" / f"{port}.wasm").read_bytes()
        atexit.register(_loaded.cache_clear)  # before the library itself is taken down
        return engine, wasmtime.Module(engine, image)
    except (wasmtime.WasmtimeError, OSError) as error:
        raise ToolMissing(f"the MicroPython VM cannot be loaded here: {str(error).splitlines()[0]}") from None


def ready(port: str = "esp32") -> None:
    """Load the VM of a port. Raises ToolMissing with the reason where it cannot be."""
    _loaded(port)


def _nothing() -> None:
    pass


def _no_number(what: int, a: int, b: int, c: int, d: int) -> int:
    return 0


def _no_table(table: bytes) -> None:
    pass


class VmMemory:
    """The VM's memory, read and written by address, wherever it has moved to."""

    def __init__(self, memory: Any, store: Any) -> None:
        self._memory, self._store = memory, store
        self._base = 0
        self.look()

    def look(self) -> None:
        """Find the memory: again where it may have moved while the VM ran."""
        pointer = self._memory.data_ptr(self._store)
        self._base = ctypes.cast(pointer, ctypes.c_void_p).value or 0

    def words(self, at: int, count: int) -> memoryview | None:
        """So many words of 32 bits, read and written in place; None where the memory may move."""
        return None

    def read(self, at: int, size: int) -> bytes:
        return ctypes.string_at(self._base + at, size) if size else b""

    def write(self, at: int, data: bytes) -> None:
        if data:
            ctypes.memmove(self._base + at, data, len(data))


class FixedMemory(VmMemory):
    """The same where it never moves: one view for good, all addresses of 32 bits wide, as it grows into the room set aside."""

    def look(self) -> None:
        super().look()
        self._view = view_of(self._base, 1 << 32)

    def words(self, at: int, count: int) -> memoryview | None:
        return self._view[at : at + 4 * count].cast("I")

    def read(self, at: int, size: int) -> bytes:
        return self._view[at : at + size].tobytes()

    def write(self, at: int, data: bytes) -> None:
        self._view[at : at + len(data)] = data


@record
class Machine:
    """One power-up: a fresh VM with its own memory.

    Attributes:
        port: whose MicroPython it is.
        stack: bytes of the VM's C stack that the interpreter may take; a call of the program takes CALL of them.
        heap: bytes of the VM's heap, tables of its collector included.
        files: what it finds under /.
        host: answers `host.call(name, data)`; may raise Fault to fail the call, anything else to end the run.
        say: takes what is printed.
        variables: its environment.
        number: answers `host.number(what, a, b, c, d)`; may raise Fault.
        collecting: called when the heap's collector begins, after the board's modules are loaded.
        collected: takes the allocation table after a collection (py/gc.c: two bits a block, 0 where it is free).
    """

    port: str
    stack: int
    heap: int
    files: Files
    host: Callable[[str, bytes], str]
    say: Callable[[bytes], None]
    variables: Mapping[str, str]
    number: Callable[[int, int, int, int, int], int] = _no_number
    collecting: Callable[[], None] = _nothing
    collected: Callable[[bytes], None] = _no_table

    def __post_init__(self) -> None:
        import wasmtime

        self._engine, self._module = _loaded(self.port)
        self._store = wasmtime.Store(self._engine)
        self._fuel = fuel_of(self._store)
        self._left: int | None = None
        """What is left while the host computes: nothing is spent meanwhile, and asking takes longer than all else of a call."""
        self._spent, self._granted = 0, 0
        self.allow(START)
        self._ended: BaseException | None = None
        self._stays = _fixed()
        self.memory: VmMemory

    @property
    def spent(self) -> int:
        """Instructions (of WebAssembly) since the power-up; the same for the same run, everywhere."""
        if self._left is None:
            self._left = self._fuel()
        return self._spent + self._granted - self._left

    def allow(self, instructions: int) -> None:
        """From now on the program may spend so much until it is stopped, or up to half as much more."""
        if self._left is None and self._granted:
            self._left = self._fuel()
        left = self._left or 0
        if instructions <= left <= instructions * 3 // 2:
            return  # said at every turn, and setting it takes longer than asking
        self._spent += self._granted - left
        self._granted = instructions * 3 // 2
        self._store.set_fuel(self._granted)
        self._left = None

    def run(self, module: str) -> int:
        """Run a module as the main program; gives its exit code.

        What a host call raised is raised here; Stopped where the instructions ran out.
        """
        import wasmtime

        keep: list[Any] = []
        linker = wasmtime.Linker(self._engine)
        sizes = ["-X", f"heapsize={self.heap}", "-X", f"stack={self.stack}"]
        words = ["micropython", *sizes, "-m", module]
        system = System(None, words, [f"{k}={v}" for k, v in self.variables.items()], self.files, self.say)
        own = {
            "host_call": self._host,
            "host_number": self._number,
            "host_collecting": self._collecting,
            "host_collected": self._collected,
            "proc_exit": self._exit,
        }
        calls = own | {name: self._guarded(call) for name, call in system.calls().items()}
        for need in self._module.imports:
            name, kind = str(need.name), cast(wasmtime.FuncType, need.type)
            if name in calls:
                linker.define(
                    self._store,
                    need.module,
                    name,
                    function(self._store, kind, calls[name], keep, self._end_with),
                )
        exports = cast(Any, linker.instantiate(self._store, self._module).exports(self._store))
        found = FixedMemory if self._stays else VmMemory
        self.memory = system.memory = found(exports["memory"], self._store)
        try:
            exports["_start"](self._store)
        except Exception as trap:
            return self._end(trap)
        finally:
            self._left = None
        return 0

    def _end(self, trap: Exception) -> int:
        if isinstance(self._ended, _Exit):
            return self._ended.code
        if self._ended is not None:
            raise self._ended from None
        if not self._fuel():
            raise Stopped from None
        raise trap

    def _end_with(self, error: BaseException) -> None:
        self._ended = error

    def _exit(self, code: int) -> None:
        raise _Exit(code)

    def _guarded(self, call: Callable[..., int]) -> Callable[..., int]:
        def guarded(*given: int) -> int:
            try:
                self._called()
                return call(*given)
            except Fault as fault:
                return fault.number

        return guarded

    def _called(self) -> None:
        """The program calls the host: its memory may have moved, and it has spent something."""
        if not self._stays:
            self.memory.look()
        self._left = None

    def _host(self, name: int, name_size: int, data: int, size: int, result: int, room: int) -> int:
        self._called()
        read = self.memory.read
        try:
            answer = self.host(read(name, name_size).decode(), read(data, size)).encode()
        except Fault as fault:
            answer = f"!{fault.number}".encode()
        self.memory.write(result, answer[:room])
        return min(len(answer), room)

    def _number(self, what: int, a: int, b: int, c: int, d: int) -> int:
        self._left = None  # as _called(), without the call: this is what is called most
        if not self._stays:
            self.memory.look()
        try:
            return self.number(what, a, b, c, d)
        except Fault as fault:
            return REFUSED - fault.number

    def _collecting(self) -> None:
        self._called()
        self.collecting()

    def _collected(self, table: int, size: int) -> None:
        self._called()
        self.collected(self.memory.read(table, size))


class _Exit(Exception):
    def __init__(self, code: int) -> None:
        super().__init__(code)
        self.code = code
