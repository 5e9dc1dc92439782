"""Forming the cluster, adding a node to it, and letting one go.

Agents know one another by what they call themselves (agent_name), so that is what orders say.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import (
    AnyEffect,
    CheckRow,
    Checks,
    LossRow,
    Note,
    Promise,
    TextRow,
    Texts,
    Votes,
    warning,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside, Payload
from foldbarn.changes.kinds.cluster.sealing import SHORTEST_PASSPHRASE, seal_new_key
from foldbarn.core.cluster.forming import Check, Tie, Wish, bond_of, needs, prechecks, voters, wish_of
from foldbarn.core.cluster.quorum import Voter, domain_losses, doubts, vote_sentence, witness_beside
from foldbarn.core.errors import BarnError, Conflict, NotPossible, Unreachable
from foldbarn.core.machines.network import check_address
from foldbarn.core.names import check_name, folded
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import GIB, say_count, say_list
from foldbarn.links.agents import read_witness
from foldbarn.links.mail import send_mail
from foldbarn.settings import settings
from foldbarn.store import changes as store_changes
from foldbarn.store import cluster as store_cluster
from foldbarn.store import nodes
from foldbarn.store.database import Session, announce
from foldbarn.store.tables import ChangeRow, ClusterRow, NodeRow
from foldbarn.store.views import current_view

PATIENCE_SECONDS = 10.0  # how long all members may take to name the same leader


class FormClusterParams(Params):
    """A cluster as wished for. Nodes by name. The passphrase is recorded nowhere: what is kept is a key that
    it seals.
    """

    name: str
    members: list[str]
    keepers: list[str]
    service_address: str
    witness: str = ""
    witness_url: str = ""
    witness_room: str = ""
    witness_rack: str = ""
    witness_reason: str = Field(default="", max_length=500)  # why it may stand beside members, where it does
    dedicated: list[str] = Field(default_factory=list)
    encrypted: bool = False
    passphrase: str = Field(default="", max_length=1000)
    mail_to: str = Field(default="", max_length=320)

    def wish(self) -> Wish:
        return Wish(
            self.name.strip(),
            tuple(self.members),
            tuple(self.keepers),
            self.service_address.strip(),
            self.witness.strip(),
            self.witness_room,
            self.witness_rack,
            tuple(self.dedicated),
        )


class WishAt(Payload):
    """A cluster as it is to be, its nodes by number, the keeper first that stands first."""

    cluster: str
    members: tuple[int, ...]
    keepers: tuple[int, ...]
    service_address: str
    witness: str
    witness_room: str = ""
    witness_rack: str = ""
    dedicated: tuple[int, ...] = ()

    def named(self, view: SiteView) -> Wish:
        """The same by the names that its nodes have now. Raises NotFound."""

        def names(numbers: Sequence[int]) -> tuple[str, ...]:
            return tuple(view.node_numbered(number).name for number in numbers)

        return Wish(
            self.cluster,
            names(self.members),
            names(self.keepers),
            self.service_address,
            self.witness,
            self.witness_room,
            self.witness_rack,
            names(self.dedicated),
        )


def wish_at(view: SiteView, wish: Wish) -> WishAt:
    """A wish by numbers; nodes that nobody knows are left out, and stand in the blockers."""
    known = {n.name: n.number for n in view.nodes}

    def numbers(names: Sequence[str]) -> tuple[int, ...]:
        return tuple(known[name] for name in names if name in known)

    return WishAt(
        cluster=wish.name,
        members=numbers(wish.members),
        keepers=numbers(wish.keepers),
        service_address=wish.service_address,
        witness=wish.witness,
        witness_room=wish.witness_room,
        witness_rack=wish.witness_rack,
        dedicated=numbers(wish.dedicated),
    )


class ClaimCluster(Inside):
    """The cluster is written down: nobody else can form one. sealed_key: of its data; empty where it has
    none.
    """

    name: ClassVar[str] = "claim-cluster"
    wish: WishAt
    witness_url: str
    witness_reason: str
    mail_to: str
    sealed_key: dict[str, str] = Field(default_factory=dict)

    def carry_out(self, run: Run, session: Session) -> str:
        row = ClusterRow(
            id=1,
            name=self.wish.cluster,
            service_address=self.wish.service_address,
            witness=self.wish.witness,
            witness_url=self.witness_url,
            witness_room=self.wish.witness_room,
            witness_rack=self.wish.witness_rack,
            witness_reason=self.witness_reason,
            sealed_key=self.sealed_key,
            mail={"to": self.mail_to} if self.mail_to else {},
            change_id=run.change,
        )
        if not store_cluster.add(session, row):
            raise Conflict("Another cluster has been formed meanwhile.", next_step="Withdraw this change.")
        # The sealed key is the cluster's from here on; the record of this change has no use for it.
        left = self.model_dump(mode="json", exclude={"sealed_key"})
        store_changes.keep_payload(session, run.change, run.step, left)
        return "Nobody else can form a cluster now."

    def take_back(self, run: Run) -> None:
        with run.writing() as session:
            if store_cluster.made_by(session) != run.change:
                return  # another was faster: the members are that one's
            store_cluster.remove(session, run.change)
            nodes.set_member(session, self.wish.members, member=False)
            announce(session, "site")


class AskWitness(Outside):
    """The witness must answer before its vote counts."""

    name: ClassVar[str] = "ask-witness"
    witness: str
    url: str

    def carry_out(self, run: Run) -> str:
        name = run.insist(self.witness, lambda: read_witness(self.url))
        if folded(name) != folded(self.witness):
            raise NotPossible(f"What answers at {self.url} is the witness {name}, not {self.witness}.")
        return f"{name} answers."


class OfNode(Outside):
    """A step of a cluster that is about one node (by number)."""

    wish: WishAt
    node: int


class Ready(OfNode):
    """The storage service of a node is set up and started, once it is in order."""

    name: ClassVar[str] = "ready"
    encrypted: bool

    def carry_out(self, run: Run) -> str:
        view = current_view()
        node = view.node_numbered(self.node)
        checks = prechecks(view, self.wish.named(view))
        failing = [c for c in checks if c.result == "fail" and c.about == node.name]
        if failing:
            raise NotPossible(" ".join(c.sentence for c in failing), next_step=failing[0].cure)
        order = {"kind": "ready", "cluster": self.wish.cluster, "encrypted": self.encrypted}
        run.tell_nodes({node.number: order})
        return "Prepared."

    def take_back(self, run: Run) -> None:
        """It leaves, where it can be heard; a silent one is sent away by the watch when it returns (see
        `believers`).
        """
        node = current_view().node_numbered(self.node)
        if node.contact == Contact.HEARD and not node.member:
            run.tell_nodes({node.number: {"kind": "leave", "cluster": self.wish.cluster}})


class JoinCluster(OfNode):
    """A node joins, with a vote where it is to be a keeper."""

    name: ClassVar[str] = "join-cluster"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        wish = self.wish.named(view)
        run.tell_nodes({self.node: _join_order(view, wish.name, wish.keepers, wish.witness)})
        return "Joined with a vote." if self.node in self.wish.keepers else "Joined."


class Elect(Outside):
    """The first keeper stands; a majority must agree."""

    name: ClassVar[str] = "elect"
    wish: WishAt

    def carry_out(self, run: Run) -> str:
        first = current_view().node_numbered(self.wish.keepers[0])
        run.tell_nodes({first.number: {"kind": "elect", "cluster": self.wish.cluster}})
        return _await_leader(run, self.wish.keepers, first)


class HandOver(Outside):
    """The leading role goes from one keeper to another (by number), and every keeper must name that one."""

    name: ClassVar[str] = "hand-over"
    wish: WishAt
    giver: int
    taker: int

    def carry_out(self, run: Run) -> str:
        return _hand(run, self.wish.keepers, self.giver, self.taker)


class Publish(Outside):
    """The first keeper takes the service address, which moves with the leading role."""

    name: ClassVar[str] = "publish"
    wish: WishAt

    def carry_out(self, run: Run) -> str:
        first, address = current_view().node_numbered(self.wish.keepers[0]), self.wish.service_address
        order = {"kind": "publish", "cluster": self.wish.cluster, "address": address}
        run.tell_nodes({first.number: order})
        if (says := _cluster_of(run, first).get("address")) != address:
            raise NotPossible(f"{first.name} was told to take {address}, and says it has {says or 'none'}.")
        return f"{first.name} has {address.split('/')[0]}."


class OpenCluster(Inside):
    """Its members are written down; pools can be formed."""

    name: ClassVar[str] = "open-cluster"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the cluster stands; let its nodes go one by one instead"
    wish: WishAt

    def carry_out(self, run: Run, session: Session) -> str:
        wish = self.wish
        nodes.set_member(session, wish.members, member=True, keepers=wish.keepers)
        nodes.dedicate(session, wish.dedicated)
        store_cluster.opened(session)
        return f"{say_count(len(wish.members), 'member')}, {say_count(len(wish.keepers), 'keeper')}."


class TellByMail(Outside):
    """The first notification, which shows that mail arrives."""

    name: ClassVar[str] = "tell"
    wish: WishAt
    mail_to: str

    def carry_out(self, run: Run) -> str:
        """Mail that is not taken does not undo a cluster that stands: it is said, and the change is done."""
        wish = self.wish.named(current_view())
        text = (
            f"{wish.name} has {say_count(len(wish.members), 'member')} and "
            f"{say_count(len(wish.keepers), 'keeper')}.\n"
            f"Its leading role was handed to {wish.keepers[1]} and back to {wish.keepers[0]}, and it "
            f"answers at {wish.service_address}.\n"
        )
        try:
            send_mail(self.mail_to, f"{wish.name} is formed", text)
        except Unreachable as error:
            return f"{error.sentence} This notification was not sent."
        return f"Mail to {self.mail_to} was taken by the mail host."


@register
class FormCluster(Kind[FormClusterParams]):
    """claim (ours), witness, ready and join per node, elect, hand over, hand back, publish, open (ours)."""

    name: ClassVar[str] = "form-cluster"
    params: ClassVar[type[Params]] = FormClusterParams

    def to_keep(self, view: SiteView, params: FormClusterParams) -> dict[str, Any]:
        return params.model_dump(mode="json", exclude={"passphrase"})

    def with_secrets(self, params: FormClusterParams, steps: Sequence[Planned]) -> Sequence[Planned]:
        """The key that the passphrase seals goes into the first step, and from there into the cluster."""
        if not params.encrypted:
            return steps
        claim = steps[0].step.model_copy(update={"sealed_key": seal_new_key(params.passphrase)})
        return [replace(steps[0], step=claim), *steps[1:]]

    def plan(self, view: SiteView, params: FormClusterParams) -> Plan:
        wish = params.wish()
        checks = prechecks(view, wish)
        members = [n for n in view.nodes if n.name in wish.members]
        rooms = [
            TextRow(
                label=f"{n.node}{', dedicated' if n.node in wish.dedicated else ''}",
                before=f"{n.cores} cores, {n.memory_bytes / GIB:.1f} GiB",
                after="nothing"
                if n.node in wish.dedicated
                else f"{n.cores_left} cores, {n.memory_left / GIB:.1f} GiB",
            )
            for n in needs(view, wish)
        ]
        effects: list[AnyEffect] = [
            Checks(rows=check_rows(checks)),
            Votes(rows=_losses(view, wish)),
            Texts(heads=["Room to run", "Storage needs", "Left for other work"], rows=rooms),
        ]
        if wish.keepers:
            votes = f"{vote_sentence(voters(view, wish)).capitalize()}."
            effects.append(Promise(title="Votes", sentence=votes))
        return Plan(
            title=f"Form {wish.name or 'a cluster'}",
            about=wish.name,
            summary=f"From {say_count(len(members), 'node')}.",
            steps=_forming(view, params, members),
            effects=effects,
            touches=[alone(Thing.CLUSTER)],
            meant=Meant(nodes=tuple(members)),
            blockers=_form_blockers(view, params) + _failing(checks),
            warnings=_doubted(checks),
        )


def _forming(view: SiteView, params: FormClusterParams, members: Sequence[Node]) -> list[Planned]:
    """Every step of forming a cluster."""
    wish = params.wish()
    at = wish_at(view, wish)
    first, second = (*wish.keepers, "the first keeper", "the second keeper")[:2]
    one, other = (*at.keepers, 0, 0)[:2]
    url = params.witness_url.strip()
    claim = ClaimCluster(
        wish=at,
        witness_url=url,
        witness_reason=params.witness_reason.strip() if _beside(view, params) else "",
        mail_to=params.mail_to,
    )
    steps = [Planned(claim, "Write down the wish", "From here on nobody else can form a cluster.")]
    if wish.witness:
        ask = AskWitness(witness=wish.witness, url=url)
        title = f"Ask the witness {wish.witness}"
        steps.append(Planned(ask, title, "It must answer before its vote counts."))
    steps += [
        Planned(
            Ready(wish=at, node=n.number, encrypted=params.encrypted),
            f"Prepare {n.name}",
            "Its storage service is set up and started.",
            seconds=1,
            about=n.name,
        )
        for n in members
    ]
    steps += [
        Planned(
            JoinCluster(wish=at, node=n.number),
            f"{n.name} joins",
            "With a vote." if n.name in wish.keepers else "Without a vote.",
            seconds=1,
            about=n.name,
        )
        for n in members
    ]
    steps += [
        Planned(Elect(wish=at), "First election", f"{first} stands; a majority must agree.", seconds=1),
        Planned(
            HandOver(wish=at, giver=one, taker=other),
            f"Hand the leading role to {second}",
            "Every keeper must name it: another one can lead.",
            seconds=1,
        ),
        Planned(
            HandOver(wish=at, giver=other, taker=one),
            f"Hand it back to {first}",
            "And that it can come back.",
            seconds=1,
        ),
        Planned(
            Publish(wish=at),
            "Publish the service address",
            f"{first} takes {wish.service_address or 'it'}; it moves with the leading role.",
        ),
        Planned(
            OpenCluster(wish=at),
            "Open the cluster",
            "Its members are written down; pools can be formed.",
        ),
    ]
    if params.mail_to:
        tell = TellByMail(wish=at, mail_to=params.mail_to)
        detail = "The first notification, which shows that mail arrives."
        steps.append(Planned(tell, f"Tell {params.mail_to}", detail))
    return steps


class AddNodeParams(Params):
    node: str
    keeper: bool = False


class CountIn(OfNode):
    """Every keeper that is heard counts a node in."""

    name: ClassVar[str] = "count-in"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        wish = self.wish.named(view)
        order = _join_order(view, wish.name, wish.keepers, wish.witness)
        old = [n for n in view.nodes if n.keeper and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: order for n in old})
        return f"{say_list([n.name for n in old])} {'counts' if len(old) == 1 else 'count'} it in."

    def take_back(self, run: Run) -> None:
        """Keepers that count it in already count it out."""
        view = current_view()
        if self.node in self.wish.keepers and not view.node_numbered(self.node).member:
            _tell_keepers(run, view, wish_of(view))


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
        wish = _with(wish_of(view), node.name, keeper=params.keeper)
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
            effects=[Checks(rows=check_rows(checks)), Votes(rows=_losses(view, wish))],
            touches=[alone(Thing.CLUSTER)],
            meant=Meant(nodes=(node,)),
            blockers=_failing(checks),
            warnings=_doubted(checks),
        )


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
        _tell_keepers(run, view, wish)
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
        return _hand(run, [n.number for n in keepers], node.number, others[0].number)


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
        run.tell_nodes({node.number: {"kind": "leave", "cluster": _name(view)}})
        return f"{node.name} has left."

    def take_back(self, run: Run) -> None:
        """A node that has left joins again; what was handed on stays where it is."""
        view = current_view()
        node = view.node_numbered(self.node)
        if not node.member:
            return
        wish = wish_of(view)
        run.tell_nodes({node.number: {"kind": "ready", "cluster": wish.name}}, part="ready")
        order = _join_order(view, wish.name, wish.keepers, wish.witness)
        members = [n for n in view.nodes if n.member and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: order for n in members}, part="join")


class CountOut(OfMember):
    """Every other keeper that is heard counts a member out."""

    name: ClassVar[str] = "count-out"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        wish, node = wish_of(view), view.node_numbered(self.node)
        left = replace(wish, keepers=tuple(k for k in wish.keepers if k != node.name))
        told = _tell_keepers(run, view, left)
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
            effects=[Votes(rows=_losses(view, wish))],
            touches=[alone(Thing.CLUSTER)],
            meant=Meant(nodes=(node, *([heir] if heir else []))),
            warnings=warnings,
        )


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
        if not heir.member or heir.keeper:
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


def believers(session: Session) -> list[tuple[NodeRow, int, str]]:
    """Nodes that are heard and say that they belong to a cluster which counted them out while they were not
    heard.

    With the change that did so, and the cluster they name. A node that names another cluster, or was never
    counted out here, is nobody's to send away.
    """
    rows = store_cluster.heard_outsiders(session)
    if not rows:
        return []
    changes = store_changes.of_kinds(session, _ENDED_BY)
    if any(c.state in store_changes.OPEN_STATES for c in changes):
        return []  # one that is open may be about to have it join
    ours = store_cluster.name(session)
    found = []
    for row in rows:
        last = next((c for c in changes if _named(c, row)), None)
        if last is None or last.state != _ENDED_BY[last.kind]:
            continue
        if row.says["name"] == last.params.get("name", ours):
            found.append((row, last.id, str(row.says["name"])))
    return found


def _named(change: ChangeRow, node: NodeRow) -> bool:
    """Whether a change of the cluster is about this node; an old one knows it by its name only."""
    if change.meant:
        return node.id in change.meant.get("node", {}).values()
    return node.name in (change.params.get("members") or [change.params.get("node")])


# By kind: how it ends where the nodes that it names belong to no cluster afterwards.
_ENDED_BY = {FormCluster.name: "withdrawn", AddNode.name: "withdrawn", LetGo.name: "done"}


# What the kinds share. -----------------------------------------------------------------------------


def check_rows(checks: list[Check]) -> list[CheckRow]:
    """Prechecks as a preview shows them."""
    return [
        CheckRow(name=c.name, result=c.result, sentence=c.sentence, cure=c.cure, about=c.about)
        for c in checks
    ]


def _failing(checks: list[Check]) -> list[Note]:
    """Checks that stand against it."""
    return [
        Note(sentence=c.sentence, about=c.name, next_step=c.cure or None, check=True)
        for c in checks
        if c.result == "fail"
    ]


def _doubted(checks: list[Check]) -> list[Note]:
    return [
        Note(
            sentence=c.sentence,
            about=c.name,
            next_step=c.cure or None,
            check=True,
            code=f"check {c.name} {c.about}".strip(),
        )
        for c in checks
        if c.result == "doubt"
    ]


def _losses(view: SiteView, wish: Wish) -> list[LossRow]:
    return [
        LossRow(what=e.what, votes_lost=e.votes_lost, votes_left=e.votes_left, decides=e.decides)
        for e in domain_losses(voters(view, wish))
    ]


def _beside(view: SiteView, params: FormClusterParams) -> str:
    """Which domain the witness would share with members; empty where it stands apart."""
    rack_of = {n.name: view.racks[n.rack] for n in view.nodes}
    members = [
        Voter(m, view.rooms[rack_of[m].room].name, rack_of[m].name) for m in params.members if m in rack_of
    ]
    return witness_beside(
        Voter(params.witness, params.witness_room, params.witness_rack, witness=True), members
    )


def _form_blockers(view: SiteView, params: FormClusterParams) -> list[Note]:
    found: list[Note] = []
    if view.cluster is not None:
        doing = "is being formed" if view.cluster.forming else "is formed already"
        found.append(Note(sentence=f"The cluster {view.cluster.name} {doing}; a site has one.", about="name"))
    try:
        check_name(params.name, "cluster", [])
    except BarnError as error:
        found.append(Note.of(error))
    if params.witness:
        try:
            check_address(params.witness_url, "The witness's address", about="witness_url")
        except BarnError as error:
            found.append(Note.of(error))
        beside = _beside(view, params)
        if beside and not params.witness_reason.strip():
            words = f"The witness would share {beside}: what takes them takes its vote too."
            step = "Place it apart from all members, or write down why it may stand there."
            found.append(Note(sentence=words, about="witness_reason", next_step=step))
    if params.encrypted and len(params.passphrase) < SHORTEST_PASSPHRASE:
        found.append(
            Note(
                sentence=f"The passphrase has {len(params.passphrase)} characters; {SHORTEST_PASSPHRASE} are "
                "the least.",
                about="passphrase",
            )
        )
    if params.mail_to and ("@" not in params.mail_to or any(c.isspace() for c in params.mail_to)):
        found.append(Note(sentence=f"'{params.mail_to}' is not a mail address.", about="mail_to"))
    if len(set(params.keepers)) != len(params.keepers) or len(set(params.members)) != len(params.members):
        found.append(Note(sentence="A node is named twice.", about="members"))
    return found


def _name(view: SiteView) -> str:
    if view.cluster is None:
        raise NotPossible("There is no cluster any more.")
    return view.cluster.name


def _join_order(
    view: SiteView, cluster: str, keepers: list[str] | tuple[str, ...], witness: str
) -> dict[str, Any]:
    return {
        "kind": "join",
        "cluster": cluster,
        "keepers": [view.node(k).agent_name for k in keepers],
        "witness": witness,
    }


def _with(wish: Wish, node: str, *, keeper: bool) -> Wish:
    keepers = (*wish.keepers, node) if keeper else wish.keepers
    return Wish(
        wish.name,
        (*wish.members, node),
        keepers,
        wish.service_address,
        wish.witness,
        wish.witness_room,
        wish.witness_rack,
        wish.dedicated,
    )


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


def _tell_keepers(run: Run, view: SiteView, wish: Wish) -> list[Node]:
    """Tells the keepers of a cluster that are heard who has a vote in it. Returns them."""
    order = _join_order(view, wish.name, wish.keepers, wish.witness)
    told = [n for n in view.nodes if n.name in wish.keepers and n.contact == Contact.HEARD]
    run.tell_nodes({n.number: order for n in told})
    return told


def _hand(run: Run, keepers: Sequence[int], giver: int, taker: int) -> str:
    """Hands the leading role on, unless it is there already, and waits until every keeper (by number) says
    so.
    """
    view = current_view()
    to = view.node_numbered(taker)
    if _leader_of(run, to) != to.agent_name:
        run.tell_nodes({giver: {"kind": "lead", "cluster": _name(view), "to": to.agent_name}})
    return _await_leader(run, keepers, to)


def _leader_of(run: Run, node: Node) -> str:
    return str(_cluster_of(run, node).get("leader", ""))


def _cluster_of(run: Run, node: Node) -> dict[str, Any]:
    """What a node says of its cluster, asked now; empty where it says nothing."""
    says = run.insist(node.name, run.agent(node.number).report).get("cluster")
    return says if isinstance(says, dict) else {}


def _await_leader(run: Run, keepers: Sequence[int], leader: Node) -> str:
    view = current_view()
    deadline = time.monotonic() + PATIENCE_SECONDS
    waiting = [view.node_numbered(k) for k in keepers]
    while True:
        waiting = [n for n in waiting if _leader_of(run, n) != leader.agent_name]
        if not waiting:
            return f"All {len(keepers)} keepers name {leader.name}."
        if time.monotonic() > deadline:
            raise Unreachable(
                f"{say_list([n.name for n in waiting])} still "
                f"{'names' if len(waiting) == 1 else 'name'} another leader than {leader.name}."
            )
        run.check_asked()
        time.sleep(settings().poll_seconds / 5)
