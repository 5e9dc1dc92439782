"""Another policy, or a newer version of one, for volumes in use: what is written for it, what is refused, and
what becomes of it when its process dies, it is withdrawn, or nodes fail meanwhile.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site, stand_still
from sqlalchemy import func, select
from test_changes import Killed, find_again, held, lose, should_hold
from test_cluster import hear
from test_policies import plan_of, refusals, save

from foldbarn.api.policies.pictures import policy_page
from foldbarn.changes.engine import moving, runner
from foldbarn.changes.engine.effects import Moved, Promise, Sums
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.adopting import adopt
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.protection import Level
from foldbarn.core.volumes.loss import DataState, enough_to_read, fate_of, present_strips
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp
from foldbarn.services import changes, watching
from foldbarn.store import moves
from foldbarn.store.database import transaction
from foldbarn.store.tables import MoveRow
from foldbarn.store.views import current_view
from foldbarn.yard import fluid

pytestmark = pytest.mark.pooled


def by_policies(site: Site) -> None:
    """A pair by node, three by rack, and a volume of 30 extents that keeps the pair."""
    save(site, name="pair", copies=2, level="node")
    save(site, name="three", copies=3, level="rack")
    site.do("create-volume", name="charts", policy="pair", size="30 GiB")


def keep(site: Site, policy: str, *volumes: str) -> int:
    return site.do("keep-policy", volumes=list(volumes or ("charts",)), policy=policy)


def kept(name: str = "charts") -> tuple[str, int, Standing]:
    view = current_view()
    volume = view.volume(name)
    policy, stands = view.policy_of(volume), conformance(view, volume)
    assert policy is not None
    assert stands is not None
    return policy.name, volume.plies[0].scheme.strips, stands.standing


def copied() -> int:
    with transaction() as session:
        return (
            session.scalar(select(func.count(MoveRow.id)).where(MoveRow.state.in_(("copied", "dropped"))))
            or 0
        )


def test_a_third_copy_is_written_beside_the_two_that_stay(barn_site: Site) -> None:
    by_policies(barn_site)
    before = current_view().volume("charts").plies[0].placement
    plan = plan_of("keep-policy", volumes=["charts"], policy="three")
    foretold = next(e for e in plan.effects if isinstance(e, Moved))
    rows = {
        r.label: (r.before.value, r.after.value)
        for r in next(e for e in plan.effects if isinstance(e, Sums)).rows
    }
    assert rows["charts on disks"] == (60 * 2**30, 90 * 2**30)
    number = keep(barn_site, "three")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    space = pool_space(view, view.pool("quayside"))
    assert rows["quayside full"][1] == pytest.approx(space.full)  # as it was foreseen
    assert rows["quayside full"][0] < rows["quayside full"][1]
    assert rows["Free in quayside"][1] == space.free * view.pool("quayside").extent_bytes
    assert kept() == ("three", 3, Standing.KEPT)
    assert held(barn_site) == should_hold()
    # In racks of one node each the two lay well: only the third is written.
    assert foretold.bytes == copied() * 2**30 == 30 * 2**30
    assert (current_view().volume("charts").plies[0].placement[:, :2] == before).all()
    domains = current_view().domain_of(Level.RACK)[
        current_view().rows(current_view().volume("charts").plies[0])
    ]
    assert all(len(set(found)) == 3 for found in domains.tolist())


def test_what_is_beyond_is_given_up_and_its_room_is_free_again(barn_site: Site) -> None:
    by_policies(barn_site)
    keep(barn_site, "three")
    number = keep(barn_site, "pair")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("pair", 2, Standing.KEPT)
    assert held(barn_site) == should_hold()
    assert len(held(barn_site)) == 60


def test_a_newer_version_is_taken_up_by_those_who_are_asked_to(barn_site: Site) -> None:
    by_policies(barn_site)
    barn_site.do("create-volume", name="tides", policy="pair", size="5 GiB")
    barn_site.do("create-volume", name="plain", pool="quayside", size="5 GiB", copies=1, level="disk")
    save(barn_site, name="pair", version=1, copies=3, level="node")
    number = keep(barn_site, "pair", "charts", "plain", "CHARTS")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    assert {v.name: (v.policy and v.policy[1], v.plies[0].scheme.strips) for v in view.volumes} == {
        "charts": (2, 3),
        "tides": (1, 2),
        "plain": (2, 3),
    }
    assert held(barn_site) == should_hold()
    [again] = plan_of("keep-policy", volumes=["charts"], policy="pair").blockers
    assert (again.sentence, again.code) == ("charts keeps version 2 of pair already.", "unchanged")


def test_copies_that_stand_too_close_for_it_are_moved_apart(barn_site: Site) -> None:
    """Copies kept apart by disk share nodes; a policy by rack moves only those that share a rack."""
    save(barn_site, name="three", copies=3, level="rack")
    barn_site.do("create-volume", name="charts", pool="quayside", size="30 GiB", copies=3, level="disk")
    view = current_view()
    ply = view.volume("charts").plies[0]
    racks = view.domain_of(Level.RACK)[view.rows(ply)].tolist()
    close = sum(3 - len(set(found)) for found in racks)
    assert close > 0
    number = keep(barn_site, "three")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("three", 3, Standing.KEPT)
    assert copied() == close
    assert held(barn_site) == should_hold()


@pytest.mark.parametrize(
    ("policy", "says"),
    [
        ({"copies": 2, "level": "room", "name": "p"}, ""),  # two rooms, two copies: it can
        ({"copies": 3, "level": "rack", "fast": True, "name": "p"}, "No pool can keep it."),
    ],
)
def test_what_the_pool_cannot_hold_is_refused_before(
    barn_site: Site, policy: dict[str, Any], says: str
) -> None:
    by_policies(barn_site)
    if says:
        assert any(s.startswith(says) for s in refusals("save-policy", **policy))
        return
    save(barn_site, **policy)
    assert barn_site.state(keep(barn_site, "p")) == "done"
    assert kept() == ("p", 2, Standing.KEPT)


def test_what_cannot_be_kept_is_refused_with_what_would_help(barn_site: Site) -> None:
    by_policies(barn_site)
    save(barn_site, name="wide", copies=4, level="rack")
    assert refusals("keep-policy", volumes=["nobody"], policy="pair") == [
        "There is no volume named 'nobody'."
    ]
    assert refusals("keep-policy", volumes=["charts"], policy="none") == ["There is no policy named 'none'."]
    assert refusals("keep-policy", volumes=[], policy="pair") == ["No volume is chosen."]
    lose(barn_site, "petrel")  # of four racks there are three
    [few] = plan_of("keep-policy", volumes=["charts"], policy="wide").blockers
    assert "4 copies need 4 racks" in few.sentence
    find_again(barn_site, "petrel")
    barn_site.do("create-volume", name="large", pool="quayside", size="25 TiB", copies=2, level="node")
    [full] = plan_of("keep-policy", volumes=["large"], policy="wide").blockers
    assert full.sentence == (
        "large would not fit: with 4 copies quayside can take 24.60 TB in its place, "
        "up to its fill line of 85%."
    )
    assert full.next_step == "Choose a policy that takes less, or add disks."
    assert kept() == ("pair", 2, Standing.KEPT)


def test_a_copy_is_not_given_up_while_another_cannot_be_read(barn_site: Site) -> None:
    by_policies(barn_site)
    keep(barn_site, "three")
    lose(barn_site, "fulmar", given_up=False)
    view = current_view()
    ply = view.volume("charts").plies[0]
    short = int((~present_strips(view, ply)[:, :2]).sum())
    assert short
    [blocker] = plan_of("keep-policy", volumes=["charts"], policy="pair").blockers
    assert blocker.sentence == f"{short} strips of charts that would stay cannot be read now, on fulmar."
    assert blocker.next_step == "Wait until they have been written again, or bring fulmar back."
    # Each of the two is tried: it is refused no more.
    find_again(barn_site, "fulmar")
    assert plan_of("keep-policy", volumes=["charts"], policy="pair").blockers == ()
    lose(barn_site, "fulmar")
    assert plan_of("keep-policy", volumes=["charts"], policy="pair").blockers
    barn_site.do("rebuild", pool="quayside")
    assert plan_of("keep-policy", volumes=["charts"], policy="pair").blockers == ()


def test_where_a_node_is_lost_between_the_look_and_the_step_it_ends_with_the_reason(barn_site: Site) -> None:
    by_policies(barn_site)
    keep(barn_site, "three")
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "pair"})
    lose(barn_site, "fulmar")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert "cannot be read now, on fulmar" in barn_site.problem(number)
    assert kept()[:2] == ("three", 3)


def test_two_policies_for_one_volume_come_one_after_the_other_and_the_second_is_told(barn_site: Site) -> None:
    by_policies(barn_site)
    save(barn_site, name="wide", copies=4, level="rack")
    first = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "three"})
    second = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "wide"})

    def dies(*_: Any) -> None:
        raise Killed

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(moving.Mover, "carry", dies)
        with pytest.raises(Killed):
            run_change(first)
    gone = changes.carry_out(ME, "delete-policy", {"policy": "pair"})  # which charts may go back to
    run_change(second)
    run_change(gone)
    assert barn_site.state(second) == barn_site.state(gone) == "waiting"
    run_change(first)
    run_change(second)
    run_change(gone)
    assert barn_site.state(first) == "done", barn_site.problem(first)
    assert barn_site.state(second) == "withdrawn"
    assert barn_site.problem(second) == "charts keeps another policy by now."
    assert barn_site.state(gone) == "done"


def test_many_volumes_are_told_together_what_all_of_them_take(barn_site: Site) -> None:
    """Each alone would fit; what would is tried: one fewer."""
    by_policies(barn_site)
    save(barn_site, name="wide", copies=4, level="rack")
    names = [f"v{n}" for n in range(5)]
    for name in names:
        barn_site.do("create-volume", name=name, policy="pair", size="5 TiB")
    assert all(not plan_of("keep-policy", volumes=[name], policy="wide").blockers for name in names)
    [full] = plan_of("keep-policy", volumes=names, policy="wide").blockers
    assert full.sentence.startswith("v0, v1, v2 and 2 more would not fit: with 4 copies quayside can take ")
    save(barn_site, name="spun", data=2, parity=1, level="rack")
    plan = plan_of("keep-policy", volumes=[*names[:2], "charts"], policy="spun")
    assert plan.blockers == ()
    after = adopt(
        current_view(), [current_view().volume(n) for n in names[:2]], current_view().policy("spun")
    )
    assert (after.during.disk_used <= after.during.disk_most).all()


def test_what_is_said_to_mend_a_broken_policy_mends_it(barn_site: Site) -> None:
    """Each cure is tried: what is away comes back; others have places; disks come in another rack."""
    by_policies(barn_site)
    save(barn_site, name="four", copies=4, level="rack")
    keep(barn_site, "three")

    def cure() -> str:
        view = current_view()
        stands = conformance(view, view.volume("charts"))
        assert stands is not None
        return stands.cure()

    assert cure() == ""
    lose(barn_site, "petrel", given_up=False)
    view = current_view()
    short = int((~present_strips(view, view.volume("charts").plies[0])).sum())
    assert cure() == (
        f"Bring petrel back, or wait: {short} strips that it lacks or that stand too close "
        "have places elsewhere."
    )
    find_again(barn_site, "petrel")
    assert cure() == ""
    lose(barn_site, "petrel")
    barn_site.do("rebuild", pool="quayside")
    assert kept() == ("three", 3, Standing.KEPT)
    find_again(barn_site, "petrel")
    barn_site.do("rebuild", pool="quayside")
    keep(barn_site, "four")
    lose(barn_site, "petrel")  # four racks are needed, three are left
    more = "Add disks in another rack, or let it keep a policy that takes fewer."
    assert cure() == f"Bring petrel back. {more}"
    barn_site.do("grow-pool", pool="quayside", disks=barn_site.disks(nodes=("razorbill",)))
    barn_site.do("rebuild", pool="quayside")
    assert kept() == ("four", 4, Standing.KEPT)


@pytest.fixture
def slow(barn_site: Site) -> None:
    """Copies take as long as a test wants."""
    stand_still(barn_site.yard.machines)


def dies_in_the_middle(site: Site, number: int) -> None:
    """The process of a change dies when some of what it writes has arrived, and some has not."""
    original = moving.Mover._order

    def die_later(self: Any, *args: Any) -> None:
        original(self, *args)
        if copied():
            raise Killed
        fluid._move(site.yard.machines, 0.2)  # the yard's own clock stands still

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(moving.Mover, "_order", die_later)
        with pytest.raises(Killed):
            run_change(number)
    site.yard.machines.speed = 5000.0


def test_withdrawn_in_the_middle_it_goes_back_and_nothing_is_left_over(barn_site: Site, slow: None) -> None:
    by_policies(barn_site)
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "three"})
    dies_in_the_middle(barn_site, number)
    assert kept()[:2] == ("three", 3)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn", barn_site.problem(number)
    assert kept() == ("pair", 2, Standing.KEPT)
    barn_site.do("rebuild", pool="quayside")  # which a duty starts
    assert held(barn_site) == should_hold()
    assert len(held(barn_site)) == 60


def test_what_was_given_up_is_written_again_where_it_is_withdrawn(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    by_policies(barn_site)
    keep(barn_site, "three")
    plan = plan_of("keep-policy", volumes=["charts"], policy="pair")
    assert "Withdrawn after this, what is given up is written again." in plan.steps[0].detail
    assert next(e for e in plan.effects if isinstance(e, Promise)).sentence == (
        "What charts has beyond 2 copies is given up only while all the others can be read."
    )
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "pair"})

    def dies(*_: Any, **__: Any) -> None:
        raise Killed

    with monkeypatch.context() as patch:
        patch.setattr("foldbarn.changes.kinds.pools.rebuild.compare", dies)
        with pytest.raises(Killed):
            run_change(number)
    assert kept()[:2] == ("pair", 2)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert kept()[:2] == ("three", 3)
    watching.start_mending()
    with transaction() as session:
        [mending] = [row.id for row in watching.kept.open_of_kind(session, "rebuild")]
    run_change(mending)
    assert kept() == ("three", 3, Standing.KEPT)
    assert held(barn_site) == should_hold()


def test_a_live_volume_that_is_short_gets_all_it_lacks_though_its_process_dies(
    barn_site: Site, slow: None
) -> None:
    """A node is lost, its volume gets one more copy, and the process dies in the middle."""
    by_policies(barn_site)
    lose(barn_site, "turnstone")
    view = current_view()
    volume = view.volume("charts")
    lost = int((~present_strips(view, volume.plies[0])).sum())
    assert lost
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "three"})
    least = present_strips(view, volume.plies[0]).sum(axis=1)
    dies_in_the_middle(barn_site, number)
    view = current_view()
    now = present_strips(view, view.volume("charts").plies[0]).sum(axis=1)
    assert (now >= least).all()
    assert not (now == 3).all()
    assert enough_to_read(view, view.volume("charts").plies[0]).all()
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("three", 3, Standing.KEPT)
    assert fate_of(current_view(), current_view().volume("charts")).state == DataState.WHOLE
    assert copied() == 30 + lost
    find_again(barn_site, "turnstone")
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == should_hold()


def test_while_it_is_written_a_volume_catches_up(barn_site: Site, slow: None) -> None:
    by_policies(barn_site)
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "three"})
    dies_in_the_middle(barn_site, number)
    view = current_view()
    stands = conformance(view, view.volume("charts"))
    assert stands is not None
    assert stands.standing == Standing.CATCHING_UP
    left = int((view.volume("charts").plies[0].placement == 0).sum())
    assert 0 < left < 30
    assert stands.strips == stands.on_their_way == left
    assert np.isin(view.volume("charts").plies[0].placement[:, :2], 0).sum() == 0
    # And its page names the change that does it, which tells how far it is.
    with transaction() as session:
        carriers = moves.carriers(session, [ply.number for ply in view.volume("charts").plies])
        page = policy_page(view, view.policy("three"), [], carriers)
    assert carriers == {view.volume("charts").whole.number: [number]}
    assert [user.mended_by for user in page.users] == [[number]]
    run_change(number)
    with transaction() as session:
        assert moves.carriers(session, [view.volume("charts").whole.number]) == {}


# Written anew. -----------------------------------------------------------------------------------


def parities(site: Site) -> None:
    by_policies(site)
    save(site, name="two-and-one", data=2, parity=1, level="rack")
    save(site, name="two-and-two", data=2, parity=2, level="rack")


def test_copies_become_parity_and_parity_copies(barn_site: Site) -> None:
    parities(barn_site)
    machines = barn_site.yard.machines
    plan = plan_of("keep-policy", volumes=["charts"], policy="two-and-one")
    foretold = next(e for e in plan.effects if isinstance(e, Moved)).bytes
    rows = {r.label: r for r in next(e for e in plan.effects if isinstance(e, Sums)).rows}
    assert (rows["charts on disks"].before.value, rows["charts on disks"].after.value) == (60 << 30, 45 << 30)
    assert rows["Both on disks, meanwhile"].after.value == 105 << 30
    before = sum(c.read_bytes for c in machines.counters.values())
    number = keep(barn_site, "two-and-one")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    read = sum(c.read_bytes for c in machines.counters.values()) - before
    assert read >= 30 << 30  # each byte of data once, whatever is made of it; consumers read as well
    view = current_view()
    volume = view.volume("charts")
    assert (volume.anew, volume.extents, volume.plies[0].scheme.k) == (None, 15, 2)
    assert kept() == ("two-and-one", 3, Standing.KEPT)
    assert held(barn_site) == should_hold()
    assert foretold == copied() << 30 == 45 << 30
    assert barn_site.state(keep(barn_site, "three")) == "done"
    assert kept() == ("three", 3, Standing.KEPT)
    assert current_view().volume("charts").extents == 30
    assert held(barn_site) == should_hold()


def test_each_data_strip_is_made_from_the_strip_that_holds_the_same_bytes(barn_site: Site) -> None:
    """What agents are told to read, strip by strip: from 2 and 1 of parity to 3 and 1, and the last extent is
    not full.
    """
    parities(barn_site)
    save(barn_site, name="three-and-one", data=3, parity=1, level="rack")
    barn_site.do("create-volume", name="odd", policy="two-and-one", size="10 GiB")
    view = current_view()
    source = view.volume("odd").plies[0]
    serials = {d.serial: d.number for d in view.disks}
    keep(barn_site, "three-and-one", "odd")
    ply = current_view().volume("odd").plies[0]
    assert ply.extents == 4  # of three strips of data: the last has one
    told = [
        s
        for o in barn_site.yard.machines.orders.values()
        for s in o.body.get("strips", [])
        if isinstance(s, dict)
    ]
    made = {s["extent"]: s["reads"] for s in told if s["ply"] == ply.number and "along" not in s}
    assert set(made) == {0, 1, 2, 3}
    for extent, reads in made.items():
        data = [n for n in range(3 * extent, 3 * extent + 3) if n < 10]
        assert [(r["ply"], r["extent"], r["strip"]) for r in reads] == [
            (source.number, n // 2, n % 2) for n in data
        ]
        assert all(source.placement[r["extent"], r["strip"]] == serials[r["disk"]] for r in reads)


def test_what_consumers_wrote_is_still_theirs_when_it_was_written_anew(barn_site: Site) -> None:
    parities(barn_site)
    barn_site.yard.machines.clock += 20_000

    def written() -> int:
        hear(barn_site)
        watching.sum_written()
        return current_view().volume("charts").written_bytes

    before = written()
    assert before > 0
    keep(barn_site, "two-and-one")
    assert before <= written() <= 30 << 30
    # The same consumers go on writing to it, as far as they were.
    first, then = list(barn_site.yard.machines.plies.values())
    assert replace(first, data=2) == then


def test_withdrawn_half_way_what_was_written_anew_is_dropped(barn_site: Site, slow: None) -> None:
    parities(barn_site)
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "two-and-one"})
    dies_in_the_middle(barn_site, number)
    view = current_view()
    anew = view.volume("charts").anew
    assert anew is not None
    there = int((anew.placement > 0).sum())
    assert 0 < there < 45
    said = Outlook(view, 0.0, 0.0).volume(0)
    words = f"It is being written anew as 2 and 1 of parity: {there} of 45 strips are there."
    assert (said.lamp, said.reason.endswith(words)) == (Lamp.SOUND, True)
    assert kept() == ("pair", 2, Standing.KEPT)  # it is held as before, whole
    # Room is taken for all of it from the beginning, wherever it is by now.
    assert view.disk_used.sum() == 60 + 45
    ledger = pool_space(view, view.pool("quayside")).ledger
    assert ledger.moving == 45 << 30
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn", barn_site.problem(number)
    assert current_view().disk_used.sum() == 60
    barn_site.do("rebuild", pool="quayside")  # which a duty starts
    assert held(barn_site) == should_hold()
    assert len(held(barn_site)) == 60


def test_killed_in_the_middle_it_goes_on_though_a_node_is_lost_for_good(barn_site: Site, slow: None) -> None:
    """The source is short then, and some of what was written is gone: other nodes take it."""
    by_policies(barn_site)
    more = barn_site.disks(nodes=("razorbill", "skua"))
    barn_site.do("grow-pool", pool="quayside", disks=[d for d in more if d != "skua-3"])
    save(barn_site, name="two-and-two", data=2, parity=2, level="node")
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "two-and-two"})
    dies_in_the_middle(barn_site, number)
    lose(barn_site, "kittiwake")
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("two-and-two", 4, Standing.KEPT)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    find_again(barn_site, "kittiwake")
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == should_hold()


def test_parity_that_is_short_is_written_anew_from_as_many_strips_as_it_takes(barn_site: Site) -> None:
    parities(barn_site)
    keep(barn_site, "two-and-two")
    lose(barn_site, "petrel", given_up=False)
    number = keep(barn_site, "pair")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    find_again(barn_site, "petrel")
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == should_hold()


def test_while_a_node_is_silent_that_is_to_take_some_it_waits_for_it_by_name(barn_site: Site) -> None:
    parities(barn_site)
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "two-and-two"})

    def dies(*_: Any) -> None:
        raise Killed

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(moving.Mover, "carry", dies)
        with pytest.raises(Killed):
            run_change(number)
    lose(barn_site, "petrel", given_up=False)
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "15 strips of charts are not written yet: petrel cannot be reached" in barn_site.problem(number)
    find_again(barn_site, "petrel")
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("two-and-two", 4, Standing.KEPT)
    assert held(barn_site) == should_hold()


def test_what_is_lost_between_writing_and_taking_over_is_written_once_more(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    by_policies(barn_site)
    save(barn_site, name="two-and-one", data=2, parity=1, level="rack")
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "two-and-one"})

    def dies(*_: Any, **__: Any) -> None:
        raise Killed

    with monkeypatch.context() as patch:
        patch.setattr("foldbarn.store.volumes.take_over", dies)
        with pytest.raises(Killed):
            run_change(number)
    lose(barn_site, "turnstone")
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("two-and-one", 3, Standing.KEPT)
    with pytest.raises(NotPossible, match="is done"):
        changes.ask(ME, number, "withdraw")


def test_once_it_has_taken_over_it_does_not_go_back_though_its_process_died_before_that_was_recorded(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What held it before is gone by then: going back would tear what holds it now."""
    by_policies(barn_site)
    save(barn_site, name="two-and-one", data=2, parity=1, level="rack")
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "two-and-one"})
    finish = runner._finish_step

    def dies(session: Any, run: Any, outcome: str) -> None:
        if "held by what was written anew" in outcome:
            raise Killed
        finish(session, run, outcome)

    with monkeypatch.context() as patch:
        patch.setattr(runner, "_finish_step", dies)
        with pytest.raises(Killed):
            run_change(number)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "charts is held by what was written anew already." in barn_site.problem(number)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    assert kept() == ("two-and-one", 3, Standing.KEPT)
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert held(barn_site) == should_hold()


