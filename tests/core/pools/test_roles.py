"""Roles by rule, cache bound evenly, endurance, spares, and what a failed cache device takes with it."""

import sys
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, with_volume

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.hardware import Reason
from foldbarn.core.pools.media import class_of
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.pools.roles import (
    Override,
    assign_roles,
    bind_cache,
    binding_of,
    cache_concerns,
    drive_writes_a_day,
    endurance,
    expected_writes,
    rated_bytes,
    rebind,
    spare_for,
)
from foldbarn.core.site import Disk, Role, SiteView, Tier
from foldbarn.core.units import TB
from foldbarn.core.volumes.loss import cache_losses, fate_of


def disk(
    number: int, node: int = 0, media: str = "ssd", bus: str = "sata", size: int = 4 * TB, **more: object
) -> Disk:
    return Disk(
        number,
        f"n{node}-{number}",
        str(number),
        node,
        media,
        size,
        f"S{number}",
        Role.UNCLAIMED,
        bus=bus,
        **more,
    )  # type: ignore[arg-type]


def calls_of(work: Callable[[], object]) -> int:
    """How many functions were called, which unlike time is the same on every machine."""
    count = 0

    def note(_: object, event: str, __: object) -> None:
        nonlocal count
        count += event in ("call", "c_call")

    sys.setprofile(note)
    try:
        work()
    finally:
        sys.setprofile(None)
    return count


