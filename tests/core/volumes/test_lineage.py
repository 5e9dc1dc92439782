"""What hangs together, against a walk from thing to thing and as a relation that holds both ways."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import assume, given
from sites import changed, make_site, used_sites, with_volume

from foldbarn.core.errors import NotFound
from foldbarn.core.hosts.attachments import Attachment, FileSystem, Target
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.site import UNWRITTEN, Host, SiteView
from foldbarn.core.volumes.lineage import Link, lineage_of, volumes_of
from foldbarn.core.volumes.origins import as_read
from foldbarn.core.volumes.snapshots import Origin


def everything(view: SiteView) -> list[tuple[Link, str]]:
    named = {
        Link.HOST: view.hosts,
        Link.VOLUME: view.volumes,
        Link.POLICY: view.policies,
        Link.POOL: view.pools,
        Link.DISK: view.disks,
        Link.NODE: view.nodes,
        Link.RACK: view.racks,
        Link.ROOM: view.rooms,
    }
    return [(link, thing.name) for link, things in named.items() for thing in things]


@given(used_sites())
def test_it_holds_both_ways(view: SiteView) -> None:
    kin = {
        (link, name): {(k, n) for k, names in lineage_of(view, link, name).kin.items() for n in names}
        for link, name in everything(view)
    }
    for thing, others in kin.items():
        assert {n for k, n in others if k == thing[0]} == {thing[1]}
        for other in others:
            assert thing in kin[other], (thing, other)


@given(used_sites())
def test_a_volume_depends_on_what_its_strips_lie_on(view: SiteView) -> None:
    """Counted strip by strip."""
    disks = {d.number: d for d in view.disks}
    for volume in view.volumes:
        mine = [disks[n] for n in volume.whole.placement.reshape(-1).tolist()]
        found = lineage_of(view, Link.VOLUME, volume.name).kin
        assert set(found[Link.DISK]) == {d.name for d in mine}
        assert set(found[Link.NODE]) == {view.nodes[d.node].name for d in mine}
        racks = {
            view.enclosures[d.enclosure].rack if d.enclosure >= 0 else view.nodes[d.node].rack for d in mine
        }
        assert set(found[Link.RACK]) == {view.racks[r].name for r in racks}
        assert set(found[Link.ROOM]) == {view.rooms[view.racks[r].room].name for r in racks}
        target = view.target_of(volume.number)
        attached = {one.host for one in target.attachments} if target else set()
        assert set(found[Link.HOST]) == {h.name for h in view.hosts if h.number in attached}
    for link, name in everything(view):
        named = {view.volumes[row].name for row in np.flatnonzero(volumes_of(view, link, name))}
        assert named == set(lineage_of(view, link, name).kin[Link.VOLUME])


@given(used_sites())
def test_what_shows_a_snapshot_lies_where_its_original_does(view: SiteView) -> None:
    assume(view.volumes)
    original = view.volumes[0]
    nothing = np.full_like(original.whole.placement, UNWRITTEN)
    whole, _ = as_read(replace(original.whole, number=10**6, placement=nothing), Origin(1, 1, shown=True), 0)
    origin = Origin(original.number, 1, shown=True)
    shown = replace(original, number=10**6, name="shown", plies=(whole,), origin=origin)
    view = changed(view, volumes=(*view.volumes, shown))
    mine, theirs = (lineage_of(view, Link.VOLUME, name).kin for name in ("shown", original.name))
    for link in (Link.DISK, Link.NODE, Link.RACK, Link.ROOM):
        assert mine[link] == theirs[link]
        for name in mine[link]:
            assert "shown" in lineage_of(view, link, name).kin[Link.VOLUME]


def test_a_host_depends_on_the_nodes_that_lead_it_whatever_lies_there() -> None:
    view = with_volume(make_site([[[9]], [[9]], [[9]]]), 1)
    lying = set(lineage_of(view, Link.VOLUME, "v1").kin[Link.NODE])
    [other] = {n.name for n in view.nodes} - lying
    number = view.node(other).number
    target = Target(1, FileSystem.NONE, (number,), (Attachment(7, Transport.ISCSI),))
    view = changed(view, hosts=(Host(7, "slipway"),), targets=(target,))
    assert set(lineage_of(view, Link.HOST, "SLIPWAY").kin[Link.NODE]) == {"n1", "n2", "n3"}
    led = lineage_of(view, Link.NODE, other)
    assert (led.kin[Link.HOST], led.kin[Link.VOLUME]) == (("slipway",), ())


@pytest.mark.parametrize("link", list(Link))
def test_what_is_not_there_is_said(link: Link) -> None:
    with pytest.raises(NotFound, match=f"There is no {link} named 'auk'"):
        lineage_of(make_site([[[9]]]), link, "auk")
