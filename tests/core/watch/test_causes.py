"""What alerts have in common: a node that is lost is one message, not two hundred."""

from __future__ import annotations

from dataclasses import replace

from sites import changed, make_site, with_volume

from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.watch.causes import MANY, Cause, Fired, Of, causes_of
from foldbarn.core.watch.samples import Sampled, Series

VOLUME, POOL = Series(Sampled.VOLUME, 1), Series(Sampled.POOL, 1)


def site() -> SiteView:
    """Three racks of a node with a disk each, and a volume of two copies over them."""
    return with_volume(make_site([[[9]], [[9]], [[9]]]), 6, 2, Level.RACK)


def silent(view: SiteView, *rows: int) -> SiteView:
    nodes = list(view.nodes)
    for order, row in enumerate(rows):
        nodes[row] = replace(nodes[row], contact=Contact.SILENT, since=100.0 - order)
    return changed(view, nodes=tuple(nodes))


def test_what_hangs_on_a_node_that_is_not_heard_comes_from_that() -> None:
    view = silent(site(), 1)
    lost = view.nodes[1].number
    disk, other = (Series(Sampled.DISK, view.disks[row].number) for row in (1, 0))
    things = [VOLUME, POOL, Series(Sampled.NODE, lost), Series(Sampled.PORT, lost, "p1"), disk, other]
    found = causes_of(view, [Fired(n, one) for n, one in enumerate(things)])
    assert found[:5] == [Cause(Of.NODE, lost)] * 5
    assert found[5] == Cause(Of.THING, other.number, "disk")
    # Of two the one that has been silent for longer.
    both = silent(site(), 0, 2)
    assert causes_of(both, [Fired(1, VOLUME)]) == [Cause(Of.NODE, both.nodes[2].number)]


def test_what_lies_on_a_disk_that_is_missing_comes_from_that() -> None:
    view = site()
    pulled = changed(view, disks=(replace(view.disks[0], present=False), *view.disks[1:]))
    number = view.disks[0].number
    assert causes_of(pulled, [Fired(1, VOLUME), Fired(2, POOL)]) == [Cause(Of.DISK, number)] * 2


def test_many_things_of_one_rule_are_one_and_few_stand_for_themselves() -> None:
    view = site()
    disks = [Series(Sampled.DISK, disk.number) for disk in view.disks]
    assert len(disks) == MANY
    assert causes_of(view, [Fired(7, one) for one in disks]) == [Cause(Of.RULE, 7)] * MANY
    few = causes_of(view, [Fired(7, disks[0]), Fired(7, disks[1]), Fired(8, disks[2])])
    assert few == [Cause(Of.THING, one.number, "disk") for one in disks]
    # One more joins what goes on of its rule already.
    known = [Cause(Of.RULE, 7)]
    assert causes_of(view, [Fired(7, disks[0]), Fired(8, disks[1])], known)[0] == Cause(Of.RULE, 7)


def test_what_is_gone_stands_for_itself() -> None:
    gone = Series(Sampled.VOLUME, 99)
    assert causes_of(site(), [Fired(1, gone)]) == [Cause(Of.THING, 99, "volume")]
