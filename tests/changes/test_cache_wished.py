"""A policy's wish for a cache: who can keep it, what nodes are told, and that they do it."""

from __future__ import annotations

from typing import Any

import pytest
from conftest import Site, at_hour, stand_still
from sqlalchemy import update
from test_changes import find_again, lose
from test_leaving import NODES, held, mixed_pool, should_hold
from test_pace_taken import PLATTERS, expected, live, pace_of
from test_policies import plan_of, refusals, save

from foldbarn.changes.kinds.volumes.create_volume import ABOUT
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.policies.matching import Wish
from foldbarn.core.pools.cache import burst
from foldbarn.core.site import Role
from foldbarn.core.units import KIB
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.services import watching
from foldbarn.services.heat import HeatTaker
from foldbarn.services.limits import tell_limits
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import NodeRow
from foldbarn.store.views import current_view
from foldbarn.yard import consumers, serving
from foldbarn.yard.agent import lose_unsettled

WISH = {"name": "p", "copies": 2, "level": "node"}


def slow_pool(site: Site) -> None:
    """Platters behind cache devices: two devices in each node."""
    site.pool(disks=site.disks("hdd", nodes=PLATTERS) + site.disks("nvme", nodes=PLATTERS))
    at_hour(site.yard.machines, 8)


def kept_as(site: Site, cache: str, size: str = "6 TB", **more: Any) -> None:
    """A volume v by a policy that wishes for such a cache, of which the nodes have been told."""
    stand_still(site.yard.machines)
    save(site, **{**WISH, "cache": cache, **more})
    site.do("create-volume", name="v", policy="p", size=size)
    assert not tell_limits()


def stands() -> Standing:
    view = current_view()
    found = conformance(view, view.volume("v"))
    assert found is not None
    return found.standing


@pytest.mark.pooled
@pytest.mark.parametrize("cache", ["read", "write-back"])
def test_a_pool_without_cache_devices_cannot_keep_it(barn_site: Site, cache: str) -> None:
    [said] = refusals("save-policy", **WISH, cache=cache)
    assert said.startswith("No pool can keep it. quayside has no cache device for 32 disks of fulmar,")
    assert refusals("save-policy", **WISH, cache="none") == []


def test_a_volume_in_a_pool_that_has_none_is_refused_in_a_sentence(barn_site: Site) -> None:
    slow_pool(barn_site)
    save(barn_site, **WISH, cache="read")
    number = barn_site.do("form-pool", name="bare", disks=barn_site.disks("ssd", nodes=NODES), copies=2)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    [said] = refusals("create-volume", name="v", policy="p", size="1 GiB", pool="bare")
    assert said.startswith("bare has no cache device for")
    # Of whatever a pool does not keep, some field of the wish is told.
    assert set(ABOUT) == set(Wish) - {Wish.UNCHANGED, Wish.WHOLE}


def test_what_waits_on_one_device_must_not_be_more_than_may_be_lost(barn_site: Site) -> None:
    mixed_pool(barn_site)
    by_disk = {**WISH, "level": "disk"}
    [said] = refusals("save-policy", **by_disk, cache="write-back")
    assert "One cache device of quayside may hold what waits for 2 strips of an extent" in said
    assert refusals("save-policy", **by_disk, cache="read") == []
    assert refusals("save-policy", **by_disk, cache="write-back", survives=0) == []
    plan = plan_of("save-policy", **WISH, cache="write-back", throughput=200_000_000)
    assert "What is written waits on cache devices, and what is read is cached." in plan.summary
    [row] = next(effect for effect in plan.effects if effect.effect == "pool-answers").rows
    assert row.cache[0].startswith("Writes of 200 MB a second, its limit, never fill its cache:")
    assert "any 1 device may go" in row.cache[1]
    assert (
        not next(
            effect for effect in plan_of("save-policy", **WISH).effects if effect.effect == "pool-answers"
        )
        .rows[0]
        .cache
    )


