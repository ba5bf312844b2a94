"""The shapes of rules."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from zapato.design.design import Design, PinUse
from zapato.findings import Finding, Severity
from zapato.lang.site import Site
from zapato.record import record

if TYPE_CHECKING:
    from zapato.checks.result import CheckResult


@record(eq=False)
class Incompatibility:
    """Why one pin does not suit one use.

    Attributes:
        severity: error rules the pin out; a warning or note makes the solver avoid it.
        message: what is wrong, one sentence.
        why: the physical reason, without its source.
        source: the datasheet section.
        fixes: ways out other than another pin.
    """

    severity: Severity
    message: str
    why: str
    source: str = ""
    fixes: tuple[str, ...] = ()


Files = Mapping[str, str]
"""An example of more than one file: name -> text; the device file is "device.toml"."""


@record(eq=False)
class Rule:
    """One code: its story and its examples. A rule that is just this is found while the file is read.

    Attributes:
        code: the finding's code.
        family: reading, pins, resources, buses, electrical, network or links.
        severities: those it can have.
        title: what it is, one line.
        story: the whole story for `explain`.
        failing: a device file, or several files, with the finding.
        mended: the same without it.
    """

    code: str
    family: str
    severities: tuple[Severity, ...]
    title: str
    story: str
    failing: str | Files
    mended: str | Files

    def __repr__(self) -> str:
        return f"<rule {self.code}>"


def _nothing(design: Design) -> Iterable[Finding]:
    return ()


@record(eq=False)
class DesignRule(Rule):
    """A rule that looks at a whole design.

    Attributes:
        find: gives its findings.
    """

    find: Callable[[Design], Iterable[Finding]]


@record(eq=False)
class PinRule(Rule):
    """A rule that judges one pin for one use. The same judgement serves the check, the ways out and the solver.

    Attributes:
        judge: gives why the pin does not suit, or None.
        find: what is to be said of the design as a whole.
    """

    judge: Callable[[PinUse, Design], Incompatibility | None]
    find: Callable[[Design], Iterable[Finding]] = _nothing


@record(eq=False)
class SiteRule(Rule):
    """A rule that holds the devices of a site against each other.

    Attributes:
        data: what it wants to know of a device, plain data; None for nothing.
        compare: gives its findings, from the site and what is known of each device; None where another rule gives them with its own.
        find: what can be found in one design alone.
    """

    data: Callable[[Design], Any] | None = None
    compare: Callable[[Site, Sequence[CheckResult]], Iterable[Finding]] | None = None
    find: Callable[[Design], Iterable[Finding]] = _nothing


def device(body: str, board: str = "esp32-38pin") -> str:
    """A whole device file around the tables in `body`, for examples."""
    return f'zapato = 1\n\n[device]\nname = "example"\nboard = "{board}"\n\n{body.strip()}\n'


def files(example: str | Files) -> Files:
    """The files of an example."""
    return {"device.toml": example} if isinstance(example, str) else example
