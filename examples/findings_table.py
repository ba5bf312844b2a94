"""A site's findings as a pandas table: how many of each code, and where."""

import sys

import zapato
from zapato.errors import Unreadable

try:
    report = zapato.check(sys.argv[1] if len(sys.argv) > 1 else "zapato-demo")
except Unreadable as error:
    sys.exit(f"{error}\nzapato demo makes the site zapato-demo; another one: python {sys.argv[0]} SITE")
table = report.frame
if table.empty:
    print(f"{len(report.devices)} devices, no findings")
else:
    print(table.groupby(["severity", "code"]).size().rename("count").reset_index().to_string(index=False))
    print(table[["device", "file", "line", "code"]].to_string(index=False))
