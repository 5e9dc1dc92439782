"""Taking samples of what everything does, condensing them, and reading them for a drawing."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime, timedelta

import structlog

from foldbarn.core.arrays import Reals
from foldbarn.core.errors import BarnError, NotFound
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.touching import Thing
from foldbarn.core.watch.samples import (
    HOUR,
    MINUTE,
    Condensed,
    Counted,
    Over,
    Sampled,
    Series,
    begins,
    in_points,
    sampled,
)
from foldbarn.links.agents import Agent
from foldbarn.services.alerts.judging import Judge
from foldbarn.services.duties import Duty, Round
from foldbarn.settings import settings
from foldbarn.store import alerts, changes, nodes, outages
from foldbarn.store import samples as kept
from foldbarn.store.database import OperationalError, Session, tell, transaction
from foldbarn.store.outages import Out
from foldbarn.store.tables import AlertRow, ChangeRow, OutageRow
from foldbarn.store.views import current_view

log = structlog.get_logger()
AT_ONCE = 16  # nodes that are asked side by side
CONDENSE_SECONDS = 15.0  # between two looks at whether a minute is over
MOST_AT_ONCE = 30  # stretches that are condensed in one turn: others are waiting
MOST_CHANGES = 50  # that are marked


@dataclass(slots=True)
class Sampler:
    """Its own memory is what nodes had counted when they were asked last."""

    before: dict[int, Counted] = field(default_factory=dict)
    judge: Judge = field(default_factory=Judge)

    def take(self) -> None:
        """Asks every node that is heard, keeps what has gone through everything since, and judges it."""
        view = current_view()
        with transaction() as session:
            agents = nodes.with_agents(session)
        heard = [n.number for n in view.nodes if n.contact == Contact.HEARD and n.number in agents]
        with ThreadPoolExecutor(max_workers=AT_ONCE) as crew:
            told = zip(heard, crew.map(_ask, [agents[number].url for number in heard]), strict=True)
            now = {number: one for number, one in told if one is not None}
        before, self.before = self.before, now
        found = sampled(view, before, now)
        with transaction() as session:
            at = kept.now(session)
            if found.series:
                kept.keep(session, at, found)
                tell(session, "samples")
        # What was taken is kept, whatever becomes of what is made of it.
        with transaction() as session:
            self.judge.take(session, view, found, at, settings().sample_seconds)


def _ask(url: str) -> Counted | None:
    try:
        return Agent(url).counted()
    except BarnError as error:
        log.info("not told what was counted", agent=url, why=error.sentence)
        return None


def condense() -> None:
    """Puts together what is old enough, and drops what is older than it is kept."""
    for span in (MINUTE, HOUR):
        for _ in range(MOST_AT_ONCE):
            with transaction() as session:
                if kept.condense(session, span, kept.now(session)) < 0:
                    break
    try:
        with transaction() as session:
            kept.drop_old(session, kept.now(session))
    except OperationalError as error:  # somebody reads what would be dropped: it is tried again
        log.info("old samples are read yet", error=str(error)[:120])


def sampling(sampler: Sampler) -> Round:
    """Beside the other duties: what they cost is told the same way."""
    return Round(
        (
            Duty("take samples of what things do", settings().sample_seconds, lambda: sampler.take()),
            Duty("condense samples", CONDENSE_SECONDS, lambda: condense()),
        )
    )


# Reading. ------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True, eq=False)
class Drawn:
    """The samples of a thing over a time: seconds that each stands for; since, until, at: seconds since 1970,
    of the middle of each; all of them put together; and what else happened meanwhile.
    """

    series: Series
    over: Over
    seconds: float
    since: float
    until: float
    at: Reals
    rows: Condensed
    changes: list[ChangeRow]
    outages: list[OutageRow]
    alerts: list[tuple[AlertRow, str]]  # with the name of the rule


def drawn(view: SiteView, of: Sampled, name: str, part: str, over: Over) -> Drawn:
    """Raises NotFound."""
    about = _about(view, of, name, part)
    on = {view.nodes[disk.node].number for disk in view.disks if disk.number in about.disks}
    if of in (Sampled.NODE, Sampled.PORT):
        on.add(about.series.number)
    with transaction() as session:
        until = kept.now(session)
        since = until - timedelta(seconds=over.seconds)
        at, rows = kept.of_series(session, about.series, over.span, since)
        found = _changes(session, about, since)
        out = outages.since(session, since, {Out.NODE: on, Out.DISK: about.disks})
        rules = {rule.number: rule.name for rule in alerts.rules(session)}
        told = alerts.of_thing(session, about.series, since, MOST_CHANGES)
    seconds = float(over.point or over.span or settings().sample_seconds)
    if over.point:
        at, rows = in_points(at, rows, over.point)
    middle = at + (seconds / 2 if over.span else -seconds / 2)
    return Drawn(
        series=about.series,
        over=over,
        seconds=seconds,
        since=begins(at, seconds, over, until.timestamp()),
        until=until.timestamp(),
        at=middle,
        rows=rows,
        changes=found,
        outages=out,
        alerts=[(row, rules[row.rule_id]) for row in told if row.rule_id in rules],
    )


@dataclass(frozen=True, slots=True)
class _About:
    """What is drawn: its series, what changes of it touch, and numbers of the disks that it hangs on."""

    series: Series
    touched: tuple[tuple[tuple[Thing, ...], int], ...]
    disks: frozenset[int]


def _about(view: SiteView, of: Sampled, name: str, part: str) -> _About:
    """Raises NotFound."""
    if part and of != Sampled.PORT:
        raise NotFound(f"A {of.value} has no parts of which there are samples.", about="part")
    match of:
        case Sampled.VOLUME:
            volume = view.volume(name)
            pool = view.pools[volume.pool].number
            own = (
                ((Thing.VOLUME, Thing.TARGET, Thing.COPYING), volume.number),
                ((Thing.REBUILD, Thing.LEAVING), pool),
            )
            on = {int(n) for ply in volume.every_ply for n in ply.disk_numbers}
            return _About(Series(of, volume.number), own, frozenset(on))
        case Sampled.POOL:
            found = view.pool(name)
            own_of_pool = (Thing.POOL, Thing.REBUILD, Thing.LEAVING), found.number
            return _About(
                Series(of, found.number), (own_of_pool,), frozenset(d.number for d in view.all_of(found))
            )
        case Sampled.DISK:
            disk = view.disk(name)
            return _About(Series(of, disk.number), (((Thing.DISK,), disk.number),), frozenset([disk.number]))
        case Sampled.NODE | Sampled.PORT:
            node = view.node(name)
            if of == Sampled.PORT and part not in [port.name for port in node.ports]:
                raise NotFound(f"{node.name} has no port named '{part}'.", about="part")
            row = view.nodes.index(node)
            on = {d.number for d in view.disks if d.node == row} if of == Sampled.NODE else set()
            return _About(Series(of, node.number, part), (((Thing.NODE,), node.number),), frozenset(on))


def _changes(session: Session, about: _About, since: datetime) -> list[ChangeRow]:
    """Those that touched it and were begun, and not over before a moment; oldest first."""
    found = {
        row.id: row
        for what, number in about.touched
        for row in changes.that_touched(session, what, number, MOST_CHANGES)
        if row.started_at is not None and (row.ended_at is None or row.ended_at > since)
    }
    return [found[number] for number in sorted(found)]
