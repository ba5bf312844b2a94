"""Over the air: an update fetched by the real program in the real VM, cut at every step, refused where it is not ours."""

import json
import re

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from support.approved import approve
from support.over_air import (
    KEY,
    NAMED,
    SECURED,
    SITE,
    Place,
    Said,
    broken,
    designs,
    imaged,
    offered,
    packed,
    tree,
)

import zapato
from zapato.deliver.air import over_the_air, runs_of
from zapato.deliver.broker import connected
from zapato.deliver.fleet import fleet
from zapato.deliver.offer import UpdateOffer, version_of
from zapato.errors import AlreadyThere, NotDelivered, NotOffered
from zapato.firmware.package import BASE, manifest, pack, seal
from zapato.firmware.plan import make_plan
from zapato.firmware.program import compile_device
from zapato.simulator.little import Blocks, LittleFlash
from zapato.simulator.scenario import PowerCut


@pytest.mark.parametrize(
    ("board", "site"),
    [
        ("esp8266-30pin", SITE),
        ("esp32-38pin", SITE),
        ("rp2040w-40pin", SITE),
        ("esp8266-30pin", NAMED),
        ("esp32-38pin", SECURED),
    ],
    ids=["esp8266", "esp32", "rp2040", "broker by its name", "TLS, which asks for the date"],
)
def test_an_update_of_one_link_sends_what_changed_and_runs(put, tmp_path, board, site, request):
    old, new = designs(put, board, site=site)
    place = Place(old)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    place.serve(offer)
    place.run()
    assert place.versions[-1] == "1.1.0", "\n".join(place.log)
    assert "version 1.1.0 runs" in place.notes
    assert "b.runs" in place.board.flash.files and "slots.json" not in place.board.flash.files
    assert set(offer.sent) == {"manifest.json", "plan.mpy"} and sum(offer.sent.values()) < 0.15 * offer.size
    said = [f"{topic} {payload.decode()}" for topic, payload in place.heard if "/vitals" not in topic]
    rows = [re.sub("[0-9a-f]{8,}", "…", row) for row in [*said, *place.log]]
    approve(f"update-{request.node.callspec.id.partition(',')[0].replace(' ', '-')}", "\n".join(rows) + "\n")


def test_the_same_version_may_come_again_where_that_is_wanted(put, tmp_path):
    old, again = designs(put, new="1.0.0")
    place = Place(old)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(again, tmp_path))
    place.serve(offer)
    place.clock.at(20_000, lambda: place.offer(offer, "1.0.0", again=True))
    place.run()
    assert "b.runs" in place.board.flash.files and "version 1.0.0 runs" in place.notes, "\n".join(place.log)


def test_what_came_of_another_file_is_not_gone_on_with(put, tmp_path):
    """The first file that comes is a new one: what an earlier update left in its place is thrown away."""
    old, new = designs(put)
    place = Place(old)
    place.board.flash.files |= {"b/part": b"x" * 300, "b/begun": b'{"digest": "5eed"}'}
    text = f"x = {'abc' * 200!r}\n"
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), broken(new, tmp_path, "zz", text))
    place.serve(offer)
    place.run()
    wanted = [json.loads(payload)[1:3] for topic, payload in place.heard if topic.endswith("/want")]
    assert place.versions[-1] == "1.1.0" and not any("damaged" in note for note in place.notes)
    assert [at for name, at in wanted if name == "zz.mpy"] == [0, 512]