@pytest.mark.parametrize(
    ("cache", "hits", "on_disks"),
    [("none", False, 2.0), ("read", True, 2.0), ("write-back", True, 4.0), ("memory", True, 2.0)],
)
def test_nodes_do_as_they_are_told_and_it_is_as_quick_as_foretold(
    barn_site: Site, cache: str, hits: bool, on_disks: float
) -> None:
    slow_pool(barn_site)
    kept_as(barn_site, cache, **({"memory": 20} if cache == "memory" else {}))
    machines = barn_site.yard.machines
    assert {does for of in machines.caching.values() for does in of.values()} == {cache}
    machines.consumers = 4.0
    waited = {serial: machines.counters[serial].written_bytes for serial in machines.bound.values()}
    live(barn_site, HeatTaker(), 1200)
    pace, said = pace_of("v"), expected("v")
    assert pace.mean is not None
    assert said.mean is not None
    assert pace.mean == pytest.approx(said.mean, rel=0.25)
    assert pace.work.disk_written_bytes / pace.work.written_bytes == pytest.approx(on_disks, rel=0.01)
    assert said.disk_bytes == pytest.approx(on_disks)
    assert (pace.work.cached_reads > 0) is hits
    assert pace.work.cached_reads / pace.work.reads == pytest.approx(said.cached or 0.0, abs=0.02)
    waits = [machines.counters[serial].written_bytes - so_far for serial, so_far in waited.items()]
    assert (max(waits) > 0) is (cache == "write-back")


def test_volumes_of_a_policy_share_its_room_in_memory(barn_site: Site) -> None:
    """A second volume that is asked for takes its part of the room, and the first one is served less."""
    slow_pool(barn_site)
    kept_as(barn_site, "memory", memory=20, size="3 TB")
    machines = barn_site.yard.machines
    live(barn_site, HeatTaker(), 1200)
    alone = pace_of("v")
    view = current_view()
    node = next(node for node in view.nodes if node.name == PLATTERS[0])
    [told] = set(machines.remembering[node.name].values())
    assert told[1] == node.memory_bytes // 5
    assert barn_site.state(barn_site.do("create-volume", name="w", policy="p", size="3 TB")) == "done"
    assert not tell_limits()
    # Both share one room: it is no larger for there being two.
    assert set(machines.remembering[node.name].values()) == {told}
    machines.work.clear()
    live(barn_site, HeatTaker(), 14_400)
    beside, said = pace_of("v"), expected("v")
    assert beside.work.cached_reads / beside.work.reads < alone.work.cached_reads / alone.work.reads
    assert beside.work.cached_reads / beside.work.reads == pytest.approx(said.cached or 0.0, abs=0.02)


@pytest.mark.pooled
def test_memory_is_given_once(barn_site: Site) -> None:
    memory = {**WISH, "cache": "memory"}
    [said] = refusals("save-policy", **memory)
    assert said == "Between 1 and 25 % of a node's memory may cache a policy's volumes, not 0 %."
    [said] = refusals("save-policy", **WISH, memory=5)
    assert said.startswith("A part of nodes' memory is for what is cached there")
    save(barn_site, **memory, memory=25)
    save(barn_site, **{**memory, "name": "q"}, memory=20)
    third = {**memory, "name": "r"}
    [said] = refusals("save-policy", **third, memory=6)
    assert said.endswith("take 45 % of each node's memory: with this it would be 51 %, and 50 % is the most.")
    assert refusals("save-policy", **third, memory=5) == []
    assert refusals("save-policy", **third, memory=25, draft=True) == []
    # Of a policy that is written anew its newest version counts no more, where no volume keeps that.
    assert refusals("save-policy", **{**memory, "name": "q"}, memory=25, version=1) == []
    barn_site.do("create-volume", name="v", policy="q", size="1 GiB")
    [said] = refusals("save-policy", **{**memory, "name": "q"}, memory=25, version=1)
    assert "with this it would be 70 %" in said


@pytest.mark.pooled
def test_a_node_that_does_not_tell_of_its_memory_gives_none(barn_site: Site) -> None:
    with transaction() as session:
        session.execute(update(NodeRow).where(NodeRow.name == "petrel").values(memory_bytes=0))
        announce(session, "site")
    [said] = refusals("save-policy", **WISH, cache="memory", memory=5)
    assert said.endswith("petrel does not tell how much memory it has.")


