"""The hub's page: in a real Chromium, on a phone's screen, and against whoever should not be there."""

import http.client
import json
import time

import pytest
from prometheus_client.openmetrics.parser import text_string_to_metric_families
from support.browser import chromium, soon

import zapato
from zapato.checks import device_files
from zapato.deliver.broker import Connection, describe
from zapato.errors import ZapatoError
from zapato.hub import History, Service
from zapato.hub.hub import OutgoingMessage
from zapato.hub.web import Page, place
from zapato.simulator.demo_activity import DemoActivity
from zapato.simulator.embedded import EmbeddedBroker


@pytest.fixture(scope="module")
def service(tmp_path_factory):
    """The hub at a broker where two devices of the demo are alive, and one is only described."""
    from zapato.demo.copy import copy_site

    for _ in copy_site(folder := tmp_path_factory.mktemp("hub") / "site"):
        pass
    designs = [zapato.load(path) for path in device_files(folder)]
    broker = EmbeddedBroker()
    broker.start()
    made = Service((broker.host, broker.port), History(folder / "h.sqlite"))
    made.start()
    way = Connection(broker.host, broker.port, "", "", b"", ["x"])
    for each in designs[:3]:
        describe(each, way)
    told: list[str] = []
    alive = DemoActivity(
        [each for each in designs if each.name in ("boot-dryer", "gear-locker")],
        (broker.host, broker.port),
        tell=told.append,
    )
    alive.start()
    soon(lambda: made.hub.online("boot-dryer") and made.hub.online("gear-locker"), 30)
    yield made
    alive.stop()
    way.close()
    made.stop()
    broker.stop()
    assert told  # somebody was about


@pytest.fixture(scope="module")
def page(service):
    made = Page(service, "0")
    made.start()
    yield made
    made.stop()


@pytest.mark.slow
def test_in_a_browser(service, page):
    with chromium() as window:
        window.get(page.address)
        soon(lambda: window.texts("article h2"))
        assert sorted(each.split("\n")[0] for each in window.texts("article h2")) == [
            "Boot dryer",
            "Gear lockers",
            "Kettle plug",
        ]
        soon(lambda: window.text("#count") == "2 of 3 online")
        switch = '[data-name="boot-dryer.vent.on"] .switch'
        soon(lambda: window.attribute(switch, "aria-checked") == "false")
        window.click(switch)
        soon(lambda: window.attribute(switch, "aria-checked") == "true")
        assert service.hub.readings["boot-dryer.vent.on"].value is True
        assert not window.all('[data-name="kettle-plug.kettle.on"] .switch'), (
            "nothing to set where nobody is there"
        )
        service.hub.hear("refuge/kettle-plug/state", b"online")
        soon(lambda: window.all('[data-name="kettle-plug.kettle.on"] .switch'))
        window.click('[data-name="kettle-plug.kettle.on"] .switch')  # nobody is there to do it
        soon(lambda: "did not answer" in window.text('[data-name="kettle-plug.kettle.on"] .said'))
        service.hub.hear("refuge/boot-dryer/cabinet/temperature", b"31.25")
        soon(lambda: window.text('[data-name="boot-dryer.cabinet.temperature"] .value') == "31.25 °C")
        window.click('[data-name="boot-dryer.cabinet.temperature"] .label')
        soon(lambda: window.all('[data-name="boot-dryer.cabinet.temperature"] svg .curve'))
        window.type("#find", "rope")
        soon(
            lambda: (
                [each for each in window.texts(".one .label") if each]
                and "Ropes" in window.text('[data-name="gear-locker.ropes.closed"] .label')
            )
        )
        assert sum(map(bool, window.texts("article"))) == 1
        window.type("#find", " ")
        service.hub.hear("refuge/boot-dryer/about", _nasty())
        soon(lambda: any("<img" in text for text in window.texts("article h2")))
        window.driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride",
            {"width": 375, "height": 800, "deviceScaleFactor": 2, "mobile": True},
        )
        assert window.driver.execute_script("return document.documentElement.scrollWidth") <= 375
        assert not window.all("img") and not window.errors()
    _again(service)