def test_the_work_of_assigning_roles_grows_as_the_disks_do() -> None:
    few, many = ([disk(n, n // 12) for n in range(count)] for count in (100, 800))
    assert calls_of(lambda: assign_roles(many)) < 10 * calls_of(lambda: assign_roles(few))


def test_the_same_medium_on_another_bus_is_another_class() -> None:
    assert class_of("ssd", "sas") < class_of("ssd", "sata") < class_of("hdd", "sas")
    assert class_of("hdd", "sas") == class_of("hdd", "sata")  # platters are as slow on either
    assert class_of("pmem") < class_of("nvme", "nvme") < class_of("ssd", "sas")
    assert class_of("nvme", "nvme") == class_of("nvme", "")
    assert [class_of("ssd", "sas").words, class_of("nvme", "nvme").words, class_of("hdd").words] == [
        "SAS SSD",
        "NVMe",
        "HDD",
    ]


def test_one_class_is_all_capacity_and_of_several_the_fastest_is_cache() -> None:
    assert {a.role for a in assign_roles([disk(1), disk(2)])} == {Role.CAPACITY}
    mixed = [disk(1, media="nvme", bus="nvme"), disk(2), disk(3, media="hdd")]
    assert [a.role for a in assign_roles(mixed)] == [Role.CACHE, Role.CAPACITY, Role.CAPACITY]
    assert [a.tier for a in assign_roles(mixed, "fast tier")] == [Tier.FAST, Tier.BULK, Tier.BULK]
    assert {a.role for a in assign_roles(mixed, "capacity")} == {Role.CAPACITY}
    sas = [disk(1, bus="sas"), disk(2, bus="sata")]
    assert [a.role for a in assign_roles(sas)] == [Role.CACHE, Role.CAPACITY]


def test_a_fast_disk_whose_node_has_nothing_to_serve_is_capacity() -> None:
    found = assign_roles([disk(1, node=0, media="nvme"), disk(2, node=1)])
    assert [a.role for a in found] == [Role.CAPACITY, Role.CAPACITY]
    assert "nothing to serve" in found[0].reason


def test_another_role_wants_a_reason_which_is_kept() -> None:
    disks = [disk(1, media="nvme"), disk(2)]
    with pytest.raises(NotPossible, match="n0-1 is cache by rule; making it spare wants a reason"):
        assign_roles(disks, overrides={"n0-1": Override(Role.SPARE, " ")})
    with pytest.raises(NotPossible, match="capacity, cache or spare, not boot"):
        assign_roles(disks, overrides={"n0-1": Override(Role.BOOT, "x")})
    found = assign_roles(disks, overrides={"n0-1": Override(Role.SPARE, "worn less than the others")})
    assert (found[0].role, found[0].reason, found[0].by_rule, found[0].overridden) == (
        Role.SPARE,
        "worn less than the others",
        Role.CACHE,
        True,
    )


@given(st.lists(st.integers(1, 20), min_size=1, max_size=24), st.integers(1, 4))
def test_cache_serves_its_own_node_evenly(sizes: list[int], devices: int) -> None:
    cache = [disk(100 + n, node=0, media="nvme") for n in range(devices)] + [disk(200, node=2, media="nvme")]
    capacity = [disk(n + 1, node=0, size=s * TB) for n, s in enumerate(sizes)] + [disk(99, node=1)]
    bound = bind_cache(cache, capacity)
    assert set(bound) == {n + 1 for n in range(len(sizes))}  # a disk of a node without cache has none
    load = [sum(sizes[d - 1] for d, c in bound.items() if c == 100 + n) for n in range(devices)]
    assert max(load) - min(load) <= max(
        sizes
    )  # largest first to the least loaded: no device is ahead by more than one disk


@given(st.integers(2, 4), st.integers(1, 12), st.integers(0, 3))
def test_when_a_device_goes_only_its_disks_are_bound_anew(devices: int, count: int, gone: int) -> None:
    cache = [disk(100 + n, media="nvme") for n in range(devices)]
    capacity = [disk(n + 1) for n in range(count)]
    bound = bind_cache(cache, capacity)
    lost = 100 + gone % devices
    after = rebind(bound, {d.number: d for d in cache + capacity}, {d.number for d in cache} - {lost})
    assert set(after) == set(bound)
    assert all(after[d] == c for d, c in bound.items() if c != lost)
    assert lost not in after.values()
    assert rebind(bound, {d.number: d for d in cache + capacity}, set()) == {}


def test_ratings_in_the_terms_of_jesd218() -> None:
    """TBW = capacity x DWPD x 365 x years (terms of JEDEC JESD218). The pairs are as makers print them, from
    memory: 1.92 TB at three drive writes a day over five years is 10,512 TB, 3.84 TB at one is 7,008, 960 GB
    at one is 1,752."""
    for size, writes, tbw in (
        (1.92, 3.0, 10_512),
        (3.84, 1.0, 7_008),
        (0.96, 1.0, 1_752),
        (6.4, 3.0, 35_040),
    ):
        rated = rated_bytes(round(size * TB), writes)
        assert rated == tbw * TB
        assert drive_writes_a_day(rated, round(size * TB)) == pytest.approx(writes)


def test_endurance_says_how_long_and_whether_it_was_assumed() -> None:
    known = disk(1, media="nvme", size=2 * TB, rated_bytes=rated_bytes(2 * TB, 3.0))
    kinds = endurance([known, replace(known, number=2)], 24.0 * TB)
    assert (kinds[0].devices, kinds[0].drive_writes, kinds[0].allowed) == (2, 6.0, pytest.approx(3.0))
    assert kinds[0].years == pytest.approx(2.5)
    assert not kinds[0].lasts
    assert (
        "2 SSDs of 2.00 TB take 6.0 drive writes a day each, of 3.0 allowed, and last about 2.5 years"
        in kinds[0].sentence("SSD")
    )
    assert endurance([disk(3)], 0.0)[0].years == float("inf")
    assert endurance([disk(3)], 1.0)[0].assumed


def test_a_cache_too_small_or_worn_out_too_soon_is_said_before_the_pool_is_formed() -> None:
    capacity = [disk(n, size=12 * TB, media="hdd") for n in range(1, 7)]
    cache = [disk(10, media="nvme", size=2 * TB, rated_bytes=rated_bytes(2 * TB, 1.0))]
    found = cache_concerns(cache, [*capacity, disk(20, node=1, media="hdd")], 30.0 * TB)
    assert any(s.startswith("The cache is 2.8% of the capacity it serves") for s in found)
    assert any(s.startswith("1 node would have capacity without cache") for s in found)
    assert any("less than 5" in s for s in found)
    assert cache_concerns(cache * 4, capacity[:1], 1.0) == []
    assert cache_concerns([], capacity, 1e15) == []


def test_expected_writes_are_what_was_said_or_a_tenth_of_usable() -> None:
    assert expected_writes(5 * TB, 100 * TB, mirror(3, Level.RACK)).daily_bytes == 15 * TB
    assert expected_writes(0, 100 * TB, mirror(2, Level.RACK)).daily_bytes == 20 * TB
    assert "assumed" in expected_writes(0, 100 * TB, mirror(2, Level.RACK)).sentence


def with_roles(view: SiteView, roles: dict[int, Role], **more: object) -> SiteView:
    return changed(
        view, disks=tuple(replace(d, role=roles.get(d.number, d.role), **more) for d in view.disks)
    )  # type: ignore[arg-type]


def test_a_spare_is_of_its_class_not_smaller_ready_and_as_near_as_can_be() -> None:
    view = make_site([[[50, 50, 50]], [[50, 50, 60]], [[50, 50, 50]]], copies=2)
    spares = {3: Role.SPARE, 6: Role.SPARE, 9: Role.SPARE}
    view = with_roles(view, spares)
    lost = view.disks[3]  # in the second node, where disk 6 is spare and larger
    assert spare_for(view, lost, set()).number == 6  # type: ignore[union-attr]
    assert spare_for(view, lost, {view.disks[5].name}).number == 3  # type: ignore[union-attr]
    slow = changed(
        view, disks=tuple(replace(d, media="hdd") if d.role == Role.SPARE else d for d in view.disks)
    )
    assert spare_for(slow, lost, set()) is None
    frozen = changed(
        view,
        disks=tuple(
            replace(d, reasons=(Reason("read-only", "it is read-only"),)) if d.role == Role.SPARE else d
            for d in view.disks
        ),
    )
    assert spare_for(frozen, lost, set()) is None
    device = replace(lost, role=Role.CACHE, node=0)
    # A cache device serves its own node only.
    assert spare_for(view, device, set()).node == 0  # type: ignore[union-attr]


@given(st.integers(0, 3))
def test_what_a_failed_cache_device_takes_with_it_is_what_its_disks_hold(seed: int) -> None:
    view = with_volume(
        make_site([[[1, 40, 40, 40]], [[1, 40, 40, 40]], [[1, 40, 40, 40]]], copies=2), 40 + seed, 2
    )
    view = with_volume(view, 10, 1, Level.DISK, number=2)
    devices = {1: Role.CACHE, 5: Role.CACHE, 9: Role.CACHE}
    taken = view.disk_used[[0, 4, 8]]
    if taken.any():
        return  # a strip landed on what is to be cache; another seed has none there
    view = with_roles(view, devices)
    bound = binding_of(view, view.pools[0])
    for loss in cache_losses(view, view.pools[0], bound):
        ready = np.array([d.name not in loss.disks for d in view.disks])
        fates = [fate_of(view, v, ready) for v in view.volumes]
        assert loss.extents == sum(f.short for f in fates)
        assert loss.unreadable == sum(f.unavailable for f in fates)
        assert loss.used_bytes == int(view.disk_used[~ready].sum()) * 2**30