@pytest.mark.pooled
def test_who_does_not_lie_on_a_node_needs_nothing_of_its_memory(barn_site: Site) -> None:
    save(barn_site, **WISH, cache="memory", memory=5)
    elsewhere = ["fulmar", "kittiwake", "turnstone"]
    barn_site.do("create-volume", name="v", policy="p", size="1 GiB", only_on=elsewhere)
    with transaction() as session:
        session.execute(update(NodeRow).where(NodeRow.name == "petrel").values(memory_bytes=0))
        announce(session, "site")
    assert stands() == Standing.KEPT


def test_what_is_cached_is_quicker_and_another_wish_moves_nothing(barn_site: Site) -> None:
    slow_pool(barn_site)
    kept_as(barn_site, "none")
    barn_site.yard.machines.consumers = 4.0
    live(barn_site, HeatTaker(), 600)
    bare = pace_of("v").mean
    save(barn_site, **WISH, cache="write-back", version=1)
    plan = plan_of("keep-policy", volumes=["v"], policy="p")
    assert not plan.blockers
    assert "copy" not in {planned.step.name for planned in plan.steps}
    before = held(barn_site)
    assert barn_site.state(barn_site.do("keep-policy", volumes=["v"], policy="p")) == "done"
    assert held(barn_site) == before
    assert not tell_limits()
    barn_site.yard.machines.work.clear()
    live(barn_site, HeatTaker(), 3600)
    assert bare is not None
    assert pace_of("v").mean < 0.7 * bare
    assert stands() == Standing.KEPT


def test_of_a_device_that_is_lost_in_a_burst_the_copies_elsewhere_make_all_of_it_again(
    barn_site: Site,
) -> None:
    mixed_pool(barn_site)
    kept_as(barn_site, "write-back", size="200 GiB")
    barn_site.yard.machines.speed = 5000.0
    view, machines = current_view(), barn_site.yard.machines
    device = view.disk("petrel-c1")
    machines.pulled.add(device.serial)
    lose_unsettled(machines, device.serial)
    watching.note_report(view.nodes[device.node].number, {"inventory_version": "new"})
    assert held(barn_site) != should_hold()
    barn_site.do("rebuild", pool="quayside")
    assert fate_of(current_view(), current_view().volume("v")).state == DataState.WHOLE
    assert held(barn_site) == should_hold()
    assert stands() == Standing.KEPT  # the node's other device serves all its disks
    # With that gone too, disks of the node stand bare, and the promise is not kept.
    other = view.disk("petrel-c2")
    machines.pulled.add(other.serial)
    watching.note_report(view.nodes[device.node].number, {"inventory_version": "newer"})
    barn_site.do("rebuild", pool="quayside")
    found = conformance(current_view(), current_view().volume("v"))
    assert found is not None
    assert found.standing == Standing.BROKEN
    assert "quayside has no cache device for 8 disks of petrel." in found.sentence()


