"""Records: dataclasses whose methods cost nothing until they are used.

`dataclasses.dataclass` compiles each method of a class from text when its module is imported. A cold `zapato check` imports more than a
hundred classes of data and makes objects of half of them, most of them a few: that was a third of its time. A record is a dataclass whose
first objects are filled field by field; its `__init__` is compiled when there are more of them. Comparing, hashing, showing and refusing
changes are functions that all records share. `dataclasses.fields`, `replace` and `asdict` take records, and a plain dataclass may have one
as its base.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import MISSING, Field, FrozenInstanceError, dataclass, field, fields, is_dataclass
from functools import cache, partial
from operator import attrgetter
from reprlib import recursive_repr
from threading import RLock
from typing import Any, NoReturn, TypeVar, cast, dataclass_transform, overload

T = TypeVar("T")
_FIRST = 50
"""Objects of a record that are made before its `__init__` is compiled, which takes as long as filling some fifty."""
_LOCK = RLock()


@overload
def record(made: type[T], /) -> type[T]: ...
@overload
def record(*, frozen: bool = False, eq: bool = True) -> Callable[[type[T]], type[T]]: ...
@dataclass_transform(field_specifiers=(field,))
def record(made: type[Any] | None = None, /, *, frozen: bool = False, eq: bool = True) -> Any:
    """Make a class of annotated fields a record; `frozen` and `eq` mean what they mean for a dataclass."""

    def defer(made: type[Any]) -> type[Any]:
        own = vars(made)
        if "__init__" in own:
            raise TypeError(
                f"{made.__qualname__}: a record's __init__ is made of its fields; write __post_init__ instead"
            )
        methods: dict[str, Any] = {}
        if made.__repr__ is object.__repr__:
            methods["__repr__"] = _shown
        if eq:
            methods |= {"__eq__": _equal, "__hash__": _hashed if frozen else None}
        if frozen:
            methods |= {"__setattr__": _refuse, "__delattr__": _refuse}
        for name, method in methods.items():
            if own.get(name) is None:  # Python itself writes __hash__ = None beside an __eq__
                setattr(made, name, method)
        waiting = _Waiting(made, frozen)
        made.__dataclass_fields__ = _Fields(waiting)
        setattr(made, "__init__", _Init(waiting))  # noqa: B010 - a descriptor, where a function is expected
        return made

    return defer if made is None else defer(made)


class _Fields:
    """Stands for the fields of a class that `dataclass` has not seen yet: whoever asks for them gets the real ones."""

    def __init__(self, waiting: _Waiting) -> None:
        self._waiting = waiting

    def __get__(self, instance: object, owner: type[Any]) -> Any:
        self._waiting.collect_fields()
        return vars(self._waiting.made)["__dataclass_fields__"]


class _Init:
    """Stands for the `__init__` of a class until it is compiled."""

    def __init__(self, waiting: _Waiting) -> None:
        self._waiting, self._first = waiting, _FIRST

    def __get__(self, instance: object, owner: type[Any]) -> Any:
        waiting = self._waiting
        if instance is not None and self._first > 0:
            self._first -= 1
            return partial(waiting.fill, instance)
        return waiting.compiled().__get__(instance, owner)


class _Waiting:
    """A class that is not complete yet."""

    def __init__(self, made: type[Any], frozen: bool) -> None:
        self.made, self._frozen = made, frozen
        self._collected = False
        self._plan: _Plan | None = None
        self._compiled: Callable[..., None] | None = None

    def collect_fields(self) -> None:
        """Let `dataclass` see the class, for whoever wants to know what it says of one."""
        with _LOCK:
            if not self._collected:
                self._collect_fields()
                self.made.__dataclass_params__.frozen = self._frozen  # what a class on top of it looks at
                self._collected = True

    def compiled(self) -> Callable[..., None]:
        """The `__init__` of the class, compiled once."""
        with _LOCK:
            if self._compiled is None:
                self.collect_fields()
                self._compiled = self.made.__init__ = _initializer(self.made, self._frozen)
        return self._compiled

    def fill(self, made: Any, /, *given: Any, **named: Any) -> None:
        """Do what the compiled `__init__` does, without compiling it; what it would refuse, it is given, for its words."""
        if self._plan is None:
            self._plan = _plan(self.made)
        names, taken, rows = self._plan
        values = dict(zip(names, given, strict=False))
        if len(given) > len(names) or (
            named and not (values.keys().isdisjoint(named) and named.keys() <= taken)
        ):
            return self.compiled()(made, *given, **named)
        values |= named
        put: Callable[[object, str, Any], None] = object.__setattr__ if self._frozen else setattr
        for name, default, factory in rows:
            if name in values:
                put(made, name, values[name])
            elif factory is not MISSING:
                put(made, name, factory())
            elif default is not MISSING:
                put(made, name, default)
            else:
                return self.compiled()(made, *given, **named)
        if hasattr(made, "__post_init__"):
            made.__post_init__()
        return None

    def _collect_fields(self) -> None:
        made = self.made
        # Else dataclass makes one of the signature, which is not there yet.
        made.__doc__ = made.__doc__ or made.__name__
        bases: list[Any] = [base for base in made.__mro__[1:] if is_dataclass(base)]
        again = self._frozen and any(base.__dataclass_params__.frozen for base in bases)
        if again:  # dataclass wants to make these two itself on top of a frozen base
            del made.__setattr__, made.__delattr__
        dataclass(init=False, eq=False, repr=False, match_args=False, frozen=again)(made)


_Row = tuple[Any, Any, bool, bool]
"""Of a field: its default, what makes one, whether `__init__` takes it, and that by name alone."""
_Plan = tuple[list[str], frozenset[str], list[tuple[str, Any, Any]]]
"""Of a class: what its `__init__` takes by place, what it takes by name, and each attribute with its default and what makes one."""


def _plan(made: type[Any]) -> _Plan:
    rows = _rows(made)
    taken = {name: by_name for name, (_, _, init, by_name) in rows.items() if init}
    return (
        [name for name, by_name in taken.items() if not by_name],
        frozenset(taken),
        [
            (name, default, factory)
            for name, (default, factory, init, _) in rows.items()
            if init or factory is not MISSING
        ],
    )


def _rows(made: type[Any]) -> dict[str, _Row]:
    """The fields of a class as `dataclass` would collect them; it is asked where there is more to it. For all of a cold check that costs 4 %."""
    rows: dict[str, _Row] = {}
    for base in reversed(made.__mro__):
        own = vars(base)
        if "__dataclass_fields__" not in own:
            continue
        written: dict[str, Any] = own.get("__annotations__", {})
        if isinstance(own["__dataclass_fields__"], _Fields) and written and _are_plain(own, written):
            rows |= {name: _row(own.get(name, MISSING)) for name in written}
        else:
            rows |= {each.name: _row(each) for each in fields(base)}
    return rows


def _are_plain(own: Mapping[str, Any], written: Mapping[str, Any]) -> bool:
    """True where each annotation is the text of a field's type, and no default has to be left in the class."""
    return all(
        isinstance(kind, str) and "ClassVar" not in kind and not _stays(own.get(name))
        for name, kind in written.items()
    )


