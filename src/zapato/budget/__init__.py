"""Budgets: what a design takes of what its board has, in numbers with their sources."""

from zapato.budget.memory import Memory, memory
from zapato.budget.wear import Wear, wear

__all__ = ["Memory", "Wear", "memory", "wear"]
