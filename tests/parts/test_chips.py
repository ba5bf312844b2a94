"""Described sensor chips: the datasheet's examples through the driver in the VM and through the stand-in, and what is refused."""

import json
from pathlib import Path

import pytest
from conftest import failed, steps

import zapato
from zapato import extensions
from zapato.firmware.compile import runtime_source
from zapato.lang.site import site_of
from zapato.lang.source import Source
from zapato.parts.chip_files import OWN as OWN_FOLDER
from zapato.parts.described import described_names, driver_source, read_description
from zapato.parts.described.catalogue import description
from zapato.parts.described.layout import crc8
from zapato.parts.described.sim import SpiChip
from zapato.parts.described.wire_sim import DescribedWireChip
from zapato.parts.modules import with_imports
from zapato.parts.onewire.serial import number_of
from zapato.parts.sensors import chip
from zapato.parts.simulated import Fault, SpiStandIn
from zapato.simulator.chips import stand_in

BY_BUS = {
    bus: sorted(name for name in described_names() if description(name).head["bus"] in bus.split())
    for bus in ("i2c spi", "onewire", "analog", "pulse")
}
OWN, ON_WIRE, OF_VOLTS, OF_PULSES = BY_BUS.values()
DEVICE = '[i2c.main]\nsda = 21\nscl = 22\npull_ups = "4.7kohm"\n[sensor.s]\nchip = "{name}"\nbus = "main"\naddress = {address}\nevery = "{every}s"\n'


ON_SPI = '[spi.main]\nsck = 18\nmosi = 23\nmiso = 19\n[sensor.s]\nchip = "{name}"\nbus = "main"\nselect = 27\nevery = "{every}s"\n'


