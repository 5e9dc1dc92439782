"""What the stand-ins' disks and ports do for consumers, against what can be said of it beforehand."""

from __future__ import annotations

import numpy as np
import pytest
from test_yard import serial

from foldbarn.core.pools.media import PROFILES
from foldbarn.core.units import GIB
from foldbarn.core.volumes.pace import COUNTED, Pace, work_of
from foldbarn.yard import agent
from foldbarn.yard.consumers import operations_a_second, workload_of
from foldbarn.yard.fluid import advance, tick
from foldbarn.yard.machines import Landing, Machines, PlyFacts
from foldbarn.yard.scenario import skerry_ferries
from foldbarn.yard.serving import FULL, busy_part, serve

PLATTERS = [f"{node}-{bay}" for node in ("gannet", "dunlin", "whimbrel") for bay in (1, 2, 3)]
EXTENTS = 60


def holding(disks: list[str], width: int, data: int = 1, ply: int = 1) -> Machines:
    """EXTENTS extents of so many strips, in turn on these disks; at the height of a rush."""
    machines = Machines(skerry_ferries())
    machines.plies[str(ply)] = PlyFacts(GIB, 0.0, ply, data)
    for extent in range(EXTENTS):
        for strip in range(width):
            disk = disks[(extent * width + strip) % len(disks)]
            machines.add_strip(serial(machines, disk), (ply, extent, strip))
    machines.clock = (8 + workload_of(ply).late) * 3600.0
    return machines


def wanted(data: int = 1, ply: int = 1) -> float:
    return float(operations_a_second(ply, np.arange(EXTENTS), data).sum())


def told(machines: Machines, ply: int = 1) -> dict[str, float]:
    """What all nodes tell together."""
    total = sum(of_node[ply] for of_node in machines.work.values() if ply in of_node)
    return dict(zip(COUNTED, np.asarray(total)[: len(COUNTED)].tolist(), strict=True))


@pytest.mark.parametrize(
    ("width", "data", "reads", "writes"),
    # Disks' reads and writes for one write: copies; parity in place, at penalties 4 and 6 (common practice),
    # or by reading the other strips of data where these are fewer.
    [(1, 1, 0, 1), (3, 1, 0, 3), (5, 4, 2, 2), (6, 4, 3, 3), (3, 2, 1, 2)],
)
def test_operations_take_of_disks_what_the_handbooks_say(
    width: int, data: int, reads: float, writes: float
) -> None:
    machines, load = holding(PLATTERS, width, data), workload_of(1)
    serve(machines, 10.0)
    found, height = told(machines), load.height(machines.clock)
    asked = 10.0 * wanted(data) * height
    assert found["reads"] == pytest.approx(asked * load.reads)
    assert found["writes"] == pytest.approx(asked * (1 - load.reads))
    assert found["disk_reads"] == pytest.approx(found["reads"] + reads * found["writes"])
    assert found["disk_writes"] == pytest.approx(writes * found["writes"])
    assert found["disk_written_bytes"] == pytest.approx(writes * found["written_bytes"])
    assert found["read_bytes"] == pytest.approx(found["reads"] * load.block_bytes)
    assert machines.asked["1"] == pytest.approx(10.0 * height)
    written = sum(machines.counters[serial(machines, d)].written_bytes for d in PLATTERS)
    assert written == pytest.approx(found["disk_written_bytes"])


def test_what_was_written_between_two_looks_is_asked_for_as_soon_as_a_test_lets_time_pass() -> None:
    machines = holding(PLATTERS, 1)
    advance(machines, 1.0)
    there = machines.load.volumes[1].rate
    for extent in range(EXTENTS, 2 * EXTENTS):
        machines.add_strip(serial(machines, PLATTERS[extent % len(PLATTERS)]), (1, extent, 0))
    tick(machines, 0.01)  # which does not look: it has just been done
    assert machines.load.volumes[1].rate == there == pytest.approx(wanted())
    machines.limits["gannet"] = {"1": (4.0, 0.0)}
    machines.load.summed_at = None
    before = machines.asked["1"]
    advance(machines, 60.0)
    rate = operations_a_second(1, np.arange(2 * EXTENTS), 1).sum()
    assert machines.load.volumes[1].rate == pytest.approx(rate)
    assert (machines.asked["1"] - before) * rate == pytest.approx(4.0 * 60)


def test_what_is_out_is_read_from_the_others_and_what_cannot_be_read_is_not_asked_for() -> None:
    machines = holding(PLATTERS, 2)
    serve(machines, 10.0)
    before = told(machines)["reads"]
    machines.power["gannet"] = False
    serve(machines, 10.0)
    extents: dict[int, int] = {}
    for disk in PLATTERS[3:]:
        for _, extent, _ in machines.strips[serial(machines, disk)]:
            extents[extent] = extents.get(extent, 0) + 1
    left = operations_a_second(1, np.array(sorted(extents)), 1).sum()
    assert 0 < left < wanted()
    assert told(machines)["reads"] - before == pytest.approx(before * left / wanted())
    assert busy_part(machines, serial(machines, "gannet-1")) == 0


def test_parity_that_lacks_a_strip_reads_as_many_others_as_there_are_of_data() -> None:
    machines = holding(PLATTERS, 3, 2)
    serve(machines, 10.0)
    before = told(machines)
    machines.pulled.add(serial(machines, PLATTERS[0]))
    serve(machines, 10.0)
    after = {name: value - before[name] for name, value in told(machines).items()}
    assert after["reads"] == pytest.approx(before["reads"])
    lost = [e for e in range(EXTENTS) for s in range(2) if PLATTERS[(e * 3 + s) % 9] == PLATTERS[0]]
    short = operations_a_second(1, np.array(lost), 2).sum() / 2 / wanted(2)
    assert short > 0
    more = before["reads"] * short  # two reads in the place of one
    in_place = before["disk_reads"] - before["reads"]
    assert after["disk_reads"] - in_place == pytest.approx(before["reads"] + more, rel=1e-6)


