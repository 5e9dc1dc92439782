"""What the changes of a cluster have alike: nodes that join, and who leads.

Agents know one another by what they call themselves (agent_name), so that is what orders say.
"""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside, Payload
from foldbarn.core.cluster.forming import Wish, prechecks, wish_of
from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.units import say_list
from foldbarn.settings import settings
from foldbarn.store.views import current_view

PATIENCE_SECONDS = 10.0  # how long all members may take to name the same leader


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


class OfNode(Outside):
    """A step of a cluster that is about one node (by number)."""

    wish: WishAt
    node: int

    def as_wished(self, view: SiteView) -> Wish:
        """The cluster as it is to be: while it is formed as it was wished for, and later as it stands with
        this node in it. Others may have come, gone, or got a vote since this was planned.
        """
        if view.cluster is None or view.cluster.forming:
            return self.wish.named(view)
        return with_node(wish_of(view), view.node_numbered(self.node), self.node in self.wish.keepers)


def with_node(wish: Wish, node: Node, keeper: bool) -> Wish:
    """A cluster with one node more, or as it is where the node is in it."""
    return replace(
        wish,
        members=tuple(dict.fromkeys((*wish.members, node.name))),
        keepers=tuple(dict.fromkeys((*wish.keepers, *([node.name] if keeper else [])))),
    )


class Ready(OfNode):
    """The storage service of a node is set up and started, once it is in order."""

    name: ClassVar[str] = "ready"
    encrypted: bool

    def carry_out(self, run: Run) -> str:
        view = current_view()
        node = view.node_numbered(self.node)
        checks = prechecks(view, self.as_wished(view))
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
        wish = self.as_wished(view)
        run.tell_nodes({self.node: join_order(view, wish.name, wish.keepers, wish.witness)})
        return "Joined with a vote." if self.node in self.wish.keepers else "Joined."


def cluster_name(view: SiteView) -> str:
    if view.cluster is None:
        raise NotPossible("There is no cluster any more.")
    return view.cluster.name


def join_order(
    view: SiteView, cluster: str, keepers: list[str] | tuple[str, ...], witness: str
) -> dict[str, Any]:
    return {
        "kind": "join",
        "cluster": cluster,
        "keepers": [view.node(k).agent_name for k in keepers],
        "witness": witness,
    }


def tell_keepers(run: Run, view: SiteView, wish: Wish) -> list[Node]:
    """Tells the keepers of a cluster that are heard who has a vote in it. Returns them."""
    order = join_order(view, wish.name, wish.keepers, wish.witness)
    told = [n for n in view.nodes if n.name in wish.keepers and n.contact == Contact.HEARD]
    run.tell_nodes({n.number: order for n in told})
    return told


def hand(run: Run, keepers: Sequence[int], giver: int, taker: int) -> str:
    """Hands the leading role on, unless it is there already, and waits until every keeper (by number) says
    so.
    """
    view = current_view()
    to = view.node_numbered(taker)
    if _leader_of(run, to) != to.agent_name:
        run.tell_nodes({giver: {"kind": "lead", "cluster": cluster_name(view), "to": to.agent_name}})
    return await_leader(run, keepers, to)


def _leader_of(run: Run, node: Node) -> str:
    return str(cluster_of(run, node).get("leader", ""))


def cluster_of(run: Run, node: Node) -> dict[str, Any]:
    """What a node says of its cluster, asked now; empty where it says nothing."""
    says = run.insist(node.name, run.agent(node.number).report).get("cluster")
    return says if isinstance(says, dict) else {}


def await_leader(run: Run, keepers: Sequence[int], leader: Node) -> str:
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
