"""Expressions that are compiled when they are first used, against those of `re`."""

import re

import pytest
from support.own_modules import own_modules

from zapato.regex import regex


@pytest.mark.parametrize(
    ("text", "flags", "subject"),
    [(r"a(\d+)", 0, "a12 a3"), (r"^B", re.I | re.M, "a\nb"), (rb"\0+", 0, b"a\0\0")],
)
def test_it_does_what_a_compiled_one_does(text, flags, subject):
    late, compiled = regex(text, flags), re.compile(text, flags)
    for _ in range(2):  # compiled, and kept
        assert late.findall(subject) == compiled.findall(subject)
        assert late.sub(b"x" if isinstance(subject, bytes) else "x", subject) == compiled.sub(
            b"x" if isinstance(subject, bytes) else "x", subject
        )
        assert bool(late.fullmatch(subject)) == bool(compiled.fullmatch(subject))
        assert (late.pattern, late.flags) == (compiled.pattern, compiled.flags)


def test_every_expression_of_ours_compiles():
    checked = 0
    for module in own_modules():
        for value in vars(module).values():
            if type(value).__module__ == "zapato.regex":
                assert isinstance(value.pattern, (str, bytes))
                checked += 1
    assert checked > 40