def _nasty() -> bytes:
    name = '<img src=x onerror="document.title=1">'
    form = {"op": ["readproperty"], "mqv:filter": "refuge/boot-dryer/heater/on", "href": "mqtt://b"}
    about = {"@context": ["https://www.w3.org/2022/wot/td/v1.1"], "title": name, "description": name}
    return json.dumps(
        about | {"properties": {f"{name}.x": {"title": name, "type": "boolean", "forms": [form]}}}
    ).encode()


def _again(service) -> None:
    """The description as it was."""
    text = service.history.descriptions()["refuge/boot-dryer/about"]
    service.hub.hear("refuge/boot-dryer/about", text.encode())


def ask(page, method="GET", path="/", body=None, **headers):
    way = http.client.HTTPConnection("127.0.0.1", page.port, timeout=60)
    way.request(
        method,
        path,
        body,
        {"Host": f"127.0.0.1:{page.port}", **{k.replace("_", "-"): v for k, v in headers.items()}},
    )
    answer = way.getresponse()
    return (
        answer.status,
        answer.read() if answer.getheader("content-type") != "text/event-stream; charset=utf-8" else b"",
        answer,
    )


JSON = {"Content_Type": "application/json"}
SET = json.dumps({"name": "boot-dryer.vent.on", "value": False})
REFUSED = {
    "another name that leads here": (403, {"Host": "evil.example"}),
    "a form of another page": (
        403,
        {"method": "POST", "path": "/do", "body": SET, "Content_Type": "text/plain"},
    ),
    "a script of another page": (
        403,
        {"method": "POST", "path": "/do", "body": SET, "Origin": "http://evil.example", **JSON},
    ),
    "not JSON": (400, {"method": "POST", "path": "/do", "body": "{", **JSON}),
    "a list": (400, {"method": "POST", "path": "/do", "body": "[1]", **JSON}),
    "no name": (400, {"method": "POST", "path": "/do", "body": "{}", **JSON}),
    "too deep": (400, {"method": "POST", "path": "/do", "body": "[" * 4000, **JSON}),
    "too long": (413, {"method": "POST", "path": "/do", "body": "[" * 5000, **JSON}),
    "no such device": (
        422,
        {"method": "POST", "path": "/do", "body": json.dumps({"name": "x.y.z", "value": 1}), **JSON},
    ),
    "another type": (
        422,
        {
            "method": "POST",
            "path": "/do",
            "body": json.dumps({"name": "boot-dryer.vent.on", "value": "x"}),
            **JSON,
        },
    ),
    "a list for a value": (
        422,
        {
            "method": "POST",
            "path": "/do",
            "body": json.dumps({"name": "boot-dryer.vent.on", "value": [1]}),
            **JSON,
        },
    ),
    "inputs that are none": (
        400,
        {
            "method": "POST",
            "path": "/do",
            "body": json.dumps({"name": "boot-dryer.vent.on", "inputs": 3}),
            **JSON,
        },
    ),
    "another way": (405, {"path": "/do"}),
    "another file": (404, {"path": "/../../etc/passwd"}),
    "no time": (400, {"path": "/past?name=x&since=long"}),
}


@pytest.mark.parametrize(("code", "asked"), REFUSED.values(), ids=REFUSED)
def test_who_is_refused(page, code, asked):
    assert ask(page, **asked)[0] == code


def test_what_the_page_asks(service, page):
    code, body, answer = ask(page, path="/things")
    found = json.loads(body)
    assert code == 200 and found["broker"] and len(found["things"]) == 3
    assert "default-src 'self'" in answer.getheader("content-security-policy")
    code, body, _ = ask(page, "POST", "/do", SET, Origin=f"http://127.0.0.1:{page.port}", **JSON)
    assert (code, json.loads(body)) == (200, {"topic": "refuge/boot-dryer/vent/on/set", "payload": "false"})
    assert (
        ask(page, "POST", "/do", json.dumps({"name": "boot-dryer.vent.pulse", "inputs": [0.5]}), **JSON)[0]
        == 200
    )
    assert json.loads(ask(page, path="/past?name=boot-dryer.vent.on&since=600")[1])["points"]
    assert json.loads(ask(page, path="/past?name=nobody")[1])["points"] == []
    # The pulse is over: a vent that runs already does not change when it is switched on.
    soon(lambda: [row.value for row in service.history.latest("boot-dryer.vent.on")[:2]] == [False, True], 30)
    code, _, answer = ask(page, path="/changes")
    service.say(OutgoingMessage("refuge/boot-dryer/vent/on/set", "true"))
    line = b""
    until = time.monotonic() + 20
    while b'"boot-dryer.vent.on", "value": true' not in line:
        assert time.monotonic() < until
        line = answer.fp.readline()
    answer.close()
    service.say(OutgoingMessage("refuge/boot-dryer/vent/on/set", "false"))


