"""A rule of one's own: every relay of this house has a label, for the people who read the hub."""

import sys
from collections.abc import Iterator
from pathlib import Path

import zapato
from zapato.checks import device_files
from zapato.design import Design
from zapato.errors import Unreadable
from zapato.findings import Finding, Report


def unlabelled(design: Design) -> Iterator[Finding]:
    for part in design.with_role("relay"):
        if not part.values.get("label"):
            yield design.finding("house-label", "warning", part.path, f"{part.id} has no label", of="key")


site = sys.argv[1] if len(sys.argv) > 1 else "zapato-demo"
try:
    designs = [zapato.load(path) for path in device_files(Path(site))]
except Unreadable as error:
    sys.exit(f"{error}\nzapato demo makes the site zapato-demo; another one: python {sys.argv[0]} SITE")
report = Report.of(finding for design in designs for finding in unlabelled(design))
for each in report:
    print(f"{each.place.file}:{each.place.line}: {each.message}")
print(f"{len(designs)} devices, {len(report)} without a label")
