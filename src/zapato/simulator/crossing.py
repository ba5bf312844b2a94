"""Functions of the host that the VM calls, with as little on the way as can be.

The library's own way converts every argument and result by its type, some 50 us a call; a rehearsal of
hours calls some hundred thousand times. Here whole numbers go through directly (the C API's unchecked
functions); where this version of the library has no such thing, its own way serves.
"""

from __future__ import annotations

import ctypes
import struct
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, cast

if TYPE_CHECKING:
    import wasmtime

_FORMS = {"i32": "i12x", "i64": "q8x"}
"""An argument on its way takes 16 bytes (wasmtime.h, wasmtime_val_raw_t)."""
_Callback = ctypes.CFUNCTYPE(
    ctypes.c_size_t, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_void_p, ctypes.c_size_t
)


def function(
    store: wasmtime.Store,
    kind: wasmtime.FuncType,
    call: Callable[..., Any],
    keep: list[Any],
    ended: Callable[[BaseException], None],
) -> wasmtime.Func:
    """A function for the VM that runs `call`; an exception in it ends the VM with a trap, and is given to `ended`.

    What must live as long as the store is put into `keep`.
    """
    import wasmtime

    types = [str(param) for param in (*kind.params, *kind.results)]
    try:
        from wasmtime import _bindings as raw  # type: ignore

        make: Any = raw.wasmtime_func_new_unchecked  # type: ignore
        pointer: Any = raw.wasmtime_func_unchecked_callback_t  # type: ignore
        empty: Any = raw.wasmtime_func_t  # type: ignore
    except (ImportError, AttributeError):
        return wasmtime.Func(store, kind, _plainly(call, ended))
    if any(type_name not in _FORMS for type_name in types) or len(kind.results) > 1:
        return wasmtime.Func(store, kind, _plainly(call, ended))
    callback = _Callback(
        _passing(
            struct.Struct("<" + "".join(_FORMS[str(param)] for param in kind.params)),
            bool(kind.results),
            call,
            ended,
        )
    )
    made, opened = empty(), cast(Any, store)
    make(
        opened._context(),
        kind.ptr(),
        ctypes.cast(callback, pointer),
        None,
        _no_finalizer(),
        ctypes.byref(made),
    )  # type: ignore
    keep.append(callback)
    return wasmtime.Func._from_raw(made)  # type: ignore


def fuel_of(store: wasmtime.Store) -> Callable[[], int]:
    """What tells how much fuel a store has left: the C API's function with one cell for its answer, else the library's own."""
    cell = ctypes.c_uint64()
    try:
        from wasmtime import _bindings as raw  # type: ignore

        read: Any = raw._wasmtime_context_get_fuel  # type: ignore
        context, at = cast(Any, store)._context(), ctypes.byref(cell)
    except (ImportError, AttributeError):
        return store.get_fuel

    def left() -> int:
        if read(context, at):
            return store.get_fuel()  # raises what is wrong
        return cell.value

    return left


def _no_finalizer() -> Any:
    return ctypes.CFUNCTYPE(None, ctypes.c_void_p)()


class Trap(Exception):
    """Ends the VM where the library's own way passes exceptions on: only plain ones find their way through it."""


def _plainly(call: Callable[..., Any], ended: Callable[[BaseException], None]) -> Callable[..., Any]:
    def plain(*given: int) -> Any:
        try:
            return call(*given)
        except BaseException as error:
            ended(error)
            raise Trap from None

    return plain


def _passing(
    given: struct.Struct, answers: bool, call: Callable[..., Any], ended: Callable[[BaseException], None]
) -> Callable[..., int]:
    """Unpack the arguments, call, pack the answer.

    The VM passes both in cells on its stack, at one of few addresses: each gets a view, once, because copying bytes
    to and fro with ctypes takes five times as long as all else here.
    """
    unpack, pack = given.unpack_from, struct.Struct("<q").pack_into
    size = max(given.size, 16)
    views: dict[int, memoryview] = {}

    def passing(_env: object, _caller: object, cells: int, _count: int) -> int:
        try:
            view = views.get(cells)
            if view is None:
                view = views[cells] = view_of(cells, size)
            answer = call(*unpack(view))
            if answers:
                pack(view, 0, answer)
        except BaseException as error:
            ended(error)
            return _trap()
        return 0

    return passing


def view_of(address: int, size: int) -> memoryview:
    """Memory of this process, read and written in place."""
    return memoryview((ctypes.c_ubyte * size).from_address(address)).cast("B")


def _trap() -> int:
    """A trap's address: the VM that called ends with it."""
    import wasmtime

    trap: Any = wasmtime.Trap("ended by the host")
    return ctypes.cast(trap._consume(), ctypes.c_void_p).value or 0
