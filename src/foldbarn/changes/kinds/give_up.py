"""Not waiting any longer for nodes that are not heard: what they held is rebuilt elsewhere at once."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.effects import tell_moves
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.loss import fate
from foldbarn.core.moves import say_hindrances
from foldbarn.core.rebuild import plan_rebuild
from foldbarn.core.site import AWAY, Node, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.views import load_view


class GiveUpParams(Params):
    """Nodes by name."""

    nodes: list[str] = Field(min_length=1, max_length=500)


@register
class GiveUp(Kind[GiveUpParams]):
    """give_up: at once. What they held is then rebuilt in changes of its own."""

    name: ClassVar[str] = "give-up"
    params: ClassVar[type[Params]] = GiveUpParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"give_up"})

    def about(self, params: GiveUpParams) -> str:
        return say_list(params.nodes)

    def meant(self, view: SiteView, params: GiveUpParams) -> Meant:
        return Meant(nodes=tuple(view.node(n) for n in params.nodes))

    def touches(self, view: SiteView, params: GiveUpParams) -> list[Touch]:
        return [alone(Thing.NODE, n.number) for n in self.meant(view, params).nodes]

    def preview(self, view: SiteView, params: GiveUpParams) -> Preview:
        preview = Preview(
            kind=self.name,
            title=f"Stop waiting for {say_list(params.nodes)}",
            summary="",
            revision=view.revision,
            steps=[
                PlannedStep(
                    name="give_up",
                    title="Give them up",
                    detail="Their strips count as lost until they return.",
                    can_withdraw=False,
                )
            ],
        )
        wanted: list[Node] = []
        for name in dict.fromkeys(params.nodes):
            try:
                node = view.node(name)
            except BarnError as error:
                preview.blockers.append(Note.of(error))
                continue
            if node.contact not in AWAY:
                preview.blockers.append(Note(sentence=f"{node.name} is not away.", about="nodes"))
            elif node.given_up:
                preview.blockers.append(Note(sentence=f"{node.name} is given up already.", about="nodes"))
            else:
                wanted.append(node)
        if wanted and not preview.blockers:
            _tell(preview, view, wanted)
        return preview.sealed()

    def step_give_up(self, run: Run[GiveUpParams], session: Session) -> str:
        view = load_view(session)
        found = [run.node(view, name) for name in run.params.nodes]
        if back := [n.name for n in found if n.contact not in AWAY]:
            raise Overtaken(f"{say_list(back)} {'is' if len(back) == 1 else 'are'} heard again.")
        nodes.give_up(session, [n.number for n in found])
        return f"{say_count(len(found), 'node')} given up."

    def withdraw(self, run: Run[GiveUpParams]) -> None:
        """The one step is done at once or not at all."""


def _tell(preview: Preview, view: SiteView, wanted: list[Node]) -> None:
    """What would be written again, and what cannot be."""
    gone = {n.number for n in wanted}
    after = replace(
        view, nodes=tuple(replace(n, given_up=True) if n.number in gone else n for n in view.nodes)
    )
    strips = 0
    for pool in after.pools:
        moves = plan_rebuild(after, pool, seed=1)
        strips += len(moves)
        if len(moves):
            tell_moves(preview, after, pool, moves, lost=True)
        if moves.hindrances:
            preview.warnings.append(Note(sentence=say_hindrances(after, moves.hindrances)))
    held = int(
        sum(
            after.disk_used[after.disk_node == row].sum()
            for row, n in enumerate(after.nodes)
            if n.number in gone
        )
    )
    if strips:
        words = (
            f"{say_count(strips, 'strip')} ({say_size(preview.moves_bytes)}) are written again elsewhere "
            "at once."
        )
    elif held:
        words = (
            f"They hold {say_count(held, 'strip')}, and none of these can be written again elsewhere as "
            "things are."
        )
    else:
        words = "They hold no strips, so nothing is written again."
    preview.summary = f"{words} A node that returns is compared and put to use again."
    fates = [fate(after, v) for v in after.volumes]
    if unreadable := sum(f.unavailable + f.lost for f in fates):
        words = (
            f"{say_count(unreadable, 'extent')} cannot be read without what is away, and so cannot be "
            "rebuilt."
        )
        preview.warnings.append(Note(sentence=words, next_step="They wait for it all the same."))
