"""Which nodes serve a volume to hosts, and at which addresses. Method: docs/methods.md, "Gateways"."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import cast

from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.attachments import Target
from foldbarn.core.hosts.initiators import target_name
from foldbarn.core.names import natural_key
from foldbarn.core.site import Contact, Node, SiteView, Volume
from foldbarn.core.units import say_count

MOST_SERVING = 8  # nodes of one volume


@dataclass(frozen=True, slots=True)
class Portal:
    """An address at which a node serves, without prefix, and the network port that has it."""

    address: str
    port: str
    up: bool


def portals_of(node: Node) -> tuple[Portal, ...]:
    """Where a node serves hosts: at the addresses of its ports for clients, where it has any, else at those
    for storage; one address for each port.
    """
    for purpose in ("client", "storage"):
        found = [port for port in node.ports if port.purpose == purpose and port.addresses]
        if found:
            return tuple(Portal(port.addresses[0].split("/")[0], port.name, port.up) for port in found)
    return ()


def portals_at(view: SiteView, node: Node) -> tuple[Portal, ...]:
    """The same, found once for each picture of the site: a node may serve thousands of volumes."""
    kept = cast(dict[int, tuple[Portal, ...]], view.findings.setdefault("portals", {}))
    if node.number not in kept:
        kept[node.number] = portals_of(node)
    return kept[node.number]


def candidates(view: SiteView, pool: int) -> list[Node]:
    """Nodes that could serve volumes of a pool (its row): those with disks of it, an address at which hosts
    reach them, and not given up.
    """
    rows = {disk.node for disk in view.all_of(view.pools[pool])}
    nodes = [view.nodes[row] for row in sorted(rows)]
    return [node for node in nodes if portals_of(node) and not node.given_up]


def choose_gateways(view: SiteView, volume: Volume, keep: Sequence[int] = ()) -> tuple[int, ...]:
    """Numbers of the nodes that are to serve a volume: as many as are set of it, as far as there are so many.
    keep: those that do; they go on while they can, in their order.

    As far apart as can be: in other rooms, else other racks; then heard ones, with all of their ports up,
    that serve least. Raises NotPossible where no node could.
    """
    could = candidates(view, volume.pool)
    if not could:
        pool = view.pools[volume.pool].name
        raise NotPossible(
            f"No node with disks of {pool} has an address at which hosts could reach it.",
            about="volume",
            next_step="Give their ports for clients or for storage addresses.",
        )
    return _chosen(view, could, keep, _busy(view), volume.serving_nodes)


def check_serving(nodes: int) -> None:
    """Raises NotPossible for a number of nodes by which no volume is served."""
    if not 1 <= nodes <= MOST_SERVING:
        words = f"A volume is served to hosts by 1 to {say_count(MOST_SERVING, 'node')}, not by {nodes}."
        raise NotPossible(words, about="serving_nodes")


def _busy(view: SiteView) -> Counter[int]:
    """How many volumes each node (by number) serves."""
    return Counter(number for target in view.targets for number in target.gateways)


def _chosen(
    view: SiteView, could: Sequence[Node], keep: Sequence[int], busy: Counter[int], wanted: int
) -> tuple[int, ...]:
    by_number = {node.number: node for node in could}
    chosen = [by_number[number] for number in keep if number in by_number][:wanted]
    while len(chosen) < min(wanted, len(could)):
        chosen.append(_best(view, [node for node in could if node not in chosen], chosen, busy))
    return tuple(node.number for node in chosen)


def _best(view: SiteView, nodes: Sequence[Node], others: Sequence[Node], busy: Counter[int]) -> Node:
    """The node that is best to serve beside others."""
    return min(nodes, key=lambda node: _rank(view, node, others, busy))


def _rank(view: SiteView, node: Node, others: Sequence[Node], busy: Counter[int]) -> tuple[object, ...]:
    return (
        node.contact != Contact.HEARD,
        -_apart(view, node, others),
        sum(not portal.up for portal in portals_of(node)),
        busy[node.number],
        natural_key(node.name),
    )


def _apart(view: SiteView, node: Node, others: Sequence[Node]) -> int:
    """2 for a node in a room where none of the others stands, 1 for a rack, else 0."""
    racks = {other.rack for other in others}
    rooms = {view.racks[rack].room for rack in racks}
    if view.racks[node.rack].room not in rooms:
        return 2
    return 1 if node.rack not in racks else 0


def chosen_anew(view: SiteView) -> dict[int, tuple[int, ...]]:
    """By number of the volume, the gateways it is to have, of those that have others: one of theirs is given
    up, has no disk of the pool any more or no address, or there are fewer or more than is set. One that can
    still serve does so beside them until all hosts that are connected there are connected to the others.
    """
    busy, found = _busy(view), {}
    could = {row: candidates(view, row) for row in range(len(view.pools))}
    numbers = {row: {node.number for node in nodes} for row, nodes in could.items()}
    for target in view.targets:
        volume = view.volume_numbered(target.volume)
        pool, set_of_it = volume.pool, volume.serving_nodes
        stay = [number for number in target.gateways if number in numbers[pool]]
        enough = len(stay) == min(set_of_it, len(could[pool])) == len(target.gateways)
        if enough or not could[pool]:
            continue  # where nobody could, nothing were any better
        chosen = _chosen(view, could[pool], stay, busy, set_of_it)
        others = [number for number in target.gateways if number not in chosen]
        wanted = (*chosen, *(number for number in others if _is_needed(view, target, number, chosen)))
        if wanted == target.gateways:
            continue
        found[target.volume] = wanted
        busy.subtract(target.gateways)
        busy.update(wanted)
    return found


def _is_needed(view: SiteView, target: Target, number: int, others: Sequence[int]) -> bool:
    """Whether a host reaches a volume by a node that can still serve it, and not by all of the others yet."""
    node = view.node_numbered(number)
    if node.contact != Contact.HEARD or node.given_up or not portals_of(node):
        return False
    heard = [view.node_numbered(other) for other in others]
    heard = [other for other in heard if other.contact == Contact.HEARD]
    for one in target.attachments:
        name = target_name(one.transport, view.mark, target.volume)
        own = set(view.host_numbered(one.host).names_for(one.transport))
        connected = [_is_connected(other, name, own) for other in heard]
        if _is_connected(node, name, own) and not (connected and all(connected)):
            return True
    return False


def _is_connected(node: Node, target: str, own: Collection[str]) -> bool:
    """Whether a host, by its names, is connected to a target at a node."""
    return any(to == target and name in own for to, name, _ in node.serving.sessions)