def body_of(name: str, at: int = 0) -> str:
    """A device with the chip, at one of its addresses."""
    head = description(name).head
    address = head["addresses"][at] if head["addresses"] else 0
    feed = 'fed_from = "5V"\n' if head["supply"][0] > 3.3 else ""
    feed += 'module = "3.3V-5V"\n' if head["supply"][1] < 3 else ""
    every = max(2, head["fastest"] // 1000)
    return (ON_SPI if head["bus"] == "spi" else DEVICE).format(name=name, address=address, every=every) + feed


def step_of(known, key: str, example) -> float:
    """What one step of its own field makes of a value."""
    fields = {**known.constants}
    for step, data in zip(known.reading, example.answers, strict=True):
        fields |= step.layout.read(data)
    slot = known.slots()[known.fine.get(key, known.own[key])]
    amounts = [
        known.amount(key, {**fields, slot.name: fields[slot.name] + by})
        for by in (-1, 0, 1)
        if slot.low <= fields[slot.name] + by <= slot.high
    ]
    return max(amounts) - min(amounts)


def near(known, key: str, example) -> float:
    """How far a reading may be from what is felt: two of its digits, a step of its field, and what a small chip's floats leave."""
    step = step_of(known, key, example) if key in known.own else 0.0
    return max(2 * 10 ** -known.values[key].digits, step) + 0.03


@pytest.fixture(autouse=True)
def _as_before():
    yield
    extensions.for_site(None, ())


def held(known, example) -> dict[str, float]:
    """The values of an example, held to what the chip can have."""
    found = known.worked_out(example.answers)
    low, high = ({key: getattr(each, edge) for key, each in known.values.items()} for edge in ("low", "high"))
    return {
        key: min(
            max(value, low[key] or 0 if low[key] is not None else value),
            high[key] if high[key] is not None else value,
        )
        for key, value in found.items()
    }


@pytest.mark.parametrize("name", sorted(described_names()))
def test_a_description_of_ours_is_without_findings(name):
    """A check of a device takes that for granted."""
    known, document = read_description(Source.read(OWN_FOLDER / f"{name}.toml"))
    assert known and not document.findings


def test_the_check_byte_is_the_datasheets():
    assert crc8(b"\xbe\xef") == 0x92  # Sensirion, "Checksum calculation"


@pytest.mark.parametrize("name", OWN)
def test_the_datasheets_examples_come_out_of_driver_and_stand_in(name, bench):
    """The program reads what the world says; and the stand-in's bytes are the example's, but for bits that say nothing of it."""
    known = description(name)
    assert len(known.examples) >= 3
    felt = [key for key in known.values if key not in chip(name).derived]
    rows: list[str] = []
    for at, example in enumerate(known.examples):
        worked = held(known, example)
        sets = [f"{12 * at + 1}s: s.{key} = {worked[key]}" for key in felt]
        seen = " and ".join(
            f"abs(s.{key} - {worked[key]}) < {near(known, key, example)}" for key in known.values
        )
        rows += [*sets, f"{12 * at + 11}s? {seen}"]
    result = bench(
        body_of(name),
        steps(*rows),
        lasts=f"{12 * len(known.examples) + 5}s",
    )
    assert failed(result) == []
    for example in known.examples:
        worked = known.worked_out(example.answers)
        made = stand_in(name, worked.get)
        for step in known.calibration:
            made.write(known.said(step))
            assert (
                made.read(step.layout.size)
                == dict(zip(known.calibration, known.examples[0].calibration, strict=True))[step]
            )
        if known.begin and not any(step.valid for step in known.steps):
            assert made_answers(known, made) != list(example.answers) or not any(map(any, example.answers)), (
                "before it is set up it measures nothing"
            )
        for step in known.begin:
            made.write(known.said(step))
            made._until = -1.0  # it has measured
            assert not made.busy
        again = known.worked_out(tuple(made_answers(known, made)))
        assert all(abs(again[key] - worked[key]) <= near(known, key, example) for key in felt), (
            again,
            worked,
        )


@pytest.mark.parametrize("name", OF_VOLTS)
def test_a_voltage_is_read_by_the_formula_and_felt_by_its_inverse(name, bench):
    """The datasheet's examples come out of driver and world, behind a divider and on a converter's input, with each setting."""
    known = description(name)
    for example in known.examples:
        chosen = "".join(f'{key} = "{word}"\n' for key, word in example.settings.items())
        for at, more in (
            (34, 'divider = ["10kohm", "10kohm"]\n'),
            ('"adc.2"', '[i2c.main]\nsda = 21\nscl = 22\n[converter.adc]\nchip = "ads1115"\nbus = "main"\nsupply = "5V"\nfed_from = "5V"\nshifted = true\n'),
        ):  # fmt: skip
            if at == 34 and example.inputs["volts"] / 2 < 0.2:
                continue  # the ESP32 reads nothing below that
            head, table = (more, "") if more.startswith("[") else ("", more)
            body = f'{head}[sensor.s]\nchip = "{name}"\npin = {at}\nevery = "1s"\nfed_from = "5V"\n{chosen}{table}'
            (value, amount), volts = next(iter(example.gives.items())), example.inputs["volts"]
            near = abs(
                known.of_inputs({"volts": volts + 0.005}, example.settings)[value]
                - known.of_inputs({"volts": volts - 0.005}, example.settings)[value]
            )
            seen = f"abs(s.{value} - {amount}) <= {near}"
            result = bench(body, steps(f"4s? {seen}"), head=f"[world]\ns.{value} = {amount}\n", lasts="5s")
            assert failed(result) == []


WIRE = '[onewire.line]\npin = {pin}\npull_up = "4.7kohm"\n[sensor.s]\nchip = "{name}"\nbus = "line"\nevery = "2s"\n'


@pytest.mark.parametrize("name", ON_WIRE)
def test_the_datasheets_examples_come_over_a_one_wire_line(name, bench):
    """Through the driver and the stand-in, whose bytes are the example's but for those that nobody looks at; before it measured, it has nothing."""
    known = description(name)
    rows: list[str] = []
    for at, example in enumerate(known.examples):
        sets = [f"{12 * at + 1}s: s.{key} = {example.gives[key]}" for key in known.own]
        seen = " and ".join(
            f"abs(s.{key} - {amount}) < {near(known, key, example)}" for key, amount in example.gives.items()
        )
        rows += [*sets, f"{12 * at + 8}s? {seen}"]
        clock = Clock()
        made = DescribedWireChip(known, example.gives.get, clock)
        assert talk(made, known.reading[0].write.data, 9)[:1] == b"\0"  # nothing measured
        answer = talk(made, known.steps[0].write.data, 9) and talk(made, known.reading[0].write.data, 9)
        assert answer == b"\xff" * 9  # it is still at it
        clock.now += known.steps[0].takes
        answer = talk(made, known.reading[0].write.data, 9)
        assert known.worked_out((answer,)) == known.worked_out(example.answers)
    assert (
        failed(bench(WIRE.format(pin=27, name=name), steps(*rows), lasts=f"{12 * len(known.examples)}s"))
        == []
    )


class Clock:
    now = 0.0


def talk(made: DescribedWireChip, said: bytes, size: int) -> bytes:
    made.addressed()
    for byte in said:
        made.write(byte)
    return bytes(made.read() for _ in range(size))


@pytest.mark.parametrize("board, pin", [("esp8266-30pin", '"D2"'), ("rp2040w-40pin", 5)])
def test_a_one_wire_chip_that_falls_silent_or_talks_nonsense_is_unknown(bench, board, pin):
    rows = []
    for at, (word, mend) in enumerate((("fall_silent", "s.answer"), ("garbage", "s.answer"))):
        rows += [f"{40 * at + 5}s? s.temperature == 20", f"{40 * at + 6}s: s.{word}"]
        rows += [f"{40 * at + 30}s? not known(s.temperature)", f"{40 * at + 31}s: {mend}"]
    rows += [
        "85s? s.temperature == 20",
        "86s: line.short",
        "110s? not known(s.temperature)",
        "111s: line.mend",
    ]
    rows += ["120s? s.temperature == 20", "121s: s.temperature = 85", "140s? not known(s.temperature)"]
    body = WIRE.format(pin=pin, name="ds1822")
    result = bench(body, steps(*rows), board=board, head="[world]\ns.temperature = 20\n", lasts="150s")
    assert failed(result) == [] and not result.restarts


def test_chips_of_two_kinds_on_one_line_are_told_apart_by_their_numbers(bench):
    """Each by its serial number; the trade's thermometer converts for all, the others for themselves."""
    numbers = {
        name: number_of("", name, family).hex() for name, family in (("a", 0x28), ("b", 0x22), ("c", 0x3B))
    }
    chips = {"a": "ds18b20", "b": "ds1822", "c": "max31850"}
    body = '[onewire.line]\npin = 27\npull_up = "4.7kohm"\n' + "".join(
        f'[sensor.{name}]\nchip = "{chip}"\nbus = "line"\nevery = "3s"\nserial = "{numbers[name]}"\n'
        for name, chip in chips.items()
    )
    world = "[world]\na.temperature = 10\nb.temperature = 20.5\nc.temperature = 800.25\nc.board = 20\n"
    truth = "a.temperature == 10 and b.temperature == 20.5 and c.temperature == 800.25"
    assert failed(bench(body, steps(f"8s? {truth}", f"20s? {truth}"), head=world)) == []


def test_a_serial_number_is_of_the_chips_family(checked):
    told = {}
    for family in (0x22, 0x28):
        table = WIRE.format(pin=27, name="ds1822") + f'serial = "{number_of("", "s", family).hex()}"\n'
        told[family] = [f.message for f in checked(table).findings]
    assert not told[0x22] and "begins with 28, the family of another chip" in told[0x28][0]


@pytest.mark.parametrize("name", OF_PULSES)
def test_pulses_are_counted_by_the_formula_and_come_by_its_inverse(name, bench):
    known = description(name)
    felt = next(key for key in known.values if key not in chip(name).derived)
    table = "".join(f'[sensor.s]\nchip = "{name}"\npin = 27\nevery = "10s"\n')
    table += 'fed_from = "5V"\nshifted = true\n' if known.head["supply"] else ""
    for example in known.examples:
        if example.inputs["rate"] > 50:
            continue  # the simulator's edges come at whole ms
        amount, rate = example.gives[felt], example.inputs["rate"]
        step = abs(known.of_inputs({"count": 0, "rate": rate + 0.2})[felt] - amount)
        rows = [f"41s? abs(s.{felt} - {amount}) <= {step}"]
        for key, value in known.values.items():  # what is counted is that of the pulses so far
            if "count" in known.reached(value.formula):
                some = known.of_inputs({"count": 40 * rate + 2, "rate": rate})[key]
                least = known.of_inputs({"count": max(0, 40 * rate - 12 * rate - 2), "rate": rate})[key]
                rows.append(f"42s? s.{key} >= {least} and s.{key} <= {some}")
        result = bench(table, steps(*rows), head=f"[world]\ns.{felt} = {amount}\n", lasts="43s")
        assert failed(result) == [], example


def test_pulses_of_five_volts_need_a_shifter(checked):
    table = '[sensor.s]\nchip = "yf_s201"\npin = 27\nfed_from = "5V"\n'
    assert [f.code for f in checked(table).findings] == ["volt-logic"]
    assert checked(table + "shifted = true\n").findings == ()


def test_a_voltage_beyond_its_range_is_no_reading_and_needs_its_divider(bench, checked):
    body = '[sensor.s]\nchip = "acs712"\npin = 34\nevery = "1s"\nfed_from = "5V"\n'
    result = bench(
        body + 'divider = ["10kohm", "10kohm"]\n',
        steps("4s? known(s.current)", "5s: s.short", "30s? not known(s.current)"),
        head="[world]\ns.current = 2\n",
        lasts="35s",
    )
    assert failed(result) == []
    assert [f.code for f in checked(body).findings] == ["volt-analog"]
    assert checked(body + 'divider = ["10kohm", "10kohm"]\n').findings == ()
    assert "address" in " ".join(f.message for f in checked(body + "address = 4\n").findings)


def spoken(made, said: bytes, size: int) -> bytes:
    """What a stand-in answers to this, on its bus."""
    if isinstance(made, SpiStandIn):
        made.end()
        return made.move(said + bytes(size))[len(said) :]
    made.write(said)
    return made.read(size)


def made_answers(known, made) -> list[bytes]:
    """What a stand-in answers to each step."""
    found = []
    for step in known.steps:
        if step.write:
            made.write(known.said(step))
            made._until = -1.0
            assert not made.busy
        if step.layout:
            made.joined = True
            found.append(made.read(step.layout.size))
    return found


@pytest.mark.parametrize("name", [name for name in OWN if description(name).head["addresses"]])
def test_a_silence_is_survived_on_every_port(name, put):
    known = description(name)
    for board, pins in (("esp8266-30pin", ('"D2"', '"D1"')), ("rp2040w-40pin", (4, 5))):
        body = body_of(name, -1).replace("sda = 21\nscl = 22", f"sda = {pins[0]}\nscl = {pins[1]}")
        first = next(key for key in known.values if key not in chip(name).derived)
        value = held(known, known.examples[1])[first]
        path = put(
            {
                "device.toml": f'zapato = 1\n[device]\nname = "bench"\nboard = "{board}"\n{body}',
                "script.toml": '[rehearsal]\nlasts = "1min"\n'
                + f"[world]\ns.{first} = {value}\n"
                + steps(
                    f"11s? known(s.{first})",
                    "12s: s.fall_silent",
                    f"30s? not known(s.{first})",
                    "31s: s.answer",
                    f"50s? known(s.{first})",
                ),
            }
        )
        result = zapato.rehearse(path, path.parent / "script.toml")
        assert failed(result) == [] and not result.restarts, result.log


ONE_WIRE = (Path(zapato.__file__).parent / "chips" / "ds1822.toml").read_text()
PULSES = (Path(zapato.__file__).parent / "chips" / "yf_s201.toml").read_text()
GOOD = (Path(zapato.__file__).parent / "chips" / "tmp102.toml").read_text()
WRONG = {
    "a voltage with an address": (
        (Path(zapato.__file__).parent / "chips" / "tmp36.toml")
        .read_text()
        .replace("bus =", "addresses = [0x48]\nbus =", 1),
        "neither addresses nor steps",
    ),
    "a voltage whose value is called like the driver's own": (
        (Path(zapato.__file__).parent / "chips" / "tmp36.toml")
        .read_text()
        .replace("temperature = ", "ratio = ")
        .replace("[value.temperature]", "[value.ratio]"),
        "uses this name for itself",
    ),
    "a voltage with a setting called like its divider": (
        (Path(zapato.__file__).parent / "chips" / "tmp36.toml").read_text()
        + '[setting.divider]\nhelp = "x"\ndefault = "a"\noptions = { a = 1 }\n',
        "uses this name for itself",
    ),
    "a voltage without a range": (
        (Path(zapato.__file__).parent / "chips" / "tmp36.toml")
        .read_text()
        .replace('range = "0.1V-1.75V"', ""),
        "has range and",
    ),
    "volts that are something else": (
        (Path(zapato.__file__).parent / "chips" / "tmp36.toml").read_text().replace("= 25.0", "= 26.0"),
        "25 by its formula, and 26",
    ),
    "a family without its bus": (GOOD.replace("help =", "family = 0x28\nhelp =", 1), "family goes with bus"),
    "a check byte of another bus": (
        GOOD.replace("{t:s16}", "{t:s16} {crc8:low}"),
        "is the check byte of chips on a one-wire bus",
    ),
    "one wire with an address": (
        ONE_WIRE.replace("family =", "addresses = [0x48]\nfamily =", 1),
        "neither addresses",
    ),
    "one wire that is asked again": (
        ONE_WIRE.replace('valid = "t', 'until = "t > 3"\ntakes = "9ms"\nvalid = "t'),
        "and has no until",
    ),
    "one wire that is read while it measures": (
        ONE_WIRE.replace('write = "be"', 'write = "be"\ntakes = "9ms"'),
        "measures and takes its time",
    ),
    "pulses without an end": (PULSES.replace('pulses_most = "225Hz"', ""), "has pulses_most"),
    "pulses with a value of their own name": (
        PULSES.replace("[value.flow]", "[value.total]").replace("flow =", "total ="),
        "uses this name for itself",
    ),
    "pulses that do not come out": (
        PULSES.replace("volume = 1.0", "volume = 2.0"),
        "is 1 by its formula, and 2",
    ),
    "until without a time": (
        GOOD.replace('read = "{t:s16}"', 'read = "{t:s16}"\nuntil = "t > 1"'),
        "until needs takes",
    ),
    "until by another answer": (
        GOOD.replace('read = "{t:s16}"', 'takes = "9ms"\nread = "{t:s16}"\nuntil = "x > 1"'),
        "this answer has no field x",
    ),
    "a mode without SPI": (GOOD.replace("help =", "mode = 1\nhelp =", 1), "mode belongs to a chip on SPI"),
    "a repeated start after two bytes": (
        GOOD.replace("help =", "repeated = true\nhelp =", 1).replace('write = "00"', 'write = "00 01"'),
        "writes one byte before",
    ),
    "three fields that move": (
        GOOD.replace('of = "t / 256"', 'of = "t / 256"\nmoves = "t t t"'),
        "the second is the fine part",
    ),
    "an example that does not come out": (
        GOOD.replace("temperature = 25.0", "temperature = 26.0"),
        "25 by its formula, and 26",
    ),
    "too few examples": (GOOD.partition("[[example]]")[0], "3 are the least"),
    "no such field": (GOOD.replace('of = "t / 256"', 'of = "x / 256"'), "no answer has a field x"),
    "a call": (GOOD.replace('of = "t / 256"', "of = \"__import__('os')\""), "a formula cannot have"),
    "no formula": (GOOD.replace('of = "t / 256"', 'of = "t /"'), "is no formula"),
    "a number without end": (GOOD.replace('of = "t / 256"', 'of = "9 ** 9 ** 9 ** t"'), "gives no number"),
    "a shift without end": (GOOD.replace('of = "t / 256"', 'of = "1 << (t & 32767)"'), "gives no number"),
    "a name that the driver has": (
        GOOD.replace("[value.temperature]", "[value.address]").replace("{ temperature", "{ address"),
        "uses this name for itself",
    ),
    "a field that the driver has": (
        GOOD.replace("{t:s16}", "{b:s16}").replace("t / 256", "b / 256"),
        "uses for itself",
    ),
    "a field with a scale": (GOOD.replace("{t:s16}", "{t:s16*256}"), "t:s16*256"),
    "a beginning that reads": (GOOD + '[[begin]]\nwrite = "00"\nread = "{x:u8}"\n', "only writes"),
    "a wrong pattern": (GOOD.replace("{t:s16}", "{t:u17}"), "t:u17"),
    "an unknown key": (GOOD.replace("help =", "halp ="), "halp is not a key"),
    "an address": (GOOD.replace("0x48,", "0x90,"), "seven bits"),
    "an answer of another length": (GOOD.replace('["19 00"]', '["19 00 00"]'), "are no answer"),
    "a term that comes later": (
        GOOD.replace('of = "t / 256"', 'of = "u"') + '[term.u]\nof = "v + 1"\n[term.v]\nof = "t / 256"\n',
        "no term before it is called v",
    ),
    "a name of two things": (
        GOOD.replace('of = "t / 256"', 'of = "t / 256"') + '[term.t]\nof = "1"\n',
        "stands for two things",
    ),
    "a calibration without its bytes": (
        GOOD + '[[calibration]]\nwrite = "aa"\nread = "{c:u16}"\n',
        "needs the bytes of each",
    ),
    "validity by another answer": (
        GOOD.replace('read = "{t:s16}"', 'read = "{t:s16}"\nvalid = "x > 1"'),
        "this answer has no field x",
    ),
    "a setting that is not there": (GOOD.replace('write = "00"', 'write = "0{gain}"'), "hexadecimal"),
    "a setting without options": (
        GOOD + '[setting.gain]\nhelp = "x"\ndefault = "low"\noptions = { high = 1 }\n',
        "has no option low",
    ),
    "a count without end": (
        GOOD + '[setting.gain]\nhelp = "x"\ndefault = "low"\noptions = { low = 1 }\ncounts = { low = inf }\n',
        "for each word",
    ),
    "a setting called like a value": (
        GOOD + '[setting.temperature]\nhelp = "x"\ndefault = "a"\noptions = { a = 1 }\n',
        "leave free",
    ),
    "a value called like the calibration": (
        GOOD.replace("[value.temperature]", "[value.words]").replace("{ temperature", "{ words"),
        "uses this name for itself",
    ),
    "counts of other words": (
        GOOD + '[setting.gain]\nhelp = "x"\ndefault = "low"\noptions = { low = 1 }\ncounts = { high = 1 }\n',
        "counts has the words of options",
    ),
    "a setting that nobody has": (
        GOOD.replace('write = "00"', 'write = "00 {gain}"'),
        "there is no [setting.gain]",
    ),
    "a setting that every sensor has": (
        GOOD + '[setting.every]\nhelp = "x"\ndefault = "a"\noptions = { a = 1 }\n',
        "leave free",
    ),
    "a reading that is not valid": (
        GOOD.replace('read = "{t:s16}"', 'read = "{t:s16}"\nvalid = "t > 0"'),
        "not valid",
    ),
    "a field that moves nothing": (
        GOOD.replace('of = "t / 256"', 'of = "t / 256"\nmoves = "x"'),
        "comes down to no field x",
    ),
    "SPI with an address": (
        GOOD.replace("help =", 'bus = "spi"\nhelp =', 1),
        "a chip on SPI has neither addresses",
    ),
    "no address": (GOOD.replace("addresses =", "# addresses =", 1), "addresses is missing"),
    "a value that is none": (
        GOOD.replace("gives = { temperature", "gives = { heat"),
        "there is no value heat",
    ),
}


@pytest.mark.parametrize("what", WRONG)
def test_a_description_that_cannot_be_is_refused(what, tmp_path, cli):
    text, words = WRONG[what]
    path = tmp_path / "chips" / "wrong.toml"
    path.parent.mkdir()
    path.write_text(text)
    found, document = read_description(Source.read(path))
    assert found is None and any(words in each.message for each in document.findings), [
        f.message for f in document.findings
    ]
    called = cli("check", path)
    assert called.code == 1 and "wrong.toml" in called.out and "Traceback" not in called.err


def test_no_text_of_a_description_reaches_the_program(tmp_path, monkeypatch):
    """Whoever sends a description sends no code."""
    path = tmp_path / "chips" / "sent.toml"
    path.parent.mkdir()
    path.write_text(GOOD.replace('help = "temperature over I2C"', 'help = "x\\nimport os"', 1))
    found, document = read_description(Source.read(path))
    text = driver_source(found) if found else ""
    assert "import os" not in text and (found or document.findings)


def test_a_chip_of_a_site(put, cli):
    """Described beside site.toml it is used like any other; one with a mistake is told at its own line."""
    text = (
        GOOD.replace("t / 256", "t / 512")
        .replace("= 25.0", "= 12.5")
        .replace("= 0.25", "= 0.125")
        .replace("= -25.0", "= -12.5")
    )
    text = text.replace("127.9375", "63.9688")
    body = 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n' + DEVICE.format(
        name="half", address=0x48, every=2
    )
    path = put({"site.toml": '[site]\nname = "refuge"\n', "chips/half.toml": text, "device.toml": body})
    assert zapato.check(path).ok and "half" in described_names()
    assert "t / 512" in runtime_source("d_half", "esp32")
    assert cli("check", path.parent / "chips" / "half.toml").code == 0
    assert "checked" not in with_imports("d_half")
    put({"chips/half.toml": (Path(zapato.__file__).parent / "chips" / "sht40.toml").read_text()})
    assert zapato.load(path) and {"d_half", "checked"} <= with_imports("d_half"), (
        "as it was before it changed"
    )
    put({"chips/half.toml": text.replace("-12.5", "12.5")})
    called = cli("check", path)
    assert called.code == 1 and "half.toml:" in called.out and "cannot be used" in called.out
    site_of(Path(__file__))
    assert "half" not in described_names()


