"""Speed of schemes against published queueing theory and a simulation written here for the purpose.

Sources: A. K. Erlang, "Solution of some problems in the theory of probabilities of significance in automatic
telephone exchanges" (1917), in the form with Poisson probabilities as in L. Kleinrock, Queueing Systems I
(1975), with scipy.stats.poisson; D. Gross and C. Harris, Fundamentals of Queueing Theory, for one server and
for two.
"""

from __future__ import annotations

import heapq
import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import poisson
from sites import make_site

from foldbarn.core.arrays import Reals
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.bench import lay_side_by_side, small_write
from foldbarn.core.policies.performance import DiskWork, Load, erlang_c, response, speed_of
from foldbarn.core.pools.media import PROFILES
from foldbarn.core.pools.protection import Level, Scheme, mirror


@given(st.integers(1, 200), st.floats(0.01, 0.999))
def test_the_chance_to_wait_is_erlangs(servers: int, busy: float) -> None:
    offered = busy * servers
    at, below = poisson.pmf(servers, offered), poisson.cdf(servers - 1, offered)
    assert erlang_c(servers, offered) == pytest.approx(at / (at + (1 - busy) * below), rel=1e-9)


@pytest.mark.parametrize(
    ("servers", "offered", "waits"),
    # The first two are whole fractions; the others are of printed tables of Erlang C, from memory.
    [(1, 0.7, 0.7), (2, 1.0, 1 / 3), (5, 4.0, 0.5541), (10, 8.0, 0.4092)],
)
def test_as_the_tables_have_it(servers: int, offered: float, waits: float) -> None:
    assert erlang_c(servers, offered) == pytest.approx(waits, abs=5e-5)


@given(st.floats(0.05, 0.98))
def test_with_one_server_times_are_exponential(busy: float) -> None:
    """Mean 1 / (mu - lambda), and the 99th of 100 at ln 100 times that."""
    seconds = 0.008
    mean = seconds / (1 - busy)
    times = np.linspace(0, 20 * mean, 20_001)
    done = response(1, seconds, busy / seconds, times)
    assert np.allclose(done, 1 - np.exp(-times / mean), atol=1e-9)
    assert np.interp(0.99, done, times) == pytest.approx(math.log(100) * mean, rel=1e-3)


def served(come: Reals, work: Reals, servers: int) -> Reals:
    """Seconds from when each request comes until it is done, first come, first served, [requests]."""
    free, took = [0.0] * servers, np.empty(len(come))
    for i in range(len(come)):
        begins = max(come[i], heapq.heappop(free))
        heapq.heappush(free, begins + work[i])
        took[i] = begins + work[i] - come[i]
    return took


