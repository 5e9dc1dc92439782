"""Claims that many pods write to at once: they get shares, which the nodes of the orchestrator mount
themselves.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from claiming import NODES, Desk, desk_of, offer, standing, until
from conftest import Site
from sites import make_site
from test_cluster import form
from test_policies import plan_of, refusals
from test_shares import SERVICE, see
from walking import register, type_there

from foldbarn.core.claims.kept import Hindrance
from foldbarn.core.claims.objects import object_name
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.hosts.facts import Facts
from foldbarn.core.shares.belonging import mounts_of
from foldbarn.core.shares.claimed import rules_for
from foldbarn.core.shares.rules import Right, Rule
from foldbarn.core.shares.share import Share
from foldbarn.core.site import Host
from foldbarn.core.units import GIB
from foldbarn.core.volumes.lineage import Link, lineage_of
from foldbarn.links import orchestrators as link
from foldbarn.services.limits import tell_files
from foldbarn.store.views import current_view
from foldbarn.yard.orchestrator.hands import PLACE, Hands

pytestmark = pytest.mark.pooled
MANY = {"accessModes": ["ReadWriteMany"]}


@pytest.fixture
def desk(barn_site: Site, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Desk]:
    """With a cluster, and the orchestrator's nodes as hosts; the file service is not switched on."""
    barn_site.yard.machines.consumers = 0.0
    with standing(tmp_path / "tender") as tender, desk_of(barn_site, tender, monkeypatch) as found:
        assert barn_site.state(form(barn_site)) == "done"
        assert tender.stand_in.server is not None
        tender.stand_in.server.api.hands = Hands(barn_site.yard.machines).use
        for name in NODES:
            register(barn_site, name)
        see(barn_site)
        tender.namespace("ticketing")
        offer(barn_site)
        found.look()
        yield found
        tender.stand_in.server.api.hands = None


def switch_on(desk: Desk) -> None:
    number = desk.site.do("serve-files", **SERVICE)
    assert desk.site.state(number) == "done", desk.site.problem(number)


def the() -> Share:
    [share] = current_view().shares
    return share


def running(desk: Desk, name: str) -> str:
    """The node on which a pod runs; empty while it does not."""
    there = desk.tender.find(link.PODS, "ticketing", name)
    ready = there is not None and there["status"]["phase"] == "Running"
    return str(there["spec"]["nodeName"]) if there is not None and ready else ""


def go_on(desk: Desk) -> None:
    desk.look(2)
    tell_files()


def bound(desk: Desk, name: str = "logbooks", **spec: Any) -> Any:
    desk.tender.claim("ticketing", name, **MANY, **spec)
    return desk.settle(f"ticketing/{name}", Life.BOUND)


def test_it_waits_while_nobody_serves_files_and_is_tried_again(desk: Desk) -> None:
    desk.tender.claim("ticketing", "logbooks", **MANY)
    desk.look()
    kept = desk.kept("ticketing/logbooks")
    assert (kept.life, kept.hindrance) == (Life.WAITING, Hindrance.ACCESS_MODE)
    assert "a share, and the file service is switched off" in kept.sentence
    assert [e["reason"] for e in desk.tender.events("ticketing", "logbooks")] == ["AccessModeNotPossible"]
    switch_on(desk)
    desk.settle("ticketing/logbooks", Life.BOUND)
    assert the().name == "ticketing-logbooks"


