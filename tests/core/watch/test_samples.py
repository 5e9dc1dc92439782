"""Samples: rates from counters that only grow, and condensing that keeps what it says it keeps."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, with_volume

from foldbarn.core.arrays import Reals
from foldbarn.core.machines.health import Health
from foldbarn.core.machines.network import Port
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import SiteView
from foldbarn.core.volumes.loss import fate_of
from foldbarn.core.volumes.pace import COUNTED
from foldbarn.core.watch.samples import (
    BUCKETS,
    LOWEST,
    MEASURES,
    WIDTH,
    Condensed,
    Counted,
    Measure,
    Sampled,
    Samples,
    Series,
    bins_of,
    condensed,
    gaps,
    in_points,
    of_samples,
    packed,
    percentile,
    said_of,
    sampled,
    unpacked,
    value_of,
)

READS, READ_BYTES = COUNTED.index("reads"), COUNTED.index("read_bytes")


def site() -> SiteView:
    """Three racks of a node with a disk each, and a volume of two copies over them."""
    view = with_volume(make_site([[[9]], [[9]], [[9]]]), 6, 2, Level.RACK)
    port = Port("n1", "p1", "storage", up=True, bytes_per_second=10**9)
    return changed(view, nodes=tuple(replace(node, ports=(port,)) for node in view.nodes))


def counted(
    uptime: float,
    *,
    disk: tuple[int, int] = (0, 0),
    node: int = 1,
    reads: float | None = None,
    port: tuple[int, int] = (0, 0),
) -> Counted:
    """What a node tells: of its one disk, its one port, and reads of 4 KiB that it served of volume 1."""
    work = np.zeros((0 if reads is None else 1, len(COUNTED) + BUCKETS))
    if reads is not None:
        work[0, [READS, READ_BYTES, len(COUNTED) + 7]] = reads, reads * 4096, reads
    plies = np.array([] if reads is None else [1], dtype=np.int64)
    return Counted(uptime, {f"S{node}": disk}, {"p1": port}, plies, work)


def of(found: Samples, series: Series) -> dict[str, float]:
    row = found.series.index(series)
    return dict(zip(MEASURES, found.values[row].tolist(), strict=True))


def volume_ply(view: SiteView) -> int:
    return view.volumes[0].whole.number


def test_rates_are_by_the_nodes_own_clock_and_sum_up_over_nodes() -> None:
    view = site()
    assert volume_ply(view) == 1
    before = {1: counted(100, disk=(10_000, 500), reads=40), 2: counted(900, node=2, reads=0)}
    now = {
        1: counted(110, disk=(30_000, 1500), reads=140, port=(700, 50)),
        2: counted(920, node=2, reads=100),  # it was asked twenty seconds ago
    }
    found = sampled(view, before, now)
    assert of(found, Series(Sampled.DISK, 1))["read_bytes"] == 2000
    assert of(found, Series(Sampled.DISK, 1))["written_bytes"] == 100
    assert math.isnan(of(found, Series(Sampled.DISK, 1))["reads"])  # nobody counts those of a disk
    assert of(found, Series(Sampled.PORT, 1, "p1"))["read_bytes"] == 70
    volume = of(found, Series(Sampled.VOLUME, 1))
    assert volume["reads"] == 10 + 5
    assert volume["read_bytes"] == 15 * 4096
    pool = of(found, Series(Sampled.POOL, 1))
    assert (pool["reads"], pool["read_bytes"]) == (15, 15 * 4096)
    assert pool["held_bytes"] == 12 * 2**30  # two copies of six extents
    assert of(found, Series(Sampled.NODE, 1))["reads"] == 10
    assert of(found, Series(Sampled.NODE, 1))["read_bytes"] == 2000
    times = found.times[found.series.index(Series(Sampled.VOLUME, 1))]
    assert (times[7], times.sum()) == (200, 200)  # each operation once


def test_of_what_nobody_knows_there_is_no_sample() -> None:
    view = site()
    volume, pool = Series(Sampled.VOLUME, 1), Series(Sampled.POOL, 1)
    before = {1: counted(100, reads=40), 2: counted(100, node=2, reads=40)}
    more = counted(110, reads=90)
    both = sampled(view, before, {1: more, 2: counted(110, node=2, reads=50)})
    assert of(both, volume)["reads"] == 6
    # The other does not tell, has been started anew, or has lost count: what the volume got nobody knows.
    for other in (
        {},
        {2: counted(3, node=2, reads=2)},
        {2: counted(110, node=2, reads=20)},
    ):
        found = sampled(view, before, {1: more} | other)
        assert math.isnan(of(found, volume)["reads"])
        assert math.isnan(of(found, pool)["reads"])
        assert of(found, volume)["short"] == 0  # which does not flow, and is known all the same
        assert of(found, pool)["full"] == pytest.approx(12 / 27, abs=0.02)
        assert found.times[found.series.index(volume)].sum() == 0
        assert Series(Sampled.NODE, 1) in found.series
    # A node that did not tell the time before either is no reason to know less.
    assert of(sampled(view, {1: before[1]}, {1: more}), volume)["reads"] == 5
    # Of one that is heard for the first time nothing is known but that it is there.
    assert sampled(view, {}, {1: more}).series == ()
    # A counter of a disk that fell is that disk's alone, and its node's.
    lost = sampled(view, {1: counted(100, disk=(9, 9))}, {1: counted(110, disk=(3, 19))})
    assert math.isnan(of(lost, Series(Sampled.DISK, 1))["read_bytes"])
    assert of(lost, Series(Sampled.DISK, 1))["written_bytes"] == 1
    # What is still being made has none.
    forming = changed(view, volumes=(replace(view.volumes[0], forming=True),))
    assert volume not in sampled(forming, before, {1: more}).series


def test_what_stands_is_sampled_beside_what_flows() -> None:
    view = site()
    said = said_of(Health(temperature=41, percentage_used=7, reallocated=3, pending=2, uncorrectable=1))
    before, now = {1: counted(100, reads=0)}, {1: replace(counted(110, reads=9), said={"S1": said})}
    found = sampled(view, before, now)
    disk = of(found, Series(Sampled.DISK, 1))
    assert (disk["celsius"], disk["worn"], disk["defects"]) == (41, 0.07, 6)
    assert math.isnan(of(sampled(view, before, {1: counted(110)}), Series(Sampled.DISK, 1))["worn"])
    # Two of six extents lie on a disk that is gone.
    gone = changed(view, disks=(replace(view.disks[0], present=False), *view.disks[1:]))
    short = fate_of(gone, gone.volumes[0]).short
    assert short > 0
    assert of(sampled(gone, before, now), Series(Sampled.VOLUME, 1))["short"] == short


def test_what_was_not_asked_of_a_ply_before_counts_from_nothing() -> None:
    found = sampled(site(), {1: counted(100)}, {1: counted(110, reads=30)})
    assert of(found, Series(Sampled.VOLUME, 1))["reads"] == 3


VALUES = st.one_of(st.just(0.0), st.just(math.nan), st.floats(0.02, 1e15))
TABLES = st.lists(st.lists(VALUES, min_size=len(MEASURES), max_size=len(MEASURES)), min_size=1, max_size=40)


def as_taken(table: list[list[float]]) -> Condensed:
    values = np.array(table)
    times = np.zeros((len(values), BUCKETS))
    times[:, 3] = np.arange(len(values)) + 1
    return of_samples(values, packed(times))


def known(values: Reals, measure: Measure) -> Reals:
    column = values[:, MEASURES.index(measure)]
    found: Reals = column[~np.isnan(column)]
    return found


@given(TABLES, st.sampled_from(MEASURES), st.sampled_from([0.05, 0.5, 0.95, 0.99, 1.0]))
def test_condensed_says_what_numpy_says_of_the_samples(
    table: list[list[float]], measure: Measure, share: float
) -> None:
    """Percentiles by nearest rank, to within the half width of a bin (numpy's `inverted_cdf`)."""
    rows = as_taken(table)
    one = condensed(rows, np.zeros(len(rows), dtype=np.int64), 1)
    values, column = known(np.array(table), measure), MEASURES.index(measure)
    assert one.count[0, column] == len(values)
    if not len(values):
        assert math.isnan(one.mean[0, column])
        assert percentile(one.spread[0], measure, share) is None
        return
    assert one.mean[0, column] == pytest.approx(values.mean())
    assert (one.least[0, column], one.most[0, column]) == (values.min(), values.max())
    wanted = float(np.percentile(values, share * 100, method="inverted_cdf"))
    found = percentile(one.spread[0], measure, share)
    assert found == pytest.approx(wanted, rel=(WIDTH - 1) / 2, abs=LOWEST)
    between = one.not_exceeded(0, measure, share)
    assert between is not None
    assert values.min() <= between <= values.max()
    assert between == pytest.approx(wanted, rel=(WIDTH - 1) / 2, abs=LOWEST)
    assert unpacked(one.times[0], BUCKETS)[3] == len(rows) * (len(rows) + 1) / 2


@given(TABLES, st.data())
def test_condensing_what_was_condensed_is_as_good_as_condensing_at_once(
    table: list[list[float]], data: st.DataObject
) -> None:
    rows, size = as_taken(table), len(table)
    minutes = np.array(data.draw(st.lists(st.integers(0, 5), min_size=size, max_size=size)), dtype=np.int64)
    at_once = condensed(rows, minutes // 3, 2)
    after = condensed(condensed(rows, minutes, 6), np.arange(6) // 3, 2)
    assert np.array_equal(at_once.count, after.count)
    assert np.allclose(at_once.mean, after.mean, equal_nan=True)
    assert np.array_equal(at_once.least, after.least, equal_nan=True)
    assert np.array_equal(at_once.most, after.most, equal_nan=True)
    assert at_once.spread == after.spread
    assert at_once.times == after.times


def test_bins_hold_what_stands_for_them() -> None:
    values = np.concatenate([[0.0, LOWEST / 2, LOWEST], np.geomspace(LOWEST, 1e16, 4001)])
    for value, bin_ in zip(values.tolist(), bins_of(values).tolist(), strict=True):
        if value < LOWEST:
            assert bin_ == 0
        else:
            assert value_of(bin_) == pytest.approx(value, rel=(WIDTH - 1) / 2 + 1e-6)


def test_points_and_gaps_of_a_drawing() -> None:
    at = np.array([0.0, 60.0, 120.0, 300.0, 360.0])
    starts, rows = in_points(at, as_taken([[float(n)] * len(MEASURES) for n in range(5)]), 300)
    assert starts.tolist() == [0.0, 300.0]
    assert rows.mean[:, 0].tolist() == [1.0, 3.5]
    assert gaps(at, 60).tolist() == [False, False, False, True, False]