def _stays(given: Any) -> bool:
    return isinstance(given, Field) and not given.init and given.default is not MISSING


def _row(given: Any) -> _Row:
    if isinstance(given, Field):
        row = cast("Field[Any]", given)
        return row.default, row.default_factory, row.init, row.kw_only is True
    return given, MISSING, True, False


def _initializer(made: type[Any], frozen: bool) -> Callable[..., None]:
    """The `__init__` of a class, compiled from its fields; names of its own stand between underscores, apart from those of fields."""
    names: dict[str, Any] = {"_MISSING_": MISSING, "_put_": object.__setattr__}
    before, behind, body = ["self"], ["*"], ["pass"]
    for each in fields(made):
        value = each.name
        if each.default_factory is not MISSING:
            names[f"_made_{value}_"] = each.default_factory
            value = (
                f"_made_{value}_() if {value} is _MISSING_ else {value}" if each.init else f"_made_{value}_()"
            )
        if each.init:
            given = "_MISSING_" if each.default_factory is not MISSING else f"_default_{each.name}_"
            names[f"_default_{each.name}_"] = each.default
            none = each.default is MISSING and each.default_factory is MISSING
            (behind if each.kw_only else before).append(each.name if none else f"{each.name}={given}")
        if each.init or each.default_factory is not MISSING:
            body.append(f"_put_(self, {each.name!r}, {value})" if frozen else f"self.{each.name} = {value}")
    if hasattr(made, "__post_init__"):
        body.append("self.__post_init__()")
    head = ", ".join(before + (behind if behind[1:] else []))
    exec(f"def __init__({head}):\n " + "\n ".join(body), names)
    made_init: Callable[..., None] = names["__init__"]
    made_init.__qualname__ = f"{made.__qualname__}.__init__"
    return made_init


def _refuse(self: object, name: str, *value: object) -> NoReturn:
    raise FrozenInstanceError(f"{type(self).__name__}.{name} cannot be changed")


@cache
def _compared(made: type[Any]) -> Callable[[object], object]:
    """What gives the values by which objects of a class are compared."""
    names = [each.name for each in fields(made) if each.compare]
    return attrgetter(*names) if names else lambda _: ()


def _equal(self: object, other: object) -> bool:
    if other.__class__ is not self.__class__:
        return NotImplemented
    values = _compared(self.__class__)
    return values(self) == values(other)


def _hashed(self: object) -> int:
    return hash(_compared(self.__class__)(self))


@recursive_repr()
def _shown(self: Any) -> str:
    shown = (each.name for each in fields(self) if each.repr and not each.name.startswith("_"))
    return f"{self.__class__.__qualname__}({', '.join(f'{name}={getattr(self, name)!r}' for name in shown)})"
