"""What consumers got, as nodes tell it, beside what the bench's rules make one expect."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from conftest import Site, at_hour, stand_still
from sqlalchemy import delete
from test_policies import save

from foldbarn.api.policies.models import Compared
from foldbarn.api.policies.pictures import measured_out
from foldbarn.api.volumes.pictures import heat_out
from foldbarn.core.arrays import Reals
from foldbarn.core.policies.bench import lay_side_by_side, small_write
from foldbarn.core.policies.foretold import Foretold, foretold
from foldbarn.core.policies.performance import Load, speed_of
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import SiteView, Tier
from foldbarn.core.units import GIB
from foldbarn.core.volumes.heat import Heat
from foldbarn.core.volumes.pace import BOUNDS, COUNTED, Pace, work_of
from foldbarn.links.agents import Agent, Garbled, _work
from foldbarn.services.heat import HeatTaker
from foldbarn.services.limits import tell_limits
from foldbarn.store import heat as heat_kept
from foldbarn.store import pace as kept
from foldbarn.store.database import transaction
from foldbarn.store.tables import PaceRow
from foldbarn.store.views import current_view
from foldbarn.yard.agent import settle
from foldbarn.yard.consumers import workload_of
from foldbarn.yard.serving import serve

PLATTERS = ("gannet", "dunlin", "whimbrel")


def paces() -> dict[int, Pace]:
    with transaction() as session:
        return kept.read_all(session)


def heats() -> dict[int, Heat]:
    with transaction() as session:
        return {number: heat for number, (heat, _) in heat_kept.read_all(session).items()}


def pace_of(name: str) -> Pace:
    return paces()[current_view().volume(name).number]


def live(site: Site, taker: HeatTaker, seconds: int = 600) -> None:
    """The stand-ins serve consumers for so long, at one hour of the day."""
    machines = site.yard.machines
    stand_still(machines)
    taker.take()
    for _ in range(seconds):
        serve(machines, 1.0)
    machines.clock += seconds
    taker.take()


def _block(pace: Pace) -> float:
    return (pace.work.read_bytes + pace.work.written_bytes) / pace.work.operations


def expected(name: str) -> Foretold:
    view = current_view()
    volume = view.volume(name)
    pool = view.pools[volume.pool]
    return foretold(view, pool, paces(), heats())[volume.number]


@pytest.fixture
def slow(barn_site: Site) -> Site:
    """A pool of disks with platters, some of them bigger than others."""
    barn_site.pool(disks=barn_site.disks("hdd", nodes=PLATTERS))
    at_hour(barn_site.yard.machines, 8)
    return barn_site


@pytest.mark.parametrize("wish", [{"copies": 2}, {"copies": 3}, {"data": 2, "parity": 1}])
def test_times_and_work_are_as_the_bench_foretells(slow: Site, wish: dict[str, int]) -> None:
    save(slow, name="p", level="node", **wish)
    slow.do("create-volume", name="v", policy="p", size="2 TB")
    slow.yard.machines.consumers = 50.0
    live(slow, HeatTaker(), 1500)
    pace, said = pace_of("v"), expected("v")
    assert pace.mean is not None
    assert said.mean is not None
    # What is foretold takes the strips of an extent as asked for alike.
    assert pace.mean == pytest.approx(said.mean, rel=0.25)
    assert pace.within() == pytest.approx(said.late, rel=0.35)
    assert (pace.work.disk_reads + pace.work.disk_writes) / pace.work.operations == pytest.approx(
        said.disk_operations, rel=0.01
    )
    assert pace.work.disk_written_bytes / pace.work.written_bytes == pytest.approx(said.disk_bytes, rel=0.01)
    load = workload_of(current_view().volume("v").whole.number)
    assert pace.work.reads / pace.work.operations == pytest.approx(load.reads, abs=0.01)


def test_it_is_what_the_bench_says_of_one_volume(slow: Site) -> None:
    """One rule for both: the bench's load of a pool is that of its one volume."""
    slow.do("create-volume", name="v", pool="quayside", size="1 TB", copies=2, level="node")
    view = current_view()
    volume, pool = view.volume("v"), view.pools[0]
    rows = sorted({int(row) for row in np.unique(view.rows(volume.whole)) if row >= 0})
    held = np.bincount(view.rows(volume.whole).ravel(), minlength=len(view.disks))[rows].astype(float)
    load = Load(400.0, 0.6, 16384)
    bench = speed_of(view, rows, held, small_write(volume.whole.scheme), load)
    counted = [240.0, 160.0, 240.0 * 16384, 160.0 * 16384, 0, 0, 0, 0, 0]
    pace = Pace(work_of(counted, np.zeros_like(Pace().work.times)), 1.0)
    said = foretold(view, pool, {volume.number: pace}, {})[volume.number]
    assert bench.mean is not None
    assert said.mean == pytest.approx(bench.mean, rel=0.02)
    assert said.late == pytest.approx(bench.late, rel=0.02)
    # More than its disks could do is not called possible.
    fast = Pace(pace.work, 400.0 / bench.most / 1.01)
    assert foretold(view, pool, {volume.number: fast}, {})[volume.number].mean is None
    save(slow, name="p", level="node", copies=2)
    assert slow.state(slow.do("keep-policy", volumes=["v"], policy="p")) == "done"
    view = current_view()
    [told] = measured_out(view, view.policy("p"), {}, {volume.number: fast})
    whys = [row.why for row in told.compared]
    assert whys == ["", "more than its disks should manage", "more than its disks should manage", "", ""]


