"""The report: one page that needs nobody else, in a real browser; and what changes between two versions."""

import json
import re
import shutil
import subprocess

import pytest

import zapato
from zapato.pages import device_page
from zapato.pages.site_page import row_of, site_page

CHROMIUM = pytest.mark.skipif(
    not shutil.which("chromium"), reason="Debian's chromium and chromium-driver are not there"
)


@pytest.mark.slow
def test_a_page_stands_alone_and_tells_no_secret(site):
    (site / "secrets.toml").write_text(
        'wifi_password = "gentian-and-edelweiss"\nmqtt_password = "marmot-whistle"\n'
    )
    for name in ("boot-dryer", "gear-locker"):
        (site / "rehearsals" / f"{name}.toml").write_text('[rehearsal]\nlasts = "2min"\n')
        text = device_page(site / "devices" / f"{name}.toml")
        assert "gentian" not in text and "marmot-whistle" not in text and "refuge-hall" not in text
        assert (
            not re.search(r'(?:src|href)="(?!#)[^"]*//', text)
            and "<script" not in text
            and "@import" not in text
        )
        assert text == device_page(site / "devices" / f"{name}.toml")


def test_what_somebody_wrote_is_text_in_the_page(put):
    body = 'zapato = 1\n[device]\nname = "x"\nlabel = "<script>alert(1)</script>"\nboard = "esp32-38pin"\n[relay.r]\npin = 34\nlabel = "<b>"\n[[link]]\nwhen = "r.on"\ndo = "notify(\'<i>\')"\n'
    text = device_page(put(body))
    assert "<script>alert" not in text and "&lt;script&gt;" in text and "It cannot work as it stands" in text
    assert "pin-input-only" in text
    nothing = device_page(put('zapato = 1\n[device]\nname = "x"\nboard = "none-such"\n'))
    assert "unknown-board" in nothing
    assert "Devices" in site_page([]) and row_of(zapato.load(put(body)), None).errors == 1


def test_every_device_of_a_site_has_a_page_of_its_own(put, cli, tmp_path):
    """However it is called: like the index, like another one, not at all, or like a place elsewhere."""
    names = ("index", "lamp", "lamp", "../../elsewhere", "")
    body = 'zapato = 1\n[device]\nname = "{}"\nboard = "esp32-38pin"\n'
    put(
        {"site.toml": '[site]\nname = "refuge"\n'}
        | {f"devices/d{n}.toml": body.format(each) for n, each in enumerate(names)}
    )
    cli("report", tmp_path, "--out", tmp_path / "a" / "b", "--no-rehearsal")
    pages = sorted(path.name for path in tmp_path.rglob("*.html"))
    assert pages == sorted(path.name for path in (tmp_path / "a" / "b").iterdir()) and len(pages) == 1 + len(
        names
    )
    index = (tmp_path / "a" / "b" / "index.html").read_text()
    assert all(f'href="{page}"' in index for page in pages if page != "index.html")


def test_a_family_has_a_page_for_each_member(put, cli, tmp_path):
    body = """zapato = 1\nwith = [{ name = "a" }, { name = "b" }]\n[device]\nname = { with = "name" }\nboard = "esp32-38pin"\n"""
    put({"site.toml": '[site]\nname = "s"\n', "devices/lockers.toml": body})
    words = ("report", tmp_path / "devices" / "lockers.toml", "--no-rehearsal", "--out")
    assert "several devices" in cli(*words, tmp_path / "a.html").err
    assert cli(*words, tmp_path / "rep").code == 0
    assert {path.name for path in (tmp_path / "rep").iterdir()} == {"a.html", "b.html", "index.html"}


def test_a_device_that_cannot_be_read_stops_no_other(site, cli, tmp_path):
    gone = site / "devices" / "porch-light.toml"
    gone.unlink()
    gone.symlink_to("nowhere")
    wrong = site / "devices" / "kettle-plug.toml"
    wrong.write_text(wrong.read_text().replace("[relay.", "[relais."))
    called = cli("report", site, "--out", tmp_path / "rep", "--no-rehearsal", "--jobs", "2")
    assert called.code == 1 and "porch-light" in called.err and "Traceback" not in called.err
    assert "kettle-plug.html: Kettle plug, " in called.out and "index.html: 5 devices" in called.out
    assert "Boot dryer, fine\n" in called.out and not (tmp_path / "rep" / "porch-light.html").exists()


@CHROMIUM
@pytest.mark.slow(25)
def test_the_pages_of_a_site_in_a_real_browser(site, cli, tmp_path):
    from support.browser import chromium

    for name in ("boot-dryer", "gear-locker", "kettle-plug", "porch-light", "rack-strip", "water-tank"):
        (site / "rehearsals" / f"{name}.toml").write_text('[rehearsal]\nlasts = "1min"\n')
    called = cli("report", site, "--out", tmp_path / "rep")
    assert called.code == 0 and "6 devices" in called.out
    with chromium() as page:
        page.get((tmp_path / "rep" / "index.html").as_uri())
        assert page.texts("h1") == ["Mountain refuge"] and len(page.all("tbody tr td a")) == 6
        page.click("tbody tr td a")
        assert page.texts("h1") == ["Boot dryer"]
        assert len(page.all("svg")) == 5 and {"Verdict", "Pins", "Wiring", "Budgets", "Topics"} <= set(
            page.texts("h2")
        )
        wide = page.driver.execute_script("return document.documentElement.scrollWidth - window.innerWidth")
        assert wide <= 0 and page.errors() == []
        page.driver.set_window_size(420, 800)
        assert (
            page.driver.execute_script("return document.documentElement.scrollWidth - window.innerWidth") <= 0
        )
        printed = page.driver.execute_cdp_cmd("Page.printToPDF", {"paperWidth": 8.27, "paperHeight": 11.69})
    assert len(printed["data"]) > 50_000


