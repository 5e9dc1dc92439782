"""Where the nodes of the orchestrator stand."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class NodePlace:
    """A node of the orchestrator: labels say where it stands."""

    name: str
    labels: dict[str, str] = field(default_factory=dict)
