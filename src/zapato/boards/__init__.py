"""Chips and boards: what each pin can do, as data with sources.

from zapato.boards import board, boards
board("esp32-38pin").pin(34).output     # False: GPIO34 has no output driver
"""

from zapato.boards.board import Board, Boot, Chip, Fitted, HeaderPin, Pin
from zapato.boards.catalogue import board, board_ids, boards

__all__ = ["Board", "Boot", "Chip", "Fitted", "HeaderPin", "Pin", "board", "board_ids", "boards"]