def test_several_pods_and_a_host_mount_one_and_each_sees_what_the_others_write(desk: Desk) -> None:
    switch_on(desk)
    kept = bound(desk)
    share, view = the(), current_view()
    assert (share.quota, view.volume_numbered(share.volume).size_bytes) == (5 * GIB, 5 * GIB)
    thing = desk.tender.find(link.VOLUMES, "", object_name(kept.claim.uid))
    assert thing is not None
    assert view.files is not None
    address = view.files.numbered(share.address)
    assert address is not None
    assert thing["spec"]["nfs"] == {"server": address.name, "path": "/ticketing-logbooks"}
    assert thing["spec"]["mountOptions"] == ["vers=4.1"]
    assert "csi" not in thing["spec"]
    # Its nodes are let in, by all their addresses, and nobody else is.
    hosts = [view.host(name) for name in NODES]
    assert {rule.who for rule in share.rules} == {at for host in hosts for at in host.facts.addresses}
    assert {(rule.right, rule.root) for rule in share.rules} == {(Right.WRITE, True)}
    names = [f"writer-{number}" for number in range(4)]
    for name in names:
        desk.tender.pod("ticketing", name, "logbooks")
    until(lambda: go_on(desk) or all(running(desk, name) for name in names), "the pods to run")
    nodes = sorted({running(desk, name) for name in names})
    assert len(nodes) > 1
    at = f"{PLACE}{object_name(kept.claim.uid)}"
    type_there(desk.site, nodes[0], f"echo ebb > {at}/tides")
    assert type_there(desk.site, nodes[1], f"cat {at}/tides") == "ebb"
    see(desk.site)
    assert sorted(one.host for one in mounts_of(current_view(), the())) == nodes
    kin = lineage_of(current_view(), Link.CLAIM, "ticketing/logbooks").kin
    assert (kin[Link.SHARE], kin[Link.HOST]) == (("ticketing-logbooks",), tuple(nodes))
    said = " ".join(refusals("delete-share", share="ticketing-logbooks", typed="ticketing-logbooks"))
    assert "has ticketing-logbooks mounted" in said or "have ticketing-logbooks mounted" in said
    # As the pods go, so do the mounts.
    for name in names:
        desk.tender.delete(link.PODS, "ticketing", name)
    hosts_there = desk.site.yard.machines.hosts
    until(lambda: go_on(desk) or not any(hosts_there[name].net for name in NODES), "the mounts to go")


def test_its_rules_follow_nodes_and_people_let_others_in_besides(desk: Desk) -> None:
    switch_on(desk)
    bound(desk)
    # A host beside the pods: it sees what they write, and they what it does.
    register(desk.site, "slipway")
    beside = [{"who": "10.30.9.5", "right": "read-write"}]
    number = desk.site.do("alter-share", share="ticketing-logbooks", rules=beside)
    assert desk.site.state(number) == "done", desk.site.problem(number)
    assert [rule.who for rule in the().own_rules] == ["10.30.9.5"]
    assert len(the().rules) > len(NODES)
    desk.tender.pod("ticketing", "writer", "logbooks")
    until(lambda: go_on(desk) or running(desk, "writer"), "the pod to run")
    view = current_view()
    address = view.files.numbered(the().address) if view.files is not None else None
    assert address is not None
    type_there(desk.site, "slipway", f"mount -t nfs {address.name}:/ticketing-logbooks /mnt/logbooks")
    type_there(desk.site, "slipway", "echo flood > /mnt/logbooks/tides")
    at = f"{PLACE}{object_name(desk.kept('ticketing/logbooks').claim.uid)}"
    assert type_there(desk.site, running(desk, "writer"), f"cat {at}/tides") == "flood"
    undone = plan_of("alter-share", share="ticketing-logbooks", rules=[]).undo
    assert undone is not None
    assert undone.params["rules"] == [{"who": "10.30.9.5", "right": "read-write", "root": False}]
    # A node that goes is let in no more, one that comes is.
    desk.tender.delete(link.NODES, "", NODES[0])
    until(lambda: go_on(desk) or len(the().rules) < 3 * len(current_view().host(NODES[0]).facts.addresses))
    gone = set(current_view().host(NODES[0]).facts.addresses)
    assert not gone & {rule.who for rule in the().rules}
    name = "tender-4"
    status = {
        "addresses": [{"type": "InternalIP", "address": "10.30.9.77"}, {"type": "Hostname", "address": name}]
    }
    desk.tender.make(link.NODES, {"metadata": {"name": name}})
    path = link.NODES.path(name=name, sub="status")
    desk.tender.admin.ask("PATCH", path, {"status": status}, patch=link.MERGE)
    until(lambda: go_on(desk) or "10.30.9.77" in {rule.who for rule in the().rules}, "the rules to follow")
    following = tuple(rule for rule in the().rules if rule.follows)
    assert following == rules_for(current_view(), desk.steward._things(link.NODES).values())
    assert [rule.who for rule in the().own_rules] == ["10.30.9.5"]  # people's stay


