"""Which votes of the cluster that stands can be cast now."""

from __future__ import annotations

from dataclasses import dataclass

from foldbarn.core.cluster.quorum import majority
from foldbarn.core.site import Contact, SiteView


@dataclass(frozen=True, slots=True)
class Votes:
    """votes: of keepers and the witness; silent: who cannot cast theirs, by name."""

    votes: int
    silent: tuple[str, ...]

    @property
    def left(self) -> int:
        return self.votes - len(self.silent)

    @property
    def spare(self) -> int:
        """How many more may be lost; below 0 where the cluster decides nothing."""
        return self.left - majority(self.votes)


def votes_now(view: SiteView, without: int | None = None) -> Votes:
    """without: a node (by number) that is reckoned as not heard too."""
    keepers = [node for node in view.nodes if node.keeper]
    silent = [n.name for n in keepers if n.contact != Contact.HEARD or n.number == without]
    witness = view.cluster.witness if view.cluster is not None else ""
    if view.cluster is not None and witness and view.cluster.witness_silent:
        silent.append(witness)
    return Votes(len(keepers) + bool(witness), tuple(silent))