def done_and_asked(name: str, policy: str = "p") -> tuple[float, float, float]:
    """Operations a second of a volume: done, to be expected, and asked for."""
    view = current_view()
    [told] = [m for m in measured_out(view, view.policy(policy), heats(), paces()) if m.volume == name]
    [row] = [row for row in told.compared if row.of == Compared.OPERATIONS]
    assert row.measured is not None
    assert row.expected is not None
    assert told.asked_per_second is not None
    assert row.off == pytest.approx(row.measured / row.expected - 1)
    return row.measured, row.expected, told.asked_per_second


def test_as_much_is_done_as_was_foretold_of_what_is_asked_for(slow: Site) -> None:
    """What disks can do, what a limit lets through, and all of it where neither holds anybody back."""
    save(slow, name="p", level="node", copies=2)
    save(slow, name="limited", level="node", copies=2, operations=150)
    slow.do("create-volume", name="w", policy="limited", size="2 TB")
    assert not tell_limits()
    for consumers in (5.0, 1000.0):
        with transaction() as session:
            session.execute(delete(PaceRow))
        slow.yard.machines.consumers = consumers
        live(slow, HeatTaker(), 300)
        done, said, asked = done_and_asked("w", "limited")
        assert said == pytest.approx(min(asked, 150.0), rel=1e-6)
        assert done == pytest.approx(said, rel=0.01)
    assert asked > 1000.0
    slow.do("create-volume", name="v", policy="p", size="2 TB")
    with transaction() as session:
        session.execute(delete(PaceRow))
    live(slow, HeatTaker(), 300)
    done, said, asked = done_and_asked("v")
    assert asked > 2 * done
    # What is foretold takes the strips of an extent as asked for alike.
    assert done == pytest.approx(said, rel=0.1)
    done, said, _ = done_and_asked("w", "limited")
    assert said < 100.0  # the disks do no more of it, beside the other
    assert done == pytest.approx(said, rel=0.1)


def test_who_is_held_back_leaves_more_to_the_others(slow: Site) -> None:
    """Two volumes that lie alike get a half each of what the busiest disk does; with a limit on one, each
    gets as much of it as comes through, one request as good as the other.
    """
    for name in ("v", "w"):
        slow.do("create-volume", name=name, pool="quayside", size="1 TB", copies=2, level="node")
    view = current_view()
    first, second = (view.volume(name) for name in ("v", "w"))
    # They lie on the same strips, so that what one leaves the other can have.
    second = replace(second, plies=(replace(second.whole, placement=first.whole.placement),))
    view = replace(view, volumes=(first, second))
    counted = [600.0, 400.0, 600.0 * 16384, 400.0 * 16384, 0, 0, 0, 0, 90_000.0]
    pace = Pace(work_of(counted, np.zeros_like(Pace().work.times)), 10.0)
    both = {first.number: pace, second.number: pace}

    def done(site: SiteView) -> list[float]:
        found = foretold(site, site.pools[0], both, {})
        return [found[volume.number].operations for volume in (first, second)]

    alone = foretold(view, view.pools[0], {first.number: pace}, {})[first.number].operations
    assert done(view) == pytest.approx([alone / 2, alone / 2])
    parts = [alone * asked / 12_000 for asked in (9000, 3000)]
    for limit in ({"operations": 3000}, {"throughput": 3000 * 16384}):
        little = replace(second, **limit)
        assert done(replace(view, volumes=(first, little))) == pytest.approx(parts, rel=1e-6)
    # A limit below what the disks do is all that it gets; with nobody beside it, all of that.
    tight = replace(second, operations=round(alone / 3))
    only = {second.number: pace}
    found = foretold(replace(view, volumes=(first, tight)), view.pools[0], only, {})
    assert found[second.number].operations == pytest.approx(tight.operations)
    # A request takes a server of its disk 8 ms and what its bytes take at 180 MB a second.
    rows = view.rows(first.whole).reshape(-1)
    busiest = np.bincount(rows[rows < len(view.disks)]).max() / len(rows)
    each = 0.008 + 16384 / 180e6
    assert alone == pytest.approx(0.98 / (busiest * (0.6 + 0.4 * 2) * each), rel=1e-6)


