"""The first start: the device's own access point, its page in a real browser, and whoever else comes by."""

import json
import shutil
import struct
from importlib.resources import files
from itertools import pairwise

import pytest
from conftest import HEADER, NETWORK, failed, steps
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st
from support.over_air import KEY, Place, imaged, offered, tree

import zapato
from zapato.firmware.plan import page_password
from zapato.simulator.files import NO_DEVICE
from zapato.simulator.little import Blocks, LittleFlash
from zapato.simulator.phone import Phone
from zapato.simulator.result import ASKED
from zapato.simulator.scenario import PowerCut
from zapato.simulator.wasi import Fault

NAMELESS = '[site]\nname = "refuge"\n[wifi]\n[mqtt]\nhost = "192.168.4.2"\n'
LAMP = '[relay.lamp]\npin = 14\n[led.light]\npin = 2\nactive = "low"\nshows = "status"\n'
HALL = ("hall", "chamois-ridge")


def placed(
    put, site: str = NAMELESS, board: str = "esp8266-30pin", body: str = LAMP, **more
) -> tuple[Place, Phone]:
    design = zapato.load(put({"site.toml": site, "device.toml": HEADER.format(board=board) + body}))
    place = Place(design, **more)
    place.air.known = HALL
    return place, Phone(place.board.station, place.clock)


class Talk:
    """What the page was asked, and said."""

    def __init__(self, place: Place, phone: Phone) -> None:
        self.place, self.phone, self.said = place, phone, []

    def at(self, seconds: float, path: str, body: dict | None = None) -> None:
        self.place.clock.at(int(seconds * 1000), lambda: self.phone.ask(path, body, self.hear))

    def hear(self, answer: bytes) -> None:
        self.said.append(answer)

    @property
    def states(self) -> list[dict]:
        return [json.loads(each.partition(b"\r\n\r\n")[2]) for each in self.said if b'"state"' in each]


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin", "rp2040w-40pin"])
def test_a_device_without_a_network_asks_for_one_and_joins_it(put, board):
    place, phone = placed(put, board=board, seconds=120)
    talk, names = Talk(place, phone), []
    talk.at(10, "/")
    talk.at(11, "/hotspot.html")
    talk.at(12, "/state")
    question = struct.pack(">6H", 7, 0x0100, 1, 0, 0, 0) + b"\5phone\4test\0\0\1\0\1"
    place.clock.at(13_000, lambda: phone.look_up(question, names.append))
    place.clock.at(14_000, lambda: phone.fill_in("hall", "not the word"))
    talk.at(
        46, "/state"
    )  # a port that goes on trying tells nothing of a wrong password: the page gives up after 25 s
    place.clock.at(50_000, lambda: phone.fill_in(*HALL))
    talk.at(62, "/state")
    assert place.run() is None
    page = (files("zapato") / "device" / "page.html").read_bytes()
    assert talk.said[0].startswith(b"HTTP/1.1 200 OK\r\nContent-Type: text/html") and talk.said[0].endswith(
        page
    )
    assert talk.said[1].startswith(b"HTTP/1.1 302") and b"Location: http://192.168.4.1/\r\n" in talk.said[1]
    first, wrong, joined = talk.states
    assert [each[0] for each in first["networks"]] == ["hall", "col-weather", "valley-guests"]
    assert first["broker"] == ["192.168.4.2", 1883, ""] and first["state"] == "open"
    assert wrong["state"] == "failed" and "password" in wrong["why"]
    assert joined["state"] == "joined" and joined["address"] == "192.168.4.20"
    assert names[0][:4] == b"\0\7\x84\x80" and names[0].endswith(bytes((192, 168, 4, 1)))
    kept = json.loads(place.board.flash.files["settings.json"])
    assert (kept["wifi"]["name"], kept["wifi"]["password"], kept["update_key"]) == (*HALL, KEY)
    assert "broker reached" in place.log and place.board.station.access is None
    assert place.board.heap.peak < 0.75 * place.board.facts.chip.heap


def test_a_phone_that_leaves_and_a_network_that_nobody_sees(put):
    """The name is typed, as of a hidden network; the phone is gone before joining ends; the device goes on all the same."""
    place, phone = placed(put, seconds=110)
    place.air.networks = list  # nothing is heard
    place.clock.at(10_000, lambda: phone.fill_in(*HALL))
    assert place.run() is None
    assert "broker reached" in place.log and place.log.count("access point bench: http://192.168.4.1") == 1