@pytest.mark.slow(30)
def test_a_cut_at_every_step_of_an_update_leaves_a_whole_version(put, tmp_path):
    """Each write and erase of LittleFS torn in its middle: the flash mounts, the device starts and reaches its broker.

    States that are the same file by file are started once; some go on to the end of the update.
    """
    old, new = designs(put)
    flash = imaged(old)
    image = bytes(flash.blocks.buffer)
    place, offer = Place(old, flash), UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    place.serve(offer)
    place.run()
    steps = flash.blocks.journal
    assert place.versions[-1] == "1.1.0" and len(steps) > 200
    memory, seen = Blocks(image), {}
    for number, (at, data, erase) in enumerate(steps, 1):
        torn = Blocks(bytes(memory.buffer))
        torn.apply(at, data[: len(data) // 2], erase)
        memory.apply(at, data, erase)
        left = LittleFlash(old.board.chip, bytes(torn.buffer), lambda: PowerCut(500))
        seen.setdefault(frozenset(tree(left).items()), (number, left))
    assert bytes(memory.buffer) == bytes(flash.blocks.buffer) and len(seen) > 20
    for count, (number, left) in enumerate(seen.values()):
        on = count % 9 == 0
        place = Place(old, left, seconds=150 if on else 12)
        if on:
            place.serve(offer)
        assert place.run() is None, (number, place.log)
        assert "broker reached" in place.log, (number, place.log)
        assert not on or place.versions[-1] == "1.1.0", (number, place.log)


@pytest.mark.parametrize(
    "source",
    [
        "1 / 0",
        "import machine\nmachine.reset()",
        "MORE = ()\nimport time\nwhile True:\n    time.sleep(1)",
        "from device import Device\nd = Device('bench', 'refuge/bench', '1.1.0', 3.3)\nMORE = ()\nclass Deaf:\n    state = 0\n    def send(self, *given):\n        pass\n    ready = value = event = spare = send\ndef connect(settings):\n    d.out = Deaf()",
        "x = []\nwhile True:\n    x.append(bytearray(999))",
    ],
    ids=["an error", "resets itself", "never lets go", "reaches no broker", "no memory"],
)
def test_a_bad_version_gives_way_to_the_one_before_it(put, tmp_path, source):
    old, new = designs(put, "esp32-38pin")
    place = Place(old, seconds=600)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), broken(new, tmp_path, "plan", source))
    offered = []

    def hear(topic: str, payload: bytes) -> None:
        if topic.endswith("/update/want") and (found := offer.answer(payload)):
            place.broker.message(*found)
        if topic.endswith("/vitals") and not offered:
            offered.append(1)
            place.offer(offer, "1.0.0")

    place.broker.listeners.append(hear)
    assert place.run() is None
    assert place.versions[-1] == "1.0.0" and place.trace.rows[-1]["t"] > 400
    assert any("version 1.1.0 did not reach the broker" in note for note in place.notes), place.log
    assert "b.runs" not in place.board.flash.files and "slots.json" not in place.board.flash.files


@pytest.mark.parametrize("ends", ["power", "watchdog"])
def test_a_version_that_reaches_the_broker_and_restarts_every_minute_is_taken_back(put, tmp_path, ends):
    """Starts of any cause count until it has run on for two minutes. Who offers it again gets it again."""
    old, new = designs(put, "esp32-38pin")
    last = {"power": "d.after(60000, machine.reset)", "watchdog": "d.after(60000, lambda: time.sleep(20))"}[
        ends
    ]
    place = Place(old, seconds=360)
    source = f"{make_plan(new).plans['plan']}\nimport machine\nimport time\n{last}\n"
    place.serve(UpdateOffer(old.topic, bytes.fromhex(KEY), broken(new, tmp_path, "plan", source)))
    assert place.run() is None
    assert any("restarted again and again" in note for note in place.notes), place.notes
    said = [json.loads(p) for t, p in place.heard if t.endswith("/update/status")]
    assert said[:5] == [["1.1.0", "on trial"], *[["1.1.0", "runs"]] * 3, ["1.1.0", "back"]]


def test_no_update_begins_while_the_version_before_it_is_on_trial(put, tmp_path):
    """The slot that it would write is the one to go back to."""
    old, new = designs(put, "esp32-38pin")
    place = Place(old, seconds=200)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    place.serve(offer)
    more = UpdateOffer(
        old.topic, bytes.fromhex(KEY), packed(designs(put, "esp32-38pin", new="1.2.0")[1], tmp_path)
    )

    def hear(topic: str, payload: bytes) -> None:
        if topic.endswith("/update/status") and b"runs" in payload:
            place.clock.after(10_000, lambda: place.offer(more, "1.1.0"))

    place.broker.listeners.append(hear)
    assert place.run() is None
    assert any("1.1.0 is on trial for two minutes" in note for note in place.notes), place.notes
    assert place.versions[-1] == "1.1.0" and "b.runs" in place.board.flash.files


