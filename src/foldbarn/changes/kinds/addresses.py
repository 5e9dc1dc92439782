"""Handing out addresses in sequence to the same port of several nodes."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.names import natural_key
from foldbarn.core.network import hand_out, read_interface
from foldbarn.core.reading import read_inventory
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store.views import current_view


class AddressPortsParams(Params):
    """nodes get addresses in natural order from `start` (with prefix) on their port named `port`; other
    addresses of the same family go.
    """

    nodes: list[str]
    port: str
    start: str


@register
class AddressPorts(Kind[AddressPortsParams]):
    """set (agents), check (read back)."""

    name: ClassVar[str] = "address-ports"
    params: ClassVar[type[Params]] = AddressPortsParams

    def about(self, params: AddressPortsParams) -> str:
        return params.port

    def meant(self, view: SiteView, params: AddressPortsParams) -> Meant:
        return Meant(nodes=tuple(view.node(n) for n in params.nodes))

    def touches(self, view: SiteView, params: AddressPortsParams) -> list[Touch]:
        return [alone(Thing.NETWORK)]

    def preview(self, view: SiteView, params: AddressPortsParams) -> Preview:
        blockers: list[Note] = []
        texts: list[TextRow] = []
        try:
            plan = _plan(view, _sorted(params))
        except BarnError as error:
            blockers.append(Note.of(error))
        else:
            for name, addresses in plan.items():
                node = view.node(name)
                old = next(p for p in node.ports if p.name == params.port).addresses
                texts.append(TextRow(label=name, before=", ".join(old), after=", ".join(addresses)))
                if node.contact != Contact.HEARD:
                    blockers.append(
                        Note(
                            sentence=f"{name} is not heard, so its port cannot be set.",
                            about="nodes",
                            next_step="Bring it back, or leave it out.",
                        )
                    )
        return Preview(
            kind=self.name,
            title=f"Hand out addresses on {params.port or 'a port'}",
            summary=f"In sequence from {params.start}, to {say_count(len(texts), 'node')}.",
            revision=view.revision,
            texts=texts,
            steps=[
                PlannedStep(name="set", title="Give each port its address", seconds=1),
                PlannedStep(
                    name="check",
                    title="Read them back",
                    detail="Each node must show the address it was given.",
                    seconds=1,
                ),
            ],
            blockers=blockers,
        ).sealed()

    def step_set(self, run: Run[AddressPortsParams]) -> str:
        view = current_view()
        plan = _plan(view, _now(run, view))
        run.tell_nodes(
            {
                view.node(name).number: {"kind": "address", "ports": {run.params.port: found}}
                for name, found in plan.items()
            }
        )
        return f"{say_count(len(plan), 'port')} set."

    def step_check(self, run: Run[AddressPortsParams]) -> str:
        view = current_view()
        for name, wanted in _plan(view, _now(run, view)).items():
            agent = run.agent(view.node(name).number)
            ports = {p.name: p for p in read_inventory(run.insist(name, agent.inventory)).ports}
            if set(wanted) - set(ports[run.params.port].addresses if run.params.port in ports else ()):
                raise NotPossible(
                    f"{name} says it set {run.params.port}, but the port does not show {say_list(wanted)}."
                )
        return "Every node shows the address it was given."

    def withdraw(self, run: Run[AddressPortsParams]) -> None:
        """Addresses that were set stay: taking them away could cut a node off."""


def _now(run: Run[AddressPortsParams], view: SiteView) -> AddressPortsParams:
    """The wish by the names that its nodes have now, in the sequence of the names that they had."""
    wish = _sorted(run.params)
    return wish.model_copy(update={"nodes": [run.node(view, n).name for n in wish.nodes]})


def _sorted(params: AddressPortsParams) -> AddressPortsParams:
    """Addresses are handed out in natural order of the names."""
    return params.model_copy(update={"nodes": sorted(dict.fromkeys(params.nodes), key=natural_key)})


def _plan(view: SiteView, params: AddressPortsParams) -> dict[str, list[str]]:
    """Addresses by node. Raises NotPossible, NotFound."""
    if not params.nodes:
        raise NotPossible("No node is chosen.", about="nodes")
    names = list(dict.fromkeys(params.nodes))
    for name in names:
        if params.port not in {p.name for p in view.node(name).ports}:
            raise NotPossible(f"{name} has no port named '{params.port}'.", about="port")
    version = read_interface(params.start).version
    taken = [
        a
        for n in view.nodes
        for p in n.ports
        for a in p.addresses
        if not (n.name in names and p.name == params.port)
    ]
    if view.cluster:
        taken.append(view.cluster.service_address)
    new = hand_out(params.start, len(names), taken)
    kept = {
        n: [
            a
            for p in view.node(n).ports
            if p.name == params.port
            for a in p.addresses
            if read_interface(a).version != version
        ]
        for n in names
    }
    return {name: [address, *kept[name]] for name, address in zip(names, new, strict=True)}
