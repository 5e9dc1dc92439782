"""Pools against published closed forms and general-purpose reference libraries: chance of loss, rebuild
times, moves, units of capacity.
"""

import itertools
from dataclasses import replace

import numpy as np
import pytest
from flows import Network
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from scipy.linalg import expm
from scipy.optimize import linprog
from sites import EXTENT, changed, make_site, uneven_racks, with_volume, without_nodes

from foldbarn.core.moving.readings import estimate, readings
from foldbarn.core.moving.rebuild import plan_drain, plan_rebuild
from foldbarn.core.policies.matching import rounded_size
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.durability import YEAR_SECONDS, chain, chance_of_loss, mean_time_to_loss
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.pools.placement import place
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.pools.repair import Fill, bound, held_when_filled, loads_of
from foldbarn.core.pools.sizing import Settings, read_plan, size_up
from foldbarn.core.site import SiteView, Tier, plain_volume
from foldbarn.core.units import GIB, TIB


@pytest.mark.parametrize(("mttf_hours", "mttr_hours"), [(30_000, 1), (30_000, 24), (1_000_000, 10)])
def test_mirrored_pairs_and_single_parity_groups_as_in_patterson_gibson_and_katz(
    mttf_hours: float, mttr_hours: float
) -> None:
    """Patterson, Gibson and Katz, "A case for redundant arrays of inexpensive disks", SIGMOD 1988, section 7:
    a group of G data disks and C check disks that tolerates one failure is lost after MTTF^2 / ((G + C) (G +
    C - 1) MTTR); for a mirrored pair that is MTTF^2 / (2 MTTR). Their form leaves out terms of MTTR over
    MTTF; so a tenth of a per cent is allowed where that is a thousandth."""
    for strips in (2, 5, 11):
        found = mean_time_to_loss(strips, 1, 1 / mttf_hours, 1 / mttr_hours)
        published = mttf_hours**2 / (strips * (strips - 1) * mttr_hours)
        assert found == pytest.approx(published, rel=3 * strips * mttr_hours / mttf_hours + 1e-9)


@pytest.mark.parametrize(("strips", "tolerated"), [(2, 1), (3, 2), (4, 1), (6, 2)])
@pytest.mark.parametrize("unread", [0.0, 0.02])
def test_the_chance_in_a_year_is_that_of_the_matrix_exponential(
    strips: int, tolerated: int, unread: float
) -> None:
    """Reference: scipy.linalg.expm of the chain's generator over a year, from whole to lost."""
    failures, repairs = 0.3 / YEAR_SECONDS, 200 / YEAR_SECONDS
    exact = expm(chain(strips, tolerated, failures, repairs, unread) * YEAR_SECONDS)[0, -1]
    mean = mean_time_to_loss(strips, tolerated, failures, repairs, unread)
    assert -np.expm1(-YEAR_SECONDS / mean) == pytest.approx(exact, rel=0.03)


def test_large_disks_lose_orders_of_magnitude_to_unreadable_places() -> None:
    """Common practice: reading errors met during a rebuild dominate on large disks; 12 TB at 1e-15 costs
    about three powers of ten.
    """
    base = {"failure_rate": 0.01, "repair_seconds": 12e12 / 150e6}
    plain = chance_of_loss([12, 12], mirror(2, Level.RACK), 10**6, **base)
    read = chance_of_loss(
        [12, 12], mirror(2, Level.RACK), 10**6, unread=1 - np.exp(-12e12 * 8 * 1e-15), **base
    )
    assert 10**2.5 < read.a_year / plain.a_year < 10**4


@settings(deadline=None, max_examples=25)
@given(st.integers(3, 6), st.integers(0, 100))
def test_a_rebuild_is_near_the_bound_of_its_linear_program(nodes: int, seed: int) -> None:
    """Reference: scipy.optimize.linprog (HiGHS). Any way of reading and writing the lost strips loads disks;
    the least possible largest load over bandwidth bounds every plan from below. Ours is the true load of its
    plan, so it is no less, and at most a little more."""
    view = with_volume(make_site([[[120, 120]] for _ in range(nodes)], 2), 60 * nodes, 2, number=seed + 1)
    lost = without_nodes(view, {seed % nodes})
    moves = plan_rebuild(lost, lost.pools[0], seed)
    come = readings(lost, moves).disks[:, 0]
    ready = np.flatnonzero(lost.disk_ready)
    seconds = EXTENT / PROFILES["ssd"].bytes_per_second
    # Each move reads where its surviving copy lies and may write to any disk of another rack: group moves by
    # source.
    rows = lost.row_of_number[come]
    counts = {int(s): int((rows == s).sum()) for s in np.unique(rows)}
    pairs = [(s, int(t)) for s in counts for t in ready if lost.disk_rack[s] != lost.disk_rack[t]]
    wants = np.array([[1.0 if p[0] == s else 0.0 for p in pairs] + [0.0] for s in counts])
    loads = np.array(
        [[(float(p[0] == d) + float(p[1] == d)) * seconds for p in pairs] + [-1.0] for d in ready]
    )
    answer = linprog(
        [0.0] * len(pairs) + [1.0],
        A_ub=loads,
        b_ub=np.zeros(len(ready)),
        A_eq=wants,
        b_eq=list(counts.values()),
    )
    found = estimate(lost, moves, EXTENT).seconds
    assert answer.fun <= found * (1 + 1e-9)
    # Which disks a deal loads a little more is chance: four standard deviations of a disk's number of strips
    # are allowed.
    assert found <= answer.fun * 1.25 + 4 * seconds * np.sqrt(2 * len(moves) / len(ready))


