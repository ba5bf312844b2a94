"""What is wired to what: every wire with its two ends, its voltage and the components in it, what to buy, and the board pin by pin."""

from zapato.wiring.build import wiring
from zapato.wiring.pins import PinRow, State, pin_rows
from zapato.wiring.sheet import GROUND, MAINS, Item, Sheet, Wire

__all__ = ["GROUND", "MAINS", "Item", "PinRow", "Sheet", "State", "Wire", "pin_rows", "wiring"]