def test_ports_hold_back_what_disks_would_do(slow: Site) -> None:
    slow.do("create-volume", name="v", pool="quayside", size="1 TB", copies=2, level="node")
    view = current_view()
    volume = view.volume("v")
    counted = [1000.0, 0.0, 1000.0 * (1 << 20), 0.0, 0, 0, 0, 0, 90_000.0]
    pace = {volume.number: Pace(work_of(counted, np.zeros_like(Pace().work.times)), 10.0)}
    narrow = tuple(replace(node, port_bytes_per_second=1 << 20) for node in view.nodes)
    found = foretold(replace(view, nodes=narrow), view.pools[0], pace, {})[volume.number]
    rows = view.rows(volume.whole).reshape(-1)
    busiest = np.bincount(view.disk_node[rows]).max() / len(rows)
    assert found.operations == pytest.approx(0.98 / busiest, rel=1e-6)
    untold = tuple(replace(node, port_bytes_per_second=0) for node in view.nodes)
    free = foretold(replace(view, nodes=untold), view.pools[0], pace, {})[volume.number]
    assert free.operations > 10 * found.operations


def test_what_an_agent_does_not_count_of_what_was_asked_for_is_what_was_done() -> None:
    told = {name: 3.0 for name in COUNTED if name != "wanted"} | {"times": [0.0] * (len(BOUNDS) + 1)}
    assert _work(told).wanted == 6.0
    assert _work({**told, "wanted": 9.0}).asked_for == 9.0
    assert _work({**told, "wanted": 0.0}).asked_for == 6.0


def test_a_volume_that_others_keep_waiting_is_expected_to_wait(slow: Site) -> None:
    for name in ("v", "w"):
        slow.do("create-volume", name=name, pool="quayside", size="1 TB", copies=2, level="node")
    slow.yard.machines.consumers = 40.0
    live(slow, HeatTaker(), 300)
    view, both = current_view(), paces()
    one = view.volume("v").number
    together = foretold(view, view.pools[0], both, heats())[one]
    alone = foretold(view, view.pools[0], {one: both[one]}, heats())[one]
    assert together.mean is not None
    assert alone.mean is not None
    assert together.mean > 1.05 * alone.mean


def test_a_lost_disk_makes_it_slower_than_foretold_and_the_page_says_by_how_much(slow: Site) -> None:
    save(slow, name="p", level="node", data=2, parity=1)
    slow.do("create-volume", name="v", policy="p", size="2 TB")
    machines, taker = slow.yard.machines, HeatTaker()
    machines.consumers = 50.0
    machines.pulled |= {disk.serial for disk in machines.nodes["gannet"].disks if disk.media == "hdd"}
    live(slow, taker, 600)
    view = current_view()
    [told] = measured_out(view, view.policy("p"), heats(), paces())
    page = heat_out(view, view.volume("v"), None, pace_of("v")).pace
    rows = {row.of: row for row in told.compared}
    assert list(rows) == ["operations", "mean", "late", "disk operations", "disk bytes"]
    mean = rows[Compared.MEAN]
    assert mean.measured is not None
    assert mean.expected is not None
    assert mean.off == pytest.approx(mean.measured / mean.expected - 1)
    assert mean.off > 0.1
    assert page.mean_seconds == mean.measured
    assert page.operations_per_second == pytest.approx(pace_of("v").a_second(pace_of("v").work.operations))
    assert page.block_bytes == pytest.approx(workload_of(view.volume("v").whole.number).block_bytes, rel=1e-4)


@pytest.mark.pooled
def test_of_what_has_not_all_its_strips_it_is_foretold_by_those_that_are_there(barn_site: Site) -> None:
    barn_site.volume(copies=3, level="rack")
    at_hour(barn_site.yard.machines, 8)
    live(barn_site, HeatTaker(), 60)
    view, whole = current_view(), expected("charts")
    volume = view.volume("charts")
    placement = volume.whole.placement.copy()
    placement[:40, 1] = 0  # on no disk
    short = replace(volume, plies=(replace(volume.whole, placement=placement),))
    view = replace(view, volumes=(short,))
    assert (view.rows(short.whole) == len(view.disks)).sum() == 40
    found = foretold(view, view.pools[0], paces(), heats())[volume.number]
    assert found.mean == pytest.approx(whole.mean, rel=0.05)
    assert found.disk_operations == whole.disk_operations