@settings(deadline=None, max_examples=40)
@given(
    uneven_racks(least=3, most=4),
    st.integers(10, 60),
    st.sets(st.integers(1, 8), min_size=1, max_size=3),
    st.integers(0, 99),
)
def test_a_drain_places_as_much_as_a_maximum_flow_can(
    racks: list, percent: int, leaving: set[int], seed: int
) -> None:
    """Reference: scipy.sparse.csgraph.maximum_flow from strips that must leave, by the racks their extents
    may use, to the room there is.

    Where all can be placed, so it does; nothing that can stay moves, so the moves are the fewest there are.
    """
    view = make_site(racks, 2)
    extents = pool_space(view, view.pools[0]).free * percent // 100
    assume(extents > 0)
    view = with_volume(view, extents, 2)
    view = changed(view, disks=tuple(replace(d, retiring=d.number in leaving) for d in view.disks))
    held = np.append(view.disk_retiring, False)[view.rows(view.plies[0])]
    assume(
        (held.sum(axis=1) <= 1).all()
    )  # one strip an extent: else the choices hang together, and it is no flow
    moves = plan_drain(view, view.pools[0], seed)
    graph = Network()
    rows = view.rows(view.plies[0])
    for extent, strip in np.argwhere(held).tolist():
        other = int(view.disk_rack[rows[extent, 1 - strip]])
        graph.widen("all", ("rack beside", other))
        for disk in range(len(view.disks)):
            if view.disk_open[disk] and view.disk_rack[disk] != other:
                graph.edge(("rack beside", other), disk, capacity=10**6)
    for disk in range(len(view.disks)):
        if view.disk_open[disk]:
            graph.edge(disk, "room", capacity=int(view.disk_free[disk]))
    assert len(moves) == graph.most("all", "room")


def test_a_shelf_of_twenty_four_drives_on_the_bench() -> None:
    """Common practice: 24 drives of 1.6 TB are 34.9 TiB raw; two copies take double, so they hold half of it,
    less metadata.
    """
    plan = read_plan("rack A\na: 12 x 1.6 TB SSD\nrack B\nb: 12 x 1.6 TB SSD")
    found = size_up(plan, Settings(scheme=mirror(2, Level.RACK), headroom=None))
    assert round(found.ledger.raw / TIB, 1) == 34.9
    assert 0.98 * found.ledger.raw / 2 < found.usable_bytes < found.ledger.raw / 2


def paper(racks: list[tuple[int, int, float]], copies: int, ports: str = "2 x 25 Gb/s") -> SiteView:
    """A pool on paper. racks: nodes, disks of each node, terabytes of each disk."""
    lines = []
    for r, (nodes, disks, size) in enumerate(racks):
        lines.append(f"rack R{r}")
        lines += [f"n{r}-{n}: {disks} x {size} TB SSD, {ports}" for n in range(nodes)]
    wish = Settings(scheme=mirror(copies, Level.RACK), headroom=Level.NODE)
    return size_up(read_plan("\n".join(lines)), wish).view


racks_on_paper = st.lists(
    st.tuples(st.integers(1, 3), st.integers(1, 6), st.sampled_from([1.92, 3.84, 7.68])),
    min_size=3,
    max_size=6,
)


