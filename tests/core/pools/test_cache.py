"""What cache devices take, keep and put at stake: sums by hand, brute force, filling them step by step."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.pools.cache import burst, hottest_kept, most_behind_one, most_that_comes, without_cache
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import Role, SiteView, Tier
from foldbarn.core.units import GB, MB

PAIR = mirror(2, Level.NODE)


def cached(disks: int = 3, nodes: int = 2, devices: int = 1, device_bytes: int = 100 * GB) -> SiteView:
    """Nodes of HDDs, each served by so many NVMe devices of its node."""
    view = make_site([[[300] * (disks + devices)] for _ in range(nodes)])
    found = tuple(
        replace(disk, role=Role.CACHE, media="nvme", size_bytes=device_bytes)
        if row % (disks + devices) < devices
        else replace(disk, media="hdd")
        for row, disk in enumerate(view.disks)
    )
    return replace(view, disks=found)


def test_a_burst_fits_for_as_long_as_its_sum_says() -> None:
    """One device of 100 GB before three HDDs of 180 MB/s in each of two nodes: two copies of 500 MB/s bring
    each 500 MB/s, of which it settles 540; of 1,000 MB/s it keeps 460, and is full after 217 s.
    """
    view = cached()
    slow = burst(view, view.pools[0], PAIR, 500 * MB)
    fast = burst(view, view.pools[0], PAIR, 1000 * MB)
    assert slow is not None
    assert fast is not None
    assert slow.seconds == math.inf
    assert slow.lasting == fast.lasting == pytest.approx(540 * MB)
    assert fast.seconds == pytest.approx(100 * GB / (460 * MB))
    assert fast.at_stake == 100 * GB
    assert fast.survives == 1
    assert slow.sentences("its limit")[0] == (
        "Writes of 500 MB a second, its limit, never fill its cache: the disks behind keep up with 540 MB a "
        "second."
    )
    told = fast.sentences("its limit")
    assert told[0].startswith("A burst of 1 GB a second, its limit, fits its cache for ")
    assert told[1] == "Up to 100 GB of it wait on one device, and on others too: any 1 device may go."
    assert "2 cache devices of 100 GB take 864.0 drive writes a day each" in told[2]


@given(st.integers(1, 6), st.integers(1, 4), st.integers(1, 3), st.floats(1e7, 1e10), st.integers(1, 2000))
def test_filling_it_step_by_step_takes_as_long(
    disks: int, nodes: int, devices: int, rate: float, size: int
) -> None:
    """Second by second: writes first, then as much goes on to the disks as these and the device can."""
    view = cached(disks, nodes, devices, size * GB)
    found = burst(view, view.pools[0], PAIR, rate)
    assert found is not None
    hdd, nvme = (PROFILES[m].bytes_per_second for m in ("hdd", "nvme"))
    behind = [disks // devices + (n < disks % devices) for n in range(devices)]
    behind = [count for count in behind if count]
    fills, lasts = [], []
    for count in behind:
        wanted = 2 * rate / nodes * count / disks
        comes = min(wanted, nvme)
        waits, steps = 0.0, 1000
        for _ in range(steps):
            waits += comes
            waits -= min(waits, hdd * count, nvme - comes)
        fills.append(size * GB / (waits / steps) if waits > 2 * comes else math.inf)
        lasts.append(min(hdd * count, nvme / 2) * nodes * disks / count / 2)
        assert found.bytes_a_second <= comes * nodes * disks / count / 2 * (1 + 1e-9)
    assert found.lasting == pytest.approx(min(lasts))
    assert found.limited is (found.bytes_a_second < rate)
    if not found.limited:  # else the others are not asked for as much either
        assert found.seconds == pytest.approx(min(fills), rel=0.01)
    # At the rate that lasts no device ever fills; a little more fills one.
    at_most, more = (burst(view, view.pools[0], PAIR, found.lasting * f) for f in (0.999, 1.001))
    assert at_most is not None
    assert more is not None
    assert (at_most.seconds, more.seconds < math.inf) == (math.inf, True)


def test_devices_that_take_no_more_limit_the_burst_and_that_is_said() -> None:
    """Six HDDs keep up with 1,080 MB/s, but the device of 2,000 MB/s writes and reads no more than half of
    that each; more than 2,000 it takes in no case.
    """
    view = cached(disks=6)
    found = burst(view, view.pools[0], PAIR, 5000 * MB)
    assert found is not None
    assert found.limited
    assert found.bytes_a_second == pytest.approx(2000 * MB)
    assert found.lasting == pytest.approx(1000 * MB)
    assert found.seconds == pytest.approx(100 * GB / (2000 * MB))  # nothing leaves meanwhile
    assert found.sentences("its limit")[0] == (
        "A burst of 2 GB a second, as much as its devices take, fits its cache for 50 s; then writes go on "
        "at 1 GB a second."
    )


def test_how_many_strips_of_an_extent_wait_on_one_device() -> None:
    view = cached(disks=3, nodes=2)
    pool = view.pools[0]
    assert most_behind_one(view, pool, PAIR) == 1
    assert most_behind_one(view, pool, mirror(2, Level.DISK)) == 2
    assert most_behind_one(view, pool, mirror(5, Level.DISK)) == 3  # three disks stand behind one
    assert most_behind_one(view, pool, Scheme(2, 2, Level.NODE, 2)) == 2
    assert most_behind_one(cached(disks=3, nodes=2, devices=3), pool, mirror(5, Level.DISK)) == 1
    found = burst(view, pool, mirror(1, Level.NODE), 1000 * MB)
    assert found is not None
    assert found.survives == 0
    assert found.sentences("x")[1].endswith("and nowhere else: with the device they are gone.")


def test_a_pool_without_devices_has_no_burst_and_names_what_is_bare() -> None:
    view = make_site([[[300] * 2]] * 2)
    pool = view.pools[0]
    assert burst(view, pool, PAIR, 1e9) is None
    assert most_behind_one(view, pool, PAIR) == 0
    assert len(without_cache(view, pool, Tier.BULK)) == 4
    with_some = cached()
    assert without_cache(with_some, with_some.pools[0], Tier.BULK) == []
    assert most_that_comes(view, pool, PAIR) == pytest.approx(2 * 3_125_000_000 / 2)


@given(
    st.lists(st.tuples(st.integers(0, 2), st.floats(0, 10), st.integers(1, 5)), min_size=1, max_size=12),
    st.lists(st.integers(0, 12), min_size=3, max_size=3),
)
def test_the_most_asked_for_are_kept_as_far_as_there_is_room(
    strips: list[tuple[int, float, int]], room: list[int]
) -> None:
    devices, warmth, sizes = (np.array(list(of)) for of in zip(*strips, strict=True))
    kept = hottest_kept(devices, warmth, sizes, np.array(room))
    for device in range(3):
        mine = np.flatnonzero(devices == device)
        assert sizes[mine][kept[mine]].sum() <= room[device]
        best = sorted(mine.tolist(), key=lambda row: (-warmth[row], row))
        filled, expected = 0, set()
        for row in best:
            filled += int(sizes[row])
            if filled > room[device]:
                break
            if warmth[row] > 0:
                expected.add(row)
        assert expected == set(mine[kept[mine]].tolist())
