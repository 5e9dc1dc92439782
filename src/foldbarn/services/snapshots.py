"""Keeping what nodes tell of the snapshots of volumes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from datetime import datetime

import structlog

from foldbarn.core.policies.limits import holders
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.volumes.snapshots import Span
from foldbarn.links.agents import Told
from foldbarn.store import snapshots as kept
from foldbarn.store.database import announce, transaction

log = structlog.get_logger()
GAVE_WAY = "There was no room left for what was overwritten, and it was the oldest."


def note_keeps(
    view: SiteView,
    volumes: Sequence[Volume],
    told: Mapping[int, Told],
    heard: Collection[int],
    asked: datetime,
) -> None:
    """told: by number of the node, of those that have told; heard: of those that were asked, at that moment.
    Of a volume of which not all of them have told nothing new is known.
    """
    found: dict[int, list[Span]] = {}
    lost: list[tuple[Volume, frozenset[int]]] = []
    for volume in volumes:
        past = volume.past
        if past is None or past.forming:
            continue
        mine = {node for node, ply in holders(view, volume) if ply == past.number} & set(heard)
        if not mine or not all(node in told and past.number in told[node].keeps for node in mine):
            continue
        parts = [told[node].keeps[past.number] for node in mine]
        sums: Counter[tuple[int, int]] = Counter()
        for part in parts:
            for span in part.spans:
                sums[span.first, span.last] += span.bytes
        found[volume.number] = [Span(*ends, size) for ends, size in sorted(sums.items())]
        # What one node does not know of is lost: it kept a part of it.
        there = frozenset.intersection(*(part.marks for part in parts))
        if any(s.there and s.number not in there for s in volume.snapshots):
            lost.append((volume, there))
    with transaction() as session:
        news = kept.note_spans(session, found)
        for volume, there in lost:
            if names := kept.lose(session, volume.number, there, asked, GAVE_WAY):
                log.info("snapshots gave way", volume=volume.name, snapshots=names)
                news = True
        if news:
            announce(session, "site")
