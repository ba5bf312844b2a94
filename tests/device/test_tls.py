"""TLS: the broker's certificate is checked, by the program's own calls, against a real broker with a real handshake."""

import base64
import queue
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import HEADER, failed, steps
from support.brokers import MOSQUITTO, _free_port
from support.live import until

import zapato
from zapato.errors import Refused
from zapato.firmware.plan import settings
from zapato.simulator.live_run import Live

KEYS = Path(__file__).parents[1] / "data" / "tls"
SITE = '[site]\nname = "refuge"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "localhost"\ntls = true\nqos = 1\nauthority = "{ca}"\n[time]\nzone = "Europe/Zurich"\n'
LAMP = '[relay.lamp]\npin = 26\n[button.b]\npin = 33\npull = "up"\n[[link]]\nwhen = "b.pressed"\ndo = "lamp.toggle"\n'
SCRIPT = '[rehearsal]\nlasts = "20s"\n[[step]]\nat = "12s"\nact = "b.press"\n[[step]]\nwithin = "2s"\nexpect = "published(\'lamp/on\', \'true\')"\n'


def write(put, ca: str = "ca.pem", body: str = LAMP, board: str = "esp32-38pin") -> Path:
    path = put(
        {
            "device.toml": HEADER.format(board=board) + body,
            "site.toml": SITE.format(ca=ca),
            "script.toml": SCRIPT,
        }
    )
    shutil.copytree(KEYS, path.parent, dirs_exist_ok=True)
    return path


@pytest.fixture
def broker(tmp_path):
    """A real broker with a certificate made out for localhost; gives a function that starts it."""
    running = []

    def start(name: str) -> int:
        port, folder = _free_port(), tmp_path / "broker"
        folder.mkdir()
        for each in (f"{name}.pem", f"{name}.key"):
            shutil.copy(KEYS / each, folder / each)
        config = folder / "broker.conf"
        config.write_text(
            f"listener {port} 127.0.0.1\nallow_anonymous true\ncertfile {folder}/{name}.pem\nkeyfile {folder}/{name}.key\nuser root\n"
        )
        process = subprocess.Popen(
            [str(MOSQUITTO), "-c", str(config), "-v"], stderr=subprocess.PIPE, text=True
        )
        running.append(process)
        assert process.stderr
        while "running" not in process.stderr.readline():
            assert process.poll() is None
        return port

    yield start
    for process in running:
        process.kill()
        process.wait()


@pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed")
@pytest.mark.slow
def test_a_real_handshake_with_the_sites_broker(put, broker):
    rows: queue.Queue = queue.Queue()
    live = Live(write(put), broker=("localhost", broker("server")), on_row=rows.put)
    live.start()
    try:
        until(rows, "print", value="broker reached")
        live.act("b.press")
        until(rows, "mqtt", "refuge/bench/lamp/on", "true")
    finally:
        result = live.stop()
    assert not result.faults and not result.crash, [text for _, text in result.log]


@pytest.mark.skipif(MOSQUITTO is None, reason="mosquitto is not installed")
@pytest.mark.parametrize(("certificate", "ca"), [("other", "ca.pem"), ("server", "stranger.pem")])
@pytest.mark.slow
def test_a_broker_that_cannot_prove_its_name_hears_nothing(certificate, ca, put, broker, monkeypatch):
    """A certificate for another name, and one of another authority: the program does not get through, and says so."""
    monkeypatch.setattr(
        "zapato.simulator.live_run.Listener",
        lambda *given: type("Deaf", (), {"seen": [], "close": lambda self: None})(),
    )
    rows: queue.Queue = queue.Queue()
    live = Live(write(put, ca), broker=("localhost", broker(certificate)), on_row=rows.put)
    live.start()
    try:
        until(rows, "print", value="broker:")
    finally:
        result = live.stop()
    told = [r["value"] for r in result.records if r["what"] == "net" and r["name"] == "tls"]
    assert told and "certificate verify failed" in told[0]
    assert not any("broker reached" in text for _, text in result.log)


