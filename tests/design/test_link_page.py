"""docs/links.md: every example of the page runs as its rehearsal says."""

import re
from pathlib import Path

import pytest
from conftest import failed

import zapato

PAGE = (Path(__file__).parents[2] / "docs" / "links.md").read_text("utf-8")
BLOCKS = re.findall(r"```toml\n(.*?)```", PAGE, re.DOTALL)
HEAD, NAMED = BLOCKS[0], {text[2 : text.index("\n")]: text for text in BLOCKS[1:]}
EXAMPLES = [name for name in NAMED if not name.endswith(", rehearsed")]


@pytest.mark.parametrize("name", EXAMPLES)
def test_an_example_of_the_page_does_what_the_page_says(name: str, put):
    device = (
        put({"lodge.toml": HEAD + NAMED[name], "day.toml": NAMED[f"{name}, rehearsed"]}).parent / "lodge.toml"
    )
    assert not [f.message for f in zapato.check(device).findings if f.severity != "note"]
    result = zapato.rehearse(device, script=device.parent / "day.toml")
    assert failed(result) == []
    assert result.crash is None
    assert "fault" not in " ".join(text for _, text in result.log).replace("fault in hot", "")


PARTS = (Path(__file__).parents[2] / "docs" / "parts.md").read_text("utf-8")


@pytest.mark.parametrize("text", re.findall(r"```toml\n(.*?)```", PARTS, re.DOTALL))
def test_an_example_of_the_parts_page_checks_clean(text: str, put):
    device = put(
        'zapato = 1\n[device]\nname = "lodge"\nboard = "esp32-38pin"\n[wifi]\nname = "hall"\n[mqtt]\nhost = "192.168.4.2"\n'
        + text
    )
    assert not [(f.code, f.message) for f in zapato.check(device).findings]


@pytest.mark.parametrize(
    ("text", "data", "values"),
    [
        (
            "16 aafe 20",
            "16aafe20000bb81480000000010000000a",
            {"voltage": 3.0, "temperature": 20.5, "sent": 1, "uptime": 1},
        ),
        ("16 0f18", "160f1864", {"battery": 100}),
        ("16 1a18", "161a18220b8813", {"temperature": 28.5, "humidity": 50.0}),
        ("0a", "0afc", {"power": -4}),
    ],
)
def test_a_published_advertisement_is_read(text: str, data: str, values: dict):
    from zapato.lang.patterns import read_pattern

    written = next(each for each in re.findall(r"`([0-9a-f ]+\{[^`]+)`", PARTS) if each.startswith(text))
    assert read_pattern(written).read(bytes.fromhex(data)) == values
