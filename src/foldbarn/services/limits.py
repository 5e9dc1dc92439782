"""The duty that tells nodes what consumers may ask of what they hold, and what is cached of it."""

from __future__ import annotations

import json
import zlib
from typing import Any

import structlog

from foldbarn.core.errors import BarnError
from foldbarn.core.policies.limits import terms_by_node
from foldbarn.core.policies.policy import Cache
from foldbarn.core.site import Contact
from foldbarn.links.agents import Agent
from foldbarn.store import nodes
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()


STEP = 0.05  # parts that differ by less are not told anew: every strip that moves would alter some


Terms = dict[str, list[Any]]  # by ply: operations and bytes a second, and what is cached


def _near(told: Terms, wanted: Terms) -> bool:
    """Whether a node may go by what it was told."""
    return told.keys() == wanted.keys() and all(_alike(told[ply], terms) for ply, terms in wanted.items())


def _alike(told: list[Any], wanted: list[Any]) -> bool:
    *had, cached = told if len(told) == len(wanted) else [*told, Cache.ANY.value]  # told before there was any
    *now, caches = wanted
    return cached == caches and all(
        abs(one - other) <= STEP * max(one, other) for one, other in zip(had, now, strict=True)
    )


def tell_limits() -> bool:
    """Tells every node that is heard its limits, where these are others than it was told last. Whether any
    could not be told, or is not heard.
    """
    view = current_view()
    wanted = terms_by_node(view)
    left = False
    with transaction() as session:
        told = nodes.limits_told(session)
    for node in view.nodes:
        limits: Terms = {
            str(ply): [terms.operations, terms.throughput, terms.cache.value]
            for ply, terms in sorted(wanted.get(node.number, {}).items())
        }
        known = told.get(node.number)
        if known is None or _near(known.limits, limits):
            continue
        if node.contact != Contact.HEARD:
            left = True
            continue
        digest = zlib.crc32(json.dumps([limits, known.times]).encode())
        order = {
            "id": f"limit-{node.number}-{digest:x}",
            "kind": "limit",
            "limits": {ply: terms[:2] for ply, terms in limits.items()},
            "cache": {ply: terms[2] for ply, terms in limits.items() if terms[2] != Cache.ANY.value},
        }
        try:
            Agent(known.url).send(order)
        except BarnError as error:
            left = True
            log.info("limits not told", node=node.name, why=error.sentence)
            continue
        with transaction() as session:
            nodes.note_limits(session, node.number, limits)
    return left
