"""Asking nodes what is asked of the extents that they hold, and what they did for it, from time to time."""

from __future__ import annotations

import statistics
from collections import defaultdict
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np
import structlog

from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError
from foldbarn.core.site import Contact, Volume
from foldbarn.core.volumes.heat import Heat, gathered, recut, told, warmed
from foldbarn.links.agents import Agent, Told
from foldbarn.services.pace import PaceKeeper
from foldbarn.services.snapshots import note_keeps
from foldbarn.store import heat as kept
from foldbarn.store import nodes, samples, shares
from foldbarn.store.database import announce, tell, transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()
AT_ONCE = 16  # nodes that are asked side by side
Answers = dict[int, list[tuple[Ints, Ints]]]  # by number of a ply, of each node: extents, operations so far


@dataclass(slots=True)
class HeatTaker:
    """Its own memory is how long each node had been running when it told last: what it is asked for is so
    much in its own time.
    """

    uptimes: dict[str, float] = field(default_factory=dict)  # by address of the agent
    pace: PaceKeeper = field(default_factory=PaceKeeper)

    def take(self) -> bool:
        """Asks every node that is heard, and keeps what that says of each volume. A node that does not answer
        in time says nothing this time; its copies' other nodes do. Returns whether any node told.
        """
        view = current_view()
        volumes = [volume for volume in view.volumes if not volume.forming]
        with transaction() as session:
            agents = nodes.with_agents(session)
        heard = [n.number for n in view.nodes if n.contact == Contact.HEARD and n.number in agents]
        with transaction() as session:
            asked = samples.now(session)
        with ThreadPoolExecutor(max_workers=AT_ONCE) as crew:
            found = dict(zip(heard, crew.map(_ask, [agents[number].url for number in heard]), strict=True))
        answers: Answers = defaultdict(list)
        for one in found.values():
            for ply, counts in one.plies.items() if one else ():
                answers[ply].append(counts)
        note_keeps(view, volumes, {n: one for n, one in found.items() if one}, heard, asked)
        by_url = {agents[number].url: one for number, one in found.items() if one}
        passed = self._passed({url: one.uptime for url, one in by_url.items()})
        self.pace.keep(volumes, by_url, passed)
        if passed is not None and view.shares:
            with transaction() as session:
                if shares.keep_growth(session, passed):
                    announce(session, "site")
        with transaction() as session:
            known = kept.read_all(session)
            fresh = {}
            for volume in volumes:
                heat, ago = known.get(volume.number, (_unknown(volume, passed is not None), 0.0))
                fresh[volume.number] = _heat(volume, heat, answers, ago if passed is None else passed)
            kept.keep_heat(session, fresh)
            tell(session, "heat")
        return bool(self.uptimes)

    def _passed(self, uptimes: dict[str, float]) -> float | None:
        """Seconds that have passed for most nodes since they told last; None where it is known of none."""
        before = self.uptimes
        grown = [now - before[url] for url, now in uptimes.items() if url in before and now >= before[url]]
        self.uptimes = uptimes
        return statistics.median(grown) if grown else None


def _ask(url: str) -> Told | None:
    try:
        return Agent(url).asked()
    except BarnError as error:
        log.info("not told what is asked", agent=url, why=error.sentence)
        return None


def _unknown(volume: Volume, new: bool) -> Heat:
    """Of a volume that was not there when its nodes told last: nothing had been asked of it by then. Where it
    is not known whether it was (not new), what its nodes tell now is the first that is known.
    """
    heat = Heat.of_nothing(volume.whole.scheme.k, volume.whole.extents)
    return replace(heat, counts=np.zeros_like(heat.counts)) if new else heat


def _heat(volume: Volume, known: Heat, answers: Answers, seconds: float) -> Heat:
    """A volume's heat by what its nodes told just now. known: what it was, so many seconds ago."""
    ply, hot = volume.whole, volume.hot
    data, extents = ply.scheme.k, ply.extents
    counts = told(extents, answers.get(ply.number, []))
    if hot is not None:
        # Counts go with the data, and each of its strips is an extent there.
        counts = gathered(counts, told(hot.extents, answers.get(hot.number, [])), data)
    if (known.data, len(known.counts)) != (data, extents):
        known = recut(known, data, extents)
    return warmed(known, counts, seconds)
