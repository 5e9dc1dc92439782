"""Forming the cluster."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import (
    AnyEffect,
    Checks,
    Note,
    Promise,
    TextRow,
    Texts,
    Votes,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.mailing import send_mail
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.cluster.said import check_rows, doubted, failing, losses
from foldbarn.changes.kinds.cluster.sealing import SHORTEST_PASSPHRASE, seal_new_key
from foldbarn.changes.kinds.cluster.steps import (
    JoinCluster,
    Ready,
    WishAt,
    await_leader,
    cluster_of,
    hand,
    wish_at,
)
from foldbarn.core.cluster.forming import Wish, needs, prechecks, voters
from foldbarn.core.cluster.quorum import Voter, vote_sentence, witness_beside
from foldbarn.core.errors import BarnError, Conflict, NotPossible, Unreachable
from foldbarn.core.machines.network import check_address
from foldbarn.core.names import check_name, folded
from foldbarn.core.site import Node, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import GIB, say_count
from foldbarn.links.agents import read_witness
from foldbarn.store import changes as store_changes
from foldbarn.store import cluster as store_cluster
from foldbarn.store import nodes
from foldbarn.store.database import Session, announce
from foldbarn.store.tables import ClusterRow
from foldbarn.store.views import current_view


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


class Elect(Outside):
    """The first keeper stands; a majority must agree."""

    name: ClassVar[str] = "elect"
    wish: WishAt

    def carry_out(self, run: Run) -> str:
        first = current_view().node_numbered(self.wish.keepers[0])
        run.tell_nodes({first.number: {"kind": "elect", "cluster": self.wish.cluster}})
        return await_leader(run, self.wish.keepers, first)


class HandOver(Outside):
    """The leading role goes from one keeper to another (by number), and every keeper must name that one."""

    name: ClassVar[str] = "hand-over"
    wish: WishAt
    giver: int
    taker: int

    def carry_out(self, run: Run) -> str:
        return hand(run, self.wish.keepers, self.giver, self.taker)


class Publish(Outside):
    """The first keeper takes the service address, which moves with the leading role."""

    name: ClassVar[str] = "publish"
    wish: WishAt

    def carry_out(self, run: Run) -> str:
        first, address = current_view().node_numbered(self.wish.keepers[0]), self.wish.service_address
        order = {"kind": "publish", "cluster": self.wish.cluster, "address": address}
        run.tell_nodes({first.number: order})
        if (says := cluster_of(run, first).get("address")) != address:
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
            Votes(rows=losses(view, wish)),
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
            blockers=_form_blockers(view, params) + failing(checks),
            warnings=doubted(checks),
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
