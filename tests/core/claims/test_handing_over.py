"""What an orchestrator is handed so that its nodes are let in, and who is connected by it."""

from __future__ import annotations

from dataclasses import replace

import pytest
from sites import changed, make_site

from foldbarn.core.claims.kept import Secret
from foldbarn.core.claims.secrets import connected_by, names_secret, secret_object, where_it_answers
from foldbarn.core.hosts.attachments import Serving
from foldbarn.core.hosts.initiators import Initiator, Transport
from foldbarn.core.machines.network import Port
from foldbarn.core.site import Cluster, Contact, Host, SiteView

OWN = "iqn.2019-04.example.skerry:tender-1"


def site(contact: Contact = Contact.HEARD) -> SiteView:
    """Three nodes of a cluster, of which two are keepers; a host is connected to the first."""
    view = make_site([[[9]], [[9]], [[9]]])
    ports = [Port("", "stor0", "storage", True, 1, addresses=(f"10.20.0.{n}/16",)) for n in (11, 12, 13)]
    nodes = [
        replace(node, ports=(port,), member=True, keeper=node.number != 2, contact=contact)
        for node, port in zip(view.nodes, ports, strict=True)
    ]
    session = ("iqn.of-a-target", OWN, "10.20.0.11")
    serving = Serving(sessions=frozenset([session]), proved=frozenset([(OWN, "barn-2")]))
    nodes[0] = replace(nodes[0], serving=serving)
    hosts = (Host(1, "tender-1", initiators=(Initiator(Transport.ISCSI, OWN),)), Host(2, "tender-2"))
    return replace(changed(view, nodes=tuple(nodes), hosts=hosts), cluster=Cluster("quay", "10.10.0.5/24"))


def test_the_object_is_of_the_kind_that_nodes_take_and_says_where_the_cluster_answers() -> None:
    """kubernetes.io/iscsi-chap with these keys: Kubernetes documentation of iSCSI volumes, from memory."""
    said = secret_object("barn-1", "in the clear", where_it_answers(site()))
    assert said["type"] == "kubernetes.io/iscsi-chap"
    assert said["metadata"] == {"name": "fold-barn-storage", "namespace": "fold-barn"}
    assert said["stringData"] == {
        "node.session.auth.username": "barn-1",
        "node.session.auth.password": "in the clear",
        "service-address": "10.10.0.5",
        "keepers": "10.20.0.11,10.20.0.13",
    }


@pytest.mark.parametrize("cluster", [None, Cluster("quay", "10.10.0.5/24", forming=True)])
def test_without_a_cluster_it_says_no_address(cluster: Cluster | None) -> None:
    found = where_it_answers(replace(site(), cluster=cluster))
    assert (found.service, dict(found.keepers)) == ("", {})
    assert set(secret_object("barn-1", "x", found)["stringData"]) == {
        "node.session.auth.username",
        "node.session.auth.password",
    }


def test_who_is_connected_by_one_is_known_from_nodes_that_are_heard() -> None:
    first, second = (Secret(n, f"barn-{n}", "sealed", 0.0) for n in (1, 2))
    assert [host.name for host in connected_by(site(), second)] == ["tender-1"]
    assert connected_by(site(), first) == []
    assert connected_by(site(Contact.SILENT), second) == []


def test_the_object_of_a_volume_names_it_or_not() -> None:
    ours = {"spec": {"csi": {"nodeStageSecretRef": {"name": "fold-barn-storage", "namespace": "fold-barn"}}}}
    theirs = {"spec": {"csi": {"nodeStageSecretRef": {"name": "another"}}}}
    assert (names_secret(ours), names_secret(theirs), names_secret({"spec": {}}), names_secret({})) == (
        True,
        False,
        False,
        False,
    )