def test_what_is_listed_and_begun(cli, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "site.toml").write_text('zapato = 1\n[site]\nname = "refuge"\n')
    rows = json.loads(cli("chips", "--measures", "humidity", "--volts", "3.3", "--format", "json").out)
    names = {row["chip"] for row in rows}
    assert {"sht40", "aht20", "bme280"} <= names and not names & {"tmp102", "bmp280"}
    assert {row["chip"] for row in json.loads(cli("chips", "--bus", "spi", "--format", "json").out)} == {
        "bme280",
        "bmp280",
        "max31855",
        "max31865",
        "max6675",
    }
    assert (
        "tmp117" not in cli("chips", "--volts", "12").out and cli("chips", "--measures", "nothing").code == 1
    )
    assert cli("chips", "--begin", "Mine").code == 2 and cli("chips", "--begin", "mine").code == 0
    assert cli("chips", "--begin", "mine").code == 2, "what is there already stays"
    called = cli("check", tmp_path / "chips" / "mine.toml")
    assert called.code == 1 and "3 are the least" in called.out
    path = tmp_path / "chips" / "mine.toml"
    path.write_text(
        path.read_text()
        + "".join(
            f'[[example]]\nread = ["{raw}"]\ngives = {{ temperature = {value} }}\n'
            for raw, value in (("e7 00", -25.0), ("00 80", 0.5))
        )
    )
    assert cli("check", path).code == 0 and "mine" in cli("chips").out


