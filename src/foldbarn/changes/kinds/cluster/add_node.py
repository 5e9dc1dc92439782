"""Adding a node to the cluster."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import (
    Checks,
    Note,
    Votes,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.cluster.said import check_rows, doubted, failing, losses
from foldbarn.changes.kinds.cluster.steps import (
    JoinCluster,
    OfNode,
    Ready,
    join_order,
    tell_keepers,
    wish_at,
    with_node,
)
from foldbarn.core.cluster.forming import prechecks, wish_of
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.views import current_view


class AddNodeParams(Params):
    node: str
    keeper: bool = False


class CountIn(OfNode):
    """Every keeper that is heard counts a node in."""

    name: ClassVar[str] = "count-in"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        wish = self.as_wished(view)
        order = join_order(view, wish.name, wish.keepers, wish.witness)
        old = [n for n in view.nodes if n.keeper and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: order for n in old})
        return f"{say_list([n.name for n in old])} {'counts' if len(old) == 1 else 'count'} it in."

    def take_back(self, run: Run) -> None:
        """Keepers that count it in already count it out."""
        view = current_view()
        if self.node in self.wish.keepers and not view.node_numbered(self.node).member:
            tell_keepers(run, view, wish_of(view))


class OpenMember(Inside):
    """A node (by number) is a member."""

    name: ClassVar[str] = "open-member"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the node is a member; let it go instead"
    node: int
    keeper: bool

    def carry_out(self, run: Run, session: Session) -> str:
        node = current_view().node_numbered(self.node)
        keepers = [node.number] if self.keeper else []
        nodes.set_member(session, [node.number], member=True, keepers=keepers)
        return f"{node.name} is a member."


@register
class AddNode(Kind[AddNodeParams]):
    """ready and join (agent), count (every keeper hears of it), open (ours)."""

    name: ClassVar[str] = "add-node"
    params: ClassVar[type[Params]] = AddNodeParams

    def plan(self, view: SiteView, params: AddNodeParams) -> Plan:
        cluster = view.cluster
        title = f"Add {params.node} to {cluster.name if cluster else 'the cluster'}"
        about, summary = params.node, "Its disks join no pool by this."
        try:
            node = view.node(params.node)
            if cluster is None or cluster.forming:
                raise NotPossible(
                    "There is no formed cluster to add it to.", next_step="Form the cluster first."
                )
            if node.member:
                raise NotPossible(f"{node.name} is a member already.", about="node")
        except BarnError as error:
            return Plan(title=title, about=about, summary=summary, blockers=[Note.of(error)])
        wish = with_node(wish_of(view), node, params.keeper)
        at = wish_at(view, wish)
        checks = [
            c for c in prechecks(view, wish) if c.about in ("", node.name) and c.name != "service address"
        ]
        return Plan(
            title=title,
            about=about,
            summary=summary,
            steps=[
                Planned(
                    Ready(wish=at, node=node.number, encrypted=cluster.encrypted),
                    f"Prepare {node.name}",
                    seconds=1,
                ),
                Planned(
                    JoinCluster(wish=at, node=node.number),
                    "It joins",
                    "With a vote." if params.keeper else "Without a vote.",
                    seconds=1,
                ),
                Planned(CountIn(wish=at, node=node.number), "Every keeper counts it in", seconds=1),
                Planned(OpenMember(node=node.number, keeper=params.keeper), "Write it down"),
            ],
            effects=[Checks(rows=check_rows(checks)), Votes(rows=losses(view, wish))],
            touches=[alone(Thing.CLUSTER)],
            meant=Meant(nodes=(node,)),
            blockers=failing(checks),
            warnings=doubted(checks),
        )