def test_its_figures_as_openmetrics(service, page):
    """Read by the parser of the standard's reference library, which refuses what the standard does."""
    service.hub.hear("refuge/boot-dryer/cabinet/temperature", b"21.5")
    service.history.raised('a "frost"\nalert', 5.0, "cold")
    code, body, answer = ask(page, path="/metrics")
    assert code == 200 and answer.getheader("content-type").startswith(
        "application/openmetrics-text; version=1.0.0"
    )
    samples = [s for family in text_string_to_metric_families(body.decode()) for s in family.samples]
    values = {(s.labels["device"], s.labels["property"]): s for s in samples if s.name == "zapato_value"}
    temperature = values["boot-dryer", "cabinet.temperature"]
    assert temperature.value == 21.5 and temperature.labels["unit"] == "Cel"
    assert values["boot-dryer", "vent.on"].value in (0.0, 1.0)
    assert {s.labels["device"]: s.value for s in samples if s.name == "zapato_online"}["gear-locker"] == 1
    assert [s.labels["alert"] for s in samples if s.name == "zapato_alert"] == ['a "frost"\nalert']
    assert next(s.value for s in samples if s.name == "zapato_messages_total") > 10
    service.history.gone('a "frost"\nalert', 6.0)


def test_a_page_for_others_wants_its_token(service):
    made = Page(service, "0.0.0.0:0")
    made.start()
    try:
        assert len(made.token) > 20 and made.token in made.address
        assert ask(made)[0] == 401 and ask(made, path="/things", Cookie="zapato_hub=guess")[0] == 401
        assert ask(made, path="/metrics")[0] == 401
        code, _, answer = ask(made, path=f"/?token={made.token}")
        cookie = answer.getheader("set-cookie")
        assert code == 303 and "HttpOnly" in cookie and "SameSite=strict" in cookie
        assert ask(made, path="/things", Cookie=cookie.partition(";")[0])[0] == 200
        assert ask(made, path="/things", Authorization=f"Bearer {made.token}")[0] == 200
        with pytest.raises(ZapatoError, match="cannot be at"):
            Page(service, str(made.port))
    finally:
        made.stop()
    for wrong in ("abc", "1:2:x", "99999"):
        with pytest.raises(ZapatoError):
            Page(service, wrong)


def test_who_comes_beyond_the_readers_tries_again_later(page, monkeypatch):
    answers = []  # kept: a response that is let go closes its connection, and the reader has left
    try:
        for _ in range(2):  # readers of the tests before may still be leaving: the first counts for sure
            way = http.client.HTTPConnection(page.host, page.port, timeout=20)
            way.request("GET", "/changes")
            answers.append(way.getresponse())
            answers[-1].first = answers[-1].readline()
            monkeypatch.setitem(
                Page._stream.__globals__, "READERS", 1
            )  # the page's own module, whoever loaded it anew
        assert [answer.first for answer in answers] == [b"retry: 2000\n", b"retry: 30000\n"]
    finally:
        for answer in answers:
            answer.close()


@pytest.mark.parametrize(("where", "wanted"), [("", ("127.0.0.1", 8123)), ("65535", ("127.0.0.1", 65535)), ("[::1]:80", ("::1", 80)), ("0.0.0.0:1", ("0.0.0.0", 1))])  # fmt: skip
def test_where_the_page_is(where, wanted):
    assert place(where) == wanted
    for wrong in ("65536", "http://x", "a:b", "-1"):
        with pytest.raises(ZapatoError, match="--web takes PORT"):
            place(wrong)