def test_the_command_says_what_is_wrong(site, cli, tmp_path):
    device = site / "devices" / "kettle-plug.toml"
    assert cli("report", device, "--out", tmp_path / "a.html", "--no-rehearsal").code == 0
    assert "ends in .html" in cli("report", device, "--out", tmp_path / "a").err
    assert "is a folder" in cli("report", site, "--out", tmp_path / "a.html").err
    device.write_text(device.read_text().replace("[relay.", "[relais."))
    called = cli("report", device, "--out", tmp_path / "b.html")
    assert called.code == 1 and "is not rehearsed" in called.err and (tmp_path / "b.html").exists()


def changed(site):
    path = site / "devices" / "boot-dryer.toml"
    text = path.read_text()
    for old, new in (
        ("[relay.vent]", "[relay.fan]"),
        ("vent.", "fan."),
        ('"vent"', '"fan"'),
        ('"15min"', '"20min"'),
        ("pin  = 33", "pin  = 4"),
    ):
        assert old in text
        text = text.replace(old, new)
    path.write_text(text)
    return path


def test_what_changes_from_a_revision(site, cli):
    def run(*words):
        call = ["git", "-c", "user.name=x", "-c", "user.email=x@y.z", *words]
        subprocess.run(call, cwd=site, check=True, capture_output=True)

    run("init", "-q")
    run("add", "site.toml", "devices", "rehearsals")
    run("commit", "-qm", "first")
    assert cli("diff", "HEAD", site).code == 0
    path = changed(site)
    called = cli("diff", "HEAD", path)
    assert called.code == 1
    for line in (
        "- refuge/boot-dryer/vent/on: boolean, retained  others may rely on it",
        "+ refuge/boot-dryer/fan/on: boolean, retained",
        "~ start one side: board 33 -> board 4",
        "for 15min",
    ):
        assert line in called.out
    rows = {
        row["device"]: row["changes"] for row in json.loads(cli("diff", "HEAD", site, "--format", "json").out)
    }
    assert rows["boot-dryer"] and not rows["porch-light"]
    assert {row["group"] for row in rows["boot-dryer"]} == {"parts", "wires", "topics", "links"}
    (site / "devices" / "porch-light.toml").unlink()
    called = cli("diff", "HEAD", site)
    assert called.code == 1 and "porch-light is gone" in called.out
    assert "no revision" in cli("diff", "NOPE", path).err and cli("diff", "NOPE", path).code == 2


@pytest.mark.slow
def test_two_files_and_where_their_traces_part(site, cli, tmp_path):
    shutil.copytree(site, tmp_path / "then")
    old, new = tmp_path / "then" / "devices" / "kettle-plug.toml", site / "devices" / "kettle-plug.toml"
    called = cli("diff", old, new, "--rehearsal")
    assert called.code == 0 and "no difference" in called.out and "the two traces are the same" in called.out
    text = old.read_text()
    new.write_text(text.replace("[[link]]", '[[link]]\nafter = "2s"', 1))
    called = cli("diff", old, new, "--rehearsal")
    assert "the traces part at" in called.out and "after 2s" in called.out


def test_a_rehearsal_tells_its_day(bench, put):
    rows = '[[step]]\nat = "5s"\nact = "b.press"\nnote = "Somebody comes"\n[[step]]\nwithin = "1s"\nexpect = "r.on"\n[[step]]\nat = "20s"\nact = "power.cut"\n[[step]]\nat = "40s"\nexpect = "r.on"\n'
    result = bench(
        '[relay.r]\npin = 26\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "r.toggle"\n',
        rows,
    )
    story = [(m.what, m.text, m.note) for m in result.story]
    assert story[0] == ("act", "b.press", "Somebody comes") and story[1][:2] == ("expect", "r.on")
    assert ("power", "the power is gone", "") in story and ("power", "the power is back", "") in story
    failed = result.story[-1]
    assert failed.of and failed.of.passed is False and isinstance(failed.around, tuple)
    assert [(what, since) for what, since, _ in result.outages] == [("power", 20.0)]
    from zapato.cli.report import brief_line, rehearsal_lines

    text = "\n".join(rehearsal_lines(result))
    assert "- Somebody comes" in text and text.index("b.press") < text.index(
        "the power is gone"
    ) < text.index("FAILED")
    assert brief_line(result).startswith("failed bench: 1 of 2 expectations held") and "r.on" in brief_line(
        result
    )


@pytest.mark.parametrize(
    "action", ["0", "7", "true", "nan", "[1979-05-27, inf]", "07:32:00", "[]", "{ a = 1 }", '"lamp.on"']
)
def test_a_link_is_shown_as_it_is_written_right_or_wrong(put, cli, tmp_path, action):
    head = 'zapato = 1\n[device]\nname = "example"\nboard = "esp32-38pin"\n[relay.lamp]\npin = 26\n'
    path = put(f'{head}\n[[link]]\nevery = "1min"\ndo = {action}\n')
    page = tmp_path / "page.html"
    called = cli("report", path, "--out", page, "--no-rehearsal")
    assert page.is_file() and called.code == (action != '"lamp.on"'), called.err
    assert "1min" in page.read_text() and "Traceback" not in called.err
    assert cli("diff", path, path).code == 0 and "lamp" in cli("draw", path, "--format", "text").out
    data = json.loads(cli("draw", path, "--format", "json").out, parse_constant=pytest.fail)
    assert set(data["links"][0]["link"]) == {"every", "do"}