def test_a_setting_is_written_and_counted(bench, checked):
    """What a device file sets reaches the chip as its byte, and the formula as its factor; the stand-in goes by the byte."""
    body = DEVICE.format(name="tsl2561", address=0x39, every=2) + 'gain = "16x"\n'
    result = bench(body, steps("1s: s.illuminance = 20.0", "11s? abs(s.illuminance - 20) < 0.5"), lasts="15s")
    assert failed(result) == []
    text = driver_source(description("tsl2561"))
    assert "self.send(129, self.gain)" in text and "gain = self.gain_counts" in text
    assert any("takes one of: 1x, 16x" in f.message for f in checked(body.replace("16x", "17x")).findings)


ASKED = """zapato = 1
help = "pressure, which says when it has measured"
source = "made up for this test"
bus = "{bus}"
{head}
supply = "3V-3.6V"
start = "10ms"

[[step]]
write = "30 0a"

[[step]]
write = "02"
takes = "50ms"
read = "{{state:u8}}"
until = "{until}"

[[step]]
write = "06"
read = "{{p:u16}}"

[value.pressure]
of = "p * 10"
unit = "Pa"
low = 0
high = 655350

[[example]]
read = ["{done}", "27 10"]
gives = {{ pressure = 100000 }}
[[example]]
read = ["{done}", "00 00"]
gives = {{ pressure = 0 }}
[[example]]
read = ["{done}", "ff ff"]
gives = {{ pressure = 655350 }}
"""
BUSES = {
    "i2c": ("addresses = [0x6d]", DEVICE),
    "spi": ("mode = 3", ON_SPI),
}


