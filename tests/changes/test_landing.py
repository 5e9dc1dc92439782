"""Landings: what is written first gathers on copies on the fast tier, and settles as whole stripes."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site, at_hour, stand_still
from sqlalchemy import update
from test_changes import Killed, find_again, held, lose, should_hold
from test_cluster import hear
from test_leaving import mixed_pool
from test_policies import plan_of, refusals, save

from foldbarn.changes.engine.effects import Sums
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.policies import keep_policy
from foldbarn.changes.kinds.pools.rebuild import DropOld
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.policies.matching import Wish, against, room_for
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import Purpose, SiteView, Tier, Volume
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.services import changes, watching
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import DiskRow
from foldbarn.store.views import current_view
from foldbarn.yard import fluid
from foldbarn.yard.agent import take_order
from foldbarn.yard.council import BadOrder
from foldbarn.yard.serving import serve

LANDS = {"name": "land-and-settle", "data": 2, "parity": 1, "level": "node", "landing": 10}
PLAINLY = {"volumes": ["cameras"], "policy": "plain"}
PLAIN = {"name": "plain", "data": 2, "parity": 1, "level": "node"}


def the(name: str = "cameras") -> Volume:
    return current_view().volume(name)


def is_there(site: Site, view: SiteView, volume: Volume) -> None:
    """Every strip of every ply lies where it is placed, and nothing else lies anywhere."""
    serials = {d.number: d.serial for d in view.disks}
    for ply in volume.plies:
        for (extent, strip), disk in np.ndenumerate(ply.placement):
            assert (ply.number, extent, strip) in site.yard.machines.strips[serials[int(disk)]]
    assert held(site) == should_hold()


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"copies": 2, "landing": 5}, "only parity gains by a landing"),
        ({"data": 2, "parity": 1, "landing": 51}, "between 1 and 50 % of a volume, not 51 %"),
        ({"data": 2, "parity": 1, "landing": -1}, "not -1 %"),
        ({"data": 2, "parity": 1, "landing": 5, "fast": True}, "on the fast tier already"),
    ],
)
def test_a_landing_that_makes_no_sense_is_refused(barn_site: Site, wish: dict[str, Any], says: str) -> None:
    assert says in " ".join(refusals("save-policy", name="p", **wish))


@pytest.mark.pooled
def test_a_pool_without_a_fast_tier_cannot_keep_it(barn_site: Site) -> None:
    [said] = plan_of("save-policy", **LANDS).blockers
    assert "quayside has no fast tier for its landing" in said.sentence
    assert said.next_step == (
        "Leave the landing out, or form a pool of two media classes. Or save it as a draft."
    )


def test_it_lands_on_as_many_copies_as_parity_survives_losses_and_one_more(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    plan = plan_of("save-policy", **LANDS)
    assert plan.summary == (
        "Strips of 2 and 1 of parity, each in another node; survives the loss of any one node. Lands as 2 "
        "copies on the fast tier first, in 10 % of its size. Kept by quayside."
    )
    save(barn_site, **LANDS)
    foreseen = plan_of("create-volume", name="cameras", policy="land-and-settle", size="100 GiB")
    rows = {row.label: row.after for e in foreseen.effects if isinstance(e, Sums) for row in e.rows}
    assert rows["Landing on the fast tier"].value == 2 * 10 * 2**30
    number = barn_site.do("create-volume", name="cameras", policy="land-and-settle", size="100 GiB")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view, volume = current_view(), the()
    whole, landing = volume.plies
    assert (whole.purpose, whole.scheme, whole.tier) == (
        Purpose.WHOLE,
        Scheme(2, 1, Level.NODE),
        Tier.BULK,
    )
    assert (landing.purpose, landing.scheme, landing.tier, landing.extents) == (
        Purpose.LANDING,
        Scheme(1, 1, Level.NODE),
        Tier.FAST,
        10,
    )
    assert view.disk_fast[view.rows(landing)].all()
    is_there(barn_site, view, volume)
    assert conformance(view, volume).standing == Standing.KEPT
    ledger = pool_space(view, view.pools[0]).ledger
    assert ledger.landing == 2 * 10 * 2**30
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw
    # Any node may go: neither what has settled nor what waits is out of reach.
    for node in sorted({view.nodes[n].name for n in view.disk_node[view.in_pool(view.pools[0])].tolist()}):
        lose(barn_site, node)
        assert fate_of(current_view(), the()).state in (DataState.WHOLE, DataState.REDUCED, DataState.BARE)
        find_again(barn_site, node)


def test_what_consumers_write_gathers_there_and_settles(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    machines = barn_site.yard.machines
    stand_still(machines)
    barn_site.do("create-volume", name="cameras", policy="land-and-settle", size="100 GiB")
    [(ply, found)] = machines.landings.items()
    assert int(ply) == the().landing.number
    assert (found.lands_for, found.bytes, found.copies) == (the().whole.number, 100 * 2**30, 2)
    fast = {s for s, held in machines.held.items() if held[int(ply)]}
    bulk = set(machines.holding(found.lands_for))
    assert not fast & bulk
    before = {s: c.written_bytes for s, c in machines.counters.items()}
    at_hour(machines, 8, times=20.0)  # the morning's rush, and more
    serve(machines, 0.0)
    for _ in range(60):
        for serial, serves in zip(machines.load.disks, machines.load.written.tolist(), strict=True):
            machines.counters[serial].written_bytes += 10.0 * serves
        fluid._land(machines, 10.0)
    landed, settled = (
        sum(machines.counters[s].written_bytes - before[s] for s in serials) for serials in (fast, bulk)
    )
    came = landed / 2  # two copies of it
    assert found.waiting > 0
    # What came is what waits and what has settled, which takes three strips for two of data.
    assert came == pytest.approx(found.waiting + settled * 2 / 3)
    assert found.waiting <= 10 * 2**30
    hear(barn_site)
    watching.sum_written()
    assert the().waiting_bytes == pytest.approx(found.waiting, rel=0.05)
    # Nobody writes any more: all of it settles.
    machines.consumers = 0.0
    serve(machines, 0.0)
    for _ in range(400):
        fluid._land(machines, 100.0)
    assert found.waiting < 0.02 * came


def test_a_landing_is_given_to_a_volume_in_use_and_taken_back(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    save(barn_site, **PLAIN)
    barn_site.do("create-volume", name="cameras", policy="plain", size="60 GiB")
    whole = the().whole.number
    given = barn_site.do("keep-policy", volumes=["cameras"], policy="land-and-settle")
    assert barn_site.state(given) == "done", barn_site.problem(given)
    assert the().whole.number == whole  # nothing of it had to be written anew
    assert the().landing.extents == 6
    assert not the().landing.forming
    is_there(barn_site, current_view(), the())
    assert conformance(current_view(), the()).standing == Standing.KEPT
    machines = barn_site.yard.machines
    machines.landings[str(the().landing.number)].waiting = 5e9
    before = sum(c.written_bytes for c in machines.counters.values())
    foreseen = plan_of("keep-policy", volumes=["cameras"], policy="plain")
    rows = {row.label: row for e in foreseen.effects if isinstance(e, Sums) for row in e.rows}
    bulk, fast = (rows[f"Free in quayside, {tier} tier"] for tier in ("bulk", "fast"))
    assert bulk.before == bulk.after  # each tier's account is its own
    assert fast.before.value < fast.after.value
    taken = barn_site.do("keep-policy", volumes=["cameras"], policy="plain")
    assert barn_site.state(taken) == "done", barn_site.problem(taken)
    assert the().landing is None
    is_there(barn_site, current_view(), the())
    # What waited has settled before its place was let go of.
    assert sum(c.written_bytes for c in machines.counters.values()) - before >= 5e9 * 3 / 2
    assert all(not found.waiting for found in machines.landings.values())


@pytest.mark.parametrize(
    ("first", "second", "where"),
    [
        ("plain", "land-and-settle", (keep_policy.SetLandings, "carry_out")),
        ("plain", "land-and-settle", (keep_policy, "read_back")),
        ("land-and-settle", "plain", (DropOld, "carry_out")),
    ],
)
def test_withdrawn_it_has_the_landing_that_it_had(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch, first: str, second: str, where: tuple[Any, str]
) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    save(barn_site, **PLAIN)
    barn_site.do("create-volume", name="cameras", policy=first, size="40 GiB")
    had = the().landing
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["cameras"], "policy": second})

    def die(*_: Any) -> None:
        raise Killed

    monkeypatch.setattr(*where, die)
    with pytest.raises(Killed):
        run_change(number)
    monkeypatch.undo()
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn", barn_site.problem(number)
    assert (the().landing is None) == (had is None)
    barn_site.do("rebuild", pool="quayside")  # which a duty starts: what nothing needs is dropped
    is_there(barn_site, current_view(), the())
    stands = conformance(current_view(), the())
    assert stands is not None
    assert stands.standing == Standing.KEPT


def test_copies_become_parity_with_a_landing_and_go_back(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    save(barn_site, name="pair", copies=2, level="node")
    barn_site.do("create-volume", name="cameras", policy="pair", size="40 GiB")
    for policy, extents in (("land-and-settle", 4), ("pair", 0)):
        number = barn_site.do("keep-policy", volumes=["cameras"], policy=policy)
        assert barn_site.state(number) == "done", barn_site.problem(number)
        assert (the().landing.extents if the().landing else 0) == extents
        is_there(barn_site, current_view(), the())
        assert conformance(current_view(), the()).standing == Standing.KEPT


def test_a_landing_is_rebuilt_and_moved_like_the_rest(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    barn_site.do("create-volume", name="cameras", policy="land-and-settle", size="100 GiB")
    view = current_view()
    disk = next(d for d in view.disks if d.number == int(the().landing.placement[0, 0]))
    number = barn_site.do("retire", what="disk", names=[disk.name])
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert disk.number not in the().landing.placement
    is_there(barn_site, current_view(), the())
    number = barn_site.erase("cameras")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert barn_site.yard.strips() == 0


def test_the_most_that_a_pool_takes_is_what_its_fast_tier_has_room_to_land(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS | {"landing": 50})
    view = current_view()
    pool, wishes = view.pools[0], view.policy("land-and-settle").wishes
    room = room_for(view, pool, wishes)
    assert room.for_landing
    assert against(view, pool, wishes, room.bytes) == []
    [one] = against(view, pool, wishes, room.bytes + pool.allocation_bytes)
    assert one.wish == Wish.LANDING
    plain = room_for(view, pool, replace(wishes, landing=0))
    assert plain.bytes > room.bytes
    assert not plain.for_landing


def test_without_power_nothing_lands_and_what_waits_goes_on_waiting(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    machines = barn_site.yard.machines
    stand_still(machines)
    barn_site.do("create-volume", name="cameras", policy="land-and-settle", size="40 GiB")
    [found] = machines.landings.values()
    found.waiting = 3e9
    at_hour(machines, 8)
    machines.power.update(dict.fromkeys(machines.power, False))
    before = sum(c.written_bytes for c in machines.counters.values())
    fluid._land(machines, 600.0)
    assert found.waiting == 3e9
    assert sum(c.written_bytes for c in machines.counters.values()) == before


def test_while_a_node_is_silent_that_is_to_take_some_a_landing_waits_for_it_by_name(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    save(barn_site, **PLAIN)
    barn_site.do("create-volume", name="cameras", policy="plain", size="60 GiB")
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["cameras"], "policy": "land-and-settle"})
    barn_site.yard.machines.power["petrel"] = False  # between the look and the step, and nobody has noticed
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "petrel" in barn_site.problem(number)
    assert the().landing.forming
    barn_site.yard.machines.power["petrel"] = True
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert not the().landing.forming
    is_there(barn_site, current_view(), the())


def test_nothing_that_waits_is_let_go_of_while_it_has_nowhere_to_settle(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    machines = barn_site.yard.machines
    stand_still(machines)
    barn_site.do("create-volume", name="cameras", policy="land-and-settle", size="40 GiB")
    [(ply, found)] = machines.landings.items()
    found.waiting = 3e9
    serial = next(s for s, strips in machines.held.items() if strips[int(ply)])
    strips = sorted(strip for strip in machines.strips[serial] if strip[0] == int(ply))
    order = {"id": "x", "kind": "drop", "strips": {serial: [list(strip) for strip in strips]}}
    machines.pulled |= set(machines.holding(found.lands_for))
    with pytest.raises(BadOrder, match="nowhere to settle now"):
        take_order(machines, machines.node_of[serial], order)
    assert set(strips) <= machines.strips[serial]
    machines.pulled.clear()
    take_order(machines, machines.node_of[serial], order)
    assert found.waiting == 0
    assert not set(strips) & machines.strips[serial]


def test_where_what_waits_is_gone_for_good_it_is_said_and_there_is_a_way_on(barn_site: Site) -> None:
    """Both disks that hold an extent of the landing are pulled; what is named as a cure is tried."""
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **LANDS)
    save(barn_site, **PLAIN)
    barn_site.do("create-volume", name="cameras", policy="land-and-settle", size="100 GiB")
    early = changes.carry_out(ME, "keep-policy", {"volumes": ["cameras"], "policy": "plain"})
    assert "landing-given-up" not in {w.code for w in plan_of("keep-policy", **PLAINLY).warnings}
    serials = {d.number: d.serial for d in current_view().disks}
    barn_site.yard.machines.pulled |= {serials[n] for n in the().landing.placement[0].tolist()}
    hear(barn_site)
    with transaction() as session:
        session.execute(update(DiskRow).where(DiskRow.present.is_(False)).values(given_up=True))
        announce(session, "site")
    # What was wished for when all of it could settle is not carried out now that some of it cannot.
    run_change(early)
    assert "More of the landing of cameras cannot be read" in barn_site.problem(early)
    stands = conformance(current_view(), the())
    assert stands.standing == Standing.BROKEN
    assert "let it keep a policy without a landing, and this one again" in stands.cure()
    [told] = [w for w in plan_of("keep-policy", **PLAINLY).warnings if w.code == "landing-given-up"]
    assert "of the landing of cameras cannot be read" in told.sentence
    for policy in ("plain", "land-and-settle"):
        number = barn_site.do("keep-policy", volumes=["cameras"], policy=policy)
        assert barn_site.state(number) == "done", barn_site.problem(number)
    assert conformance(current_view(), the()).standing == Standing.KEPT
    assert fate_of(current_view(), the()).state == DataState.WHOLE
