"""Budgets: what a design takes of what its board has, in numbers with their sources."""

from zapato.budget.memory import Memory, memory

__all__ = ["Memory", "memory"]
