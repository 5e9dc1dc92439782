"""Who alters something: a person, Fold Barn itself, or a machine."""

from __future__ import annotations

from typing import NewType

Actor = NewType("Actor", str)  # a name, as people read it

BY_ITSELF = Actor("Fold Barn, by itself")  # of what no person asked for


def agent_of(node: str) -> Actor:
    """What reports for a node."""
    return Actor(f"the agent of {node}")
