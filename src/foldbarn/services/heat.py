"""Asking nodes what is asked of the extents that they hold, from time to time."""

from __future__ import annotations

from collections import defaultdict
from concurrent.futures import ThreadPoolExecutor

import structlog

from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError
from foldbarn.core.site import Contact, SiteView, Volume
from foldbarn.core.volumes.heat import Heat, gathered, recut, told, warmed
from foldbarn.links.agents import Agent
from foldbarn.store import heat as kept
from foldbarn.store import nodes
from foldbarn.store.database import tell, transaction
from foldbarn.store.views import current_view

log = structlog.get_logger()
AT_ONCE = 16  # nodes that are asked side by side
Told = dict[int, list[tuple[Ints, Ints]]]  # by number of a ply, of each node: extents, operations so far


def take_heat() -> None:
    """Asks every node that is heard, and keeps what that says of each volume. A node that does not answer in
    time says nothing this time; its copies' other nodes do.
    """
    view = current_view()
    volumes = [volume for volume in view.volumes if not volume.forming]
    if not volumes:
        return
    with transaction() as session:
        agents = nodes.with_agents(session)
    urls = [agents[n.number].url for n in view.nodes if n.contact == Contact.HEARD and n.number in agents]
    answers: Told = defaultdict(list)
    with ThreadPoolExecutor(max_workers=AT_ONCE) as crew:
        for found in crew.map(_asked, urls):
            for ply, one in found.items():
                answers[ply].append(one)
    with transaction() as session:
        known = kept.read_all(session)
        kept.keep_heat(session, {v.number: _heat(view, v, known.get(v.number), answers) for v in volumes})
        tell(session, "heat")


def _asked(url: str) -> dict[int, tuple[Ints, Ints]]:
    try:
        return Agent(url).asked()
    except BarnError as error:
        log.info("not told what is asked", agent=url, why=error.sentence)
        return {}


def _heat(view: SiteView, volume: Volume, known: tuple[Heat, float] | None, answers: Told) -> Heat:
    """A volume's heat by what its nodes told just now. known: what it was, and how many seconds ago."""
    ply, hot = volume.whole, volume.hot
    data, extents = ply.scheme.k, ply.extents
    heat, seconds = known or (Heat.of_nothing(data, extents), 0.0)
    if (heat.data, len(heat.counts)) != (data, extents):
        heat = recut(heat, data, extents)
    counts = told(extents, answers.get(ply.number, []))
    if hot is not None:
        # Counts go with the data, and each of its strips is an extent there.
        counts = gathered(counts, told(hot.extents, answers.get(hot.number, [])), data)
    return warmed(heat, counts, seconds)
