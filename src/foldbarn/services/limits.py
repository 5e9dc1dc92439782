"""The duty that tells nodes what consumers may ask of what they hold."""

from __future__ import annotations

import json
import zlib

import structlog

from foldbarn.core.errors import BarnError
from foldbarn.core.policies.limits import limits_by_node
from foldbarn.core.site import Contact
from foldbarn.links.agents import Agent
from foldbarn.store import nodes
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()


STEP = 0.05  # parts that differ by less are not told anew: every strip that moves would alter some


def _near(told: dict[str, list[float]], wanted: dict[str, list[float]]) -> bool:
    """Whether a node may go by what it was told."""
    return told.keys() == wanted.keys() and all(
        abs(had - now) <= STEP * max(had, now)
        for ply, parts in wanted.items()
        for had, now in zip(told[ply], parts, strict=True)
    )


def tell_limits() -> bool:
    """Tells every node that is heard its limits, where these are others than it was told last. Whether any
    could not be told, or is not heard.
    """
    view = current_view()
    wanted = limits_by_node(view)
    left = False
    with transaction() as session:
        told = nodes.limits_told(session)
    for node in view.nodes:
        limits = {str(ply): list(found) for ply, found in sorted(wanted.get(node.number, {}).items())}
        known = told.get(node.number)
        if known is None or _near(known.limits, limits):
            continue
        if node.contact != Contact.HEARD:
            left = True
            continue
        digest = zlib.crc32(json.dumps([limits, known.times]).encode())
        order = {"id": f"limit-{node.number}-{digest:x}", "kind": "limit", "limits": limits}
        try:
            Agent(known.url).send(order)
        except BarnError as error:
            left = True
            log.info("limits not told", node=node.name, why=error.sentence)
            continue
        with transaction() as session:
            nodes.note_limits(session, node.number, limits)
    return left
