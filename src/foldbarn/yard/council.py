"""How the stand-in nodes decide together: votes, a leader with a term, and another one when it falls silent.

A stand-in for the keepers' own protocol: who can vote is read from who has power, so that a lost majority is
truly lost.
"""

from __future__ import annotations

from foldbarn.core.cluster.quorum import majority
from foldbarn.yard import shares
from foldbarn.yard.machines import Council, Machines, Order

PATIENCE_SECONDS = shares.PATIENCE_SECONDS  # how long keepers wait for a silent leader


class BadOrder(Exception):
    """An order that the agent refuses, in a sentence."""


def alive(machines: Machines) -> list[str]:
    """Keepers that can vote and lead now."""
    return [k for k in machines.council.keepers if machines.power[k]]


def votes(machines: Machines) -> tuple[int, int]:
    """Votes that can be cast now, and votes in all."""
    council = machines.council
    witness = bool(council.witness)
    return len(alive(machines)) + (witness and machines.power.get(council.witness, False)), len(
        council.keepers
    ) + witness


def decides(machines: Machines) -> bool:
    cast, all_ = votes(machines)
    return all_ > 0 and cast >= majority(all_)


def tick(machines: Machines, seconds: float) -> None:
    """A silent leader is replaced when a majority is left; without one nobody leads."""
    council = machines.council
    shares.decide(machines, seconds, decides=decides(machines))
    if not council.leader and not council.address:
        return  # no first election yet
    if council.leader in alive(machines) and decides(machines):
        council.leaderless = 0.0
        return
    council.leaderless += seconds
    if council.leaderless < PATIENCE_SECONDS:
        return
    council.leader = ""
    if decides(machines) and alive(machines):
        _choose(machines, alive(machines)[0])


def describe(machines: Machines, node: str) -> dict[str, object]:
    """What a member says of its cluster; empty for a node that belongs to none. Cut off from the majority, it
    knows no leader.
    """
    council = machines.council
    if node not in council.members:
        return {}
    known = council.leader if decides(machines) else ""
    return {
        "name": council.name,
        "keeper": node in council.keepers,
        "leader": known,
        "term": council.term,
        "address": council.address if known == node else "",
    }


def _choose(machines: Machines, keeper: str) -> None:
    machines.council.leader = keeper
    machines.council.term += 1
    machines.council.leaderless = 0.0


def _belongs(machines: Machines, order: Order) -> Council:
    council = machines.council
    if council.name and council.name != order.body["cluster"] and order.node in council.prepared:
        raise BadOrder(f"{order.node} belongs to cluster {council.name}")
    return council


def ready(machines: Machines, order: Order) -> None:
    """Makes a node ready to join: its service is installed and started."""
    council = _belongs(machines, order)
    if not council.prepared:
        council.name = order.body["cluster"]
    if order.node not in council.prepared:
        council.prepared.append(order.node)
    order.state = "done"


def join(machines: Machines, order: Order) -> None:
    council = _belongs(machines, order)
    if order.node not in council.prepared:
        raise BadOrder(f"{order.node} is not prepared")
    if order.node not in council.members:
        council.members.append(order.node)
    council.keepers = [k for k in order.body["keepers"] if k in machines.nodes]
    council.witness = order.body.get("witness", "")
    order.state = "done"


def leave(machines: Machines, order: Order) -> None:
    """Leaves the cluster, its vote with it. The last one to leave ends it."""
    council = machines.council
    for names in (council.prepared, council.members, council.keepers):
        if order.node in names:
            names.remove(order.node)
    if council.leader == order.node:
        council.leader = ""
        if decides(machines) and alive(machines):
            _choose(machines, alive(machines)[0])
    if not council.prepared:
        machines.council = Council(term=council.term)
    order.state = "done"


def elect(machines: Machines, order: Order) -> None:
    """The keeper stands for election. Refused without a majority."""
    council = _belongs(machines, order)
    if order.node not in council.keepers:
        raise BadOrder(f"{order.node} has no vote")
    cast, all_ = votes(machines)
    if not decides(machines):
        raise BadOrder(f"only {cast} of {all_} votes can be reached, {majority(all_)} decide")
    if council.leader != order.node:
        _choose(machines, order.node)
    order.state = "done"


def lead(machines: Machines, order: Order) -> None:
    """The leading keeper hands its role to another."""
    council, other = _belongs(machines, order), order.body["to"]
    if council.leader != order.node:
        raise BadOrder(f"{order.node} does not lead, {council.leader or 'nobody'} does")
    if other not in alive(machines):
        raise BadOrder(f"{other} cannot be reached by {order.node}")
    if not decides(machines):
        raise BadOrder("there is no majority")
    _choose(machines, other)
    order.state = "done"


def publish(machines: Machines, order: Order) -> None:
    """The leading keeper takes the service address; whoever leads later takes it over."""
    council = _belongs(machines, order)
    if council.leader != order.node:
        raise BadOrder(f"{order.node} does not lead")
    council.address = order.body["address"]
    order.state = "done"
