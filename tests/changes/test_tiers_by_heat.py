"""Volumes in two tiers: what is asked for most rises, what gives way falls; policies; faults."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site, begun, stand_still
from sqlalchemy import func, update
from test_changes import Killed, find_again, held, lose, should_hold
from test_leaving import mixed_pool
from test_policies import plan_of, refusals, save

from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.pools.rebuild import DropOld
from foldbarn.changes.kinds.volumes import move_extents
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.policies.shares import LEAST_SECONDS, foreseen
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import Tier, Volume
from foldbarn.core.volumes.heat import Heat
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.services import changes, watching
from foldbarn.services import tiers as duty
from foldbarn.services.heat import HeatTaker
from foldbarn.store import changes as changes_kept
from foldbarn.store import heat as kept
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, HeatRow, VolumeRow
from foldbarn.store.views import current_view

HOT = {"name": "busy-up", "data": 2, "parity": 1, "level": "node", "share": 20}
PLAIN = {"name": "plain", "data": 2, "parity": 1, "level": "node"}
WHEN = ("now", "then")
PAIR = {"name": "pair", "copies": 2, "level": "node"}


def the(name: str = "cameras") -> Volume:
    return current_view().volume(name)


def as_tiered(site: Site) -> None:
    """A volume of 20 extents of two strips of data, of which 4 may lie on the fast tier."""
    mixed_pool(site, serves="fast tier")
    save(site, **HOT)
    number = site.do("create-volume", name="cameras", policy="busy-up", size="40 GiB")
    assert site.state(number) == "done", site.problem(number)


tiered = begun(as_tiered, on="welcomed")


def move(site: Site, tier: str, *extents: int) -> int:
    return site.do("move-extents", volume="cameras", tier=tier, extents=list(extents))


def warm(**rates: list[float]) -> None:
    """Volumes are asked for so often, operations a second of each extent."""
    with transaction() as session:
        found = {}
        for name, rate in rates.items():
            ply = the(name).whole
            full = np.zeros(ply.extents)
            full[: len(rate)] = rate
            counts = np.zeros(ply.extents, dtype=np.int64)
            found[the(name).number] = Heat(ply.scheme.k, counts, full * 600.0, 600.0)
        kept.keep_heat(session, found)


def started() -> list[tuple[dict[str, Any], str]]:
    """Moves that have begun by themselves: what, and why."""
    with transaction() as session:
        rows = session.query(ChangeRow).filter(ChangeRow.kind == "move-extents").order_by(ChangeRow.id)
        return [(row.params, row.reason) for row in rows if row.actor != ME]


def go(site: Site) -> None:
    """One turn of the duty, and what it starts is carried out."""
    duty.move_by_heat()
    with transaction() as session:
        waiting = [row.id for row in session.query(ChangeRow).filter(ChangeRow.state == "waiting")]
    for number in waiting:
        run_change(number)
        assert site.state(number) == "done", site.problem(number)


def lies_well(site: Site, upper: set[int]) -> None:
    """These extents lie on the fast tier, the others on the other; every strip is where it should be, and no
    other is left anywhere.
    """
    view, volume = current_view(), the()
    assert set(np.flatnonzero(volume.upper).tolist()) == upper
    assert volume.anew is None
    whole, hot = volume.whole, volume.hot
    assert hot is not None
    assert view.disk_fast[view.rows(hot)[~hot.unwritten]].all()
    assert not view.disk_fast[view.rows(whole)[~whole.unwritten]].any()
    assert int((~hot.unwritten).sum()) == len(upper) * whole.scheme.k
    assert int((~whole.unwritten).sum()) == whole.extents - len(upper)
    assert fate_of(view, volume).state == DataState.WHOLE
    assert held(site) == should_hold()
    ledger = pool_space(view, view.pools[0]).ledger
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw


def test_extents_go_up_as_copies_and_come_down_as_stripes(tiered: Site) -> None:
    lies_well(tiered, set())
    plan = plan_of("move-extents", volume="cameras", tier="fast", extents=[3, 7])
    assert plan.title == "Move 2 extents of cameras up to the fast tier"
    assert [step.step.name for step in plan.steps] == ["keep-room", "bring", "hold-there", "drop-old"]
    number = move(tiered, "fast", 3, 7)
    assert tiered.state(number) == "done", tiered.problem(number)
    lies_well(tiered, {3, 7})
    hot = the().hot
    assert hot is not None
    assert (hot.scheme, hot.tier) == (Scheme(1, 1, Level.NODE), Tier.FAST)
    assert np.flatnonzero(~hot.unwritten).tolist() == [6, 7, 14, 15]
    assert conformance(current_view(), the()).standing == Standing.KEPT
    assert tiered.state(move(tiered, "fast", 0)) == "done"
    lies_well(tiered, {0, 3, 7})
    assert tiered.state(move(tiered, "bulk", 7, 0)) == "done"
    lies_well(tiered, {3})
    assert tiered.state(move(tiered, "bulk")) == "done"  # all that is there
    lies_well(tiered, set())


def test_two_strips_on_disks_of_each_copy_and_no_more(tiered: Site) -> None:
    """10 on a fast tier and 30 on a bulk tier are 40 (common practice): no byte lies in both."""
    before = tiered.yard.strips()
    assert before == 20 * 3
    move(tiered, "fast", *range(5))
    assert tiered.yard.strips() == 15 * 3 + 5 * 2 * 2
    view = current_view()
    space = pool_space(view, view.pools[0])
    assert space.fast is not None
    assert (space.used, space.fast.used) == (15 * 3, 5 * 2 * 2)
    # Of what its users have written a quarter of it lies there, as of its extents.
    with transaction() as session:
        session.execute(update(VolumeRow).values(written=16 << 30))
        announce(session, "site")
    space = pool_space(current_view(), current_view().pools[0])
    assert space.fast is not None
    assert (space.alone.written, space.fast.ledger.written) == (12 << 30, 4 << 30)


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"share": 91}, "Between 1 and 90 % of a volume"),
        ({"share": -1}, "not -1 %"),
        ({"share": 10, "landing": 5}, "it does not land first"),
    ],
)
def test_a_share_that_makes_no_sense_is_refused(barn_site: Site, wish: dict[str, Any], says: str) -> None:
    assert says in " ".join(refusals("save-policy", **({**PLAIN, **wish})))
    assert "already, however often" in " ".join(refusals("save-policy", **PAIR, share=10, fast=True))


@pytest.mark.pooled
def test_a_pool_without_a_fast_tier_cannot_keep_it(barn_site: Site) -> None:
    assert "quayside has no fast tier for what is asked for most" in " ".join(refusals("save-policy", **HOT))


def test_what_cannot_move_is_refused_with_its_reason(tiered: Site) -> None:
    def why(tier: str, *extents: int, volume: str = "cameras") -> str:
        return " ".join(refusals("move-extents", volume=volume, tier=tier, extents=list(extents)))

    save(tiered, **PAIR)
    tiered.do("create-volume", name="plainly", policy="pair", size="8 GiB")
    move(tiered, "fast", 4)
    assert "keeps no policy by which" in why("fast", 0, volume="plainly")
    assert "All that is meant lies on the fast tier already" in why("fast")
    assert "extents 0 to 19, and no others" in why("fast", 20)
    assert "extents 0 to 19, and no others" in why("fast", -1)
    assert "named twice" in why("fast", 1, 1)
    assert "Of cameras, 4 lies on the fast tier already" in why("fast", 4, 5)
    assert "Of cameras, 5 lies on the bulk tier already" in why("bulk", 5)
    nodes = {
        current_view().nodes[n].name for n in current_view().disk_node[current_view().rows(the().whole)[0]]
    }
    for node in sorted(nodes)[:2]:
        lose(tiered, node, given_up=False)
    assert "cannot be read now" in why("fast", 0)
    for node in sorted(nodes)[:2]:
        find_again(tiered, node)


def test_any_node_may_go_while_some_of_it_lies_there_and_it_is_rebuilt_in_both(tiered: Site) -> None:
    move(tiered, "fast", *range(6))
    upper = set(range(6))
    view = current_view()
    for node in sorted({view.nodes[n].name for n in view.disk_node[view.in_pool(view.pools[0])].tolist()}):
        lose(tiered, node)
        assert fate_of(current_view(), the()).unavailable == 0
        assert tiered.state(tiered.do("rebuild", pool="quayside")) == "done"
        assert fate_of(current_view(), the()).state == DataState.WHOLE
        find_again(tiered, node)
        assert tiered.state(tiered.do("rebuild", pool="quayside")) == "done"
        lies_well(tiered, upper)


def test_the_hottest_rise_up_to_the_share_and_give_way_only_to_what_is_much_hotter(tiered: Site) -> None:
    warm(cameras=[float(20 - e) for e in range(20)])
    go(tiered)
    lies_well(tiered, {0, 1, 2, 3})
    [(params, why)] = started()
    assert params["extents"] == [0, 1, 2, 3]
    assert why == "4 extents of cameras take 74.0 operations a second."  # 20 + 19 + 18 + 17
    go(tiered)
    assert len(started()) == 1  # all lies as it should
    # Somewhat hotter by now: not worth going to and fro.
    warm(cameras=[20.0, 19.0, 18.0, 17.0, 24.0, 24.0])
    go(tiered)
    assert len(started()) == 1
    # Much hotter: what is coldest there makes room first.
    warm(cameras=[20.0, 19.0, 18.0, 17.0, 60.0])
    go(tiered)
    lies_well(tiered, {0, 1, 2})
    assert started()[-1] == (
        {"volume": "cameras", "tier": "bulk", "extents": [3]},
        "1 extent of cameras takes only 17.0 operations a second.",
    )
    go(tiered)
    lies_well(tiered, {0, 1, 2, 4})


def test_nobody_moves_what_nobody_asks_for_or_knows_of(tiered: Site) -> None:
    go(tiered)  # nothing is known
    warm(cameras=[0.0])
    go(tiered)  # nothing is asked for
    with transaction() as session:
        session.execute(update(HeatRow).values(seconds=LEAST_SECONDS / 2))
    warm_briefly = Heat(2, np.zeros(20, dtype=np.int64), np.full(20, 100.0), LEAST_SECONDS / 2)
    with transaction() as session:
        kept.keep_heat(session, {the().number: warm_briefly})
    go(tiered)  # not watched for long enough
    assert started() == []
    lies_well(tiered, set())


def test_an_allowance_bounds_what_moves_in_an_hour(tiered: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    slots = int(current_view().disk_slots[current_view().in_pool(current_view().pools[0], Tier.FAST)].sum())
    monkeypatch.setattr(duty, "ALLOWANCE", 8 / slots)  # strips on disks: two extents up
    warm(cameras=[9.0, 8.0, 7.0, 6.0])
    go(tiered)
    lies_well(tiered, {0, 1})
    go(tiered)
    lies_well(tiered, {0, 1})
    with transaction() as session:  # an hour later
        later = ChangeRow.ended_at - func.make_interval(0, 0, 0, 0, 2)
        session.execute(update(ChangeRow).values(ended_at=later))
    go(tiered)
    lies_well(tiered, {0, 1, 2, 3})


def test_it_waits_while_anything_else_moves_in_the_pool(tiered: Site) -> None:
    warm(cameras=[9.0, 8.0])
    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})
    duty.move_by_heat()
    assert started() == []
    run_change(number)
    go(tiered)
    lies_well(tiered, {0, 1})


def test_heat_of_what_has_risen_is_told_on_from_there(tiered: Site) -> None:
    taker, machines = HeatTaker(), tiered.yard.machines
    stand_still(machines)
    taker.take()
    machines.let_ask(6000.0)
    taker.take()
    with transaction() as session:
        before = kept.read_heat(session, the().number)
    assert before is not None
    hottest = int(before.warmth.argmax())
    machines.speed = 5000.0
    move(tiered, "fast", hottest)
    stand_still(machines)
    taker.take()
    with transaction() as session:
        then = kept.read_heat(session, the().number)
    machines.let_ask(6000.0)
    taker.take()
    with transaction() as session:
        after = kept.read_heat(session, the().number)
    assert then is not None
    assert after is not None
    grown = after.warmth - then.warmth
    assert grown[hottest] == pytest.approx(grown.max(), rel=0.05)
    assert grown[hottest] == pytest.approx(before.warmth[hottest], rel=0.05)


def test_a_volume_in_use_is_given_a_share_and_gives_it_back(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    for policy in (HOT, PLAIN):
        save(barn_site, **policy)
    barn_site.do("create-volume", name="cameras", policy="plain", size="40 GiB")
    assert the().hot is None
    number = barn_site.do("keep-policy", volumes=["cameras"], policy="busy-up")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    lies_well(barn_site, set())
    move(barn_site, "fast", 2, 5)
    lies_well(barn_site, {2, 5})
    plan = plan_of("keep-policy", volumes=["cameras"], policy="plain")
    assert [step.step.name for step in plan.steps][:5] == [
        "keep-room",
        "bring",
        "hold-there",
        "drop-old",
        "adopt",
    ]
    number = barn_site.do("keep-policy", volumes=["cameras"], policy="plain")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert the().hot is None
    assert not the().upper.any()
    assert conformance(current_view(), the()).standing == Standing.KEPT
    assert fate_of(current_view(), the()).state == DataState.WHOLE
    assert held(barn_site) == should_hold()


def test_a_larger_share_takes_hold_without_moving_anything_and_a_smaller_one_lets_the_coldest_fall(
    tiered: Site,
) -> None:
    warm(cameras=[float(20 - e) for e in range(20)])
    go(tiered)
    save(tiered, **{**HOT, "share": 10, "version": 1})
    assert tiered.state(tiered.do("keep-policy", volumes=["cameras"], policy="busy-up")) == "done"
    lies_well(tiered, {0, 1, 2, 3})
    go(tiered)
    lies_well(tiered, {0, 1})


def test_it_is_written_anew_though_some_of_it_lies_on_the_fast_tier(tiered: Site) -> None:
    move(tiered, "fast", 1, 2)
    save(tiered, **{**PAIR, "share": 30})
    number = tiered.do("keep-policy", volumes=["cameras"], policy="pair")
    assert tiered.state(number) == "done", tiered.problem(number)
    assert the().whole.scheme == Scheme(1, 1, Level.NODE)
    lies_well(tiered, set())
    move(tiered, "fast", 30)
    lies_well(tiered, {30})


def test_withdrawn_before_it_is_held_there_nothing_has_moved(
    tiered: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = changes.carry_out(
        ME, "move-extents", {"volume": "cameras", "tier": "fast", "extents": [1, 2, 3]}
    )

    def killed(*_: Any) -> str:
        raise Killed

    monkeypatch.setattr(move_extents.HoldThere, "carry_out", killed)
    with pytest.raises(Killed):
        run_change(number)
    assert the().anew is not None
    assert fate_of(current_view(), the()).state == DataState.WHOLE
    assert not the().upper.any()
    monkeypatch.undo()
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert tiered.state(number) == "withdrawn", tiered.problem(number)
    tiered.do("rebuild", pool="quayside")
    lies_well(tiered, set())
    assert tiered.state(move(tiered, "fast", 1, 2, 3)) == "done"
    lies_well(tiered, {1, 2, 3})


def test_what_nobody_may_use_stays_as_it_lies(tiered: Site) -> None:
    warm(cameras=[9.0, 8.0, 7.0, 6.0] + [0.1] * 16)
    late = changes.carry_out(ME, "move-extents", {"volume": "cameras", "tier": "fast", "extents": [1]})
    with transaction() as session:
        changes_kept.pause(session, late, "Held up.")
    tiered.do("delete-volume", volume="cameras", typed="cameras")
    duty.move_by_heat()
    assert started() == []
    assert refusals("move-extents", volume="cameras", tier="fast", extents=[1]) == ["cameras is in the bin."]
    changes.ask(ME, late, "resume")
    run_change(late)
    assert (tiered.state(late), tiered.problem(late)) == ("withdrawn", "cameras is in the bin.")
    tiered.do("restore-volume", volume="cameras")
    tiered.do("offline-volume", volume="cameras")
    duty.move_by_heat()
    assert started() == []
    tiered.do("offline-volume", volume="cameras", offline=False)
    duty.move_by_heat()
    assert started() != []


def test_a_move_that_another_change_has_made_pointless_ends_by_itself(tiered: Site) -> None:
    save(tiered, **PLAIN)
    first = changes.carry_out(ME, "keep-policy", {"volumes": ["cameras"], "policy": "plain"})
    number = changes.carry_out(ME, "move-extents", {"volume": "cameras", "tier": "fast", "extents": [1]})
    for change, state in ((first, "done"), (number, "withdrawn")):
        run_change(change)
        assert tiered.state(change) == state
    assert the().hot is None
    assert held(tiered) == should_hold()
    save(tiered, **{**HOT, "name": "again"})
    assert tiered.state(tiered.do("keep-policy", volumes=["cameras"], policy="again")) == "done"
    number = changes.carry_out(ME, "move-extents", {"volume": "cameras", "tier": "fast", "extents": [1]})
    with transaction() as session:
        changes_kept.pause(session, number, "Held up.")
    assert tiered.state(tiered.erase("cameras")) == "done"
    changes.ask(ME, number, "resume")
    run_change(number)
    assert tiered.state(number) == "withdrawn"
    assert held(tiered) == should_hold() == set()


def test_withdrawn_after_they_are_held_there_they_stay_and_nothing_is_left_over(
    tiered: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = changes.carry_out(ME, "move-extents", {"volume": "cameras", "tier": "fast", "extents": [1, 2]})

    def killed(*_: Any) -> str:
        raise Killed

    monkeypatch.setattr(DropOld, "carry_out", killed)
    with pytest.raises(Killed):
        run_change(number)
    monkeypatch.undo()
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert tiered.state(number) == "withdrawn", tiered.problem(number)
    watching.start_mending()  # which looks at what has to be looked at
    with transaction() as session:
        waiting = [row.id for row in session.query(ChangeRow).filter(ChangeRow.state == "waiting")]
    assert len(waiting) == 1
    run_change(waiting[0])
    lies_well(tiered, {1, 2})


def test_a_node_lost_for_good_while_they_rise_and_they_are_written_elsewhere(
    tiered: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = changes.carry_out(ME, "move-extents", {"volume": "cameras", "tier": "fast", "extents": [1, 2]})
    real = move_extents.HoldThere.carry_out

    def loses_one_first(step: move_extents.HoldThere, run: Any) -> str:
        anew = the().anew
        if anew is not None and not lost:
            row = int(current_view().rows(anew)[2, 0])
            lost.append(current_view().nodes[int(current_view().disk_node[row])].name)
            lose(tiered, lost[0])
        return real(step, run)

    lost: list[str] = []
    monkeypatch.setattr(move_extents.HoldThere, "carry_out", loses_one_first)
    run_change(number)
    assert lost
    assert tiered.state(number) == "done", tiered.problem(number)
    assert set(np.flatnonzero(the().upper).tolist()) == {1, 2}
    assert fate_of(current_view(), the()).state == DataState.WHOLE
    find_again(tiered, lost[0])
    tiered.do("rebuild", pool="quayside")
    lies_well(tiered, {1, 2})


def test_what_a_share_would_bring_and_take_from_others_is_what_comes_about(tiered: Site) -> None:
    save(tiered, **{**HOT, "name": "other-rises"})
    save(tiered, **{**HOT, "name": "wide-rises", "share": 50})
    tiered.do("create-volume", name="archive", policy="other-rises", size="40 GiB")
    rates = {"cameras": [8.0] * 10 + [1.0] * 10, "archive": [4.0] * 10 + [1.0] * 10}
    warm(**rates)
    go(tiered)
    go(tiered)

    short: list[bool] = []

    def told(share: int, fill_line: float = 0.85) -> dict[str, float]:
        view = current_view()
        view = replace(view, pools=(replace(view.pools[0], fill_line=fill_line), *view.pools[1:]))
        with transaction() as session:
            heat = {number: found for number, (found, _) in kept.read_all(session).items()}
        found = foreseen(view, view.volume("cameras"), heat, share)
        names = [view.volume_numbered(s.volume).name for s in found]
        assert names == ["cameras", "archive"]  # the one that is asked about comes first
        short[:] = [s.short_of_room for s in found]
        return {
            f"{name} {when}": getattr(s, when) for name, s in zip(names, found, strict=True) for when in WHEN
        }

    mine, theirs = 4 * 8 / 90, 4 * 4 / 50
    now = {"cameras now": mine, "archive now": theirs}
    assert told(20) == pytest.approx(now | {"cameras then": mine, "archive then": theirs})
    assert told(0) == pytest.approx(now | {"cameras then": 0.0, "archive then": theirs})
    assert told(50) == pytest.approx(now | {"cameras then": 80 / 90, "archive then": theirs})
    assert short == [False, False]
    # Where there is little more room, what is asked for less gives way to it.
    fast = current_view().in_pool(current_view().pools[0], Tier.FAST)
    used = int(current_view().disk_used[fast].sum())
    tight = told(50, fill_line=(used + 8) / int(current_view().disk_slots[fast].sum()))
    assert tight["cameras then"] > mine
    assert tight["archive then"] < theirs
    assert short == [True, True]
    # And so it comes about.
    foretold = told(50)
    number = tiered.do("keep-policy", volumes=["cameras"], policy="wide-rises")
    assert tiered.state(number) == "done", tiered.problem(number)
    warm(**rates)
    go(tiered)
    came = told(50)
    for name in ("cameras", "archive"):
        assert came[f"{name} now"] == pytest.approx(foretold[f"{name} then"])


def test_each_tier_has_a_protection_of_its_own_where_that_is_wished_for(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, name="own", copies=3, level="node", share=50, share_copies=2)
    assert current_view().policy("own").wishes.survives == 1  # what both of them do
    barn_site.do("create-volume", name="cameras", policy="own", size="10 GiB")
    assert barn_site.state(move(barn_site, "fast", 0, 1)) == "done"
    hot = the().hot
    assert hot is not None
    assert hot.scheme == Scheme(1, 1, Level.NODE)
    assert int((hot.placement > 0).sum()) == 4
    found = conformance(current_view(), the())
    assert found is not None
    assert found.standing == Standing.KEPT
    # As many as the rest has: what lies there comes down first, and rises with another number of copies.
    save(barn_site, name="own", version=1, copies=3, level="node", share=50)
    assert barn_site.state(barn_site.do("keep-policy", volumes=["cameras"], policy="own")) == "done"
    assert barn_site.state(move(barn_site, "fast", 0)) == "done"
    hot = the().hot
    assert hot is not None
    assert int((hot.placement > 0).sum()) == 3
    assert held(barn_site) == should_hold()
