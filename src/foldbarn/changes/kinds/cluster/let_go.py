"""Letting a member of the cluster go."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from foldbarn.changes.engine.effects import (
    Note,
    TextRow,
    Texts,
    Votes,
    warning,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.cluster.said import losses
from foldbarn.changes.kinds.cluster.steps import cluster_name, hand, join_order, tell_keepers
from foldbarn.core.cluster.forming import Tie, Wish, bond_of, voters, wish_of
from foldbarn.core.cluster.quorum import doubts
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.shares.addresses import anew
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list
from foldbarn.store import nodes
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view


class LetGoParams(Params):
    """node: who leaves; successor: who gets its vote, where it has one and too few would be left."""

    node: str
    successor: str = ""


class OfMember(Outside):
    """A step that is about a member (by number)."""

    node: int


class GiveVote(OfMember):
    """A member gets a vote, which it keeps also where the change is withdrawn."""

    name: ClassVar[str] = "give-vote"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        wish, heir = wish_of(view), view.node_numbered(self.node)
        if heir.name not in wish.keepers:
            wish = replace(wish, keepers=(*wish.keepers, heir.name))
        tell_keepers(run, view, wish)
        with run.writing() as session:
            nodes.give_vote(session, heir.number)
            announce(session, "site")
        return f"{heir.name} has a vote."


class HandOn(OfMember):
    """A member that leads hands the leading role on."""

    name: ClassVar[str] = "hand-on"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        cluster, node = view.cluster, view.node_numbered(self.node)
        if cluster is None or cluster.leader != node.agent_name:
            return "It does not lead."
        keepers = [n for n in view.nodes if n.keeper]
        others = [n for n in keepers if n.number != node.number and n.contact == Contact.HEARD]
        if not others:
            raise NotPossible(f"{node.name} leads, and no other keeper is heard.")
        return hand(run, [n.number for n in keepers], node.number, others[0].number)


class Leave(OfMember):
    """A member leaves, where it is heard."""

    name: ClassVar[str] = "leave"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        node = view.node_numbered(self.node)
        if node.contact != Contact.HEARD:
            return f"{node.name} is not heard; it is counted out, and told when it returns."
        if bond := bond_of(view, node.name):
            raise NotPossible(bond.sentence)
        run.tell_nodes({node.number: {"kind": "leave", "cluster": cluster_name(view)}})
        return f"{node.name} has left."

    def take_back(self, run: Run) -> None:
        """A node that has left joins again; what was handed on stays where it is."""
        view = current_view()
        node = view.node_numbered(self.node)
        if not node.member:
            return
        wish = wish_of(view)
        run.tell_nodes({node.number: {"kind": "ready", "cluster": wish.name}}, part="ready")
        order = join_order(view, wish.name, wish.keepers, wish.witness)
        members = [n for n in view.nodes if n.member and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: order for n in members}, part="join")


class CountOut(OfMember):
    """Every other keeper that is heard counts a member out."""

    name: ClassVar[str] = "count-out"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        wish, node = wish_of(view), view.node_numbered(self.node)
        left = replace(wish, keepers=tuple(k for k in wish.keepers if k != node.name))
        told = tell_keepers(run, view, left)
        return f"{say_list([n.name for n in told])} {'counts' if len(told) == 1 else 'count'} it out."


class CloseMember(Inside):
    """A node (by number) is a member no more."""

    name: ClassVar[str] = "close-member"
    lasting: ClassVar[bool] = True
    node: int

    def carry_out(self, run: Run, session: Session) -> str:
        node = current_view().node_numbered(self.node)
        nodes.set_member(session, [node.number], member=False)
        return f"{node.name} is no member any more."


@register
class LetGo(Kind[LetGoParams]):
    """successor (gets the vote), hand on (the leading role), leave (agent), count out (keepers), close
    (ours).
    """

    name: ClassVar[str] = "let-go"
    params: ClassVar[type[Params]] = LetGoParams

    def plan(self, view: SiteView, params: LetGoParams) -> Plan:
        title, about = f"Let {params.node} go", params.node
        summary = "It leaves the cluster and stays in the list of machines."
        try:
            node = view.node(params.node)
            heir = view.node(params.successor) if params.successor else None
            wish = _left(view, params, node, heir)
        except BarnError as error:
            return Plan(title=title, about=about, summary=summary, blockers=[Note.of(error)])
        warnings = [
            warning(f"votes-{i}", f"{s[0].upper()}{s[1:]}.") for i, s in enumerate(doubts(voters(view, wish)))
        ]
        gives = [Planned(GiveVote(node=heir.number), f"{heir.name} gets its vote", seconds=1)] if heir else []
        return Plan(
            title=title,
            about=about,
            summary=summary,
            steps=[
                *gives,
                Planned(HandOn(node=node.number), "Hand the leading role on", "Where it leads."),
                Planned(Leave(node=node.number), f"{node.name} leaves", seconds=1),
                Planned(CountOut(node=node.number), "Every keeper counts it out", seconds=1),
                Planned(CloseMember(node=node.number), "Write it down"),
            ],
            effects=[Votes(rows=losses(view, wish)), *_addresses(view, node)],
            touches=[alone(Thing.CLUSTER)],
            meant=Meant(nodes=(node, *([heir] if heir else []))),
            warnings=warnings,
        )


def _addresses(view: SiteView, node: Node) -> list[Texts]:
    """Addresses of the file service that are at home on it, and where they are then."""
    after = replace(view, nodes=tuple(replace(n, member=n.member and n is not node) for n in view.nodes))
    homes = anew(after)
    if view.files is None or not homes:
        return []
    rows = [
        TextRow(label=one.name, before=node.name, after=view.node_numbered(homes[one.number]).name)
        for one in view.files.addresses
        if one.number in homes
    ]
    return [Texts(heads=["Of the file service", "At home on", "Then on"], rows=rows)]


def _left(view: SiteView, params: LetGoParams, node: Node, heir: Node | None) -> Wish:
    """The cluster that is left. Raises NotPossible with what stands against it."""
    cluster = view.cluster
    if cluster is None or cluster.forming or not node.member:
        raise NotPossible(f"{node.name} is not a member of a cluster.", about="node")
    wish = _without(wish_of(view), params)
    if len(wish.members) < 2:
        raise NotPossible("A cluster has at least two nodes.", about="node")
    if heir is not None:
        why = ""
        if heir.number == node.number:
            why = "it is the one that leaves"
        elif not heir.member or heir.keeper:
            why = "it has one" if heir.keeper else "it is no member"
        elif heir.contact != Contact.HEARD:
            why = "it is not heard"
        if why:
            raise NotPossible(f"{heir.name} cannot get the vote: {why}.", about="successor")
    if bond := bond_of(view, node.name, params.successor):
        free = [n.name for n in view.nodes if n.member and not n.keeper and n.contact == Contact.HEARD]
        whom = f"one of these: {say_list(free)}" if len(free) > 1 else say_list(free)
        step = f"Give its vote to {whom}." if bond.tie == Tie.VOTE and free else None
        raise NotPossible(bond.sentence, about="node", next_step=step)
    return wish


def _without(wish: Wish, params: LetGoParams) -> Wish:
    keepers = tuple(
        k for k in (*wish.keepers, *([params.successor] if params.successor else [])) if k != params.node
    )
    return Wish(
        wish.name,
        tuple(m for m in wish.members if m != params.node),
        keepers,
        wish.service_address,
        wish.witness,
        wish.witness_room,
        wish.witness_rack,
        tuple(d for d in wish.dedicated if d != params.node),
    )
