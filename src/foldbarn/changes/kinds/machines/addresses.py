"""Handing out addresses in sequence to the same port of several nodes."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.kinds.hosts.reached import loses_paths
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.hosts.lanes import Lane, Path
from foldbarn.core.machines.network import hand_out, read_interface
from foldbarn.core.machines.reading import read_inventory
from foldbarn.core.names import natural_key
from foldbarn.core.site import Contact, Node, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store.views import current_view


class AddressPortsParams(Params):
    """nodes get addresses in natural order from `start` (with prefix) on their port named `port`; other
    addresses of the same family go.
    """

    nodes: list[str]
    port: str
    start: str


class OfPorts(Outside):
    """Addresses of the port of this name, by node number, the one that is handed out first."""

    port: str
    addresses: dict[int, tuple[str, ...]]


class SetAddresses(OfPorts):
    """Gives each port its addresses. They stay in withdrawing: taking them away could cut a node off."""

    name: ClassVar[str] = "set-addresses"

    def carry_out(self, run: Run) -> str:
        _check_free(current_view(), self)
        orders = {
            node: {"kind": "address", "ports": {self.port: list(found)}}
            for node, found in self.addresses.items()
        }
        run.tell_nodes(orders)
        return f"{say_count(len(orders), 'port')} set."


class ReadAddresses(OfPorts):
    """Each node must show the addresses it was given."""

    name: ClassVar[str] = "read-addresses"

    def carry_out(self, run: Run) -> str:
        names = run.urls()
        for node, wanted in self.addresses.items():
            name, agent = names[node][0], run.agent(node)
            ports = {p.name: p for p in read_inventory(run.insist(name, agent.inventory)).ports}
            if set(wanted) - set(ports[self.port].addresses if self.port in ports else ()):
                raise NotPossible(
                    f"{name} says it set {self.port}, but the port does not show {say_list(list(wanted))}."
                )
        return "Every node shows the address it was given."


@register
class AddressPorts(Kind[AddressPortsParams]):
    """set (agents), read back."""

    name: ClassVar[str] = "address-ports"
    params: ClassVar[type[Params]] = AddressPortsParams

    def plan(self, view: SiteView, params: AddressPortsParams) -> Plan:
        blockers: list[Note] = []
        nodes: list[Node] = []
        addresses: dict[int, tuple[str, ...]] = {}
        try:
            nodes = _nodes(view, params)
            addresses = _addresses(view, params, nodes)
        except BarnError as error:
            blockers.append(Note.of(error))
        for node in nodes:
            if node.contact != Contact.HEARD:
                words = f"{node.name} is not heard, so its port cannot be set."
                step = "Bring it back, or leave it out."
                blockers.append(Note(sentence=words, about="nodes", next_step=step))
        texts = [
            TextRow(
                label=node.name,
                before=", ".join(_addresses_of(node, params.port)),
                after=", ".join(addresses[node.number]),
            )
            for node in nodes
            if node.number in addresses
        ]
        return Plan(
            title=f"Hand out addresses on {params.port or 'a port'}",
            about=params.port,
            summary=f"In sequence from {params.start}, to {say_count(len(texts), 'node')}.",
            steps=[
                Planned(
                    SetAddresses(port=params.port, addresses=addresses),
                    "Give each port its address",
                    seconds=1,
                ),
                Planned(
                    ReadAddresses(port=params.port, addresses=addresses),
                    "Read them back",
                    "Each node must show the address it was given.",
                    seconds=1,
                ),
            ],
            effects=[Texts(rows=texts)],
            touches=[alone(Thing.NETWORK)],
            meant=Meant(nodes=tuple(nodes)),
            blockers=blockers,
            warnings=_loses_paths(view, params.port, nodes, addresses),
        )


def _loses_paths(
    view: SiteView, port: str, nodes: list[Node], addresses: dict[int, tuple[str, ...]]
) -> list[Note]:
    """Where a node has another address from which on it serves hosts."""
    keeps = {n.name: [a.split("/")[0] for a in addresses[n.number]] for n in nodes if n.number in addresses}
    had = {n.name: [a.split("/")[0] for a in _addresses_of(n, port)] for n in nodes}

    def goes(_: Lane, path: Path) -> bool:
        address = path.portal.rsplit(":", 1)[0].strip("[]")
        return address in had.get(path.node, []) and address not in keeps.get(path.node, [])

    return loses_paths(view, goes)


def _nodes(view: SiteView, params: AddressPortsParams) -> list[Node]:
    """Addresses are handed out in natural order of the names. Raises NotPossible, NotFound."""
    if not params.nodes:
        raise NotPossible("No node is chosen.", about="nodes")
    found = [view.node(name) for name in sorted(dict.fromkeys(params.nodes), key=natural_key)]
    for node in found:
        if params.port not in {p.name for p in node.ports}:
            raise NotPossible(f"{node.name} has no port named '{params.port}'.", about="port")
    return found


def _addresses_of(node: Node, port: str) -> list[str]:
    return [a for p in node.ports if p.name == port for a in p.addresses]


def _addresses(view: SiteView, params: AddressPortsParams, nodes: list[Node]) -> dict[int, tuple[str, ...]]:
    """Addresses by node number: the new one, and those of the other family. Raises NotPossible."""
    version = read_interface(params.start).version
    new = hand_out(params.start, len(nodes), _taken(view, params.port, {n.number for n in nodes}))
    return {
        node.number: (
            address,
            *(a for a in _addresses_of(node, params.port) if read_interface(a).version != version),
        )
        for node, address in zip(nodes, new, strict=True)
    }


def _taken(view: SiteView, port: str, nodes: set[int]) -> list[str]:
    """Addresses in use, but for those of the port of these nodes (by number)."""
    found = [
        a
        for n in view.nodes
        for p in n.ports
        for a in p.addresses
        if not (n.number in nodes and p.name == port)
    ]
    return found + ([view.cluster.service_address] if view.cluster else [])


def _check_free(view: SiteView, step: OfPorts) -> None:
    """Raises NotPossible where another port has taken one of the addresses since they were handed out."""
    taken = {read_interface(a).ip for a in _taken(view, step.port, set(step.addresses))}
    wanted = [a for found in step.addresses.values() for a in found]
    if gone := [a for a in wanted if read_interface(a).ip in taken]:
        raise NotPossible(
            f"{say_list(gone)} {'is' if len(gone) == 1 else 'are'} in use elsewhere by now.",
            next_step="Withdraw this change and preview it again.",
        )
