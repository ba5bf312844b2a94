"""The programs of all devices of the demo and of the two trials, as text that somebody read: parts, links, network."""

from pathlib import Path

import pytest
from support.approved import approve

import zapato
from zapato.checks import device_files
from zapato.demo.copy import copy_site
from zapato.firmware.plan import make_minimal_plan, make_plan

TRIALS = Path(__file__).parents[1] / "data" / "trials"


@pytest.fixture(scope="module")
def sites(tmp_path_factory):
    for _ in copy_site(demo := tmp_path_factory.mktemp("plans") / "demo"):
        pass
    return {"demo": demo, "cellar": TRIALS / "cellar", "hall": TRIALS / "hall"}


@pytest.mark.parametrize("name", ["demo", "cellar", "hall"])
def test_programs(name, sites):
    texts: list[str] = []
    for path in device_files(sites[name]):
        design = zapato.load(path)
        for plan in (make_plan(design), make_minimal_plan(design)):
            texts += [
                f"# modules: {', '.join(plan.modules)}; apart: {', '.join(plan.apart)}; levels: {plan.levels}"
            ]
            texts += plan.plans.values()
    approve(f"programs-{name}", "\n".join(texts) + "\n")


@pytest.mark.parametrize("name", ["demo", "cellar", "hall"])
def test_topics(name, sites):
    rows = [
        f"{topic.way:4} {topic.name} {'retained ' * topic.retained}qos {topic.qos}: {topic.payload}: {topic.example}"
        for path in device_files(sites[name])
        for topic in zapato.list_topics(zapato.load(path))
    ]
    approve(f"topics-{name}", "\n".join(rows) + "\n")