def test_what_is_on_its_way_and_there_twice_is_read_in_either_place() -> None:
    machines = holding(PLATTERS, 3, 2)
    serve(machines, 10.0)
    before = told(machines)
    machines.add_strip(serial(machines, PLATTERS[4]), (1, 0, 0))
    for _ in range(11):
        serve(machines, 1.0)
    load = machines.load
    assert load.busy.min() >= 0
    [volume] = load.volumes.values()
    [part] = volume.parts
    assert part.reads.min() >= 0
    assert told(machines)["reads"] - before["reads"] == pytest.approx(1.1 * before["reads"])


def test_a_disk_does_no_more_than_it_can_and_holds_back_only_who_needs_it() -> None:
    machines = holding(PLATTERS[:1], 1)
    for extent in range(EXTENTS):
        machines.plies["2"] = PlyFacts(GIB, 0.0, 2, 1)
        machines.add_strip(serial(machines, "fulmar-1"), (2, extent, 0))
    machines.consumers = 100.0
    serve(machines, 1.0)
    assert busy_part(machines, serial(machines, PLATTERS[0])) == pytest.approx(FULL)
    got = machines.load.volumes
    assert got[1].height < workload_of(1).height(machines.clock) * 100
    assert got[2].height == pytest.approx(workload_of(2).height(machines.clock) * 100)
    platters = PROFILES["hdd"]
    service = platters.access_seconds + workload_of(1).block_bytes / platters.bytes_per_second
    assert got[1].height * got[1].rate == pytest.approx(FULL / service, rel=1e-3)


def test_a_port_carries_no_more_than_it_can() -> None:
    machines = holding(["fulmar-1"], 1)
    for port in machines.nodes["fulmar"].ports:
        port.megabits = 1
    machines.consumers = 1000.0
    serve(machines, 1.0)
    out = told(machines)["read_bytes"]
    assert out == pytest.approx(FULL * 2 * 1_000_000 / 8, rel=1e-3)  # two ports for storage


def test_what_lands_is_written_there_and_nowhere_else_at_once() -> None:
    machines = holding(PLATTERS, 3, 2)
    machines.landings["7"] = Landing(lands_for=1, bytes=EXTENTS * 2 * GIB, copies=2)
    machines.plies["7"] = PlyFacts(GIB, 0.0, 7, 1)
    for extent in range(6):
        for strip, node in enumerate(("gannet", "dunlin")):
            machines.add_strip(serial(machines, f"{node}-c1"), (7, extent, strip))
    serve(machines, 10.0)
    assert told(machines)["writes"] == told(machines)["disk_writes"] == 0
    landed = told(machines, 7)
    assert landed["writes"] == pytest.approx(
        10.0 * wanted(2) * workload_of(1).height(machines.clock) * (1 - workload_of(1).reads)
    )
    assert landed["disk_writes"] == pytest.approx(2 * landed["writes"])
    # Taken away again, what is written goes where it belongs.
    for extent in range(6):
        for strip, node in enumerate(("gannet", "dunlin")):
            machines.drop_strip(serial(machines, f"{node}-c1"), (7, extent, strip))
    machines.landings.clear()
    for _ in range(11):
        serve(machines, 1.0)
    assert told(machines)["writes"] > 0


@pytest.mark.parametrize("busy", [0.3, 0.7])
def test_times_are_those_of_one_server(busy: float) -> None:
    """Pollaczek and Khinchine, 1930: waits of one server by the first two moments of what it does; getting
    there takes exponentially long, moving always the same.
    """
    machines = holding(PLATTERS[:1], 1)
    platters, block = PROFILES["hdd"], workload_of(1).block_bytes
    moved = block / platters.bytes_per_second
    service = platters.access_seconds + moved
    machines.consumers = busy / service / wanted() / workload_of(1).height(machines.clock)
    for _ in range(3000):
        serve(machines, 1.0)
    totals = machines.work["gannet"][1]
    pace = Pace(work_of(totals[: len(COUNTED)], totals[len(COUNTED) :]), 3000.0)
    second = platters.access_seconds**2 + service**2  # variance and the square of the mean
    mean = service + busy / service * second / 2 / (1 - busy)
    assert pace.mean == pytest.approx(mean, rel=0.05)
    assert busy_part(machines, serial(machines, PLATTERS[0])) == pytest.approx(busy)
    assert totals[len(COUNTED) :].sum() == pytest.approx(pace.work.operations, rel=0.01)


def test_a_node_tells_it_in_whole_numbers_and_what_is_gone_is_not_told() -> None:
    machines = holding(PLATTERS, 2)
    for _ in range(20):
        serve(machines, 1.0)
    [said] = agent.asked(machines, "gannet")["work"].values()
    assert set(said) == {*COUNTED, "times"}
    assert all(isinstance(count, int) for count in [*said["times"], *(said[n] for n in COUNTED)])
    for disk in PLATTERS:
        for strip in list(machines.strips[serial(machines, disk)]):
            machines.drop_strip(serial(machines, disk), strip)
    for _ in range(11):
        serve(machines, 1.0)
    assert agent.asked(machines, "gannet")["work"] == {}
    assert not machines.load.read.any()
