"""Policies: what they refuse, volumes made by them, and parity that is lost and made again by real agents."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site
from test_changes import find_again, lose

from foldbarn.changes.engine.effects import PoolAnswers, Promise
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.volumes.create_volume import Place
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.rebuild import crowded_strips
from foldbarn.core.policies.bench import lay_side_by_side
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.healing import Want, healing_of
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.services import changes
from foldbarn.store.views import current_view

PARITY = {"name": "two-and-one", "data": 2, "parity": 1, "level": "rack"}


def save(site: Site, **wish: Any) -> int:
    return site.do("save-policy", **wish)


def plan_of(kind: str, **wish: Any) -> Any:
    return KINDS[kind].plan(current_view(), KINDS[kind].params.model_validate(wish))


def refusals(kind: str, **wish: Any) -> list[str]:
    return [b.sentence for b in plan_of(kind, **wish).blockers]


@pytest.mark.pooled
@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"name": "p"}, "protects by copies or by parity"),
        ({"name": "p", "copies": 2, "data": 4, "parity": 1}, "protects by copies or by parity"),
        ({"name": "p", "copies": 0}, "between 1 and 5 copies, not 0"),
        ({"name": "p", "copies": 6}, "between 1 and 5 copies, not 6"),
        ({"name": "p", "data": 0, "parity": 1}, "between 2 and 16 strips of data, not 0"),
        ({"name": "p", "data": 1, "parity": 1}, "between 2 and 16 strips of data, not 1"),
        ({"name": "p", "data": 99, "parity": 1}, "between 2 and 16 strips of data, not 99"),
        ({"name": "p", "data": 4, "parity": 0}, "between 1 and 4 strips of parity, not 0"),
        ({"name": "p", "data": 4}, "between 1 and 4 strips of parity, not 0"),
        ({"name": "p", "data": 4, "parity": 9}, "between 1 and 4 strips of parity, not 9"),
        ({"name": "p", "data": 4, "parity": 1, "survives": 2}, "4 and 1 of parity survive 1 node"),
        ({"name": "p", "copies": 2, "survives": -1}, "not negative"),
        ({"name": "p", "data": 4, "parity": 2, "level": "rack"}, "need 6 racks; quayside has room in 4 now"),
        ({"name": "p", "data": 4, "parity": 2, "level": "disk", "per_domain": 2}, "never share a disk"),
        ({"name": "p", "copies": 2, "level": "rack", "per_domain": 3}, "has 2 strips: 3 of them"),
        (
            {"name": "p", "data": 4, "parity": 2, "level": "rack", "per_domain": 2, "survives": 2},
            "4 and 2 of parity survive 1 rack",
        ),
        ({"name": "p", "copies": 2, "share_copies": 2}, "of the share that lies there, and there is none"),
        ({"name": "p", "copies": 2, "share": 10, "share_copies": 0}, "between 1 and 5 copies, not 0"),
        (
            {"name": "p", "copies": 3, "share": 10, "share_copies": 2, "survives": 2},
            "to survive the loss of 2 nodes, and on the fast tier 2 copies survive 1 node",
        ),
        ({"name": "p", "copies": 2, "fast": True}, "No pool can keep it. quayside has no fast tier"),
        ({"name": "p", "copies": 2, "encrypted": True}, "do not hold everything encrypted"),
        ({"name": "no name", "copies": 2}, "cannot be a name"),
        ({"name": "p", "version": 1, "copies": 2}, "There is no policy named 'p'"),
    ],
)
def test_what_cannot_be_promised_is_refused(barn_site: Site, wish: dict[str, Any], says: str) -> None:
    assert any(says in sentence for sentence in refusals("save-policy", **wish)), refusals(
        "save-policy", **wish
    )
    assert current_view().policies == ()


def test_where_there_is_no_pool_nobody_could_keep_it(barn_site: Site) -> None:
    assert refusals("save-policy", name="p", copies=2) == ["There is no pool yet that could keep it."]
    assert "named" not in refusals("create-volume", name="v", size="1 GiB")[0]


@pytest.mark.pooled
def test_each_cure_that_is_named_does_what_it_says(barn_site: Site) -> None:
    """A policy of six racks where there are four: what is said would do is tried."""
    plan = plan_of("save-policy", name="p", data=4, parity=2, level="rack")
    told = plan.blockers[-1].next_step
    assert told == (
        "Choose at most 2 strips of data, 2 strips in one rack (then it survives 1 rack), or more racks. "
        "Or save it as a draft."
    )
    assert plan_of("save-policy", name="p", data=4, parity=2, level="rack", per_domain=2).blockers == []
    assert plan_of("save-policy", name="p", data=2, parity=2, level="rack").blockers == []
    assert plan_of("save-policy", name="p", data=3, parity=2, level="rack").blockers
    five = plan_of("save-policy", name="p", copies=5, level="rack").blockers[-1].next_step
    assert five == (
        "Choose at most 4 copies, 2 copies in one rack (then it survives 2 racks), or more racks. "
        "Or save it as a draft."
    )
    assert plan_of("save-policy", name="p", copies=5, level="rack", per_domain=2, survives=2).blockers == []
    assert plan_of("save-policy", name="p", copies=4, level="rack").blockers == []


@pytest.mark.pooled
def test_what_no_pool_can_keep_is_a_draft_until_one_can(barn_site: Site) -> None:
    """It is written down, and nothing keeps it; what is said would put it in force is tried."""
    wish = {"name": "wide", "copies": 5, "level": "rack"}
    assert refusals("save-policy", **wish)
    save(barn_site, **wish, draft=True)
    assert refusals("save-policy", **wish, version=1, draft=True) == ["Nothing would be different."]
    [refused] = plan_of("create-volume", name="v", policy="wide", pool="quayside", size="9 GiB").blockers
    assert refused.sentence == "wide is a draft: no volume keeps it yet."
    barn_site.volume("charts")
    assert refusals("keep-policy", volumes=["charts"], policy="wide") == [refused.sentence]
    assert "No pool can keep it" in refusals("save-policy", **wish, version=1)[0]
    save(barn_site, **wish | {"copies": 4}, version=1)
    assert refusals("create-volume", name="v", policy="wide", size="9 GiB") == []
    again = refusals("save-policy", **wish, version=2, draft=True)
    assert again == ["wide is in force: volumes may keep it, and it becomes no draft any more."]
    assert [(p.version, p.draft) for p in current_view().policies] == [(1, True), (2, False)]


@pytest.mark.pooled
def test_versions_are_written_upon_one_another_and_a_volume_keeps_its_own(barn_site: Site) -> None:
    save(barn_site, **PARITY, meant_for="bulk that is read seldom")
    barn_site.do("create-volume", name="charts", policy="TWO-and-one", size="20 GiB")
    assert refusals("save-policy", **PARITY, version=0)[0].startswith("A policy named 'two-and-one' exists")
    same = {**PARITY, "version": 1, "meant_for": "bulk that is read seldom"}
    assert refusals("save-policy", **same) == ["Nothing would be different."]
    save(barn_site, **PARITY | {"version": 1, "parity": 2, "name": "two-and-one"})
    assert refusals("save-policy", **PARITY, version=1) == [
        "two-and-one is in its version 2 by now; this was written upon version 1."
    ]
    view = current_view()
    assert [(p.version, p.current, p.wishes.scheme.m) for p in view.policies] == [(1, False, 1), (2, True, 2)]
    assert view.policy_of(view.volume("charts")).version == 1
    assert view.volume("charts").plies[0].scheme.m == 1
    barn_site.do("create-volume", name="tides", policy="two-and-one", size="20 GiB")
    assert current_view().volume("tides").plies[0].scheme.m == 2
    assert refusals("delete-policy", policy="two-and-one") == ["charts and tides keep it."]
    for name in ("charts", "tides"):
        barn_site.erase(name)
    barn_site.do("delete-policy", policy="two-and-one")
    assert current_view().policies == ()


@pytest.mark.pooled
def test_two_that_write_upon_the_same_version_make_one_and_the_other_ends_with_the_reason(
    barn_site: Site,
) -> None:
    save(barn_site, **PARITY)
    first = changes.carry_out(ME, "save-policy", {**PARITY, "version": 1, "parity": 2})
    second = changes.carry_out(ME, "save-policy", {**PARITY, "version": 1, "data": 3})
    run_change(first)
    run_change(second)
    assert barn_site.state(first) == "done"
    assert barn_site.state(second) == "withdrawn"  # by itself
    assert "is in its version 2 by now" in barn_site.problem(second)
    assert [p.version for p in current_view().policies] == [1, 2]


@pytest.mark.pooled
def test_two_new_ones_of_one_name_come_one_after_the_other_and_the_second_is_told(barn_site: Site) -> None:
    both = [changes.carry_out(ME, "save-policy", {"name": "pair", "copies": n}) for n in (2, 3)]
    with ThreadPoolExecutor() as crew:
        list(crew.map(run_change, both))
    for number in both:
        run_change(number)  # the one that had to wait
    states = sorted((barn_site.state(n), barn_site.problem(n)) for n in both)
    assert [state for state, _ in states] == ["done", "withdrawn"]
    assert states[1][1].startswith("A policy named 'pair' exists already.")
    assert len(current_view().policies) == 1


@pytest.mark.pooled
def test_losses_that_the_bench_says_are_survived_are_when_the_power_goes(barn_site: Site) -> None:
    """Volumes of five schemes are made, and every node, rack and room in turn loses its power."""
    view = current_view()
    pool = view.pool("quayside")
    tried = [
        Scheme(1, 1, Level.NODE),
        Scheme(1, 2, Level.NODE),
        Scheme(2, 1, Level.RACK),
        Scheme(2, 2, Level.RACK),
        Scheme(4, 2, Level.RACK, per_domain=2),
    ]
    rows = lay_side_by_side(view, pool, tried)
    for n, row in enumerate(rows):
        k, m = row.scheme.k, row.scheme.m
        protection = {"copies": m + 1} if k == 1 else {"data": k, "parity": m}
        apart = {"level": row.scheme.level.value, "per_domain": row.scheme.per_domain}
        save(barn_site, name=f"p{n}", **apart, **protection)
        barn_site.do("create-volume", name=f"v{n}", policy=f"p{n}", size="40 GiB")
    said = [dict(row.survives) for row in rows]
    ended: set[tuple[int, Level]] = set()
    for level in (Level.NODE, Level.RACK, Level.ROOM):
        domains = current_view().domain_of(level)
        for domain in np.unique(domains[view.in_pool(pool)]).tolist():
            dark = {view.nodes[r].name for r in view.disk_node[domains == domain].tolist()}
            for node in dark:
                lose(barn_site, node)
            now = current_view()
            fates = [fate_of(now, now.volume(f"v{n}")) for n in range(len(rows))]
            ended |= {(n, level) for n, fate in enumerate(fates) if fate.unavailable + fate.lost}
            for node in dark:
                find_again(barn_site, node)
    assert not any(said[n][level] for n, level in ended)
    # A room of two racks, a node each, may hold two strips of an extent, and that is what is said.
    assert ended == {(n, Level.ROOM) for n in (0, 2, 4)}
    assert [(s[Level.RACK], s[Level.ROOM]) for s in said] == [(1, 0), (2, 1), (1, 0), (2, 1), (1, 0)]


@pytest.mark.pooled
def test_a_policy_deleted_beside_a_volume_that_is_to_keep_it_waits_and_is_refused(barn_site: Site) -> None:
    save(barn_site, **PARITY)
    made = changes.carry_out(ME, "create-volume", {"name": "v", "policy": "two-and-one", "size": "9 GiB"})
    gone = changes.carry_out(ME, "delete-policy", {"policy": "two-and-one"})
    run_change(made)
    run_change(gone)
    assert barn_site.state(made) == "done", barn_site.problem(made)
    assert "v keeps it" in barn_site.problem(gone)
    assert len(current_view().policies) == 1


@pytest.mark.pooled
def test_the_pool_is_chosen_that_would_be_the_least_full_and_says_why(barn_site: Site) -> None:
    disks = barn_site.disks("hdd")
    barn_site.do("form-pool", name="deepwater", disks=disks, copies=2, level="node")
    save(barn_site, name="pair", copies=2, level="node")
    plan = plan_of("create-volume", name="v", policy="pair", size="4 TiB")
    assert plan.blockers == []
    chosen = next(e for e in plan.effects if isinstance(e, Promise) and e.title == "Chosen pool")
    answers = next(e for e in plan.effects if isinstance(e, PoolAnswers)).rows
    assert {row.pool: row.keeps for row in answers} == {"deepwater": True, "quayside": True}
    assert {row.room for row in answers} == {None}  # nobody asked how much more: nothing is said of it
    full = {}
    for pool in ("deepwater", "quayside"):
        one = plan_of("create-volume", name="v", policy="pair", pool=pool, size="4 TiB")
        sums = next(e for e in one.effects if e.effect == "sums").rows
        full[pool] = next(r.after.value for r in sums if r.label == f"{pool} full")
    least = min(full, key=lambda name: full[name])
    other = next(name for name in full if name != least)
    assert chosen.sentence == (
        f"{least} keeps pair, and would be {full[least]:.0%} full. "
        f"{other} ({full[other]:.0%}) would be at least as full."
    )
    number = barn_site.do("create-volume", name="v", policy="pair", size="4 TiB")
    assert barn_site.state(number) == "done"
    view = current_view()
    assert view.pools[view.volume("v").pool].name == least
    space = pool_space(view, view.pool(least))
    assert space.full == pytest.approx(full[least])  # as it was foreseen
    for more in ({"copies": 3}, {"level": "rack"}, {"tier": "fast"}):
        [refused] = plan_of("create-volume", name="w", policy="pair", size="1 GiB", **more).blockers
        assert refused.next_step == "Leave copies, level, tier and thin out, or the policy."


@pytest.mark.pooled
def test_parity_loses_a_node_and_is_made_again_from_as_many_strips_as_it_takes(barn_site: Site) -> None:
    save(barn_site, **PARITY)
    barn_site.do("create-volume", name="charts", policy="two-and-one", size="60 GiB")
    machines = barn_site.yard.machines
    view = current_view()
    volume = view.volume("charts")
    assert volume.extents == 30  # of two strips of a GiB each
    assert conformance(view, volume).standing == Standing.KEPT
    node = view.nodes[int(view.disk_node[view.row_of_number[volume.plies[0].placement[0, 0]]])].name
    lost = int((view.disk_node[view.rows(volume.plies[0])] == view.nodes.index(view.node(node))).sum())
    assert lost > 0
    before = sum(c.read_bytes for c in machines.counters.values())
    lose(barn_site, node)
    stands = conformance(current_view(), current_view().volume("charts"))
    assert stands.standing == Standing.BROKEN
    assert stands.strips == lost
    assert stands.sentence() == (
        "It is to survive the loss of 1 rack, and would survive the loss of 0 racks now."
    )
    number = barn_site.do("rebuild", pool="quayside")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    assert conformance(view, view.volume("charts")).standing == Standing.KEPT
    ply = view.volume("charts").plies[0]
    serials = {d.number: d.serial for d in view.disks}
    for (extent, strip), disk in np.ndenumerate(ply.placement):
        assert (ply.number, extent, strip) in machines.strips[serials[int(disk)]]
    # Two strips are read for each that is made: what consumers read meanwhile comes on top.
    read = sum(c.read_bytes for c in machines.counters.values()) - before
    assert read >= 2 * lost * 2**30


@pytest.mark.pooled
def test_a_stripe_that_misses_two_strips_is_read_once_and_both_are_made(barn_site: Site) -> None:
    save(barn_site, name="two-and-two", data=2, parity=2, level="node")
    machines = barn_site.yard.machines
    more = barn_site.disks(nodes=("razorbill", "skua"))
    barn_site.do("grow-pool", pool="quayside", disks=[d for d in more if d != "skua-3"])
    barn_site.do("create-volume", name="charts", policy="two-and-two", size="40 GiB")
    view = current_view()
    ply = view.volume("charts").plies[0]
    nodes = view.disk_node[view.rows(ply)]
    two = {int(n) for n in nodes[0, :2]}
    both = int(np.isin(nodes, list(two)).sum(axis=1).max())
    assert both == 2
    for row in two:
        lose(barn_site, view.nodes[row].name)
    number = barn_site.do("rebuild", pool="quayside")
    along = [s for o in machines.orders.values() for s in o.body.get("strips", []) if "along" in s]
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert along  # some were made from what was read for another
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    ply, serials = view.volume("charts").plies[0], {d.number: d.serial for d in view.disks}
    for (extent, strip), disk in np.ndenumerate(ply.placement):
        assert (ply.number, extent, strip) in machines.strips[serials[int(disk)]]


def test_an_unknown_policy_is_refused(barn_site: Site) -> None:
    with pytest.raises(NotPossible):
        changes.carry_out(ME, "create-volume", {"name": "v", "size": "1 GiB", "policy": ""})


WIDE = {"name": "wide", "data": 4, "parity": 2, "level": "rack", "per_domain": 2}


@pytest.mark.pooled
def test_what_needs_more_racks_than_there_are_is_told_how_it_would_fit_and_then_does(barn_site: Site) -> None:
    view = current_view()
    pool = view.pool("quayside")
    [row] = lay_side_by_side(view, pool, [Scheme(4, 2, Level.RACK)])
    assert row.against
    assert row.closer == Scheme(4, 2, Level.RACK, per_domain=2)
    assert "2 strips in one rack (then it survives 1 rack)" in row.against.cure
    [closer] = lay_side_by_side(view, pool, [row.closer])
    assert closer.against is None
    assert (closer.needs, closer.to_heal, dict(closer.survives)[Level.RACK]) == (3, 4, 1)
    plan = plan_of("save-policy", **WIDE)
    assert not plan.blockers
    assert plan.summary == (
        "Strips of 4 and 2 of parity, at most two in one rack and each on another disk; survives the loss "
        "of any one rack. Kept by quayside."
    )
    # With one strip of parity no number in a rack survives one, and none is offered.
    [single] = lay_side_by_side(view, pool, [Scheme(4, 1, Level.RACK)])
    assert single.against
    assert single.closer is None


@pytest.mark.pooled
def test_two_strips_a_rack_lose_a_rack_are_made_again_moved_and_kept_apart(barn_site: Site) -> None:
    save(barn_site, **WIDE)
    barn_site.do("create-volume", name="charts", policy="wide", size="80 GiB")
    machines = barn_site.yard.machines

    def check(view: Any) -> None:
        ply = view.volume("charts").plies[0]
        racks, serials = view.disk_rack[view.rows(ply)], {d.number: d.serial for d in view.disks}
        assert all(max(np.bincount(row)) <= 2 for row in racks)
        assert all(len(set(row)) == 6 for row in ply.placement.tolist())
        for (extent, strip), disk in np.ndenumerate(ply.placement):
            assert (ply.number, extent, strip) in machines.strips[serials[int(disk)]]

    check(current_view())
    lose(barn_site, "petrel")  # alone in its rack
    view = current_view()
    ply = view.volume("charts").plies[0]
    both = (~view.disk_ready[view.rows(ply)]).sum(axis=1)
    assert both.max() == 2
    stands = conformance(view, view.volume("charts"))
    assert stands.standing == Standing.BROKEN
    assert stands.sentence().startswith("It is to survive the loss of 1 rack, and would survive")
    number = barn_site.do("rebuild", pool="quayside")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    check(current_view())
    assert conformance(current_view(), current_view().volume("charts")).standing == Standing.KEPT
    # With three racks left every extent fills all it may: another one cannot be lost and made again.
    found = healing_of(current_view(), current_view().pool("quayside"), Level.RACK)
    assert found.holds is False
    assert {u.want for u in found.unhealed} == {Want.DOMAINS}
    find_again(barn_site, "petrel")
    fulmar = [d.name for d in current_view().disks if d.name.startswith("fulmar") and d.role == "capacity"]
    number = barn_site.do("retire", what="disk", names=fulmar[:2])
    assert barn_site.state(number) == "done", barn_site.problem(number)
    check(current_view())


@pytest.mark.pooled
def test_strips_that_may_no_longer_share_a_rack_are_moved_apart(barn_site: Site) -> None:
    save(barn_site, name="near", copies=5, level="rack", per_domain=2)
    barn_site.do("create-volume", name="charts", policy="near", size="40 GiB")
    save(barn_site, name="near", version=1, copies=4, level="rack", per_domain=1)
    view = current_view()
    crowded = crowded_strips(view, replace(view.volume("charts").plies[0], scheme=Scheme(1, 3, Level.RACK)))
    assert crowded.sum() > 20
    number = barn_site.do("keep-policy", volumes=["charts"], policy="near")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    ply = view.volume("charts").plies[0]
    assert ply.scheme == Scheme(1, 3, Level.RACK)
    assert all(len(set(row)) == 4 for row in view.disk_rack[view.rows(ply)].tolist())


@pytest.mark.pooled
def test_a_policy_may_ask_for_labels_and_a_pool_that_loses_one_breaks_it(barn_site: Site) -> None:
    wish = {"name": "dry", "copies": 2, "level": "node", "labels": ["Dry-Room", " dry-room ", "north"]}
    assert "quayside is not labelled dry-room and north" in " ".join(refusals("save-policy", **wish))
    assert "'dry room' cannot be a label" in " ".join(
        refusals("save-policy", **{**wish, "labels": ["dry room"]})
    )
    assert "13 labels are too many" in " ".join(
        refusals("save-policy", **{**wish, "labels": [f"l{n}" for n in range(13)]})
    )
    assert "cannot be a label" in " ".join(refusals("set-pool", pool="quayside", labels=[""]))
    assert barn_site.state(barn_site.do("set-pool", pool="quayside", labels=["north", "DRY-room"])) == "done"
    assert current_view().pool("quayside").labels == ("dry-room", "north")
    plan = plan_of("save-policy", **wish)
    assert plan.summary.startswith(
        "Two copies, each in another node; survives the loss of any one node. "
        "Only in a pool with the labels dry-room and north."
    )
    assert barn_site.state(save(barn_site, **wish)) == "done"
    assert barn_site.state(barn_site.do("create-volume", name="v", policy="dry", size="8 GiB")) == "done"
    stands = conformance(current_view(), current_view().volume("v"))
    assert stands is not None
    assert stands.standing == Standing.KEPT
    barn_site.do("set-pool", pool="quayside", labels=["north"])
    stands = conformance(current_view(), current_view().volume("v"))
    assert stands is not None
    assert stands.standing == Standing.BROKEN
    assert stands.sentence() == "Its pool is to be labelled dry-room, and quayside is not by now."
    assert "Label quayside so again" in stands.cure()
    # What is said to mend it does.
    barn_site.do("set-pool", pool="quayside", labels=["north", "dry-room"])
    stands = conformance(current_view(), current_view().volume("v"))
    assert stands is not None
    assert stands.standing == Standing.KEPT


@pytest.mark.pooled
@pytest.mark.parametrize("wishes", [{"copies": 2}, {"data": 2, "parity": 1}, {"copies": 3, "hourly": 2}])
def test_all_that_fits_is_made_and_not_a_unit_more(barn_site: Site, wishes: dict[str, Any]) -> None:
    barn_site.volume("charts", size="3 TiB")
    barn_site.do("form-pool", name="small", disks=barn_site.disks("nvme"), copies=2)
    save(barn_site, name="p", level="node", **wishes)
    wish = {"name": "rest", "policy": "p", "size": "All that fits"}
    plan = plan_of("create-volume", **wish)
    assert "in quayside" in plan.summary  # which has more room
    view = current_view()
    [place] = [planned.step for planned in plan.steps if isinstance(planned.step, Place)]
    unit = view.pool("quayside").allocation_bytes
    more = refusals("create-volume", **{**wish, "pool": "quayside", "size": f"{place.bytes + unit}"})
    assert more
    number = barn_site.do("create-volume", **wish)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert current_view().volume("rest").size_bytes == place.bytes
    left = refusals("create-volume", name="more", pool="quayside", policy="p", size="all that fits")
    # What snapshots are going to take stays free until they do.
    assert left == ([] if "hourly" in wishes else ["Nothing of it fits into quayside."])
