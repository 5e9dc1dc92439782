"""On which terms nodes serve what they hold: limits, caches, and what is withheld from consumers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from foldbarn.changes.engine.telling import Matter
from foldbarn.core.policies.limits import Terms, terms_by_node
from foldbarn.core.policies.policy import Cache
from foldbarn.core.site import SiteView
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.nodes import Told

STEP = 0.05  # parts that differ by less are not told anew: every strip that moves would alter some


def as_told(terms: Mapping[int, Terms]) -> dict[str, Any]:
    """What an order says of terms, by number of the ply."""
    return {
        "limits": {str(ply): [of.operations, of.throughput] for ply, of in terms.items()},
        "cache": {str(ply): of.cache.value for ply, of in terms.items() if of.cache != Cache.ANY},
        "memory": {str(ply): [of.room, of.memory] for ply, of in terms.items() if of.memory},
        "withheld": sorted(ply for ply, of in terms.items() if of.withheld),
    }


class _Terms(Matter):
    """By ply: operations and bytes a second, what is cached, whether it is withheld, and the room that it
    shares in memory, with the bytes of that.
    """

    kind: ClassVar[str] = "limit"
    number: ClassVar[int] = 0

    def wanted(self, view: SiteView) -> dict[int, dict[str, Any]]:
        return {
            node: {
                str(ply): [of.operations, of.throughput, of.cache.value, of.withheld, of.room, of.memory]
                for ply, of in sorted(terms.items())
            }
            for node, terms in terms_by_node(view).items()
        }

    def same(self, told: dict[str, Any], wanted: dict[str, Any]) -> bool:
        return told.keys() == wanted.keys() and all(_alike(told[ply], terms) for ply, terms in wanted.items())

    def order(self, view: SiteView, node: int, wanted: dict[str, Any]) -> dict[str, Any]:
        return as_told(
            {
                int(ply): Terms(operations, throughput, Cache(cache), withheld, room, memory)
                for ply, (operations, throughput, cache, withheld, room, memory) in wanted.items()
            }
        )

    def told(self, session: Session) -> dict[int, Told]:
        return nodes.limits_told(session)

    def note(self, session: Session, node: int, wanted: dict[str, Any], order: str) -> None:
        nodes.note_limits(session, node, wanted, order)


TERMS = _Terms()


def _alike(told: list[Any], wanted: list[Any]) -> bool:
    # What was told before there were caches, before anything was withheld, or kept in memory, says nothing of
    # that.
    told = [*told, *[Cache.ANY.value, False, "", 0][len(told) - 2 :]]
    return told[2:] == wanted[2:] and all(
        abs(one - other) <= STEP * max(one, other) for one, other in zip(told[:2], wanted[:2], strict=True)
    )
