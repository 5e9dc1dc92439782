"""When many nodes fall silent at once: that is first held to be a trouble of our own, such as our own
network.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from foldbarn.core.site import AWAY, Contact, Node

LEAST_TO_DOUBT = 3  # fewer nodes than this that are silent together are taken at their word


@dataclass(frozen=True, slots=True)
class Silence:
    """How many nodes are silent and not given up, and how many are heard."""

    silent: int
    heard: int

    @property
    def doubted(self) -> bool:
        """Whether it is more likely that we hear nobody than that so many failed together."""
        return self.silent >= LEAST_TO_DOUBT and self.silent > self.heard


def silence_of(nodes: Iterable[Node]) -> Silence:
    counted = [n for n in nodes if not n.given_up]
    silent = sum(n.contact in AWAY for n in counted)
    return Silence(silent, sum(n.contact == Contact.HEARD for n in counted))
