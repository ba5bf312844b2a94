"""Records against the dataclasses that they stand for."""

import copy
import dataclasses
import inspect
import pickle
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from dataclasses import FrozenInstanceError, dataclass, field
from pathlib import Path
from threading import Barrier

import pytest
from support.own_modules import own_modules

from zapato.record import _FIRST, record


def _twins(decorate):
    """The same classes, as records or as dataclasses."""

    @decorate()
    class Plain:
        name: str
        size: int = 3
        rows: list[int] = field(default_factory=list)
        quiet: str = field(default="q", repr=False, compare=False)
        total: int = field(init=False, default=0)

        def __post_init__(self):
            self.total = self.size + len(self.rows)

    @decorate(frozen=True)
    class Odd:
        """Fields with the names that are used inside."""

        put: int
        MISSING: int = 2
        made_rows: int = 3
        rows: list[int] = field(default_factory=list)

    @decorate(frozen=True)
    class Fixed:
        name: str
        at: tuple[int, ...] = ()
        key: str = field(default="k", kw_only=True)

    @decorate(frozen=True)
    class Wider(Fixed):
        name: str = "w"
        more: int = 1

    @decorate(eq=False)
    class Same:
        name: str = ""

    return Plain, Fixed, Wider, Same, Odd


RECORDS, DATACLASSES = _twins(record), _twins(dataclass)
CALLS = [
    (0, ("a",), {}),
    (0, ("a", 4, [1, 2]), {"quiet": "z"}),
    (0, (), {"name": "a"}),
    (0, (), {}),
    (0, ("a",), {"total": 1}),
    (1, ("a", (1,)), {"key": "x"}),
    (1, ("a", (1,), "x"), {}),
    (2, (), {}),
    (2, ("a", (1,), 5), {"key": "x"}),
    (3, ("a",), {}),
    (4, (1,), {}),
    (4, (1, 5, 6, [7]), {}),
]


def _tried(classes, call, before=0):
    which, given, named = call
    for _ in range(before):
        classes[which]("a")
    try:
        made = classes[which](*given, **named)
    except TypeError as error:
        return str(error)
    return repr(made), dataclasses.asdict(made), made == classes[which](*given, **named), made == "a"


@pytest.mark.parametrize("before", [0, _FIRST + 1])
@pytest.mark.parametrize("call", CALLS, ids=str)
def test_a_record_does_what_its_dataclass_does(call, before):
    assert _tried(_twins(record), call, before) == _tried(DATACLASSES, call)


def test_hash_replace_copy_and_refused_changes():
    plain, fixed, wider, same, _ = RECORDS
    one = fixed("a", (1,))
    assert hash(one) == hash(fixed("a", (1,))) and one in {fixed("a", (1,))} and one != wider("a", (1,))
    assert dataclasses.replace(one, name="b") == fixed("b", (1,)) and copy.deepcopy(one) == one
    assert len({same(), same()}) == 2
    for change in (lambda: setattr(one, "name", "c"), lambda: delattr(one, "name")):
        with pytest.raises(FrozenInstanceError):
            change()
    with pytest.raises(TypeError, match="unhashable"):
        hash(plain("a"))


def test_help_and_editors_see_what_a_record_takes_before_one_was_made():
    signature = inspect.signature(_twins(record)[1])
    assert str(signature) == "(name, at=(), *, key='k')"


def test_a_plain_dataclass_may_extend_a_record():
    @dataclass(frozen=True)
    class More(_twins(record)[1]):
        extra: int = 7

    assert [each.name for each in dataclasses.fields(More)] == ["name", "at", "key", "extra"]
    assert More("a").extra == 7 and hash(More("a")) == hash(More("a"))
    with pytest.raises(TypeError, match="frozen"):

        @dataclass
        class Loose(_twins(record)[1]):
            pass


def test_an_init_of_its_own_is_refused():
    with pytest.raises(TypeError, match="__post_init__"):

        @record
        class Own:
            def __init__(self):
                pass


def test_threads_may_make_the_first_object_at_the_same_time():
    for _ in range(50):
        made, barrier = _twins(record)[1], Barrier(4)

        def first(made=made, barrier=barrier):
            barrier.wait()
            return made("a", key="b")

        with ThreadPoolExecutor(4) as pool:
            results = [pool.submit(first) for _ in range(4)]
            assert len({result.result() for result in results}) == 1


def _own_records():
    for module in own_modules():
        for value in vars(module).values():
            if (
                isinstance(value, type)
                and value.__module__ == module.__name__
                and "__dataclass_fields__" in vars(value)
            ):
                yield value


def test_every_record_of_ours_takes_what_its_dataclass_would_take():
    checked = 0
    for made in _own_records():
        fields = dataclasses.fields(made)
        rows = [(each.name, each.type, each) for each in fields]
        twin = dataclasses.make_dataclass(made.__name__, rows)
        own, other = inspect.signature(made.__init__), inspect.signature(twin.__init__)
        assert list(own.parameters) == list(other.parameters), made
        for name, parameter in own.parameters.items():
            wanted = other.parameters[name]
            assert parameter.kind == wanted.kind, (made, name)
            assert (parameter.default is inspect.Parameter.empty) == (
                wanted.default is inspect.Parameter.empty
            )
        checked += 1
    assert checked > 150


_READ_FIELDS = """
from dataclasses import fields
from zapato.record import _plan
from test_record import _own_records
for made in _own_records():
    before = _plan(made)
    made.__init__  # compiled, so that dataclass has seen its fields
    assert before == _plan(made), (made, before, _plan(made))
print("same")
"""


def test_fields_are_read_as_dataclass_reads_them():
    told = subprocess.run(
        [sys.executable, "-c", _READ_FIELDS],
        capture_output=True,
        text=True,
        check=False,
        cwd=Path(__file__).parent,
    )
    assert told.stdout == "same\n", told.stderr


_READ = """
import pickle, sys
made = pickle.load(sys.stdin.buffer)
print(repr(made), made == made, hash(made) == hash(made))
"""


def test_what_was_pickled_is_read_where_no_object_was_made_before():
    from zapato.findings import Place

    told = subprocess.run(
        [sys.executable, "-c", _READ], input=pickle.dumps(Place("a.toml", 3)), capture_output=True, check=True
    )
    assert told.stdout.decode().split("\n")[0] == f"{Place('a.toml', 3)!r} True True"


def test_a_repr_of_a_base_stays():
    @record(eq=False)
    class Base:
        name: str

        def __repr__(self):
            return f"<{self.name}>"

    @record(eq=False)
    class More(Base):
        extra: int = 1

    assert repr(More("a")) == "<a>"
