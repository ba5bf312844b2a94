"""Records: dataclasses whose methods cost nothing until they are used.

`dataclasses.dataclass` compiles each method of a class from text when its module is imported. A cold `zapato check` imports more than a
hundred classes of data and makes objects of half of them: that was a third of its time. A record is a dataclass whose `__init__` is
compiled when its first object is made; comparing, hashing, showing and refusing changes are functions that all records share.
`dataclasses.fields`, `replace` and `asdict` take records, and a plain dataclass may have one as its base.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, FrozenInstanceError, dataclass, field, fields, is_dataclass
from functools import cache
from operator import attrgetter
from reprlib import recursive_repr
from threading import RLock
from typing import Any, NoReturn, TypeVar, dataclass_transform, overload

T = TypeVar("T")
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
        for name in ("__init__", "__dataclass_fields__"):
            setattr(made, name, _Completing(waiting, name))
        return made

    return defer if made is None else defer(made)


class _Completing:
    """Stands for an attribute of a class that is not complete yet: whoever asks for it gets the real one."""

    def __init__(self, waiting: _Waiting, name: str) -> None:
        self.waiting, self.name = waiting, name

    def __get__(self, instance: object, owner: type[Any]) -> Any:
        self.waiting.complete()
        real = vars(self.waiting.made)[self.name]
        return real.__get__(instance, owner) if self.name == "__init__" else real


class _Waiting:
    """A class that is not complete yet."""

    def __init__(self, made: type[Any], frozen: bool) -> None:
        self.made, self.frozen, self.whole = made, frozen, False

    def complete(self) -> None:
        with _LOCK:
            if not self.whole:
                self._collect_fields()
                self.made.__dataclass_params__.frozen = self.frozen  # what a class on top of it looks at
                self.made.__init__ = _initializer(self.made, self.frozen)
                self.whole = True

    def _collect_fields(self) -> None:
        made = self.made
        # Else dataclass makes one of the signature, which is not there yet.
        made.__doc__ = made.__doc__ or made.__name__
        bases: list[Any] = [base for base in made.__mro__[1:] if is_dataclass(base)]
        again = self.frozen and any(base.__dataclass_params__.frozen for base in bases)
        if again:  # dataclass wants to make these two itself on top of a frozen base
            del made.__setattr__, made.__delattr__
        dataclass(init=False, eq=False, repr=False, match_args=False, frozen=again)(made)


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
