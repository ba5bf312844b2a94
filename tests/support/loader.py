"""A chip in its loader on a pseudo-terminal."""

from random import Random

import pytest

from zapato.boards import board as board_named
from zapato.deliver import cable
from zapato.simulator.loader_chip import LoaderChip


@pytest.fixture
def chip():
    made = []

    def make(board: str = "esp32-38pin", **given):
        made.append(LoaderChip(board_named(board), **given))
        return made[-1]

    yield make
    for each in made:
        each.close()


@pytest.fixture(autouse=True)
def quick(monkeypatch):
    """What waits for a person, or for lines that do not come, waits shorter here."""
    monkeypatch.setattr(cable, "LISTEN", 0.6)


IMAGE = Random(1).randbytes(25_600) + b"\xff" * 200_000 + b"end" * 3000
