"""The documents keep their word: the tutorial's files, the README's device file, the links and pictures."""

import dataclasses
import doctest
import inspect
import re
from pathlib import Path

import pytest

import zapato

ROOT = Path(__file__).parents[2]
BLOCKS = re.compile(r"```toml\n(.*?)```", re.DOTALL)


def _blocks(name: str) -> list[str]:
    return BLOCKS.findall((ROOT / name).read_text("utf-8"))


def test_the_readmes_device_file_passes(put):
    (text,) = _blocks("README.md")
    assert not zapato.check(put(text)).findings


def test_the_tutorial_from_start_to_end(tmp_path: Path, cli):
    """As a stranger would: new, the tutorial's own tables, check, a mistake, rehearse, build twice."""
    site = tmp_path / "refuge"
    assert cli("new", "porch-light", "--board", "esp8266-30pin", "--room", "Porch", "--site", site).code == 0
    path = site / "devices" / "porch-light.toml"
    parts, link, rehearsal = _blocks("docs/first-device.md")
    head = path.read_text().split("# One table a part")[0]
    path.write_text(head + parts + link)
    assert not zapato.check(path).findings
    path.write_text(path.read_text().replace('"D6"', '"D0"'))
    assert [f.code for f in zapato.check(path)] == ["pin-no-pull"]
    path.write_text(path.read_text().replace('"D0"', '"D6"'))
    (site / "rehearsals").mkdir()
    (site / "rehearsals" / "porch-light.toml").write_text(rehearsal)
    called = cli("rehearse", path, "--plot", tmp_path / "evening.png")
    assert called.code == 0 and called.out.count(" held ") == 2, called.out
    assert cli("build", path, "--out", tmp_path / "out").out.startswith("built")
    assert cli("build", path, "--out", tmp_path / "out").out.startswith("unchanged")


@pytest.mark.parametrize(
    "name",
    ["README.md", "CONTRIBUTING.md", *(f"docs/{p.name}" for p in sorted((ROOT / "docs").glob("*.md")))],
)
def test_links_lead_somewhere(name):
    text = (ROOT / name).read_text("utf-8")
    for target in re.findall(r"\]\(([^)#]+)\)", text):
        assert ((ROOT / name).parent / target).exists(), target


def test_the_readme_has_the_commands_in_the_groups_of_the_help():
    import re

    from zapato.cli.about import COMMANDS, STEPS
    from zapato.cli.app import command_names

    text = (ROOT / "README.md").read_text("utf-8")
    titles = "|".join(map(re.escape, STEPS))
    found = re.split(rf"(?m)^\*\*({titles})\*\*$", text)
    assert tuple(found[1::2]) == STEPS
    told = {
        step: set(re.findall(r"(?m)^\| `zapato (\w+)", part))
        for step, part in zip(found[1::2], found[2::2], strict=True)
    }
    assert told == {step: {n for n in command_names() if COMMANDS[n].step == step} for step in STEPS}


def test_every_command_is_in_the_readme_and_every_picture_linked():
    from zapato.cli.app import command_names

    text = (ROOT / "README.md").read_text("utf-8")
    assert all(f"`zapato {name}" in text for name in command_names())
    assert all(p.name in text for p in (ROOT / "docs" / "screenshots").glob("*.png"))


def test_every_message_ends_as_a_sentence_and_names_no_path_of_ours(put):
    """Findings read as sentences: no trailing stop of their own, no Python words, something to act on."""
    from zapato.checks import rules
    from zapato.checks.rule import files

    for rule in rules().values():
        device = put(files(rule.failing))
        for finding in zapato.check(device if device.exists() else device.parent):
            assert not finding.message.endswith(".") and finding.message[0] != " ", finding.message
            assert not re.search(
                r"\b(None|True|False|dict|NoneType|Traceback)\b", finding.message + finding.why
            ), finding.message
            assert not finding.why or finding.why.endswith("."), (finding.code, finding.why)
        for path in sorted(device.parent.rglob("*"), reverse=True):
            path.rmdir() if path.is_dir() else path.unlink()


CALLS = [name for name in dir(zapato) if callable(getattr(zapato, name)) and name[0].islower()]


@pytest.mark.parametrize("name", CALLS)
def test_the_example_of_a_call_does_what_it_says(name, site, monkeypatch):
    """Each public call has one, and it runs in the demo's site."""
    monkeypatch.chdir(site)
    pair = '[rehearsal]\nlasts = "1min"\ndevices = ["porch-light", "kettle-plug"]\n'
    (site / "rehearsals" / "pair.toml").write_text(pair)
    (example,) = doctest.DocTestFinder(recurse=False).find(getattr(zapato, name), name, globs={})
    assert "\nExamples:\n" in inspect.cleandoc(example.docstring), (
        "the API's reference shows it as code only then"
    )
    said: list[str] = []
    result = doctest.DocTestRunner().run(example, out=said.append)
    assert result.attempted >= 3 and not result.failed, "".join(said)


RECORDS = [
    each
    for package in (zapato, zapato.extend)
    for each in (getattr(package, name) for name in dir(package))
    if isinstance(each, type) and dataclasses.is_dataclass(each)
]


@pytest.mark.parametrize("record", RECORDS, ids=lambda each: each.__name__)
def test_every_field_of_a_public_record_is_told(record):
    told: set[str] = set()
    for base in record.__mro__:
        _, _, listed = (inspect.cleandoc(base.__doc__ or "")).partition("Attributes:\n")
        told |= set(re.findall(r"^    (\w+): ", listed.split("\n\n")[0], re.MULTILINE))
    assert {each.name for each in dataclasses.fields(record) if each.init} <= told


def test_the_description_on_a_package_index_has_no_link_that_leads_nowhere(tmp_path):
    """The project's own hook is asked as the build asks it; everything else of the README stays."""
    from hatchling.metadata.core import ProjectMetadata
    from hatchling.plugin.manager import PluginManager

    described = ProjectMetadata(str(ROOT), PluginManager()).core.readme
    assert not re.search(r"\]\((?!https?:)", described) and "![" not in described
    assert (
        "[relay.heater]" in described
        and "`zapato editor`" in described
        and "how (docs/editor.md)" in described
        and "picture |" not in described
    )
