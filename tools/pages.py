"""Makes the pictures of pages in docs/screenshots anew, in Debian's Chromium, from the demo data.

usage: python tools/pages.py [access] [report] [hub]
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
    from support.browser import chromium, soon

    from zapato.demo.copy import copy_site
    from zapato.simulator.live_run import Live

    for _ in copy_site(folder / "site"):
        pass
    device = folder / "site" / "devices" / "kettle-plug.toml"
    site = folder / "site" / "site.toml"
    lines = site.read_text("utf-8").split("\n")
    site.write_text(
        "\n".join(
            each
            for each in lines
            if not each.startswith(
                ('name     = "refuge-hall', "password = {", "user ")
            )  # no secret, so the page is open
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
    from support.browser import chromium

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


def hub(folder: Path) -> None:
    """The hub's page with the demo alive, a minute after its start, one value's past open."""
    from support.browser import chromium, soon

    from zapato.checks import device_files
    from zapato.deliver.broker import Connection, describe
    from zapato.demo.copy import copy_site
    from zapato.design import resolve
    from zapato.design.alerts import offered, read_alerts
    from zapato.hub import History, Service
    from zapato.hub.web import Page
    from zapato.simulator.demo_activity import DemoActivity
    from zapato.simulator.embedded import EmbeddedBroker

    for _ in copy_site(folder / "hub"):
        pass
    alerts = folder / "hub" / "alerts.toml"
    alerts.write_text(alerts.read_text("utf-8").replace('"10min"', '"1s"'), "utf-8")
    designs = [resolve(path) for path in device_files(folder / "hub")]
    broker = EmbeddedBroker()
    broker.start()
    service = Service((broker.host, broker.port), History())
    service.start()
    service.watch(read_alerts(alerts, offered(designs))[0])
    way = Connection(broker.host, broker.port, "", "", b"", ["x"])
    for each in designs:
        describe(each, way)
    alive = DemoActivity(designs, (broker.host, broker.port), seed=4)
    alive.start()
    shown = Page(service, "0")
    shown.start()
    with chromium() as page:
        page.get(shown.address)
        every = f"{len(designs)} of {len(designs)} online"
        soon(lambda: page.texts("#count") == [every], 60)
        live = next(each for each in alive.lives if each.design.name == "gear-locker")
        soon(lambda: len(service.history.latest("boot-dryer.cabinet.humidity")) > 3, 240)
        live.act("rescue.closed = false")
        soon(lambda: page.texts(".alert"), 60)
        page.click('[data-name="boot-dryer.cabinet.humidity"] .label')
        soon(lambda: page.all(".past svg"))
        page.all(".past nav button")[0].click()
        soon(lambda: page.attribute(".past nav button", "aria-pressed") == "true")
        page.driver.execute_script("window.scrollTo(0, 0)")
        page.shot(str(SHOTS / "hub-page.png"))
    shown.stop()
    alive.stop()
    service.stop()
    broker.stop()


if __name__ == "__main__":
    with tempfile.TemporaryDirectory() as name:
        for word in sys.argv[1:] or ["access", "report", "hub"]:
            globals()[word](Path(name))
