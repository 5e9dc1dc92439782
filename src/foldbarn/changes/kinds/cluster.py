"""Forming the cluster, adding a node to it, and letting one go.

Agents know one another by what they call themselves (agent_name), so that is what orders say.
"""

from __future__ import annotations

import time
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import CheckRow, LossRow, Note, PlannedStep, Preview, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.sealing import SHORTEST_PASSPHRASE, seal_new_key
from foldbarn.core.cluster import Check, Tie, Wish, bond_of, needs, prechecks, voters, wish_of
from foldbarn.core.errors import BarnError, Conflict, NotPossible, Unreachable
from foldbarn.core.names import check_name, folded
from foldbarn.core.network import check_address
from foldbarn.core.quorum import Voter, domain_losses, doubts, vote_sentence, witness_beside
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import GIB, say_count, say_list
from foldbarn.links.agents import read_witness
from foldbarn.links.mail import send_mail
from foldbarn.settings import settings
from foldbarn.store import changes as store_changes
from foldbarn.store import cluster as store_cluster
from foldbarn.store import nodes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import ChangeRow, ClusterRow, NodeRow
from foldbarn.store.views import current_view

PATIENCE_SECONDS = 10.0  # how long all members may take to name the same leader


class FormClusterParams(Params):
    """A cluster as wished for. Nodes by name. The passphrase is never recorded: what is kept is a key that it
    seals.
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
    sealed_key: dict[str, str] = Field(default_factory=dict)

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


@register
class FormCluster(Kind[FormClusterParams]):
    """claim (ours), witness, ready and join per node, elect, hand over, hand back, publish, open (ours)."""

    name: ClassVar[str] = "form-cluster"
    params: ClassVar[type[Params]] = FormClusterParams
    inside: ClassVar[frozenset[str]] = frozenset({"claim", "open"})

    def about(self, params: FormClusterParams) -> str:
        return params.name.strip()

    def meant(self, view: SiteView, params: FormClusterParams) -> Meant:
        return Meant(nodes=tuple(view.node(n) for n in params.members))

    def touches(self, view: SiteView, params: FormClusterParams) -> list[Touch]:
        return [alone(Thing.CLUSTER)]

    def to_keep(self, view: SiteView, params: FormClusterParams) -> dict[str, Any]:
        kept = params.model_dump(mode="json", exclude={"passphrase"})
        if params.encrypted:
            kept["sealed_key"] = seal_new_key(params.passphrase)
        return kept

    def to_show(self, kept: dict[str, Any]) -> dict[str, Any]:
        return {name: value for name, value in kept.items() if name != "sealed_key"}

    def preview(self, view: SiteView, params: FormClusterParams) -> Preview:
        wish = params.wish()
        checks = prechecks(view, wish)
        first, second = (*wish.keepers, "the first keeper", "the second keeper")[:2]
        members = [n for n in view.nodes if n.name in wish.members]
        steps = [
            PlannedStep(
                name="claim",
                title="Write down the wish",
                detail="From here on nobody else can form a cluster.",
            )
        ]
        if wish.witness:
            steps.append(
                PlannedStep(
                    name="witness",
                    title=f"Ask the witness {wish.witness}",
                    detail="It must answer before its vote counts.",
                )
            )
        steps += [
            PlannedStep(
                name=f"ready:{n.name}",
                title=f"Prepare {n.name}",
                detail="Its storage service is set up and started.",
                seconds=1,
            )
            for n in members
        ]
        steps += [
            PlannedStep(
                name=f"join:{n.name}",
                title=f"{n.name} joins",
                detail="With a vote." if n.name in wish.keepers else "Without a vote.",
                seconds=1,
            )
            for n in members
        ]
        steps += [
            PlannedStep(
                name="elect",
                title="First election",
                detail=f"{first} stands; a majority must agree.",
                seconds=1,
            ),
            PlannedStep(
                name="over",
                title=f"Hand the leading role to {second}",
                detail="Every keeper must name it: another one can lead.",
                seconds=1,
            ),
            PlannedStep(
                name="back", title=f"Hand it back to {first}", detail="And that it can come back.", seconds=1
            ),
            PlannedStep(
                name="publish",
                title="Publish the service address",
                detail=f"{first} takes {wish.service_address or 'it'}; it moves with the leading role.",
            ),
            PlannedStep(
                name="open",
                title="Open the cluster",
                detail="Its members are written down; pools can be formed.",
            ),
        ]
        if params.mail_to:
            steps.append(
                PlannedStep(
                    name="tell",
                    title=f"Tell {params.mail_to}",
                    detail="The first notification, which shows that mail arrives.",
                )
            )
        preview = Preview(
            kind=self.name,
            title=f"Form {wish.name or 'a cluster'}",
            summary=f"From {say_count(len(members), 'node')}.",
            revision=view.revision,
            steps=steps,
            checks=check_rows(checks),
            losses=_losses(view, wish),
            texts=[
                TextRow(
                    label=f"{n.node}{', dedicated' if n.node in wish.dedicated else ''}",
                    before=f"{n.cores} cores, {n.memory_bytes / GIB:.1f} GiB",
                    after="nothing"
                    if n.node in wish.dedicated
                    else f"{n.cores_left} cores, {n.memory_left / GIB:.1f} GiB",
                )
                for n in needs(view, wish)
            ],
            blockers=_form_blockers(view, params) + _notes(checks, "fail"),
            warnings=_notes(checks, "doubt"),
            protection=f"{vote_sentence(voters(view, wish)).capitalize()}." if wish.keepers else "",
        )
        return preview.sealed()

    def step_claim(self, run: Run[FormClusterParams], session: Session) -> str:
        view = current_view()
        params = _now(run, view)
        reason = params.witness_reason.strip() if _beside(view, params) else ""
        row = ClusterRow(
            id=1,
            name=params.name.strip(),
            service_address=params.service_address.strip(),
            witness=params.witness.strip(),
            witness_url=params.witness_url.strip(),
            witness_room=params.witness_room,
            witness_rack=params.witness_rack,
            witness_reason=reason,
            sealed_key=params.sealed_key,
            mail={"to": params.mail_to} if params.mail_to else {},
            change_id=run.change,
        )
        if not store_cluster.add(session, row):
            raise Conflict("Another cluster has been formed meanwhile.", next_step="Withdraw this change.")
        # The sealed key is the cluster's from here on; the record of this change has no use for it.
        store_changes.keep_params(
            session, run.change, run.params.model_dump(mode="json", exclude={"sealed_key"})
        )
        return "Nobody else can form a cluster now."

    def step_witness(self, run: Run[FormClusterParams]) -> str:
        name = run.insist(run.params.witness, lambda: read_witness(run.params.witness_url))
        if folded(name) != folded(run.params.witness.strip()):
            raise NotPossible(
                f"What answers at {run.params.witness_url} is the witness {name}, not {run.params.witness}."
            )
        return f"{name} answers."

    def step_ready(self, run: Run[FormClusterParams]) -> str:
        view = current_view()
        node = run.node(view, run.subject)
        checks = prechecks(view, _now(run, view).wish())
        failing = [c for c in checks if c.result == "fail" and c.about == node.name]
        if failing:
            raise NotPossible(" ".join(c.sentence for c in failing), next_step=failing[0].cure)
        order = {"kind": "ready", "cluster": run.params.name.strip(), "encrypted": run.params.encrypted}
        run.tell_nodes({node.number: order})
        return "Prepared."

    def step_join(self, run: Run[FormClusterParams]) -> str:
        view = current_view()
        params, node = _now(run, view), run.node(view, run.subject)
        order = _join_order(view, params.name.strip(), params.keepers, params.witness.strip())
        run.tell_nodes({node.number: order})
        return "Joined with a vote." if node.name in params.keepers else "Joined."

    def step_elect(self, run: Run[FormClusterParams]) -> str:
        view = current_view()
        params = _now(run, view)
        first = view.node(params.keepers[0])
        run.tell_nodes({first.number: {"kind": "elect", "cluster": params.name.strip()}})
        return _await_leader(run, params.keepers, first)

    def step_over(self, run: Run[FormClusterParams]) -> str:
        keepers = _now(run, current_view()).keepers
        return _hand(run, keepers, keepers[0], keepers[1])

    def step_back(self, run: Run[FormClusterParams]) -> str:
        keepers = _now(run, current_view()).keepers
        return _hand(run, keepers, keepers[1], keepers[0])

    def step_publish(self, run: Run[FormClusterParams]) -> str:
        view = current_view()
        params = _now(run, view)
        first, address = view.node(params.keepers[0]), params.service_address.strip()
        run.tell_nodes(
            {first.number: {"kind": "publish", "cluster": params.name.strip(), "address": address}}
        )
        if (says := _cluster_of(run, first).get("address")) != address:
            raise NotPossible(f"{first.name} was told to take {address}, and says it has {says or 'none'}.")
        return f"{first.name} has {address.split('/')[0]}."

    def step_open(self, run: Run[FormClusterParams], session: Session) -> str:
        params, view = run.params, current_view()
        members, keepers, dedicated = (
            [run.node(view, name).number for name in names]
            for names in (params.members, params.keepers, params.dedicated)
        )
        nodes.set_member(session, members, member=True, keepers=keepers)
        nodes.dedicate(session, dedicated)
        store_cluster.opened(session)
        return f"{say_count(len(params.members), 'member')}, {say_count(len(params.keepers), 'keeper')}."

    def step_tell(self, run: Run[FormClusterParams]) -> str:
        """Mail that is not taken does not undo a cluster that stands: it is said, and the change is done."""
        params = _now(run, current_view())
        text = (
            f"{params.name} has {say_count(len(params.members), 'member')} and "
            f"{say_count(len(params.keepers), 'keeper')}.\n"
        )
        text += (
            f"Its leading role was handed to {params.keepers[1]} and back to {params.keepers[0]}, and it "
            f"answers at {params.service_address}.\n"
        )
        try:
            send_mail(params.mail_to, f"{params.name} is formed", text)
        except Unreachable as error:
            return f"{error.sentence} This notification was not sent."
        return f"Mail to {params.mail_to} was taken by the mail host."

    def withdraw(self, run: Run[FormClusterParams]) -> None:
        """Every node that can be heard leaves; a silent one is sent away by the watch when it returns (see
        `believers`).
        """
        with transaction() as session:
            ours = store_cluster.made_by(session) == run.change
        if not ours:
            return  # another was faster: the members are that one's
        view = current_view()
        members = {run.node(view, name).number for name in run.params.members}
        heard = [n for n in view.nodes if n.number in members and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: {"kind": "leave", "cluster": run.params.name.strip()} for n in heard})
        with run.writing() as session:
            store_cluster.remove(session, run.change)
            nodes.set_member(session, [n.number for n in view.nodes], member=False)
            announce(session, "site")


def _now(run: Run[FormClusterParams], view: SiteView) -> FormClusterParams:
    """The wish by the names that its nodes have now."""
    params = run.params
    lists = {"members": params.members, "keepers": params.keepers, "dedicated": params.dedicated}
    return params.model_copy(
        update={what: [run.node(view, name).name for name in names] for what, names in lists.items()}
    )


class AddNodeParams(Params):
    node: str
    keeper: bool = False


@register
class AddNode(Kind[AddNodeParams]):
    """ready and join (agent), count (every keeper hears of it), open (ours)."""

    name: ClassVar[str] = "add-node"
    params: ClassVar[type[Params]] = AddNodeParams
    inside: ClassVar[frozenset[str]] = frozenset({"open"})

    def about(self, params: AddNodeParams) -> str:
        return params.node

    def meant(self, view: SiteView, params: AddNodeParams) -> Meant:
        return Meant(nodes=(view.node(params.node),))

    def touches(self, view: SiteView, params: AddNodeParams) -> list[Touch]:
        return [alone(Thing.CLUSTER)]

    def preview(self, view: SiteView, params: AddNodeParams) -> Preview:
        blockers: list[Note] = []
        checks: list[Check] = []
        losses: list[LossRow] = []
        cluster = view.cluster
        try:
            node = view.node(params.node)
            if cluster is None or cluster.forming:
                raise NotPossible(
                    "There is no formed cluster to add it to.", next_step="Form the cluster first."
                )
            if node.member:
                raise NotPossible(f"{node.name} is a member already.", about="node")
        except BarnError as error:
            blockers.append(Note.of(error))
        else:
            wish = _with(wish_of(view), node.name, keeper=params.keeper)
            checks = [
                c for c in prechecks(view, wish) if c.about in ("", node.name) and c.name != "service address"
            ]
            blockers += _notes(checks, "fail")
            losses = _losses(view, wish)
        return Preview(
            kind=self.name,
            title=f"Add {params.node} to {cluster.name if cluster else 'the cluster'}",
            summary="Its disks join no pool by this.",
            revision=view.revision,
            steps=[
                PlannedStep(name="ready", title=f"Prepare {params.node}", seconds=1),
                PlannedStep(
                    name="join",
                    title="It joins",
                    detail="With a vote." if params.keeper else "Without a vote.",
                    seconds=1,
                ),
                PlannedStep(name="count", title="Every keeper counts it in", seconds=1),
                PlannedStep(name="open", title="Write it down"),
            ],
            checks=check_rows(checks),
            losses=losses,
            blockers=blockers,
            warnings=_notes(checks, "doubt"),
        ).sealed()

    def step_ready(self, run: Run[AddNodeParams]) -> str:
        view = current_view()
        node = run.node(view, run.params.node)
        run.tell_nodes({node.number: {"kind": "ready", "cluster": _name(view)}})
        return "Prepared."

    def step_join(self, run: Run[AddNodeParams]) -> str:
        view = current_view()
        node = run.node(view, run.params.node)
        run.tell_nodes({node.number: _join_order(view, _name(view), *_keepers_with(view, run))})
        return "Joined."

    def step_count(self, run: Run[AddNodeParams]) -> str:
        view = current_view()
        order = _join_order(view, _name(view), *_keepers_with(view, run))
        old = [n for n in view.nodes if n.keeper and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: order for n in old})
        return f"{say_list([n.name for n in old])} {'counts' if len(old) == 1 else 'count'} it in."

    def step_open(self, run: Run[AddNodeParams], session: Session) -> str:
        node = run.node(current_view(), run.params.node)
        nodes.set_member(
            session, [node.number], member=True, keepers=[node.number] if run.params.keeper else []
        )
        return f"{node.name} is a member."

    def withdraw(self, run: Run[AddNodeParams]) -> None:
        """It leaves again, and keepers that count it in already count it out."""
        view = current_view()
        node = run.node(view, run.params.node)
        if node.member:
            return
        if run.params.keeper:
            wish = wish_of(view)
            order = _join_order(view, wish.name, wish.keepers, wish.witness)
            heard = [n for n in view.nodes if n.keeper and n.contact == Contact.HEARD]
            run.tell_nodes({n.number: order for n in heard}, part="count")
        run.tell_nodes({node.number: {"kind": "leave", "cluster": _name(view)}}, part="leave")


class LetGoParams(Params):
    """node: who leaves; successor: who gets its vote, where it has one and too few would be left."""

    node: str
    successor: str = ""


@register
class LetGo(Kind[LetGoParams]):
    """successor (gets the vote), hand (the leading role), leave (agent), count (keepers), close (ours)."""

    name: ClassVar[str] = "let-go"
    params: ClassVar[type[Params]] = LetGoParams
    inside: ClassVar[frozenset[str]] = frozenset({"close"})

    def about(self, params: LetGoParams) -> str:
        return params.node

    def meant(self, view: SiteView, params: LetGoParams) -> Meant:
        names = [params.node, *([params.successor] if params.successor else [])]
        return Meant(nodes=tuple(view.node(n) for n in names))

    def touches(self, view: SiteView, params: LetGoParams) -> list[Touch]:
        return [alone(Thing.CLUSTER)]

    def preview(self, view: SiteView, params: LetGoParams) -> Preview:
        blockers: list[Note] = []
        losses: list[LossRow] = []
        warnings: list[Note] = []
        cluster = view.cluster
        try:
            node = view.node(params.node)
            if cluster is None or cluster.forming or not node.member:
                raise NotPossible(f"{node.name} is not a member of a cluster.", about="node")
            wish = _without(wish_of(view), params)
            if len(wish.members) < 2:
                raise NotPossible("A cluster has at least two nodes.", about="node")
            if params.successor:
                heir = view.node(params.successor)
                if not heir.member or heir.keeper:
                    raise NotPossible(
                        f"{heir.name} cannot get the vote: it "
                        f"{'has one' if heir.keeper else 'is no member'}.",
                        about="successor",
                    )
                if heir.contact != Contact.HEARD:
                    raise NotPossible(f"{heir.name} cannot get the vote: it is not heard.", about="successor")
            if bond := bond_of(view, node.name, params.successor):
                free = [
                    n.name for n in view.nodes if n.member and not n.keeper and n.contact == Contact.HEARD
                ]
                step = (
                    f"Give its vote to one of these: {say_list(free)}."
                    if len(free) > 1
                    else f"Give its vote to {say_list(free)}."
                )
                raise NotPossible(
                    bond.sentence, about="node", next_step=step if bond.tie == Tie.VOTE and free else None
                )
            losses = _losses(view, wish)
            warnings = [Note(sentence=f"{s[0].upper()}{s[1:]}.") for s in doubts(voters(view, wish))]
        except BarnError as error:
            blockers.append(Note.of(error))
        return Preview(
            kind=self.name,
            title=f"Let {params.node} go",
            summary="It leaves the cluster and stays in the list of machines.",
            revision=view.revision,
            steps=[
                *(
                    [PlannedStep(name="successor", title=f"{params.successor} gets its vote", seconds=1)]
                    if params.successor
                    else []
                ),
                PlannedStep(name="hand", title="Hand the leading role on", detail="Where it leads."),
                PlannedStep(name="leave", title=f"{params.node} leaves", seconds=1),
                PlannedStep(name="count", title="Every keeper counts it out", seconds=1),
                PlannedStep(name="close", title="Write it down"),
            ],
            losses=losses,
            warnings=warnings,
            blockers=blockers,
        ).sealed()

    def step_successor(self, run: Run[LetGoParams]) -> str:
        view = current_view()
        wish = wish_of(view)
        heir = run.node(view, run.params.successor)
        keepers = [*wish.keepers, heir.name] if heir.name not in wish.keepers else list(wish.keepers)
        told = [n for n in view.nodes if n.name in keepers and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: _join_order(view, wish.name, keepers, wish.witness) for n in told})
        with run.writing() as session:
            nodes.give_vote(session, heir.number)
            announce(session, "site")
        return f"{heir.name} has a vote."

    def step_hand(self, run: Run[LetGoParams]) -> str:
        view = current_view()
        cluster = view.cluster
        node = run.node(view, run.params.node)
        if cluster is None or cluster.leader != node.agent_name:
            return "It does not lead."
        others = [n for n in view.nodes if n.keeper and n.name != node.name and n.contact == Contact.HEARD]
        if not others:
            raise NotPossible(f"{node.name} leads, and no other keeper is heard.")
        return _hand(run, [n.name for n in view.nodes if n.keeper], node.name, others[0].name)

    def step_leave(self, run: Run[LetGoParams]) -> str:
        view = current_view()
        node = run.node(view, run.params.node)
        if node.contact != Contact.HEARD:
            return f"{node.name} is not heard; it is counted out, and told when it returns."
        if bond := bond_of(view, node.name):
            raise NotPossible(bond.sentence)
        run.tell_nodes({node.number: {"kind": "leave", "cluster": _name(view)}})
        return f"{node.name} has left."

    def step_count(self, run: Run[LetGoParams]) -> str:
        view = current_view()
        wish, node = wish_of(view), run.node(view, run.params.node)
        keepers = [k for k in wish.keepers if k != node.name]
        told = [n for n in view.nodes if n.name in keepers and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: _join_order(view, wish.name, keepers, wish.witness) for n in told})
        return f"{say_list([n.name for n in told])} {'counts' if len(told) == 1 else 'count'} it out."

    def step_close(self, run: Run[LetGoParams], session: Session) -> str:
        node = run.node(current_view(), run.params.node)
        nodes.set_member(session, [node.number], member=False)
        return f"{node.name} is no member any more."

    def withdraw(self, run: Run[LetGoParams]) -> None:
        """A node that has left joins again; what was handed on stays where it is."""
        view = current_view()
        node = run.node(view, run.params.node)
        if not node.member:
            return
        wish = wish_of(view)
        run.tell_nodes({node.number: {"kind": "ready", "cluster": wish.name}}, part="ready")
        order = _join_order(view, wish.name, wish.keepers, wish.witness)
        members = [n for n in view.nodes if n.member and n.contact == Contact.HEARD]
        run.tell_nodes({n.number: order for n in members}, part="join")


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


def _notes(checks: list[Check], result: str) -> list[Note]:
    return [
        Note(sentence=c.sentence, about=c.name, next_step=c.cure or None)
        for c in checks
        if c.result == result
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
    if params.encrypted and not params.sealed_key and len(params.passphrase) < SHORTEST_PASSPHRASE:
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


def _keepers_with(view: SiteView, run: Run[AddNodeParams]) -> tuple[list[str], str]:
    wish, node = wish_of(view), run.node(view, run.params.node)
    more = [node.name] if run.params.keeper and node.name not in wish.keepers else []
    return [*wish.keepers, *more], wish.witness


def _hand(run: Run[Any], keepers: list[str], from_: str, to: str) -> str:
    """Hands the leading role on, unless it is there already, and waits until every keeper that is heard says
    so.
    """
    view = current_view()
    giver, taker = view.node(from_), view.node(to)
    if _leader_of(run, taker) != taker.agent_name:
        run.tell_nodes({giver.number: {"kind": "lead", "cluster": _name(view), "to": taker.agent_name}})
    return _await_leader(run, keepers, taker)


def _leader_of(run: Run[Any], node: Node) -> str:
    return str(_cluster_of(run, node).get("leader", ""))


def _cluster_of(run: Run[Any], node: Node) -> dict[str, Any]:
    """What a node says of its cluster, asked now; empty where it says nothing."""
    says = run.insist(node.name, run.agent(node.number).report).get("cluster")
    return says if isinstance(says, dict) else {}


def _await_leader(run: Run[Any], keepers: list[str], leader: Node) -> str:
    view = current_view()
    deadline = time.monotonic() + PATIENCE_SECONDS
    waiting = [view.node(k) for k in keepers]
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