@pytest.mark.parametrize("bus", BUSES)
@pytest.mark.parametrize("until, done", [("(state & 8) == 0", "00"), ("state & 1", "01")])
def test_a_chip_that_says_when_it_has_measured_is_asked_until_then(bus, until, done, put):
    """Whichever way its bit goes; longer than its longest is no reading, and on SPI in its own mode only."""
    head, body = BUSES[bus]
    files = {
        "site.toml": '[site]\nname = "refuge"\n',
        "chips/asked.toml": ASKED.format(bus=bus, head=head, until=until, done=done),
        "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n'
        + body.format(name="asked", address=0x6D, every=2),
        "script.toml": '[rehearsal]\nlasts = "20s"\n[world]\ns.pressure = 96000\n'
        + steps("9s? s.pressure == 96000", "10s: s.pressure = 500", "19s? s.pressure == 500"),
    }
    path = put(files)
    result = zapato.rehearse(path, path.parent / "script.toml")
    assert failed(result) == []
    made = stand_in("asked", {"pressure": 96000.0}.get)
    moments = [0]
    made.now = lambda: moments[-1]
    seen = []
    for moment in (0, 49, 51):  # ms since it was asked first
        moments.append(moment)
        seen.append(spoken(made, b"\x02", 1))
    assert seen[0] == seen[1] != seen[2] == bytes.fromhex(done)


