"""The cluster, as a page shows them."""

from __future__ import annotations

from foldbarn.api.cluster.models import ClusterOut, ClusterPage, OpeningOut, ReachOut, ShutOut
from foldbarn.changes.engine.effects import CheckRow, LossRow
from foldbarn.core.cluster.forming import network_findings, reach_matrix, voters, wish_of
from foldbarn.core.cluster.quorum import domain_losses, doubts, vote_sentence
from foldbarn.core.machines.network import PORT_PLAN
from foldbarn.core.site import Contact, SiteView


def cluster_out(view: SiteView) -> ClusterPage:
    """The cluster as it stands, and what every member can reach; before it is formed, what one of all nodes
    would meet.
    """
    cluster = view.cluster
    members = [n.name for n in view.nodes if n.member] or [
        n.name for n in view.nodes if n.contact == Contact.HEARD
    ]
    wish = wish_of(view) if cluster and any(n.member for n in view.nodes) else None
    names = {n.agent_name: n.name for n in view.nodes}
    return ClusterPage(
        cluster=ClusterOut(
            name=cluster.name,
            service_address=cluster.service_address,
            witness=cluster.witness,
            witness_room=cluster.witness_room,
            witness_rack=cluster.witness_rack,
            encrypted=cluster.encrypted,
            forming=cluster.forming,
            leader=names.get(cluster.leader, cluster.leader),
            term=cluster.term,
            mail_to=cluster.mail_to,
            witness_silent=cluster.witness_silent,
            witness_reason=cluster.witness_reason,
            keepers=[n.name for n in view.nodes if n.keeper],
            members=[n.name for n in view.nodes if n.member],
        )
        if cluster
        else None,
        votes=f"{vote_sentence(voters(view, wish)).capitalize()}." if wish and wish.keepers else "",
        doubts=[f"{s[0].upper()}{s[1:]}." for s in doubts(voters(view, wish))] if wish else [],
        losses=[LossRow.model_validate(e, from_attributes=True) for e in domain_losses(voters(view, wish))]
        if wish
        else [],
        findings=[
            CheckRow(name="network", result=f.weight, sentence=f.sentence, cure=f.cure, about=f.node)
            for f in network_findings(view, members)
        ],
        members=members,
        reach=[
            ReachOut(source=r.source, target=r.target, reached=r.reached, of=r.of, why=r.why)
            for r in reach_matrix(view, members)
        ],
        port_plan=[
            OpeningOut(
                name=o.name,
                source=o.source,
                target=o.target,
                protocol=o.protocol,
                ports=o.ports,
                why=o.why,
                purpose=o.purpose,
                tested=o.tested,
            )
            for o in PORT_PLAN
        ],
        shut=[ShutOut(source=a, target=b, port=p, why=w) for a, b, p, w in view.closed_ports],
        ports_tested_at=view.ports_tested_at or None,
    )