def test_a_node_is_let_in_by_what_it_tells_and_by_what_its_host_does() -> None:

    host = Host(1, "Tender-1", facts=Facts(addresses=("10.20.9.6", "fd00:30::9:6")))
    view = replace(make_site([[[4]]]), hosts=(host, Host(2, "other", facts=Facts(addresses=("10.9.9.9",)))))
    said = [
        {"type": "InternalIP", "address": "10.30.9.6"},
        {"type": "Hostname", "address": "tender-1"},
        {"type": "InternalIP", "address": "no address"},
    ]
    node = {"metadata": {"name": "tender-1"}, "status": {"addresses": said}}
    assert rules_for(view, [node, {"metadata": {"name": "tender-9"}}]) == tuple(
        Rule(who, Right.WRITE, root=True, follows=True) for who in ("10.20.9.6", "10.30.9.6", "fd00:30::9:6")
    )


def test_it_grows_and_goes_with_its_claim(desk: Desk) -> None:
    switch_on(desk)
    bound(desk)
    wanted = {"spec": {"resources": {"requests": {"storage": "8Gi"}}}}
    path = link.CLAIMS.path("ticketing", "logbooks")
    desk.tender.admin.ask("PATCH", path, wanted, patch=link.MERGE)
    until(lambda: go_on(desk) or the().quota == 8 * GIB, "it to grow")

    def told() -> str:
        found = desk.tender.find(link.CLAIMS, "ticketing", "logbooks")
        return str(found["status"]["capacity"]["storage"]) if found else ""

    until(lambda: go_on(desk) or told() == str(8 * GIB), "the orchestrator to know")
    desk.tender.delete(link.CLAIMS, "ticketing", "logbooks")
    desk.settle("ticketing/logbooks", Life.OVER)
    assert current_view().volume_numbered(the().volume).binned is not None
    assert desk.tender.admin.all(link.VOLUMES)[0] == []
    until(lambda: go_on(desk) or not the().rules, "its nodes to be let in no more")


def test_what_is_kept_aside_is_bound_again_by_one_that_wants_a_share(desk: Desk) -> None:
    switch_on(desk)
    number = desk.site.do("publish-class", name="kept", policy="steady-three", reclaim="Retain")
    assert desk.site.state(number) == "done"
    desk.look()
    kept = bound(desk, storage_class="kept")
    desk.tender.delete(link.CLAIMS, "ticketing", "logbooks")
    desk.settle("ticketing/logbooks", Life.ASIDE)
    assert "ticketing-logbooks is served by it" in " ".join(refusals("stop-files"))
    # Both wait for a pod, so that nothing is made for them by itself.
    desk.site.do("publish-class", name="late", policy="steady-three", binding="WaitForFirstConsumer")
    desk.look()
    desk.tender.claim("ticketing", "of-one", size="2Gi", storage_class="late")
    desk.tender.claim("ticketing", "of-many", size="2Gi", storage_class="late", **MANY)
    desk.look()
    one, many = (desk.kept(f"ticketing/{name}") for name in ("of-one", "of-many"))
    said = " ".join(refusals("bind-again", claim=kept.number, to=one.number))
    assert said == "ticketing/of-one asks for ReadWriteOnce, and ticketing-logbooks holds a share."
    assert desk.site.state(desk.site.do("bind-again", claim=kept.number, to=many.number)) == "done"
    again = desk.settle("ticketing/of-many", Life.BOUND)
    assert again.volume == kept.volume
    [thing] = desk.tender.admin.all(link.VOLUMES)[0]  # it is known once
    assert thing["spec"]["nfs"]["path"] == "/ticketing-logbooks"


def test_one_that_is_to_be_filled_from_something_is_told_so(desk: Desk) -> None:
    switch_on(desk)
    bound(desk)
    source = {"kind": "PersistentVolumeClaim", "name": "logbooks"}
    desk.tender.claim("ticketing", "copy", **MANY, dataSource=source)
    desk.look()
    kept = desk.kept("ticketing/copy")
    assert kept.hindrance is Hindrance.ACCESS_MODE
    assert "a share begins empty" in kept.sentence