def test_with_too_little_room_beside_it_is_refused_before(barn_site: Site) -> None:
    parities(barn_site)
    barn_site.do("create-volume", name="large", pool="quayside", size="30 TiB", copies=2, level="node")
    [full] = plan_of("keep-policy", volumes=["large"], policy="two-and-one").blockers
    assert full.sentence.startswith(
        "large would not fit: with 2 and 1 of parity it has to be written anew, and"
    )
    assert plan_of("keep-policy", volumes=["charts"], policy="two-and-one").blockers == ()


def test_disks_may_leave_while_it_is_paused_and_take_nothing_with_them(barn_site: Site, slow: None) -> None:
    """What lies there of it already, and what was to be written there, goes elsewhere."""
    parities(barn_site)
    number = changes.carry_out(ME, "keep-policy", {"volumes": ["charts"], "policy": "two-and-one"})
    dies_in_the_middle(barn_site, number)
    changes.ask(ME, number, "pause")
    run_change(number)
    view = current_view()
    anew = view.volume("charts").anew
    assert anew is not None
    row = int(np.bincount(view.rows_kept_for(anew).reshape(-1)).argmax())
    disk = view.disks[row].name
    away = barn_site.do("retire", what="disk", names=[disk])
    assert barn_site.state(away) == "done", barn_site.problem(away)
    view = current_view()
    anew = view.volume("charts").anew
    assert anew is not None
    assert view.disk(disk).pool == -1
    assert not (view.rows_kept_for(anew) == row).any()
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("two-and-one", 3, Standing.KEPT)
    assert held(barn_site) == should_hold()


def test_copies_whose_racks_are_gone_for_good_are_written_anew_where_there_are_racks(barn_site: Site) -> None:
    """Three copies need three racks, two are left: the cure is a policy of two, though some of its copies
    that would stay are lost.
    """
    by_policies(barn_site)
    save(barn_site, name="pair-by-rack", copies=2, level="rack")
    keep(barn_site, "three")
    for node in ("fulmar", "petrel"):
        lose(barn_site, node)
    barn_site.do("rebuild", pool="quayside")
    view = current_view()
    assert fate_of(view, view.volume("charts")).unavailable == 0
    staying = present_strips(view, view.volume("charts").plies[0])[:, :2]
    assert not staying.all()
    # A pool that cannot hold what it usually holds counts as full: it is told first to be content with two.
    settings = {"copies": 2, "level": "rack", "headroom": None}
    barn_site.do("set-pool", pool="quayside", **settings)
    number = keep(barn_site, "pair-by-rack")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert kept() == ("pair-by-rack", 2, Standing.KEPT)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
