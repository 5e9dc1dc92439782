"""Where a claim's first pod runs, and which pool is taken then. The label of a zone is one of the well-known
labels of the Kubernetes API.
"""

from __future__ import annotations

from dataclasses import replace

import pytest
from sites import changed, make_site

from foldbarn.core.claims.admission import Admission
from foldbarn.core.claims.claims import AccessMode, Claim
from foldbarn.core.claims.classes import StorageClass
from foldbarn.core.claims.grants import Grant
from foldbarn.core.claims.places import node_of, places_of, stands_near
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import Room, SiteView

GIB = 2**30
ZONE = "topology.kubernetes.io/zone"


def two_pools() -> SiteView:
    """A pool in each of two rooms: the first is the emptier one."""
    one = make_site([[[40], [40], [40], [40]], [[20], [20], [20], [20]]], level=Level.NODE)
    pools = one.pools[0], replace(one.pools[0], name="inland", number=one.pools[0].number + 1)
    racks = one.racks[0], replace(one.racks[1], room=1)
    disks = tuple(replace(disk, pool=one.nodes[disk.node].rack) for disk in one.disks)
    policies = (Policy(1, "steady", 1, Wishes(mirror(2, Level.NODE), 1)),)
    rooms = Room(1, "A"), Room(2, "North Quay")
    return changed(one, pools=pools, rooms=rooms, racks=racks, disks=disks, policies=policies)


def test_the_pool_is_taken_that_stands_where_the_first_pod_runs() -> None:
    view = two_pools()
    judge = Admission(view, (StorageClass("steady", 1),), (Grant(1, "ticketing"),), {})
    claim = Claim("u", "ticketing", "c", "steady", GIB, frozenset({AccessMode.ONE_NODE}))

    def taken(*near: str) -> str:
        found = judge.judge(claim, near=near)
        assert found.pool is not None
        return found.pool.name

    here, there = (room.name for room in view.rooms)
    assert [taken(here), taken(there)] == [pool.name for pool in view.pools]
    assert taken("north-quay") == "inland"
    assert taken() == taken("nowhere") == view.pools[0].name  # the best of all, where none stands there
    rack = view.racks[view.nodes[next(d for d in view.disks if d.pool == 1).node].rack].name
    assert taken(rack.upper()) == "inland"
    assert stands_near(view, view.pools[1], [there])
    assert not stands_near(view, view.pools[1], [here])


@pytest.mark.parametrize(
    ("labels", "places"),
    [
        ({ZONE: "North", "kubernetes.io/hostname": "n1"}, ("North",)),
        ({ZONE: "North", "topology.kubernetes.io/region": "North"}, ("North",)),
        ({ZONE: "b", "topology.example/rack": "a"}, ("b", "a")),
        ({ZONE: ""}, ()),
        (None, ()),
    ],
)
def test_a_node_says_where_it_stands(labels: dict[str, str] | None, places: tuple[str, ...]) -> None:
    assert sorted(places_of({"metadata": {"labels": labels}})) == sorted(places)
    assert places_of(None) == ()


def test_the_node_is_that_which_the_scheduler_chose() -> None:
    chosen = {"volume.kubernetes.io/selected-node": "tender-2"}
    assert node_of({"metadata": {"annotations": chosen}}) == "tender-2"
    assert node_of({"metadata": {}}) == ""