def test_a_burst_fits_for_as_long_as_was_promised_and_then_goes_on_as_it_was(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The stand-ins' consumers only write, everywhere alike: what is said of a burst is tried out on them."""
    alike = consumers.Workload(skew=0.0, reads=0.0, block_bytes=64 * KIB, late=0.0)
    for module in (consumers, serving):
        monkeypatch.setattr(module, "workload_of", lambda _: alike)
    slow_pool(barn_site)
    kept_as(barn_site, "write-back", size="2 TB")
    machines, view = barn_site.yard.machines, current_view()
    usual = burst(view, view.pools[0], view.volume("v").whole.scheme, 1.0)
    assert usual is not None
    said = burst(view, view.pools[0], view.volume("v").whole.scheme, 1.5 * usual.lasting)
    assert said is not None
    assert not said.limited
    serving.serve(machines, 0.0)
    [volume] = machines.load.volumes.values()
    machines.consumers = said.bytes_a_second / (volume.rate * 64 * KIB) / alike.height(machines.clock)

    def written(seconds: float) -> float:
        """Bytes a second that consumers could write for so long."""
        before = machines.asked[str(volume.first)]
        for _ in range(100):
            serving.serve(machines, seconds / 100)
        return (machines.asked[str(volume.first)] - before) * volume.rate * 64 * KIB / seconds

    # Data does not lie quite evenly, and an hour of the day lasts as long as the test likes.
    assert written(0.85 * said.seconds) == pytest.approx(said.bytes_a_second, rel=0.01)
    assert written(0.3 * said.seconds) < 0.98 * said.bytes_a_second
    assert written(0.5 * said.seconds) == pytest.approx(said.lasting, rel=0.1)
    waits = sum(machines.in_cache.values())
    assert waits > 0.9 * said.at_stake
    # Nobody writes any more: all of it goes where it belongs.
    machines.consumers = 0.0
    written(said.seconds * 3)
    assert sum(machines.in_cache.values()) < 0.01 * waits


def test_any_one_device_may_go_as_was_promised(barn_site: Site) -> None:
    mixed_pool(barn_site)
    kept_as(barn_site, "write-back", size="60 GiB")
    machines = barn_site.yard.machines
    for name in [d.name for d in current_view().disks if d.role == Role.CACHE]:
        device = current_view().disk(name)
        before = {serial: set(strips) for serial, strips in machines.strips.items()}
        machines.pulled.add(device.serial)
        lose_unsettled(machines, device.serial)
        lost = [(serial, before[serial] - machines.strips[serial]) for serial in before]
        extents = [extent for _, strips in lost for _, extent, _ in strips]
        assert extents
        assert len(extents) == len(set(extents))  # of each another copy is there
        machines.pulled.discard(device.serial)
        for serial, strips in lost:
            for strip in strips:
                machines.add_strip(serial, strip)


@pytest.mark.parametrize("cache", ["none", "read"])
def test_of_what_does_not_wait_there_nothing_goes_with_a_device(barn_site: Site, cache: str) -> None:
    mixed_pool(barn_site)
    kept_as(barn_site, cache, size="200 GiB")
    machines = barn_site.yard.machines
    before = held(barn_site)
    serial = current_view().disk("petrel-c1").serial
    machines.pulled.add(serial)
    lose_unsettled(machines, serial)
    assert held(barn_site) == before


def test_a_node_knows_the_terms_of_what_it_is_given_from_the_first_moment(barn_site: Site) -> None:
    """Nobody tells nodes but the orders that bring strips: of one the volume is made, of others rebuilt."""
    mixed_pool(barn_site)
    save(barn_site, **WISH, cache="none", operations=40)
    barn_site.do("create-volume", name="v", policy="p", size="20 GiB")
    machines, view = barn_site.yard.machines, current_view()
    ply = view.volume("v").whole.number

    def holds(node: str) -> bool:
        return any(ply == strip[0] for d in machines.inside(node) for strip in machines.strips[d.serial])

    told = [machines.limits[node][str(ply)] for node in NODES if holds(node)]
    assert sum(operations for operations, _ in told) == pytest.approx(40, rel=0.001)
    for node in NODES:
        assert machines.caching[node] == ({ply: "none"} if holds(node) else {})
    lose(barn_site, NODES[0])
    machines.caching.clear()
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    assert any(machines.caching[node] == {ply: "none"} for node in NODES[1:])


def test_a_node_is_told_anew_when_it_was_away(barn_site: Site) -> None:
    mixed_pool(barn_site)
    save(barn_site, **WISH, cache="read")
    save(barn_site, **{**WISH, "name": "bare"}, cache="none")
    barn_site.do("create-volume", name="v", policy="p", size="60 GiB")
    ply = current_view().volume("v").whole.number
    caching = barn_site.yard.machines.caching
    assert not tell_limits()
    lose(barn_site, NODES[0], given_up=False)
    assert barn_site.state(barn_site.do("keep-policy", volumes=["v"], policy="bare")) == "done"
    assert tell_limits()
    assert caching[NODES[0]] == {ply: "read"}
    assert [caching[node] for node in NODES[1:]] == [{ply: "none"}] * len(NODES[1:])
    find_again(barn_site, NODES[0])
    assert not tell_limits()
    assert caching[NODES[0]] == {ply: "none"}