@pytest.mark.parametrize("desks", ["doubled", "two packages"])
def test_pieces_that_come_twice_and_two_desks_that_serve_at_once(put, tmp_path, desks):
    old, new = designs(put)
    place = Place(old)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    place.serve(offer)
    twin = offer
    if desks == "two packages":
        files = compile_device(new).files | {"plan.mpy": b"another plan" * 99}
        twin = UpdateOffer(
            old.topic,
            bytes.fromhex(KEY),
            pack(manifest(new.name, new.version, BASE, files), files, bytes.fromhex(KEY)),
        )

    def hear(topic: str, payload: bytes) -> None:
        if topic.endswith("/update/want") and (found := twin.answer(payload)):
            place.broker.message(*found)
            place.broker.message(*found)

    place.broker.listeners.insert(0, hear)
    assert place.run() is None
    assert "version 1.1.0 runs" in place.notes and place.versions[-1] == "1.1.0", place.notes


def test_pieces_without_end_fill_no_flash(put, tmp_path):
    old, new = designs(put)
    place = Place(old, seconds=400)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    place.serve(offer)
    answer, most = offer.answer, []

    def endless(payload: bytes) -> tuple[str, bytes] | None:
        _, name, at, count, _ = json.loads(payload)
        if name == "manifest.json":
            return answer(payload)
        most.append(at)
        return f"{old.topic}/update/piece/set", f"{name} {at}\n".encode() + bytes(count)

    offer.answer = endless
    place.clock.at(250_000, lambda: setattr(offer, "answer", lambda payload: None))
    assert place.run() is None
    assert any("more comes of plan.mpy than it has" in note for note in place.notes), place.notes
    assert max(most) <= 1 << 17 and "b/part" not in place.board.flash.files and place.versions[-1] == "1.0.0"


def test_only_the_keys_holder_offers_and_an_old_offer_is_none(put, tmp_path):
    """Another key, another device's seal, an older version, the same offer again, nonsense: told, and nothing restarts."""
    old, new = designs(put, "esp32-38pin", "1.2.0", "1.3.0")
    good = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    stranger = UpdateOffer(old.topic, b"s" * 32, packed(new, tmp_path, "73" * 32))
    elsewhere = UpdateOffer("refuge/other", bytes.fromhex(KEY), packed(new, tmp_path))
    update = f"{old.topic}/device/do/update"
    for make in (
        lambda number: stranger.made_to("1.2.0", number),
        lambda number: (update, elsewhere.made_to("1.2.0", number)[1]),
        lambda number: good.made_to("1.1.0", number),  # recorded when another version ran
        lambda number: good.made_to("1.2.0", "00c0ffee"),  # recorded when another number counted
        lambda number: good.made_to("1.2.0", ""),  # as before 0.2
        lambda number: (update, '["1.1.0", "00000000", "' + "0" * 64 + '"]'),
        lambda number: (update, "7"),
        lambda number: (update, '[["9"], {}, 3]'),
        lambda number: (update, ""),
        lambda number: (f"{old.topic}/device/do/explode", ""),
        lambda number: (f"{old.topic}/device/on/set", "true"),
    ):
        place = Place(old, seconds=40)
        place.clock.at(20_000, lambda place=place, make=make: place.make(make))
        assert place.run() is None
        assert (
            not any(r["name"] == "reset" for r in place.trace.rows)
            and "ask.json" not in place.board.flash.files
        )
        assert any("not understood" in note for note in place.notes), place.notes
    unasked = Place(old, seconds=40)  # nobody was told a number: none counts, not even "None"
    offered(unasked, *good.made_to("1.2.0", "None"))
    assert unasked.run() is None and "ask.json" not in unasked.board.flash.files
    assert any("not understood" in note for note in unasked.notes)
    with pytest.raises(NotOffered, match="older"):
        good.made_to("2.0", "1")
    with pytest.raises(NotOffered, match="runs there already"):
        good.made_to("1.3.0", "1")
    with pytest.raises(NotOffered, match="signature"):
        UpdateOffer(old.topic, b"x" * 32, packed(new, tmp_path))
    assert good.answer(b"nonsense") is None and good.answer(b'["1.3.0", "plan.mpy", -1, 5]') is None