HOSTILE = [
    b"",
    b"\r\n\r\n",
    b"GET",
    b"\0" * 900,
    b"GET / HTTP/1.1\r\n" + b"X-Long: " + b"a" * 3000,
    b"GET " + b"/" * 500 + b" HTTP/1.1\r\n\r\n",
    b"POST /settings HTTP/1.1\r\nContent-Length: -4\r\n\r\n{}",
    b"POST /settings HTTP/1.1\r\nContent-Length: 99999999\r\n\r\n{}",
    b"POST /settings HTTP/1.1\r\nContent-Length: many\r\n\r\n{}",
    b"POST /settings HTTP/1.1\r\nContent-Length: 400\r\n\r\n{",
    b"POST /settings HTTP/1.1\r\nContent-Length: 4\r\n\r\n\xff\xfe{}",
    b"POST /settings HTTP/1.1\r\nContent-Length: 2\r\n\r\n[]",
    b"GET /../settings.json HTTP/1.1\r\n\r\n",
    b"GET /\xff\xfe HTTP/1.1\r\n\r\n",
]


def attacked(put, requests, seconds: float = 40) -> list[dict]:
    """Send these one after the other, then ask how it is."""
    place, phone = placed(put, seconds=seconds)
    for number, request in enumerate(requests):
        place.clock.at(8_000 + 300 * number, lambda request=request: phone.send(request))
    talk = Talk(place, phone)
    talk.at(seconds - 2, "/state")
    assert place.run() is None
    assert len([r for r in place.trace.rows if r["name"] == "reset"]) == 1, place.log
    assert not any("fault" in line or "Error" in line for line in place.log), place.log
    assert place.board.heap.peak < 0.8 * place.board.facts.chip.heap
    return talk.states


def test_requests_that_are_none_and_connections_that_stay_open(put):
    assert [each["state"] for each in attacked(put, HOSTILE * 3)] == ["open"]


@settings(max_examples=8, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(
        st.dictionaries(
            st.sampled_from(["name", "password", "host", "port", "user", "secret", "untried"]),
            st.none()
            | st.booleans()
            | st.integers()
            | st.text(max_size=70)
            | st.lists(st.text(max_size=1), max_size=9),
        ),
        min_size=1,
        max_size=8,
    )
)
@example([{"name": "hall", "password": "x" * 64, "host": "h", "port": 1883}])
@example([{"name": "", "host": "", "port": True}])
@example([{"name": "hall", "password": ["a"] * 8, "host": "h", "port": 1883}])
@example([{"name": "hall", "host": ["h"], "port": 1883}])
@example([{"name": "é" * 17, "host": "b", "port": 1}])
@pytest.mark.slow
def test_whatever_the_form_holds_the_page_answers(put, rows):
    requests = []
    for row in rows:
        row.pop("untried", None)
        if isinstance(row.get("host"), str) and row.get("host") and isinstance(row.get("port"), int):
            row["port"] = 0  # nothing of this is right, so nothing is joined
        body = json.dumps(row).encode()
        head = f"POST /settings HTTP/1.1\r\nContent-Length: {len(body)}\r\n\r\n"
        requests.append(head.encode() + body)
    assert [each["state"] for each in attacked(put, requests, 20)] == ["open"]


def opened(place: Place) -> list[float]:
    """When its access point opened, s."""
    return [
        r["t"] / 1000
        for r in place.trace.rows
        if r["what"] == "print" and str(r["value"]).startswith("access point")
    ]


@pytest.mark.parametrize("access", ["alone", "asked"])
@pytest.mark.slow
def test_where_nobody_lets_it_in_it_asks_once_a_power_up(put, access):
    """Three minutes after power-up, for five minutes; then the program runs on, whatever happens to the network."""
    site = NETWORK.format(qos=0).replace('name = "hall"\n', f'name = "hall"\naccess = "{access}"\n')
    place, _ = placed(put, site, seconds=1500)
    place.air.up = False
    assert place.run() is None
    assert len(opened(place)) == (access == "alone")
    if access == "alone":
        assert 180 < opened(place)[0] < 200
        assert place.log[-1] == "bench 1.0.0"
    place.air.up, place.air.known = True, ("hall", "")
    place.seconds = 60
    place.run()
    assert "broker reached" in place.log


