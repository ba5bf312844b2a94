"""Rings in a graph: the groups of nodes that lead back to themselves, in one pass (Tarjan, 1972)."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping
from typing import TypeVar

Node = TypeVar("Node", bound=Hashable)


def rings(leads: Mapping[Node, Iterable[Node]]) -> list[set[Node]]:
    """Every largest set of nodes that all reach each other; a single node only where it leads to itself.

    Linear in nodes and edges, and without recursion, so that a chain may be as long as it likes.
    """
    number: dict[Node, int] = {}
    low: dict[Node, int] = {}
    held: dict[Node, None] = {}
    circles: list[set[Node]] = []
    for start in leads:
        if start in number:
            continue
        number[start] = low[start] = len(number)
        held[start] = None
        trail = [(start, iter(leads.get(start, ())))]
        while trail:
            node, ahead = trail[-1]
            following = next(ahead, None)
            if following is not None:
                if following not in number:
                    number[following] = low[following] = len(number)
                    held[following] = None
                    trail.append((following, iter(leads.get(following, ()))))
                elif following in held:
                    low[node] = min(low[node], number[following])
                continue
            trail.pop()
            if trail:
                low[trail[-1][0]] = min(low[trail[-1][0]], low[node])
            if low[node] == number[node]:
                ring: set[Node] = set()
                while True:
                    reached, _ = held.popitem()
                    ring.add(reached)
                    if reached == node:
                        break
                if len(ring) > 1 or node in leads.get(node, ()):
                    circles.append(ring)
    return circles
