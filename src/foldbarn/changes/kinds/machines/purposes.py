"""Saying what network ports are for. Nothing on any node changes: a purpose is how Fold Barn uses a port."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar, Literal

from foldbarn.changes.engine.effects import CheckRow, Checks, Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.cluster.said import check_rows
from foldbarn.core.cluster.forming import findings_as_checks
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.machines.network import Port, port_findings
from foldbarn.core.names import natural_key
from foldbarn.core.site import Node, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count
from foldbarn.store import nodes
from foldbarn.store.database import Session


class PurposePortsParams(Params):
    """The port named `port` of each of these nodes."""

    nodes: list[str]
    port: str
    purpose: Literal["management", "storage", "client"]


class NotePurposes(Inside):
    """What the port of this name is for, of each of these nodes (by number)."""

    name: ClassVar[str] = "note-purposes"
    nodes: tuple[int, ...]
    port: str
    purpose: str

    def carry_out(self, run: Run, session: Session) -> str:
        noted = nodes.purpose(session, self.nodes, self.port, self.purpose)
        return f"{say_count(noted, 'port')} noted."


@register
class PurposePorts(Kind[PurposePortsParams]):
    """note: at once, in one transaction."""

    name: ClassVar[str] = "purpose-ports"
    params: ClassVar[type[Params]] = PurposePortsParams

    def plan(self, view: SiteView, params: PurposePortsParams) -> Plan:
        title, about = f"Use {params.port or 'a port'} for {params.purpose}", params.port
        summary = (
            f"On {say_count(len(set(params.nodes)), 'node')}. Nothing on the nodes changes; what their "
            "agents say of its purpose is overruled."
        )
        try:
            chosen = _chosen(view, params)
        except BarnError as error:
            return Plan(title=title, about=about, summary=summary, blockers=[Note.of(error)])
        before = {port.purpose for _, port in chosen}
        texts = [
            TextRow(label=f"{port.node}, {port.name}", before=port.purpose, after=params.purpose)
            for _, port in chosen
            if port.purpose != params.purpose
        ]
        step = NotePurposes(
            nodes=tuple(node.number for node, _ in chosen), port=params.port, purpose=params.purpose
        )
        back = {"nodes": params.nodes, "port": params.port, "purpose": next(iter(before))}
        return Plan(
            title=title,
            about=about,
            summary=summary,
            steps=[Planned(step, "Write down its purpose", "At once, for all of them.")],
            effects=[
                Texts(rows=texts),
                Checks(rows=_checks(view, params, {node.name for node, _ in chosen})),
            ],
            touches=[alone(Thing.NETWORK)],
            meant=Meant(nodes=tuple(node for node, _ in chosen)),
            undo=Undo(self.name, back) if len(before) == 1 else None,
        )


def _checks(view: SiteView, params: PurposePortsParams, chosen: set[str]) -> list[CheckRow]:
    """What would be found of the ports afterwards."""
    after = [
        replace(p, purpose=params.purpose) if n.name in chosen and p.name == params.port else p
        for n in view.nodes
        for p in n.ports
    ]
    members = [n.name for n in view.nodes if n.member] or params.nodes
    return check_rows(findings_as_checks(port_findings(after, members)))


def _chosen(view: SiteView, params: PurposePortsParams) -> list[tuple[Node, Port]]:
    """The nodes and ports meant. Raises NotPossible, NotFound."""
    if not params.nodes:
        raise NotPossible("No node is chosen.", about="nodes")
    found = []
    for name in sorted(set(params.nodes), key=natural_key):
        node = view.node(name)
        port = next((p for p in node.ports if p.name == params.port), None)
        if port is None:
            raise NotPossible(f"{name} has no port named '{params.port}'.", about="port")
        found.append((node, port))
    return found
