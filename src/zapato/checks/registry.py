"""The rules. Each module of `zapato.rules` has a RULE or RULES; adding a rule is adding a module."""

from __future__ import annotations

import os
from collections.abc import Mapping
from functools import cache
from importlib import import_module

from zapato import extensions
from zapato.checks.rule import DesignRule, PinRule, Rule, SiteRule
from zapato.errors import UnknownName, ZapatoError

_CODES = "zapato.rules"


def _module_names(folder: str) -> list[str]:
    """The modules of `zapato.rules`; pkgutil takes ten times as long to list them."""
    return sorted(
        file[:-3] for file in os.listdir(folder) if file.endswith(".py") and not file.startswith("_")
    )


@cache
def rules() -> Mapping[str, Rule]:
    """Every rule by its code, in the order of codes."""
    rules: list[Rule] = []
    folder = import_module(_CODES).__path__[0]
    for name in _module_names(folder):
        module = extensions.load_module(f"{_CODES}.{name}", f"{folder}{os.sep}{name}.py")
        rules.extend(getattr(module, "RULES", ()) or (module.RULE,))
    for bundle in extensions.with_file("rule.py"):
        rules.extend(getattr(bundle.module("rule"), "RULES", ()) or (bundle.member("rule", "RULE"),))
    codes = [rule.code for rule in rules]
    if twice := next((code for code in codes if codes.count(code) > 1), ""):
        raise ZapatoError(
            f"two rules have the code {twice}: a rule of an extension needs a code of its own",
            "another code in its rule.py",
        )
    return {rule.code: rule for rule in sorted(rules, key=lambda r: r.code)}


@cache
def finders() -> tuple[DesignRule | PinRule | SiteRule, ...]:
    """The rules that look at a whole design."""
    return tuple(rule for rule in rules().values() if isinstance(rule, (DesignRule, PinRule, SiteRule)))


@cache
def comparers() -> tuple[SiteRule, ...]:
    """The rules that look at a site and all its designs."""
    return tuple(rule for rule in rules().values() if isinstance(rule, SiteRule))


@cache
def judges() -> tuple[PinRule, ...]:
    """The rules that judge one pin for one use."""
    return tuple(rule for rule in rules().values() if isinstance(rule, PinRule))


for _kept in (rules, finders, comparers, judges):
    extensions.on_change(_kept.cache_clear)


def rule(code: str) -> Rule:
    """The rule with this code. Raises UnknownName."""
    rule = rules().get(code)
    if rule is None:
        from zapato.lang.fields import nearest

        near = nearest(code, list(rules()))
        raise UnknownName(
            f'no finding has the code "{code}"', near[0] if near else "zapato explain lists the codes"
        )
    return rule