def test_a_link_and_the_broker_open_it_and_a_forgotten_device_asks_again(put):
    body = LAMP + (
        '[button.key]\npin = 4\npull = "up"\n[[link]]\nwhen = "key.down"\nheld = "3s"\ndo = "device.settings"\n'
    )
    site = NETWORK.format(qos=0).replace('name = "hall"\n', 'name = "hall"\npassword = "chamois-ridge"\n')
    place, _ = placed(put, site, body=body, seconds=800)
    place.air.known = ("hall", "chamois-ridge")
    place.clock.at(10_000, lambda: place.board.pins.contact(4, 0))
    place.clock.at(14_000, lambda: place.board.pins.contact(4, 1))
    offered(place, "refuge/bench/device/do/settings", "", 400_000)
    offered(place, "refuge/bench/device/do/forget", "", 750_000)
    offered(place, "refuge/bench/device/do/forget", "", 752_000)
    assert place.run() is None
    first, second = opened(place)[:2]
    assert 10 < first < 20 and 400 < second < 420, opened(place)
    kept = json.loads(place.board.flash.files["settings.json"])
    assert kept["wifi"] == {"country": ""} and "host" not in kept["mqtt"] and kept["update_key"] == KEY
    assert len(opened(place)) == 3 and place.board.station.access == ("bench", "")


def test_what_cannot_be_forgotten_is_not_said_to_be(put):
    def refuse(name: str) -> None:
        raise Fault(NO_DEVICE)

    place, _ = placed(put, NETWORK.format(qos=0), seconds=60)
    place.air.known = ("hall", "")
    place.clock.at(15_000, lambda: setattr(place.board.flash, "before_write", refuse))
    offered(place, "refuge/bench/device/do/forget", "", 20_000)
    offered(place, "refuge/bench/device/do/forget", "", 22_000)
    place.run()
    said = [r["value"] for r in place.trace.rows if str(r["name"]).endswith("/notes")]
    assert "kept values are; network and broker could not be forgotten" in said, said
    assert json.loads(place.board.flash.files["settings.json"])["wifi"]["name"] == "hall"


def test_a_password_of_its_own(put):
    site = NAMELESS.replace("[wifi]\n", '[wifi]\naccess_password = "marmot-burrow"\n')
    place, _ = placed(put, site, board="esp32-38pin", seconds=20)
    place.run()
    assert place.board.station.access == ("bench", "marmot-burrow")


LOCKED = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\npassword = "chamois-ridge"\n[mqtt]\nhost = "192.168.4.2"\nuser = "pump"\npassword = "larch"\n'
WHOM = {
    "name": "hall",
    "password": None,
    "host": "192.168.4.2",
    "port": 1883,
    "user": "pump",
    "secret": None,
    "untried": True,
}


def asked_of_a_locked_page(put, *rows: dict, site: str = LOCKED) -> tuple[list[dict], dict]:
    """What the page answers to each, and what is kept in the end."""
    place, phone = placed(put, site, seconds=100)
    place.air.known = ("hall", "chamois-ridge")
    talk = Talk(place, phone)
    offered(place, "refuge/bench/device/do/settings", "", 20_000)
    talk.at(33, "/state")
    for number, row in enumerate(rows):
        talk.at(35 + 2 * number, "/settings", row)
    place.run()
    kept = json.loads(place.board.flash.files["settings.json"])
    return [json.loads(each.partition(b"\r\n\r\n")[2]) for each in talk.said], kept


def test_who_is_only_near_sets_nothing_once_there_are_secrets(put):
    taken = WHOM | {"host": "10.0.0.66"}
    said, kept = asked_of_a_locked_page(put, taken, taken | {"page": "guess-word2"})
    assert said[0]["locked"] is True and all("page" in each for each in said[1:])
    assert kept["mqtt"]["host"] == "192.168.4.2" and kept["mqtt"]["password"] == "larch"
    said, kept = asked_of_a_locked_page(put, taken | {"page": page_password(KEY)})
    assert said[1] == {} and kept["mqtt"]["host"] == "10.0.0.66"
    open_to_all = LOCKED.replace(
        'password = "chamois-ridge"', 'password = "chamois-ridge"\naccess_password = "marmot-burrow"'
    )
    said, _ = asked_of_a_locked_page(put, taken, site=open_to_all)
    assert said[0]["locked"] is False and said[1] == {}, "who knows the access point's password is let in"