@settings(deadline=None, max_examples=60)
@given(racks_on_paper, st.integers(2, 3), st.floats(0.3, 0.9), st.integers(0, 99))
def test_the_closed_bound_of_a_repair_is_never_below_the_linear_programs(
    racks: list, copies: int, fill: float, which: int
) -> None:
    """Reference: scipy.optimize.linprog (HiGHS). The best way to read what one node's strips have beside them
    and to write them where there is room: reads from a domain no more than lie there, writes to it no more
    than extents it is free of."""
    view = paper(racks, copies)
    pool = view.pools[0]
    space = pool_space(view, pool)
    tier = Fill(Tier.BULK, view.in_pool(pool, Tier.BULK), int(space.usable * fill))
    gone = view.disk_node == which % len(view.nodes)
    assume(tier.extents > 0)
    loads = loads_of(view, tier, pool.usual, gone)
    assume(loads.strips > 0)
    held = held_when_filled(view, tier, pool.usual)
    lost = float(held[gone].sum())
    assert loads.strips == pytest.approx(lost, rel=1e-6)
    assert float(loads.read.sum()) == pytest.approx(lost, rel=1e-6)
    found = bound(view, [loads], pool.strip_bytes).seconds
    rack, domain = view.disk_rack, int(view.disk_rack[np.flatnonzero(gone)[0]])
    beside = {
        r: float(loads.read[rack == r].sum()) * (copies - 1) for r in set(rack.tolist())
    }  # others' strips, by rack
    ready = np.flatnonzero(~gone)
    count, seconds = len(ready), pool.strip_bytes / PROFILES["ssd"].bytes_per_second
    # Variables: reads of each disk, writes of each disk, the largest load.
    limits, right = [], []
    for i in range(count):
        row = np.zeros(2 * count + 1)
        row[i] = row[count + i] = seconds
        row[-1] = -1.0
        limits.append(row)
        right.append(0.0)
    for r in set(rack[ready].tolist()):
        reads, writes = np.zeros(2 * count + 1), np.zeros(2 * count + 1)
        reads[:count] = writes[count : 2 * count] = rack[ready] == r
        limits += [reads, writes]
        right += [beside[r], lost if r == domain else lost - beside[r] + 1e-6 * lost]
    sums = np.zeros((2, 2 * count + 1))
    sums[0, :count] = sums[1, count : 2 * count] = 1.0
    answer = linprog(
        np.append(np.zeros(2 * count), 1.0),
        A_ub=np.array(limits),
        b_ub=np.array(right) * (1 + 1e-9) + 1e-9,
        A_eq=sums,
        b_eq=[lost, lost],
    )
    assume(answer.status == 0)
    assert found >= answer.fun * (1 - 1e-6)


@pytest.mark.parametrize(
    ("racks", "copies"),
    [
        ([(2, 6, 3.84)] * 5, 3),
        ([(1, 8, 3.84), (2, 6, 3.84), (2, 4, 7.68), (3, 4, 1.92)], 2),
        ([(4, 10, 3.84)] * 8, 3),
    ],
)
def test_the_closed_bound_of_a_repair_is_near_fine_trials(racks: list, copies: int) -> None:
    """Placed extent by extent and the rebuild planned: what its busiest disk does is what the shares say,
    within a sixth.
    """
    view = paper(racks, copies)
    pool = view.pools[0]
    extents = int(pool_space(view, pool).usable * 0.7)
    rows = view.in_pool(pool)
    # Coarser extents, so that a trial stays quick; still hundreds of strips on each disk.
    coarse = max(1, extents * copies // (len(rows) * 400))
    trial_pool = replace(pool, strip_bytes=pool.strip_bytes * coarse)
    trial = replace(view, pools=(trial_pool,))
    placed = place(
        trial.disk_free[rows], trial.disk_rack[rows], trial.disk_node[rows], extents // coarse, copies, seed=1
    )
    volume = plain_volume(1, "all", 0, 1, pool.usual, trial.disk_numbers[rows][placed])
    trial = replace(trial, volumes=(volume,))
    gone = np.arange(len(view.disks)) == int(np.argmax(trial.disk_used))
    disks = tuple(
        replace(d, present=False, given_up=True) if g else d for d, g in zip(view.disks, gone, strict=True)
    )
    after = replace(trial, disks=disks)
    moves = plan_rebuild(after, trial_pool, seed=1)
    assert moves.stuck == 0
    fine = estimate(after, moves, trial_pool.strip_bytes)
    fill = Fill(Tier.BULK, rows, extents)
    closed = bound(view, [loads_of(view, fill, pool.usual, gone)], pool.strip_bytes)
    assert closed.bytes_moved == pytest.approx(fine.bytes_moved, rel=0.03)
    busiest = 2 * len(moves) / (len(rows) - 1)
    assert closed.seconds <= fine.seconds * 1.05
    assert fine.seconds <= closed.seconds * (7 / 6 + 3 / np.sqrt(busiest))


def test_a_repair_is_as_long_whatever_the_size_of_the_site() -> None:
    """More racks of the same kind share the work: twice the disks halve the time, from 40 to 2,560 disks."""
    times = []
    for racks in (5, 10, 20, 40, 80, 160, 320):
        view = paper([(1, 8, 3.84)] * racks, 3, ports="4 x 100 Gb/s")
        pool = view.pools[0]
        fill = Fill(Tier.BULK, view.in_pool(pool), int(pool_space(view, pool).usable * 0.85))
        gone = np.arange(len(view.disks)) == 0
        times.append(bound(view, [loads_of(view, fill, pool.usual, gone)], pool.strip_bytes).seconds)
    assert all(t > 0 for t in times)
    assert all(
        before / after == pytest.approx(2.0, rel=0.2) for before, after in itertools.pairwise(times[1:])
    )


@pytest.mark.parametrize(("asked", "rounded"), [(100, 104), (50, 56), (8, 8), (1, 8)])
def test_sizes_are_rounded_up_to_whole_units_of_allocation(asked: int, rounded: int) -> None:
    """Common practice: with a unit of 8, 100 becomes 104 and 50 becomes 56."""
    pool = replace(make_site([[[10]]]).pools[0], allocation_bytes=8 * GIB)
    assert rounded_size(asked * GIB, pool) == rounded * GIB