@pytest.mark.parametrize("harm", ["manifest", "plan.mpy", "nobody answers"])
def test_what_arrives_wrong_is_given_up_and_the_old_version_goes_on(put, tmp_path, harm):
    old, new = designs(put)
    place = Place(old, seconds=420)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    once = []

    def hear(topic: str, payload: bytes) -> None:
        if topic.endswith("/vitals") and not once:
            once.append(place.offer(offer, "1.0.0"))
        if topic.endswith("/update/want") and harm != "nobody answers":
            where, data = offer.answer(payload)
            if harm.encode() in data.partition(b"\n")[0]:
                data = data[:-1] + bytes([data[-1] ^ 1])
            place.broker.message(where, data)

    place.broker.listeners.append(hear)
    assert place.run() is None
    words = {
        "manifest": "not from who holds",
        "plan.mpy": "arrives damaged",
        "nobody answers": "nobody sends it",
    }
    assert any(words[harm] in note for note in place.notes), place.notes
    assert place.versions[-1] == "1.0.0" and "ask.json" not in place.board.flash.files


def test_three_starts_that_fail_leave_the_minimal_program_which_takes_an_update(put, tmp_path):
    """A program that ends in an error each time, though it was good once: nothing but the network and updates runs, and mends it."""
    old, new = designs(put)
    place = Place(old, seconds=300)
    offer = UpdateOffer(old.topic, bytes.fromhex(KEY), packed(new, tmp_path))
    from zapato.firmware.compile import compile_all

    bad = compile_all({"plan": "1 / 0"}, tmp_path)["plan"]
    place.board.data = {**place.board.data, "a/plan.mpy": bad}
    place.board.flash.files["a/plan.mpy"] = bad
    place.serve(offer)
    assert place.run() is None
    assert sum(text.startswith("ZeroDivisionError") for text in place.log) == 3
    assert any("minimal program runs" in note for note in place.notes)
    assert place.versions[-1] == "1.1.0" and "version 1.1.0 runs" in place.notes
    assert json.loads(place.board.flash.files["fault.json"])["last"][-1].startswith(
        "ZeroDivisionError: divide by zero, at"
    )


def test_the_device_itself_is_told(put, tmp_path):
    """restart, tell, forget (said twice); what runs is told apart from another program of the same version."""
    old, same = designs(put, new="1.0.0")
    place = Place(old, seconds=200)
    place.clock.at(10_000, lambda: place.broker.message("refuge/bench/lamp/on/set", "true"))
    place.clock.at(30_000, lambda: place.broker.message("refuge/bench/device/do/tell", ""))
    offered(place, "refuge/bench/device/do/restart", "", 40_000)
    offered(place, "refuge/bench/device/do/forget", "", 70_000)
    offered(place, "refuge/bench/device/do/forget", "", 120_000)
    offered(place, "refuge/bench/device/do/forget", "", 130_000)
    assert place.run() is None
    resets = [r["t"] / 1000 for r in place.trace.rows if r["name"] == "reset"]
    assert 40 <= resets[0] < 41 and 130 <= resets[1] < 131
    assert "kept.json" not in place.board.flash.files and any("say it again" in note for note in place.notes)
    assert json.loads(next(p for t, p in place.heard if t.endswith("vitals")))["uptime"] < 35
    version, digest, address = runs_of(next(p for t, p in place.heard if t.endswith("update/runs")))
    assert version == "1.0.0" and address.count(".") == 3
    for design, error in ((old, AlreadyThere), (same, NotOffered)):
        offer = UpdateOffer(design.topic, bytes.fromhex(KEY), packed(design, tmp_path))
        with pytest.raises(NotOffered) as raised:
            offer.made_to("1.0.0", "1", digest=digest)
        assert type(raised.value) is error, raised.value
        offer.made_to("1.0.0", "1", True, digest)


