"""Volumes whose first bytes lie on the fast tier outright: sizes, room, growth, other policies, copies."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import Site, begun
from test_changes import find_again, held, lose, should_hold
from test_leaving import mixed_pool
from test_policies import plan_of, refusals, save
from test_tiers_by_heat import go, lies_well, move, started, the, warm

from foldbarn.api.policies.models import Compared
from foldbarn.api.policies.pictures import measured_out
from foldbarn.core.policies.conformance import Conformance, Standing, conformance
from foldbarn.core.policies.matching import answer, room_for
from foldbarn.core.policies.policy import Wishes
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.site import Pool
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.store.views import current_view
from foldbarn.yard.serving import serve

GIB = 1 << 30
SPLIT = {"name": "split", "data": 2, "parity": 1, "level": "node", "first": 4 * GIB}
PLAIN = {"name": "plain", "data": 2, "parity": 1, "level": "node"}
THREE = {"name": "three", "copies": 3, "level": "node"}


def as_split(site: Site) -> None:
    """A volume of 10 extents of two strips of data, of which the first two lie on the fast tier."""
    mixed_pool(site, serves="fast tier")
    save(site, **SPLIT)
    number = site.do("create-volume", name="cameras", policy="split", size="20 GiB")
    assert site.state(number) == "done", site.problem(number)


split = begun(as_split, on="welcomed")


def keeps(name: str = "cameras") -> Conformance:
    found = conformance(current_view(), the(name))
    assert found is not None
    return found


def risen(policy: str) -> tuple[float | None, float | None, float | None]:
    """Extents on the fast tier as the page of a policy has it: there, to be there, and off by."""
    view = current_view()
    [told] = measured_out(view, view.policy(policy), {}, {})
    [row] = [row for row in told.compared if row.of == Compared.RISEN]
    return row.measured, row.expected, row.off


def the_pool() -> Pool:
    return current_view().pool("quayside")


def done(site: Site, kind: str, **wish: Any) -> None:
    number = site.do(kind, **wish)
    assert site.state(number) == "done", site.problem(number)


def test_ten_on_a_fast_tier_and_thirty_on_a_bulk_tier_are_a_volume_of_forty(barn_site: Site) -> None:
    """Common practice: the sizes of tiers that are given outright add up to that of the volume."""
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **THREE, first=10 * GIB)
    plan = plan_of("create-volume", name="cameras", policy="three", size="40 GiB")
    [rows] = [effect.rows for effect in plan.effects if effect.effect == "sums"]
    told = {row.label: row.after.value for row in rows if row.before is None}
    assert told == {"On the bulk tier": 90 * GIB, "On the fast tier": 30 * GIB}
    done(barn_site, "create-volume", name="cameras", policy="three", size="40 GiB")
    space = pool_space(current_view(), the_pool())
    assert space.fast is not None
    assert (space.used, space.fast.used) == (90, 30)
    lies_well(barn_site, set(range(10)))
    assert keeps().standing == Standing.KEPT


def test_what_arrives_on_each_disk_is_what_was_foretold(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    save(barn_site, **SPLIT)
    plan = plan_of("create-volume", name="cameras", policy="split", size="20 GiB")
    [arriving] = [effect.arriving for effect in plan.effects if effect.effect == "on-disks"]
    done(barn_site, "create-volume", name="cameras", policy="split", size="20 GiB")
    view = current_view()
    rows = np.concatenate([view.rows(ply).reshape(-1) for ply in the().plies])
    counts = np.bincount(rows, minlength=len(view.disks) + 1)[:-1]
    assert arriving == {view.disks[r].name: int(counts[r]) * GIB for r in np.flatnonzero(counts).tolist()}
    assert sum(arriving.values()) == (8 * 3 + 2 * 2 * 2) * GIB  # parity beside copies that survive as much


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"first": -1}, "Between 1 byte and"),
        ({"first": 1 << 60}, "Between 1 byte and"),
        ({"first": GIB, "fast": True}, "All of it lies on the fast tier already."),
        ({"first": GIB, "share": 10}, "not both"),
        ({"first": GIB, "landing": 10}, "it does not land first"),
        ({"first": GIB, "thin": True}, "set aside whole"),
        ({"first": GIB, "share_copies": 1, "survives": 1}, "on the fast tier 1 copy survives 0 nodes"),
    ],
)
def test_what_makes_no_sense_is_refused(barn_site: Site, wish: dict[str, Any], says: str) -> None:
    assert says in " ".join(refusals("save-policy", **({**PLAIN, **wish})))


@pytest.mark.pooled
def test_a_pool_without_a_fast_tier_cannot_keep_it(barn_site: Site) -> None:
    said = " ".join(refusals("save-policy", **SPLIT))
    assert "quayside has no fast tier for its first 4 GiB" in said


def test_a_volume_that_would_be_on_the_fast_tier_whole_is_refused(split: Site) -> None:
    plan = plan_of("create-volume", name="less", policy="split", pool="quayside", size="4 GiB")
    [refusal] = plan.blockers
    assert refusal.sentence == "Its first 4 GiB, which lie on the fast tier, would be all of it."
    assert (refusal.about, refusal.next_step) == ("size", "Choose more than 4 GiB, or another policy.")
    assert plan_of("create-volume", name="less", policy="split", pool="quayside", size="5 GiB").blockers == []
    done(split, "save-policy", **PLAIN)
    done(split, "create-volume", name="less", policy="plain", size="4 GiB")
    assert "would be all of it" in " ".join(refusals("keep-policy", volumes=["less"], policy="split"))


def test_there_is_room_for_the_largest_and_for_nothing_larger(split: Site) -> None:
    """Its size is what both tiers have room for: that of the bulk tier, and the first bytes."""
    view = current_view()
    wishes = view.policy("split").wishes
    most = room_for(view, the_pool(), wishes).bytes
    assert answer(view, the_pool(), wishes, most).keeps
    assert not answer(view, the_pool(), wishes, most + 2 * GIB).keeps
    plain = room_for(view, the_pool(), plan_wishes(PLAIN)).bytes
    assert most == plain + 4 * GIB
    # What does not fit on the fast tier fits nowhere, however small the rest is.
    fast = room_for(view, the_pool(), plan_wishes({**THREE, "copies": 2, "fast": True})).bytes
    fast -= fast % (2 * GIB)  # whole extents
    assert refusals("save-policy", **{**SPLIT, "name": "most", "first": fast}) == []
    words = " ".join(refusals("save-policy", **{**SPLIT, "name": "more", "first": fast + GIB}))
    assert "not fit on the fast tier of quayside" in words


def plan_wishes(wish: dict[str, Any]) -> Wishes:
    """What a policy says that nobody has written down."""
    step = plan_of("save-policy", **{**wish, "name": "other", "draft": True}).steps[0].step
    return Wishes(step.scheme.scheme(), step.survives, step.fast, first=step.first)


def test_nothing_of_it_moves_for_its_heat_or_because_a_person_wishes(split: Site) -> None:
    warm(cameras=[0.0, 0.0, 0.0, 0.0, 0.0, 900.0, 800.0])
    go(split)
    assert started() == []
    lies_well(split, {0, 1})
    for tier, extent in (("fast", 5), ("bulk", 0)):
        [words] = refusals("move-extents", volume="cameras", tier=tier, extents=[extent])
        assert words == (
            "The first 4 GiB of cameras lie on the fast tier, and nothing else of it, as split has it."
        )


def test_it_grows_on_the_bulk_tier_alone(split: Site) -> None:
    done(split, "grow-volume", volume="cameras", size="30 GiB")
    lies_well(split, {0, 1})
    assert the().whole.extents == 15
    assert keeps().standing == Standing.KEPT


def test_a_volume_in_use_gets_its_first_bytes_there_by_itself(split: Site) -> None:
    for policy in (PLAIN, {**SPLIT, "name": "more", "first": 7 * GIB}):
        save(split, **policy)
    done(split, "keep-policy", volumes=["cameras"], policy="plain")
    assert the().hot is None
    done(split, "keep-policy", volumes=["cameras"], policy="split")
    found = keeps()
    assert found.standing == Standing.CATCHING_UP
    assert found.sentence() == (
        "Its first 4 GiB are to lie on the fast tier, and 2 extents of that lie on the bulk tier still. "
        "Its pool has room for them, and they follow by themselves."
    )
    go(split)
    lies_well(split, {0, 1})
    assert keeps().standing == Standing.KEPT
    assert started()[-1][1] == "2 extents of cameras come first, and what does is to lie on the fast tier."
    done(split, "keep-policy", volumes=["cameras"], policy="more")
    lies_well(split, {0, 1})  # what is there stays
    assert risen("more") == (2, 4, -0.5)
    go(split)
    assert risen("more") == (4, 4, 0.0)
    lies_well(split, {0, 1, 2, 3})  # whole extents, so that 7 GiB are 8
    done(split, "keep-policy", volumes=["cameras"], policy="split")
    go(split)
    lies_well(split, {0, 1})
    assert (
        started()[-1][1]
        == "2 extents of cameras do not come first, and what does is to lie on the fast tier."
    )
    go(split)
    assert len(started()) == 3


def test_what_is_short_besides_does_not_hide_what_has_still_to_rise(split: Site) -> None:
    save(split, **PLAIN)
    done(split, "keep-policy", volumes=["cameras"], policy="plain")
    done(split, "keep-policy", volumes=["cameras"], policy="split")
    found = replace(keeps(), strips=3, on_their_way=3)
    assert found.sentence().endswith(
        "3 strips are on their way. Its pool has room for those extents, and they follow by themselves."
    )


def test_a_copy_fills_the_bulk_tier_with_all_of_it(split: Site) -> None:
    wishes, size = current_view().policy("split").wishes, 20 * GIB
    plain = answer(current_view(), the_pool(), plan_wishes(PLAIN), size)
    assert answer(current_view(), the_pool(), wishes, size, copied=True).full == pytest.approx(plain.full)
    assert answer(current_view(), the_pool(), wishes, size).full < plain.full


def test_where_the_bulk_tier_is_full_others_go_up_all_the_same(split: Site) -> None:
    """What would have to come down finds no room there, and keeps nobody waiting."""
    save(split, **PLAIN)
    save(split, **{**SPLIT, "name": "less", "first": 2 * GIB})
    done(split, "create-volume", name="other", policy="plain", size="20 GiB")
    done(split, "keep-policy", volumes=["other"], policy="split")
    done(split, "keep-policy", volumes=["cameras"], policy="less")
    room = room_for(current_view(), the_pool(), current_view().policy("plain").wishes).bytes
    done(split, "create-volume", name="filler", policy="plain", size=str(room))
    go(split)
    assert np.flatnonzero(the("other").upper).tolist() == [0, 1]
    assert np.flatnonzero(the().upper).tolist() == [0, 1]


def test_where_the_fast_tier_is_full_it_is_broken_and_says_so(split: Site) -> None:
    save(split, **PLAIN)
    save(split, **{**THREE, "copies": 2, "fast": True})
    done(split, "keep-policy", volumes=["cameras"], policy="plain")
    done(split, "keep-policy", volumes=["cameras"], policy="split")
    room = room_for(current_view(), the_pool(), current_view().policy("three").wishes).bytes
    done(split, "create-volume", name="other", policy="three", size=str(room))
    go(split)
    assert started() == []
    assert keeps().standing == Standing.BROKEN
    assert keeps().cure().startswith("Add fast disks to quayside")
    [words] = refusals("create-volume", name="third", policy="split", size="20 GiB")
    assert "not fit on the fast tier of quayside" in words
    done(split, "delete-volume", volumes=["other"], typed="other")
    done(split, "empty-bin", pool="quayside", volumes=["other"], typed="other")
    go(split)
    lies_well(split, {0, 1})


def test_several_that_are_to_have_it_need_room_for_all_together(split: Site) -> None:
    save(split, **PLAIN)
    fast = room_for(current_view(), the_pool(), plan_wishes({**THREE, "copies": 2, "fast": True})).bytes
    half = fast // 2 // GIB * GIB
    save(split, **{**SPLIT, "name": "half", "first": half - half % (2 * GIB)})
    for name in ("ant", "bee", "cod"):
        done(split, "create-volume", name=name, policy="plain", size=str(half + 10 * GIB))
    assert refusals("keep-policy", volumes=["ant", "bee"], policy="half") == []
    words = " ".join(refusals("keep-policy", volumes=["ant", "bee", "cod"], policy="half"))
    assert "of each does not fit on the fast tier of quayside" in words


def test_any_node_may_go_and_it_is_rebuilt_in_both_tiers(split: Site) -> None:
    view = current_view()
    for node in sorted({view.nodes[n].name for n in view.disk_node[view.in_pool(view.pools[0])].tolist()}):
        lose(split, node)
        assert fate_of(current_view(), the()).unavailable == 0
        assert split.state(split.do("rebuild", pool="quayside")) == "done"
        assert fate_of(current_view(), the()).state == DataState.WHOLE
        find_again(split, node)
        assert split.state(split.do("rebuild", pool="quayside")) == "done"
        lies_well(split, {0, 1})


def test_a_copy_lies_on_the_bulk_tier_until_it_stands_alone(split: Site) -> None:
    split.yard.machines.consumers = 0.0  # the yard is fast: they would overwrite more than there is room for
    done(split, "take-snapshot", volumes=["cameras"], name="noon")
    done(split, "copy-snapshot", volume="cameras", snapshot="noon", name="copy")
    assert the("copy").hot is None
    done(split, "stand-alone", volume="copy")
    assert keeps("copy").standing == Standing.CATCHING_UP
    go(split)
    assert np.flatnonzero(the("copy").upper).tolist() == [0, 1]
    assert keeps("copy").standing == Standing.KEPT
    assert held(split) == should_hold()


def test_its_nodes_know_that_both_are_the_same_volume(split: Site) -> None:
    """What consumers ask of it goes to both tiers, and a snapshot is of both."""
    machines = split.yard.machines
    whole, hot = the().plies
    assert machines.facts_of(hot.number).first == whole.number
    serve(machines, 1.0)
    [volume] = machines.load.volumes.values()
    assert {part.ply for part in volume.parts} == {whole.number, hot.number}


def test_a_move_by_hand_into_place_is_the_one_that_is_allowed(split: Site) -> None:
    save(split, **PLAIN)
    done(split, "keep-policy", volumes=["cameras"], policy="plain")
    done(split, "keep-policy", volumes=["cameras"], policy="split")
    assert split.state(move(split, "fast", 1)) == "done"
    lies_well(split, {1})
    assert split.state(move(split, "fast", 0)) == "done"
    lies_well(split, {0, 1})