@pytest.mark.parametrize(
    ("change", "stays"),
    [
        ({}, True),
        ({"host": "10.0.0.66"}, False),
        ({"port": 1884}, False),
        ({"user": "someone"}, False),
        ({"name": "evil twin"}, True),
    ],
)
def test_a_password_goes_only_with_what_it_was_given_for(put, change, stays):
    said, kept = asked_of_a_locked_page(put, WHOM | change | {"page": page_password(KEY)})
    assert said[1] == {} and kept["mqtt"]["password"] == ("larch" if stays else "")
    assert kept["wifi"]["password"] == ("" if "name" in change else "chamois-ridge")


@pytest.mark.parametrize("board", ["esp8266-30pin", "esp32-38pin", "rp2040w-40pin"])
@pytest.mark.parametrize(
    ("word", "value", "why"),
    [
        ("up", False, "nobody answers at 192.168.4.2, port 1883"),
        ("silent", True, "does not answer"),
        ("refuses", 5, "user or password"),
        ("refuses", 3, "the broker refuses it"),
    ],
)
def test_the_page_tries_the_broker_before_it_closes(put, board, word, value, why):
    """What a broker does not do is told while somebody stands there, and nothing is kept until it is right."""
    place, phone = placed(put, board=board, seconds=140)
    talk = Talk(place, phone)

    def be(value):
        place.broker.be(word, value)

    place.clock.at(9_000, lambda: be(value))
    place.clock.at(12_000, lambda: phone.fill_in(*HALL))
    talk.at(38, "/state")
    place.clock.at(39_000, lambda: be({"up": True, "silent": False, "refuses": 0}[word]))
    place.clock.at(40_000, lambda: phone.fill_in(*HALL))
    assert place.run() is None
    assert talk.states[0]["state"] == "failed" and why in talk.states[0]["why"], talk.states
    assert json.loads(place.board.flash.files["settings.json"])["wifi"]["name"] == "hall"
    assert "broker reached" in place.log


@pytest.mark.parametrize(
    "host", ["mqtt://192.168.4.2", "192.168.4.2:1883", "192.168.1.300", "192.168.4", " ", "a b", "", ".local"]
)
def test_the_page_takes_no_broker_that_cannot_be_one(put, host):
    place, phone = placed(put, seconds=30)
    talk = Talk(place, phone)
    talk.at(
        12,
        "/settings",
        {"name": "hall", "password": None, "host": host, "port": 1883, "user": "", "untried": True},
    )
    place.run()
    assert b'"host"' in talk.said[0]


def test_another_pages_form_is_refused(put):
    """A form of any page can send text without being asked; JSON it cannot, nor hide where it is from (Fetch standard, CORS-safelisted request headers)."""
    place, phone = placed(put, seconds=60)
    talk, text = Talk(place, phone), json.dumps({**WHOM, "name": "evil twin"})
    typed = "Content-Type: application/json\r\n"
    heads = [
        "",
        "Content-Type: text/plain\r\n",
        typed + "Origin: http://elsewhere.test\r\n",
        typed + "Host: elsewhere.test\r\nOrigin: http://elsewhere.test\r\n",
    ]
    for at, more in enumerate(heads, 10):
        request = (
            f"POST /settings HTTP/1.1\r\nHost: 192.168.4.1\r\n{more}Content-Length: {len(text)}\r\n\r\n{text}"
        )
        place.clock.at(at * 1000, lambda request=request: phone.send(request.encode(), talk.hear))
    place.run()
    assert len(talk.said) == 4 and all(each.startswith(b"HTTP/1.1 403 ") for each in talk.said)
    assert "name" not in json.loads(place.board.flash.files["settings.json"])["wifi"]


