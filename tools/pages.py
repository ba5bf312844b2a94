"""Makes the pictures of pages in docs/screenshots anew, in Debian's Chromium, from the demo data.

usage: python tools/pages.py [access] [report]
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path

HERE = Path(__file__).parents[1]
sys.path.insert(0, str(HERE / "tests"))
SHOTS = HERE / "docs" / "screenshots"


def access(folder: Path) -> None:
    """The page of a device that asks for its network, after a password that was wrong."""
    from browser import chromium, soon

    from zapato.demo.copy import copy_site
    from zapato.stage.live_run import Live

    for _ in copy_site(folder / "site"):
        pass
    device = folder / "site" / "devices" / "kettle-plug.toml"
    site = folder / "site" / "site.toml"
    lines = site.read_text("utf-8").split("\n")
    site.write_text(
        "\n".join(
            each
            for each in lines
            if not each.startswith(('name     = "refuge-hall', 'password = { secret = "wifi'))
        )
    )
    rows: list[dict[str, object]] = []
    live = Live(device, on_row=lambda row: rows.append(dict(row)))
    live.start()
    try:
        address = soon(lambda: next((str(r["value"]) for r in rows if r["name"] == "page"), ""))
        with chromium() as page:
            page.get(address)
            soon(lambda: page.texts("#nets button"))
            page.click("#nets button")
            page.type("#password", "chamois in the mist")
            page.click("#go")
            soon(lambda: "work" in page.text("#now"))
            page.shot(str(SHOTS / "access.png"))
    finally:
        live.stop()


def report(folder: Path) -> None:
    """The report of a device of the demo."""
    from browser import chromium

    from zapato.demo.copy import copy_site
    from zapato.lang.files import write
    from zapato.pages import device_page

    for _ in copy_site(folder / "again"):
        pass
    page_file = folder / "report.html"
    write(page_file, device_page(folder / "again" / "devices" / "porch-light.toml").encode())
    with chromium() as page:
        page.get(page_file.as_uri())
        page.shot(str(SHOTS / "report.png"))


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        for word in sys.argv[1:] or ["access", "report"]:
            globals()[word](Path(name))
