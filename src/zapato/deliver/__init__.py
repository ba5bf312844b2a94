"""Onto the board: by cable, and over the air."""
