"""Keeping what nodes have done for the consumers of each volume."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from foldbarn.core.site import Volume
from foldbarn.core.volumes.growth import Growth
from foldbarn.core.volumes.pace import NONE, Pace, Work, done_since, summed
from foldbarn.core.volumes.thin import to_set_aside
from foldbarn.links.agents import Told
from foldbarn.store import pace as kept
from foldbarn.store.database import announce, transaction


@dataclass(slots=True)
class PaceKeeper:
    """Its own memory is what each node told last: only what was done since counts."""

    told: dict[str, Told] = field(default_factory=dict)  # by address of the agent

    def keep(self, volumes: Sequence[Volume], told: Mapping[str, Told], seconds: float | None) -> None:
        """told: by address of the agent; seconds: that have passed since they told last; None where nobody
        knows.
        """
        done: dict[int, Work] = defaultdict(Work)  # by ply
        for url, now in told.items():
            before = self.told.get(url)
            if before is None or before.uptime > now.uptime:
                continue
            for ply, work in now.work.items():
                grown = done_since(before.work.get(ply, NONE), work)
                if grown is not None:
                    done[ply] = done[ply].combined(grown)
        # A node that says nothing this time tells next time what it did meanwhile.
        self.told |= told
        if seconds is None:
            return
        with transaction() as session:
            known = kept.read_all(session)
            fresh = {}
            for volume in volumes:
                work = summed(done.get(ply.number, NONE) for ply in volume.plies)
                fresh[volume.number] = known.get(volume.number, Pace()).gone_on(work, seconds)
            news = kept.keep_paces(session, fresh)
            growths = kept.growths(session)
            filling = {
                v.number: growths.get(v.number, Growth()).gone_on(v.whole.extents_set_aside, seconds)
                for v in volumes
                if to_set_aside(v).any()
            }
            if kept.keep_growths(session, filling) or news:
                announce(session, "site")