def test_the_fullest_device_of_the_demo_is_updated_twice_and_asked_all_the_while(site, tmp_path):
    """36 KiB, four fifths of them taken: there is room for what an update loads, on trial, too; nothing runs out of memory."""
    path = site / "devices" / "porch-light.toml"
    text = path.read_text()
    made = []
    for version in ("1.0.0", "1.1.0", "1.2.0"):
        path.write_text(
            text.replace("board = ", f'version = "{version}"\nboard = ', 1).replace(
                '"3min"', f'"{3 + len(made)}min"'
            )
        )
        made.append(zapato.load(path))
    place = Place(made[0], seconds=400)
    place.air.known = ("refuge-hall", made[0].wifi["password"])
    first = UpdateOffer(made[0].topic, bytes.fromhex(KEY), packed(made[1], tmp_path))
    for second in range(20, 400, 7):
        place.clock.at(second * 1000, lambda: place.broker.message(f"{made[0].topic}/device/do/tell", ""))
    later = UpdateOffer(made[0].topic, bytes.fromhex(KEY), packed(made[2], tmp_path))

    def hear(topic: str, payload: bytes) -> None:
        if topic.endswith("/update/want") and (found := first.answer(payload) or later.answer(payload)):
            place.broker.message(*found)
        if topic.endswith("/vitals"):
            runs = json.loads(payload)["version"]
            for offer, old in ((first, "1.0.0"), (later, "1.1.0")):
                if runs == old:
                    place.offer(offer, old)

    place.broker.listeners.append(hear)
    assert place.run() is None
    assert place.versions[-1] == "1.2.0" and "version 1.2.0 runs" in place.notes, place.notes
    assert not [note for note in place.notes if "memory" in note] and "MemoryError" not in "".join(place.log)


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=9), lambda each: st.lists(each, max_size=5)
)


DEEP = b"[" * 200_000
"""A text that is JSON so far, and nested more deeply than anybody reads."""


@given(st.binary(max_size=60) | JSON.map(lambda value: json.dumps(value).encode()))
@example(DEEP)
def test_whatever_asks_is_answered_with_a_piece_or_not_at_all(asked):
    files = {"plan.mpy": bytes(range(200)) * 9, "safe/plan.mpy": b"x"}
    offer = UpdateOffer(
        "refuge/bench", b"k", pack(manifest("bench", "1.1.0", ">=1.25,<2", files), files, b"k")
    )
    found = offer.answer(asked)
    assert found is None or (found[0] == "refuge/bench/update/piece/set" and len(found[1]) < 4200)


VERSIONS = st.lists(st.integers(0, 99), min_size=1, max_size=3).map(
    lambda numbers: ".".join(map(str, numbers))
)


@given(VERSIONS, VERSIONS, st.booleans())
def test_a_version_is_offered_where_it_is_higher(have, new, again):
    files = {"plan.mpy": b"x"}
    offer = UpdateOffer("refuge/bench", b"k", pack(manifest("bench", new, ">=1.25,<2", files), files, b"k"))
    order = (version_of(new) > version_of(have)) - (version_of(new) < version_of(have))
    if order > 0 or (order == 0 and again):
        topic, payload = offer.made_to(have, "5eed5eed", again)
        given, mark, sealed = json.loads(payload)
        assert topic == "refuge/bench/device/do/update" and given == new and len(payload) <= 128
        assert sealed == seal(b"k", f"update refuge/bench {have} {new} {mark} 5eed5eed".encode())
    else:
        with pytest.raises(NotOffered):
            offer.made_to(have, "5eed5eed", again)


def test_a_fleet_tells_what_its_devices_say(put):
    design = designs(put)[0]
    vitals = b'{"uptime": 61, "signal": -58, "heap": 9000, "version": "1.0.0", "dropped": 0}'
    rows = (
        (("refuge/bench/state", b"online"), ("refuge/bench/vitals", vitals)),
        (("refuge/bench/state", b"offline"),),
        (("refuge/bench/vitals", b"nonsense"), ("refuge/other/vitals", vitals), ("refuge/bench/vitals", b"[1]")),
        (("refuge/bench/vitals", b'{"version": 7, "signal": "loud", "heap": null}'),),
        (("refuge/bench/notes", b"fault in memory: there was none left"), ("refuge/bench/notes", b"main found 0x23"), ("refuge/bench/state", b"offline")),
        (("refuge/bench/vitals", DEEP), ("refuge/bench/update/runs", DEEP), ("refuge/bench/state", b"\x1b[2J")),
    )  # fmt: skip
    found = [fleet([design], Said(*each), 0.01)[0] for each in rows]
    assert (found[0].state, found[0].version, found[0].signal, found[0].heap, found[0].uptime) == (
        "online",
        "1.0.0",
        -58,
        9000,
        61,
    )
    assert found[1].state == "offline" and found[1].version is None
    assert found[2].version is None and found[3].version == "7" and found[3].signal is None
    assert found[4].fault == "fault in memory: there was none left"
    assert (found[5].state, found[5].version, found[5].address) == ("", None, "")