@pytest.mark.parametrize(("servers", "busy"), [(1, 0.8), (3, 0.7), (8, 0.9), (4, 0.75)])
def test_as_requests_come_and_go(servers: int, busy: float) -> None:
    """A simulation, request by request, first come, first served; with 4 servers at 0.75 the formula has a
    seam.
    """
    seconds, n = 1.0, 400_000
    random = np.random.default_rng(7)
    come = np.cumsum(random.exponential(seconds / (busy * servers), n))
    work = random.exponential(seconds, n)
    took = served(come, work, servers)
    times = np.linspace(0, 40, 4000)
    done = response(servers, seconds, busy * servers / seconds, times)
    seen = np.searchsorted(np.sort(took[n // 10 :]), times, side="right") / (n - n // 10)
    assert np.abs(done - seen).max() < 0.02


def test_what_is_moved_takes_as_long_each_time_and_waits_like_the_others() -> None:
    """The same simulation, with requests of a sort of their own among many of another."""
    servers, busy, seconds, n = 2, 0.8, 1.0, 300_000
    access, moved = 0.1, 0.5
    random = np.random.default_rng(11)
    come = np.cumsum(random.exponential(seconds / servers / busy, n))
    work = random.exponential(seconds, n)
    mine = random.random(n) < 0.02
    work[mine] = moved + random.exponential(access, int(mine.sum()))
    took = served(come, work, servers)
    times = np.linspace(0, 40, 4000)
    done = response(servers, seconds, busy * servers / seconds, times, (access, moved))
    seen = np.searchsorted(np.sort(took[mine]), times, side="right") / mine.sum()
    assert np.abs(done - seen).max() < 0.03


def test_what_waits_for_several_disks_is_done_with_the_last() -> None:
    """At next to no load: the mean of the last of n exponentials is H(n), 1 + 1/2 + ... + 1/n, of one; what
    is moved takes each as long.
    """
    view = make_site([[[100]]] * 9)
    rows = list(range(9))
    held = np.ones(9)
    block = 4096
    one = speed_of(view, rows, held, DiskWork(0, 1), Load(1e-3, 0.0, block)).mean
    assert one is not None
    moved = block * PROFILES["ssd"].at_once / PROFILES["ssd"].bytes_per_second
    assert one == pytest.approx(moved + PROFILES["ssd"].access_seconds, rel=2e-3)
    for n in (2, 3, 5):
        found = speed_of(view, rows, held, DiskWork(0, n), Load(1e-3, 0.0, block))
        last = sum(1 / i for i in range(1, n + 1)) * PROFILES["ssd"].access_seconds
        assert found.mean == pytest.approx(moved + last, rel=2e-3)
    parity = speed_of(view, rows, held, small_write(Scheme(6, 2, Level.RACK)), Load(1e-3, 0.0, block))
    thirds = sum(1 / i for i in range(1, 4))
    last = thirds * PROFILES["ssd"].access_seconds
    assert parity.mean == pytest.approx(2 * (moved + last), rel=5e-3)  # three are read, then three written


def test_penalties_of_small_writes_are_what_the_disks_feel() -> None:
    """The handbooks' 2, 4 and 6 operations: of pure writes so many fewer are done where disks limit them."""
    view = make_site([[[100, 100]]] * 9)
    rows, held = list(range(18)), np.ones(18)
    most = [
        speed_of(view, rows, held, small_write(scheme), Load(1.0, 0.0, 4096)).most
        for scheme in (
            mirror(1, Level.RACK),
            mirror(2, Level.RACK),
            Scheme(6, 1, Level.RACK),
            Scheme(6, 2, Level.RACK),
        )
    ]
    assert [most[0] / m for m in most] == pytest.approx([1, 2, 4, 6])


@given(st.floats(0.0, 1.0), st.floats(0.01, 0.9), st.floats(0.91, 0.999))
def test_more_load_never_makes_it_quicker_and_beyond_the_most_there_is_no_answer(
    reads: float, some: float, more: float
) -> None:
    view = make_site([[[100, 60]], [[80]], [[120]], [[40, 40]]])
    rows, held = list(range(6)), np.array([100, 60, 80, 120, 40, 40], dtype=float)
    most = speed_of(view, rows, held, DiskWork(1, 2), Load(1.0, reads)).most
    low, high = (speed_of(view, rows, held, DiskWork(1, 2), Load(s * most, reads)) for s in (some, more))
    assert low.mean is not None
    assert high.mean is not None
    assert low.mean <= high.mean * (1 + 1e-3)
    assert low.late is not None
    assert low.mean < low.late
    beyond = speed_of(view, rows, held, DiskWork(1, 2), Load(most * 1.001, reads))
    assert (beyond.mean, beyond.late) == (None, None)


def test_large_blocks_are_limited_by_ports() -> None:
    few, many = (make_site([[[100] * disks]] * 4) for disks in (3, 24))
    write = DiskWork(0, 2)
    small = speed_of(few, list(range(12)), np.ones(12), write, Load(1.0, 1.0, 4096))
    large = speed_of(many, list(range(96)), np.ones(96), write, Load(1.0, 1.0, 1 << 20))
    assert (small.limit, large.limit) == ("disks", "ports")
    assert large.most == pytest.approx(4 * 3_125_000_000 / (1 << 20))  # of 25 Gb/s each


@pytest.mark.parametrize(
    ("load", "about"), [((0, 0.5, 4096), "load"), ((10, 1.5, 4096), "reads"), ((10, 0.5, 1), "block")]
)
def test_loads_that_make_no_sense_are_refused(load: tuple[float, float, int], about: str) -> None:
    with pytest.raises(NotPossible) as refused:
        Load(*load)
    assert refused.value.about == about


def test_the_bench_tells_the_speed_of_what_can_be_held() -> None:
    view = make_site([[[300, 300]]] * 5)
    rows = lay_side_by_side(
        view, view.pools[0], [mirror(2, Level.RACK), Scheme(2, 2, Level.RACK), Scheme(8, 2, Level.RACK)]
    )
    pair, parity, wide = (row.speed for row in rows)
    assert wide is None
    assert pair is not None
    assert parity is not None
    assert pair.most > parity.most
    assert pair.mean is not None
    assert parity.mean is not None
    assert pair.mean < parity.mean