def test_on_the_virtual_stage_tls_takes_its_round_trips(put, bench):
    path = write(put)
    result = zapato.rehearse(path, path.parent / "script.toml")
    assert failed(result) == []
    plain = write(put)
    plain.parent.joinpath("site.toml").write_text(
        SITE.format(ca="ca.pem").replace("tls = true\n", "").replace('authority = "ca.pem"\n', "")
    )
    sooner = zapato.rehearse(plain, plain.parent / "script.toml")
    reached = [next(t for t, text in r.log if text == "broker reached") for r in (sooner, result)]
    assert 2.5 < reached[1] - reached[0] < 5  # the time is asked for first, too


@pytest.mark.parametrize(
    ("ca", "words"),
    [
        ("", "names no authority"),
        ("gone.pem", "cannot be read"),
        ("server.key", "holds no certificate"),
        ("site.toml", "holds no certificate"),
        ("two.pem", "holds 2 certificates"),
        ("torn.pem", "damaged"),
        ("long.pem", "no certificate of at most 4096 bytes"),
        ("other.pem", "no certificate of at most 4096 bytes"),
        ("../../../../../../etc/hostname", "outside the site"),
    ],
)
def test_a_wrong_authority_is_met_at_the_desk(ca, words, put):
    path = write(put, ca)
    text = (KEYS / "ca.pem").read_text()
    (path.parent / "two.pem").write_text(text + text)
    (path.parent / "torn.pem").write_text(text.replace("MII", "***", 1))
    for name, data in {"long": b"\x30" * 4097, "longest": b"\x30" * 4096, "other": b"\x31" * 99}.items():
        inside = base64.b64encode(data).decode()
        (path.parent / f"{name}.pem").write_text(
            f"-----BEGIN CERTIFICATE-----\n{inside}\n-----END CERTIFICATE-----\n"
        )
    found = [f for f in zapato.check(path).findings if f.code == "tls-authority"]
    assert len(found) == 1 and words in found[0].message, found
    with pytest.raises(Refused):
        zapato.build(path, path.parent / "out")
    site = path.parent / "site.toml"
    site.write_text(SITE.format(ca="longest.pem"))
    assert not [f for f in zapato.check(path).findings if f.code == "tls-authority"]


def test_the_authority_is_a_setting_and_tls_is_refused_where_the_port_cannot(put, cli):
    path = write(put)
    assert len(bytes.fromhex(str(settings(zapato.load(path), "")["authority"]))) > 200
    build = zapato.build(path, path.parent / "out")
    assert b"Refuge test authority" not in Path(build.update).read_bytes()
    small = write(put, body="[relay.lamp]\npin = 14\n", board="esp8266-30pin")
    assert "tls-unchecked" in {f.code for f in zapato.check(small).findings}
    with pytest.raises(Refused):
        zapato.build(small, path.parent / "out2")
    called = cli("rehearse", "--live", write(put))
    assert called.code == 1 and "--broker" in called.err


@pytest.mark.parametrize("board", ["esp32-38pin", "rp2040w-40pin"])
def test_a_certificates_dates_are_held_against_the_time_that_was_told(board, put):
    """The chip's clock begins years ago: the time comes first, and check says what that needs."""
    path = write(put, body=LAMP.replace("33", "15"), board=board)
    script = path.parent / "script.toml"
    head = '[rehearsal]\nlasts = "40s"\nbegins = 2026-01-10T12:00:00\n'
    for begins, word in (("", "published"), (steps("0s: time.silent"), "not published")):
        script.write_text(head + begins + steps(f"30s? {word}('state', 'online')"))
        result = zapato.rehearse(path, script)
        assert failed(result) == [], result.log
        assert any("broker reached" in text for _, text in result.log) != bool(begins)
    site = path.parent / "site.toml"
    site.write_text(site.read_text().partition("[time]")[0])
    assert "time-missing" in {f.code for f in zapato.check(path).findings}