@pytest.mark.pooled
def test_a_node_that_was_silent_tells_later_and_one_that_was_restarted_tells_nothing_of_before(
    barn_site: Site,
) -> None:
    barn_site.volume()
    machines, taker = barn_site.yard.machines, HeatTaker()
    at_hour(machines, 13)  # between two rushes: as much is asked in each of these minutes
    machines.consumers = 50.0  # so much that whole operations, as nodes tell them, are next to nothing
    live(barn_site, taker, 60)
    before = pace_of("charts").work.operations
    assert before > 0
    machines.answers["petrel"] = "garbled"
    live(barn_site, taker, 60)
    with pytest.raises(Garbled):
        Agent(barn_site.yard.agent("petrel")).asked()
    machines.answers["petrel"] = "well"
    live(barn_site, taker, 60)
    third = pace_of("charts").work.operations
    assert third == pytest.approx(3 * before, rel=0.1)  # a little of it is forgotten
    machines.work["petrel"].clear()
    machines.work["fulmar"].clear()
    live(barn_site, taker, 60)
    assert third < pace_of("charts").work.operations < third + before


@pytest.mark.pooled
def test_what_is_not_asked_of_anything_has_no_times(barn_site: Site) -> None:
    barn_site.yard.machines.consumers = 0.0
    barn_site.volume()
    live(barn_site, HeatTaker(), 60)
    assert pace_of("charts").mean is None
    view = current_view()
    assert foretold(view, view.pools[0], paces(), {}) == {}
    page = heat_out(view, view.volume("charts"), None, pace_of("charts")).pace
    assert page.operations_per_second == 0
    assert (page.reads, page.block_bytes, page.mean_seconds, page.late_seconds) == (None, None, None, None)


@pytest.mark.parametrize(
    "totals", [-np.ones(len(COUNTED) + len(BOUNDS) + 1), np.zeros(len(COUNTED) + 3), np.zeros(2)]
)
def test_totals_that_are_none_are_not_believed(barn_site: Site, totals: Reals) -> None:
    barn_site.yard.machines.work["petrel"][3] = totals
    with pytest.raises(Garbled, match="in another shape"):
        Agent(barn_site.yard.agent("petrel")).asked()


def test_a_landing_takes_the_writes_and_what_settles_counts_once_it_has(barn_site: Site) -> None:
    barn_site.pool(
        disks=barn_site.disks("hdd", nodes=PLATTERS) + barn_site.disks("nvme", nodes=PLATTERS),
        serves="fast tier",
    )
    save(barn_site, name="lands", data=2, parity=1, level="node", landing=5)
    barn_site.do("create-volume", name="v", policy="lands", size="2 TB")
    machines = barn_site.yard.machines
    at_hour(machines, 8)
    live(barn_site, HeatTaker(), 300)
    pace, said = pace_of("v"), expected("v")
    assert said.disk_bytes == pytest.approx(2 + 3 / 2)
    assert pace.work.disk_written_bytes / pace.work.written_bytes == pytest.approx(2.0, rel=0.01)
    reads = pace.work.reads / pace.work.operations
    assert said.disk_operations == pytest.approx(reads + 2 * (1 - reads))
    # What the bench says is written to the fast tier in a day is what its disks count.
    work = pace.work
    load = Load(pace.a_second(work.operations), work.reads / work.operations, round(_block(pace)))
    view = current_view()
    [row] = lay_side_by_side(view, view.pools[0], [Scheme(2, 1, Level.NODE)], load)
    assert row.life is not None
    fast = [view.disks[at].serial for at in view.in_pool(view.pools[0], Tier.FAST).tolist()]
    at_hour(machines, 8)  # the same hour, of another day
    before_it = sum(machines.counters[serial].written_bytes for serial in fast)
    for _ in range(100):
        serve(machines, 1.0)
    a_day = (sum(machines.counters[serial].written_bytes for serial in fast) - before_it) * 864
    assert a_day == pytest.approx(row.life.endurance.daily_bytes * len(fast), rel=0.02)
    [landing] = machines.landings.values()
    landing.waiting = float(10 * GIB)
    view = current_view()

    taker = HeatTaker()
    live(barn_site, taker, 1)
    before = pace_of("v").work.disk_written_bytes
    settle(machines, landing, float(10 * GIB))
    live(barn_site, taker, 1)
    assert pace_of("v").work.disk_written_bytes - before == pytest.approx(15 * GIB, rel=0.02)
    assert view.volume("v").landing is not None
