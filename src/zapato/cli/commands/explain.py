"""zapato explain: the whole story behind a finding's code."""

from __future__ import annotations

import sys
import textwrap
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from zapato.checks.rule import Rule


LIGHT = "status-led"


@click.command("explain")
@click.argument("code", required=False)
@click.option(
    "--build",
    "built",
    type=click.Path(path_type=Path),
    help="Folder of a build, out/<device>: CODE is a fault that the device told, or - to read it.",
)
def COMMAND(code: str | None, built: Path | None) -> None:
    """Tell the story behind a finding's CODE, with an example; without CODE, list all codes.

    CODE may be status-led, too: what the patterns of a status LED mean.

    With --build, tell where in our sources the places are that a device's fault names.
    """
    from zapato.checks import rule, rules
    from zapato.lang.site import site_of

    site_of(Path("."))  # whose extensions count

    if built:
        from zapato.firmware.program import read_map

        text = code if code and code != "-" else sys.stdin.read()
        click.echo(read_map(built / "app").with_source_places(text).rstrip("\n"))
        return
    if code is None:
        click.echo(listing(rules()))
        click.echo(f"\nand besides\n  {LIGHT}  what the patterns of a status LED mean")
        return
    click.echo(light_patterns() if code == LIGHT else page(rule(code)))


def light_patterns() -> str:
    """What the patterns of a status LED mean."""
    from zapato.parts.led.part import STATUS

    rows = [(f"{on} ms lit, {off} ms dark" if on else "lit", what) for on, off, what in STATUS]
    width = max(len(how) for how, _ in rows)
    head = 'What an LED with shows = "status" says:'
    return "\n".join([head, "", *(f"  {how:<{width}}  {what}" for how, what in rows)])


def listing(rules: Mapping[str, Rule]) -> str:
    """All codes by family, a line each."""
    width = max(len(code) for code in rules)
    families: dict[str, list[str]] = {}
    for rule in rules.values():
        families.setdefault(rule.family, []).append(
            f"  {rule.code:<{width}}  {'/'.join(rule.severities):<14}  {rule.title}"
        )
    return "\n\n".join(f"{family}\n" + "\n".join(lines) for family, lines in families.items())


def page(rule: Rule) -> str:
    """The story of one code."""
    from zapato.checks.rule import files

    blocks = [f"{rule.code} ({'/'.join(rule.severities)}): {rule.title}", rule.story.strip()]
    for words, example in (("This fails:", rule.failing), ("This is mended:", rule.mended)):
        blocks.append(words)
        named = files(example)
        for name, text in named.items():
            head = f"# {name}\n" if len(named) > 1 else ""
            blocks.append(textwrap.indent(head + text.strip(), "    "))
    return "\n\n".join(blocks)