def test_a_chip_in_another_mode_understands_nothing(put, monkeypatch):
    """The bus takes the chip's mode for its exchange alone; one that wants another mode than is set gives nothing of worth."""
    path = put(
        {
            "device.toml": 'zapato = 1\n[device]\nname = "bench"\nboard = "esp32-38pin"\n'
            + ON_SPI.format(name="max31865", every=2)
            + '[sensor.other]\nchip = "max31855"\nbus = "main"\nselect = 26\nevery = "2s"\n',
            "script.toml": '[rehearsal]\nlasts = "20s"\n[world]\ns.temperature = -40\nother.temperature = 20\n'
            + steps("19s? abs(s.temperature + 40) < 0.1 and abs(other.temperature - 20) < 0.3"),
        }
    )
    assert failed(zapato.rehearse(path, path.parent / "script.toml")) == []
    text = runtime_source("d_max31865", "esp32")
    assert "self.bus.spi.init(polarity=0, phase=1)" in text
    monkeypatch.setattr(SpiChip, "mode", property(lambda self: 2, lambda self, mode: None), raising=False)
    (heard,) = failed(zapato.rehearse(path, path.parent / "script.toml"))
    assert heard[-1]["s.temperature"] is None


def test_a_repeated_start_is_kept(put):
    """A chip that wants one gives nothing after a stop; the driver reads with one."""
    made = stand_in("mlx90614", {"temperature": 28.0, "ambient": 20.0}.get)
    made.write(b"\x07")
    with pytest.raises(Fault):
        made.read(3)
    assert "readfrom_mem(self.address, 7, 3)" in driver_source(description("mlx90614"))
