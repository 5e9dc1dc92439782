"""Saying what network ports are for. Nothing on any node changes: a purpose is how Fold Barn uses a port."""

from __future__ import annotations

from typing import ClassVar, Literal

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.cluster import check_rows
from foldbarn.core.cluster import findings_as_checks
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.names import natural_key
from foldbarn.core.network import Port, port_findings
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import say_count
from foldbarn.store import nodes
from foldbarn.store.database import Session
from foldbarn.store.views import current_view


class PurposePortsParams(Params):
    """The port named `port` of each of these nodes."""

    nodes: list[str]
    port: str
    purpose: Literal["management", "storage", "client"]


@register
class PurposePorts(Kind[PurposePortsParams]):
    """note: at once, in one transaction."""

    name: ClassVar[str] = "purpose-ports"
    params: ClassVar[type[Params]] = PurposePortsParams
    inside: ClassVar[frozenset[str]] = frozenset({"note"})

    def about(self, params: PurposePortsParams) -> str:
        return params.port

    def meant(self, view: SiteView, params: PurposePortsParams) -> Meant:
        return Meant(nodes=tuple(view.node(n) for n in params.nodes))

    def touches(self, view: SiteView, params: PurposePortsParams) -> list[Touch]:
        return [alone(Thing.NETWORK)]

    def preview(self, view: SiteView, params: PurposePortsParams) -> Preview:
        preview = Preview(
            kind=self.name,
            title=f"Use {params.port or 'a port'} for {params.purpose}",
            summary=f"On {say_count(len(set(params.nodes)), 'node')}. Nothing on the nodes changes; what "
            "their agents say of its purpose is overruled.",
            revision=view.revision,
            steps=[
                PlannedStep(name="note", title="Write down its purpose", detail="At once, for all of them.")
            ],
        )
        try:
            ports = _ports(view, params)
        except BarnError as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        preview.texts = [
            TextRow(label=f"{p.node}, {p.name}", before=p.purpose, after=params.purpose)
            for p in ports
            if p.purpose != params.purpose
        ]
        before = {p.purpose for p in ports}
        if len(before) == 1:
            preview.undo = {
                "kind": self.name,
                "params": {"nodes": params.nodes, "port": params.port, "purpose": next(iter(before))},
            }
        changed = {(p.node, p.name) for p in ports}
        after = [
            Port(
                p.node,
                p.name,
                params.purpose if (p.node, p.name) in changed else p.purpose,
                p.up,
                p.bytes_per_second,
                p.mtu,
                p.addresses,
                p.neighbour,
            )
            for n in view.nodes
            for p in n.ports
        ]
        members = [n.name for n in view.nodes if n.member] or params.nodes
        preview.checks = check_rows(findings_as_checks(port_findings(after, members)))
        return preview.sealed()

    def step_note(self, run: Run[PurposePortsParams], session: Session) -> str:
        wanted = [run.node(current_view(), name).number for name in run.params.nodes]
        noted = nodes.purpose(session, wanted, run.params.port, run.params.purpose)
        return f"{say_count(noted, 'port')} noted."

    def withdraw(self, run: Run[PurposePortsParams]) -> None:
        """The one step is done at once or not at all."""


def _ports(view: SiteView, params: PurposePortsParams) -> list[Port]:
    """The ports meant. Raises NotPossible, NotFound."""
    if not params.nodes:
        raise NotPossible("No node is chosen.", about="nodes")
    found = []
    for name in sorted(set(params.nodes), key=natural_key):
        port = next((p for p in view.node(name).ports if p.name == params.port), None)
        if port is None:
            raise NotPossible(f"{name} has no port named '{params.port}'.", about="port")
        found.append(port)
    return found