@pytest.mark.parametrize(
    ("messages", "words"),
    [
        ((), "does not answer"),
        ((("refuge/bench/vitals", b'{"version": "2.0"}'),), "older"),
        ((("refuge/bench/vitals", b'{"version": "1.1.0"}'),), "runs there already"),
        ((("refuge/bench/notes", b"update to 1.1.0 is given up: plan.mpy arrives damaged"),), "given up"),
        ((("refuge/bench/update/status", b'["1.1.0", "back"]'),), "back"),
        ((("refuge/bench/notes", b"version 1.1.0 did not reach the broker: the one before it runs again"),), "did not reach"),
        ((("refuge/bench/vitals", b"nonsense"), ("elsewhere/vitals", b"{}"), ("refuge/bench/update/want", b"7")), "does not answer"),
        (tuple((f"refuge/bench/{name}", DEEP) for name in ("vitals", "update/status", "update/runs", "update/want")), "does not answer"),
    ],
)  # fmt: skip
def test_what_a_delivery_ends_with(put, tmp_path, messages, words):
    new = designs(put)[1]
    offer = UpdateOffer("refuge/bench", bytes.fromhex(KEY), packed(new, tmp_path))
    with pytest.raises((NotDelivered, NotOffered), match=words):
        over_the_air(offer, Said(*messages), patience=0.05)
    done = Said(
        ("refuge/bench/update/number", b"5eed5eed"), ("refuge/bench/vitals", b'{"version": "1.0.0"}'), ("refuge/bench/update/want", b'["1.1.0", "plan.mpy", 0, 512]'),
        ("refuge/bench/vitals", b'{"version": "1.1.0"}'), ("refuge/bench/notes", b"update to 1.1.0 is given up"),
        ("refuge/bench/update/status", b'["1.1.0", "runs"]'),
    )  # fmt: skip
    told = []
    found = over_the_air(offer, done, patience=5, tell=lambda what, share: told.append(what))
    assert (found.before, found.version) == ("1.0.0", "1.1.0") and found.sent <= 512 < found.size
    assert told == ["waiting for the device", "offering 1.1.0 to 1.0.0", "sending", "on trial"]


def test_a_device_that_tells_no_number_is_offered_the_update_at_its_third_sign_of_life(put, tmp_path):
    """Those of before 0.2 tell none."""
    offer = UpdateOffer("refuge/bench", bytes.fromhex(KEY), packed(designs(put)[1], tmp_path))
    made = []
    for signs in range(5):
        told = []
        device = Said(*[("refuge/bench/vitals", b'{"version": "1.0.0"}')] * signs)
        with pytest.raises(NotDelivered):
            over_the_air(offer, device, patience=0.05, tell=lambda what, share, told=told: told.append(what))
        made.append(told.count("offering 1.1.0 to 1.0.0"))
    assert made == [0, 0, 0, 1, 1]


def test_a_connection_is_closed_whatever_happens(put, monkeypatch):
    made = []

    class Known:
        def __init__(self, *given):
            made.append([*given])

        def close(self):
            made[-1].append("closed")

    monkeypatch.setattr("zapato.deliver.broker.Connection", Known)
    with pytest.raises(KeyError), connected(designs(put)[0], ("elsewhere", 1884), ["a/b"]):
        raise KeyError
    assert made == [["elsewhere", 1884, "", "", b"", ["a/b"], "closed"]]
    with connected(designs(put, site=SECURED)[0], None, []):
        pass
    host, port, *_, ca, topics, closed = made[-1]
    assert (host, port, topics, closed) == ("broker.refuge.example", 8883, [], "closed") and ca.startswith(
        b"0\x82"
    )
