"""Not waiting any longer for nodes that are not heard: what they held is rebuilt elsewhere at once."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.effects import Moving
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.moving.moves import say_hindrances
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.site import AWAY, Node, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.loss import fate
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.views import load_view


class GiveUpParams(Params):
    """Nodes by name."""

    nodes: list[str] = Field(min_length=1, max_length=500)


class StopWaiting(Inside):
    """Nodes (by number) are given up: their strips count as lost until they return."""

    name: ClassVar[str] = "give-up"
    lasting: ClassVar[bool] = True
    nodes: tuple[int, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        found = [view.node_numbered(number) for number in self.nodes]
        if back := [n.name for n in found if n.contact not in AWAY]:
            raise Overtaken(f"{say_list(back)} {'is' if len(back) == 1 else 'are'} heard again.")
        nodes.give_up(session, self.nodes)
        return f"{say_count(len(found), 'node')} given up."


@register
class GiveUp(Kind[GiveUpParams]):
    """give up: at once. What they held is then rebuilt in changes of its own."""

    name: ClassVar[str] = "give-up"
    params: ClassVar[type[Params]] = GiveUpParams

    def plan(self, view: SiteView, params: GiveUpParams) -> Plan:
        wanted, blockers = _wanted(view, params)
        step = StopWaiting(nodes=tuple(n.number for n in wanted))
        summary, effects, warnings = _told(view, wanted) if wanted and not blockers else ("", [], [])
        return Plan(
            title=f"Stop waiting for {say_list(params.nodes)}",
            about=say_list(params.nodes),
            summary=summary,
            steps=[Planned(step, "Give them up", "Their strips count as lost until they return.")],
            effects=effects,
            touches=[alone(Thing.NODE, n.number) for n in wanted],
            meant=Meant(nodes=tuple(wanted)),
            blockers=blockers,
            warnings=warnings,
        )


def _wanted(view: SiteView, params: GiveUpParams) -> tuple[list[Node], list[Note]]:
    """The nodes that can be given up, and what stands against the others."""
    wanted: list[Node] = []
    blockers: list[Note] = []
    for name in dict.fromkeys(params.nodes):
        try:
            node = view.node(name)
        except BarnError as error:
            blockers.append(Note.of(error))
            continue
        if node.contact not in AWAY:
            blockers.append(Note(sentence=f"{node.name} is not away.", about="nodes"))
        elif node.given_up:
            blockers.append(Note(sentence=f"{node.name} is given up already.", about="nodes"))
        else:
            wanted.append(node)
    return wanted, blockers


def _told(view: SiteView, wanted: list[Node]) -> tuple[str, list[AnyEffect], list[Note]]:
    """What would be written again, and what cannot be."""
    gone = {n.number for n in wanted}
    after = replace(
        view, nodes=tuple(replace(n, given_up=True) if n.number in gone else n for n in view.nodes)
    )
    moving, strips = Moving(), 0
    warnings = []
    for pool in after.pools:
        moves = plan_rebuild(after, pool, seed=1)
        strips += len(moves)
        if len(moves):
            moving.add(after, pool, moves, lost=True)
        if moves.hindrances:
            warnings.append(warning("stuck", say_hindrances(after, moves.hindrances), about=pool.name))
    rows = [row for row, n in enumerate(after.nodes) if n.number in gone]
    held = int(sum(after.disk_used[after.disk_node == row].sum() for row in rows))
    if strips:
        words = (
            f"{say_count(strips, 'strip')} ({say_size(moving.bytes)}) are written again elsewhere at once."
        )
    elif held:
        words = (
            f"They hold {say_count(held, 'strip')}, and none of these can be written again elsewhere as "
            "things are."
        )
    else:
        words = "They hold no strips, so nothing is written again."
    fates = [fate(after, p) for p in after.plies]
    if unreadable := sum(f.unavailable + f.lost for f in fates):
        said = (
            f"{say_count(unreadable, 'extent')} cannot be read without what is away, and so cannot be "
            "rebuilt."
        )
        warnings.append(warning("unreadable", said, next_step="They wait for it all the same."))
    summary = f"{words} A node that returns is compared and put to use again."
    return summary, moving.effects() if strips else [], warnings