def test_a_cut_at_every_step_of_a_settings_change_leaves_the_old_or_the_new(put):
    """Each write and erase of LittleFS torn in its middle: settings are whole, and the device finds a network or asks."""
    place, _ = placed(put)
    flash = imaged(place.design)
    image = bytes(flash.blocks.buffer)
    place, phone = placed(put, flash=flash, seconds=100)
    before = tree(LittleFlash(place.design.board.chip, image, lambda: PowerCut(500)))["settings.json"]
    place.clock.at(10_000, lambda: phone.fill_in(*HALL))
    assert place.run() is None and "broker reached" in place.log
    after = tree(LittleFlash(place.design.board.chip, bytes(flash.blocks.buffer), lambda: PowerCut(500)))[
        "settings.json"
    ]
    memory, found = Blocks(image), set()
    for at, data, erase in flash.blocks.journal:
        torn = Blocks(bytes(memory.buffer))
        torn.apply(at, data[: len(data) // 2], erase)
        memory.apply(at, data, erase)
        left = LittleFlash(place.design.board.chip, bytes(torn.buffer), lambda: PowerCut(500))
        kept = tree(left)
        assert kept["settings.json"] in (before, after)
        state = (kept["settings.json"] == after, kept.get("ask.json"))
        if state not in found:
            found.add(state)
            again, _ = placed(put, flash=left, seconds=12)
            assert again.run() is None
            assert (
                "broker reached" if state[0] and not state[1] else "access point bench: http://192.168.4.1"
            ) in again.log
    assert len(found) >= 3


def test_a_rehearsal_plays_who_stands_beside_it(bench):
    run = bench(
        '[wifi]\n[mqtt]\nhost = "192.168.4.2"\n[relay.lamp]\npin = 26\n',
        steps("20s: settings('simulator', 'rehearsal')", "<90s? published('state', 'online')"),
        lasts="2min",
    )
    assert failed(run) == [] and run.passed and not run.restarts  # it restarts for it, as it was asked to
    assert any(m.what == "restart" and m.text.endswith(ASKED) for m in run.story)


@pytest.mark.skipif(
    not shutil.which("chromium"), reason="Debian's chromium and chromium-driver are not there"
)
@pytest.mark.slow(25)
def test_the_page_in_a_real_browser(put):
    from support.browser import chromium, soon

    from zapato.simulator.live_run import Live

    device = put({"site.toml": NAMELESS, "device.toml": HEADER.format(board="esp8266-30pin") + LAMP})
    rows: list[dict] = []
    live = Live(device, on_row=rows.append)
    live.start()
    try:
        address = soon(lambda: next((r["value"] for r in rows if r["name"] == "page"), None))
        with chromium() as page:
            page.get(address)
            nets = soon(lambda: page.texts("#nets button span"))
            assert nets == ["simulator", "col-weather", "valley-guests"]
            page.click("#nets button")
            assert page.value("#name") == "simulator"
            page.type("#password", "short")
            page.click("#go")
            assert soon(lambda: page.text("[data-of=password]")) == "a password has 8 to 63 characters"
            page.type("#password", "not the word")
            page.click("#go")
            assert "refuses this password" in soon(
                lambda: page.text("#now") if "work" in page.text("#now") else ""
            )
            page.type("#password", "rehearsal")
            page.click("#go")
            assert "192.168.4.20" in soon(lambda: page.text("#now") if "Joined" in page.text("#now") else "")
        assert soon(lambda: any(r["value"] == "broker reached" for r in rows), 40)
    finally:
        run = live.stop()
    assert run.used.peak < 0.75 * run.heap


def test_the_three_gestures_of_the_shipped_piece(put, cli):
    """A press restarts, 3 s ask, 10 s forget; the piece passes the check, and a slip in its name is told."""
    head = HEADER.format(board="esp32-38pin").replace(
        "[device]", 'use = ["settings-button"]\nwith = { settings_pin = 33 }\n[device]'
    )
    site = NETWORK.format(qos=0)
    path = put({"site.toml": site, "device.toml": head + '[relay.lamp]\npin = 26\nstart = "last"\n'})
    assert zapato.check(path).ok
    for seconds, asks, forgets in ((0.3, False, False), (4, True, False), (11, True, True)):
        place = Place(zapato.load(path), seconds=60)
        place.clock.at(10_000, lambda place=place: place.board.pins.contact(33, 0))
        place.clock.at(10_000 + int(seconds * 1000), lambda place=place: place.board.pins.contact(33, 1))
        assert place.run() is None
        assert any(r["name"] == "reset" for r in place.trace.rows) and bool(opened(place)) == asks
        assert ("name" not in json.loads(place.board.flash.files["settings.json"])["wifi"]) == forgets
    path.write_text(path.read_text().replace('"settings-button"', '"settings-buton"'))
    assert "settings-button" in cli("check", path).out


def test_a_device_on_a_cable_is_asked_for_its_broker_alone(put):
    site = '[site]\nname = "refuge"\n[mqtt]\nhost = "192.168.4.9"\n'
    place, phone = placed(
        put, site, board="esp32-poe", body="[ethernet]\n[relay.pump]\npin = 4\n", seconds=150
    )
    talk = Talk(place, phone)
    offered(place, "refuge/bench/device/do/settings", "", 10_000)
    talk.at(20, "/state")
    talk.at(21, "/settings", {"host": "192.168.4.2", "port": 1884, "user": "pump", "secret": "larch"})
    talk.at(23, "/state")
    assert place.run() is None
    first, last = talk.states
    assert (
        "networks" not in first and first["broker"] == ["192.168.4.9", 1883, ""] and last["state"] == "saved"
    )
    kept = json.loads(place.board.flash.files["settings.json"])["mqtt"]
    assert (kept["host"], kept["port"], kept["user"], kept["password"]) == (
        "192.168.4.2",
        1884,
        "pump",
        "larch",
    )
    assert place.log.count("bench 1.0.0") == 2 and "broker reached" in place.log


def test_saved_without_joining_looked_around_again_and_busy_meanwhile(put):
    place, phone = placed(put, seconds=140)
    talk = Talk(place, phone)
    row = {"name": "the new hut", "password": None, "host": "10.0.0.2", "port": 1883}
    place.clock.at(9_000, lambda: setattr(place.air, "known", ("new-hall", "x" * 8)))
    talk.at(10, "/look", {})
    talk.at(15, "/state")
    place.clock.at(16_000, lambda: phone.fill_in("new-hall", "wrong word"))
    talk.at(16.5, "/settings", row | {"untried": True})
    talk.at(25, "/settings", row | {"untried": True})
    talk.at(26, "/state")
    assert place.run() is None
    assert talk.states[0]["networks"][0][0] == "new-hall"
    assert b"it is busy" in talk.said[2] and talk.states[-1]["state"] == "saved"
    kept = json.loads(place.board.flash.files["settings.json"])["wifi"]
    assert kept["name"] == "the new hut" and kept["password"] == ""


def test_a_request_in_crumbs_and_more_visitors_than_places(put):
    place, phone = placed(put, seconds=30)
    said: list[bytes] = []
    text = b"GET /state HTTP/1.1\r\nHost: x\r\n\r\n"

    def drip() -> None:
        guest = phone.send(text[:1], said.append)
        for at in range(1, len(text)):
            place.clock.after(40 * at, lambda at=at: guest.come(text[at : at + 1]))

    place.clock.at(8_000, drip)
    for number in range(8):  # at the same moment: some wait at the door, none is left alone for ever
        place.clock.at(14_000, lambda: phone.send(b""))
        place.clock.at(14_100 + number, lambda: phone.ask("/state", None, said.append))
    talk = Talk(place, phone)
    talk.at(27, "/state")
    assert place.run() is None
    assert (
        b'"state"' in said[0]
        and sum(b'"state"' in each for each in said) >= 4
        and talk.states[-1]["state"] == "open"
    )
    assert len([r for r in place.trace.rows if r["name"] == "reset"]) == 1


def test_a_request_that_comes_in_pieces_loses_no_line(put):
    """Each piece ends within the end of a line, so the next one begins with a line feed."""
    place, phone = placed(put, seconds=30)
    said: list[bytes] = []
    body = json.dumps({**WHOM, "host": "192.168.1.300", "untried": True})
    head = f"POST /settings HTTP/1.1\r\nHost: 192.168.4.1\r\nContent-Type: application/json\r\nContent-Length: {len(body)}\r\n\r\n"
    first, *rest = (head + body).encode().split(b"\n")

    def drip() -> None:
        guest = phone.send(first, said.append)
        for number, piece in enumerate(rest, 1):
            place.clock.after(200 * number, lambda piece=piece: guest.come(b"\n" + piece))

    place.clock.at(8_000, drip)
    assert place.run() is None
    assert b'"host"' in b"".join(said), said


def test_while_it_is_open_the_light_says_so_and_outputs_are_safe(put):
    """The lamp was on, and kept through power cuts: at the open access point it is off, and on again afterwards."""
    body = '[relay.lamp]\npin = 14\nstart = "last"\n[led.light]\npin = 2\nactive = "low"\nshows = "status"\n'
    place, _ = placed(put, NETWORK.format(qos=0), body=body, seconds=420)
    place.air.known = ("hall", "")
    offered(place, "refuge/bench/lamp/on/set", "true", 10_000)
    offered(place, "refuge/bench/device/do/settings", "", 20_000)
    assert place.run() is None
    begun = opened(place)[0]
    rows = [
        (r["t"] / 1000, r["value"]) for r in place.trace.rows if r["what"] == "pin" and r["name"] == "GPIO14"
    ]
    during = [value for t, value in rows if begun - 6 < t < begun + 290]
    assert during and not any(during) and rows[-1][1] == 1 and rows[-1][0] > begun + 290
    blinks = [
        r["t"]
        for r in place.trace.rows
        if r["what"] == "pin" and r["name"] == "GPIO2" and begun + 5 < r["t"] / 1000 < begun + 60
    ]
    assert len(blinks) > 50 and {round((b - a) / 100) for a, b in pairwise(blinks)} == {10}


@pytest.mark.parametrize(
    "asked", ['{"update": "1.1.0"}', '{"settings": 1}', '{"settings": 1, "update": "1.1.0"}', "[]", "{"]
)
def test_what_is_asked_for_decides_what_the_minimal_program_does(put, asked):
    place, _ = placed(put, NETWORK.format(qos=0), seconds=20)
    place.air.known = ("hall", "")
    place.board.flash.files["ask.json"] = asked.encode()
    assert place.run() is None
    opens = "settings" in asked
    assert bool(opened(place)) == opens and ("broker reached" in place.log) != opens
    assert place.log[0] == "bench 0"


def test_a_rehearsal_tells_what_the_page_refuses_and_goes_on(bench):
    """Wrong password, unknown network, then right: a whole first start, with why in its story."""
    script = steps(
        "10s: settings('simulator', 'short')",
        "20s: settings('nowhere', 'rehearsal')",
        "60s: settings('simulator', 'rehearsal')",
        "100s? published('state', 'online')",
    )
    result = bench(LAMP, script, site=NAMELESS, board="esp8266-30pin", lasts="110s")
    assert result.passed, result.log
    told = [each.text for each in result.story if each.what == "page"]
    assert len(told) == 2 and "8 to 63" in told[0] and "no network of this name" in told[1]


def test_the_desk_tells_the_pages_password_and_writes_nothing(put, cli):
    path = put(
        {
            "site.toml": LOCKED,
            "device.toml": HEADER.format(board="esp32-38pin") + LAMP,
            "secrets.toml": f'[update_keys]\nbench = "{KEY}"\n',
        }
    ).parent
    before = {each: each.read_bytes() for each in path.rglob("*") if each.is_file()}
    assert page_password(KEY) in cli("deliver", path / "device.toml", "--page-password").out
    (path / "secrets.toml").unlink()
    assert "no update key yet" in cli("deliver", path / "device.toml", "--page-password").out
    assert {each: each.read_bytes() for each in path.rglob("*") if each.is_file()} == {
        k: v for k, v in before.items() if k.name != "secrets.toml"
    }
    (path / "site.toml").write_text(LOCKED.replace("[mqtt]", 'access_password = "marmot-burrow"\n[mqtt]', 1))
    (path / "secrets.toml").write_bytes(before[path / "secrets.toml"])
    assert "no password" in cli("deliver", path / "device.toml", "--page-password").out


def test_the_page_tells_that_the_flash_takes_nothing(put):
    def refuse(name: str) -> None:
        raise Fault(NO_DEVICE)

    place, phone = placed(put, seconds=120)
    talk = Talk(place, phone)
    flash = place.board.flash
    before, asked = flash.before_write, [row for row in flash.files if "settings" in row]
    place.clock.at(11_000, lambda: setattr(flash, "before_write", refuse))
    place.clock.at(12_000, lambda: phone.fill_in(*HALL))
    talk.at(38, "/state")
    place.clock.at(39_000, lambda: setattr(flash, "before_write", before))
    place.clock.at(40_000, lambda: phone.fill_in(*HALL))
    assert place.run() is None
    assert (talk.states[0]["state"], talk.states[0]["why"]) == ("failed", "the flash cannot be written")
    assert "broker reached" in place.log and asked
    assert [row for row in flash.files if "settings" in row] == asked, "nothing half-written stays"
