"""Disks leave pools: retired, replaced, given another role; against the real yard, killed, cut off and too
full.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site
from sqlalchemy import select
from test_changes import Killed, find_again, held, lose, should_hold
from test_cluster import EIGHT, form, hear
from told import in_words, told

from foldbarn.changes.engine import moving, runner
from foldbarn.changes.engine.effects import Capacity, Moved, OnDisks
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.pools.effects import with_disks
from foldbarn.changes.kinds.pools.replace_disk import _warnings
from foldbarn.core.errors import NotPossible
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.roles import binding_of
from foldbarn.core.site import Role
from foldbarn.core.units import say_size
from foldbarn.core.volumes.loss import DataState, cache_losses, fate_of
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp
from foldbarn.links.agents import Agent
from foldbarn.services import changes, watching
from foldbarn.store import changes as kept
from foldbarn.store import moves as store_moves
from foldbarn.store.database import announce, transaction
from foldbarn.store.placements import set_strips
from foldbarn.store.tables import ChangeRow, DiskRow, StepRow
from foldbarn.store.views import current_view
from foldbarn.yard.agent import lose_unsettled
from foldbarn.yard.machines import Counters
from foldbarn.yard.scenario import StandInDisk

NODES = ("fulmar", "petrel", "kittiwake", "turnstone")


def all_whole() -> bool:
    view = current_view()
    return all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes)


def spread_kept() -> bool:
    view = current_view()
    for volume in view.volumes:
        domains = np.sort(
            np.append(view.domain_of(volume.plies[0].scheme.level), -1)[view.rows(volume.plies[0])], axis=1
        )
        if (domains[:, 1:] == domains[:, :-1]).any():
            return False
    return True


def mixed_pool(site: Site, **params: Any) -> int:
    """SSD as capacity, two NVMe a node as cache."""
    return site.pool(disks=site.disks(nodes=NODES) + site.disks("nvme", nodes=NODES), **params)


@pytest.mark.pooled
def test_a_disk_is_retired_and_may_be_pulled(barn_site: Site) -> None:
    barn_site.volume(size="400 GiB")
    preview = changes.preview("retire", {"what": "disk", "names": ["petrel-3"]})
    capacity = told(preview, Capacity).rows
    assert preview.blockers == []
    assert preview.moves_bytes == told(preview, OnDisks).leaving["petrel-3"] > 0
    assert sum(f.bytes for f in told(preview, Moved).flows) == preview.moves_bytes
    assert [row.after for row in capacity] == ["as it is", "nothing new goes there", "let go"]
    assert capacity[2].raw == capacity[0].raw - 3_840 * 10**9
    number = barn_site.do("retire", what="disk", names=["petrel-3"])
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    disk = current_view().disk("petrel-3")
    assert (disk.role, disk.retiring, disk.pool) == (Role.UNCLAIMED, False, -1)
    assert not barn_site.yard.machines.strips[disk.serial]
    assert disk.serial not in barn_site.yard.machines.pool_of
    assert all_whole()
    assert held(barn_site) == should_hold()
    after = pool_space(current_view(), current_view().pool("quayside"))
    assert after.usable * 2**30 == capacity[2].usable  # what the preview said is what there is
    with transaction() as session:
        row = session.get_one(ChangeRow, number)
        assert row.moved == preview.moves_bytes
        assert row.work_seconds > 0


def test_a_node_and_a_rack_are_retired_with_all_their_disks(barn_site: Site) -> None:
    barn_site.pool(disks=barn_site.disks(nodes=(*NODES, "razorbill")))
    barn_site.volume(size="300 GiB")
    assert barn_site.state(barn_site.do("retire", what="node", names=["petrel"])) == "done"
    assert {
        current_view().nodes[d.node].name for d in current_view().all_of(current_view().pool("quayside"))
    } == {*NODES, "razorbill"} - {"petrel"}
    preview = changes.preview("retire", {"what": "rack", "names": ["NQ-2"]})
    assert preview.blockers == []  # three racks are left for three copies
    assert any(
        "After losing any one node not everything could be rebuilt" in w.sentence for w in preview.warnings
    )
    assert barn_site.state(barn_site.do("retire", what="rack", names=["NQ-2"])) == "done"
    assert all_whole()
    assert spread_kept()
    with pytest.raises(
        NotPossible, match="charts keeps 3 copies in as many racks; only 2 racks would be left"
    ):
        changes.carry_out(ME, "retire", {"what": "rack", "names": ["SQ-1"]})


def test_retiring_what_has_no_room_to_go_is_refused_with_the_numbers(barn_site: Site) -> None:
    barn_site.pool(disks=barn_site.disks(nodes=(*NODES, "razorbill")), headroom=None, fill_line=1.0)
    most = pool_space(current_view(), current_view().pool("quayside")).free
    barn_site.volume(size=f"{most - 64} GiB")
    with pytest.raises(
        NotPossible,
        match=r"that charts has on these disks has nowhere to go: .* is free on the other disks of quayside",
    ):
        changes.carry_out(ME, "retire", {"what": "node", "names": ["fulmar"]})


@pytest.mark.pooled
def test_protection_never_falls_while_a_disk_is_emptied(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    from foldbarn.changes.engine.moving import Mover

    barn_site.volume(size="200 GiB")
    barn_site.yard.machines.speed = 200.0
    seen: list[tuple[bool, bool, bool]] = []
    original = Mover._collect

    def watched(self: Any, view: Any) -> None:
        original(self, view)
        seen.append((all_whole(), spread_kept(), should_hold() <= held(barn_site)))

    monkeypatch.setattr(Mover, "_collect", watched)
    assert barn_site.state(barn_site.do("retire", what="node", names=["petrel"])) == "done"
    assert len(seen) > 1  # it was looked at while strips were moving
    assert all(all(look) for look in seen)


def test_a_disk_is_replaced_by_another(barn_site: Site) -> None:
    barn_site.pool(disks=[d for d in barn_site.disks(nodes=NODES) if d != "turnstone-8"])
    barn_site.volume()
    preview = changes.preview("replace-disk", {"disk": "turnstone-2", "by": "turnstone-8"})
    assert preview.blockers == []
    assert told(preview, OnDisks).arriving == {
        "turnstone-8": told(preview, OnDisks).leaving["turnstone-2"]
    }  # it takes over everything, and nothing else moves
    number = barn_site.do("replace-disk", disk="turnstone-2", by="turnstone-8")
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    view = current_view()
    assert (view.disk("turnstone-2").role, view.disk("turnstone-8").role) == (Role.UNCLAIMED, Role.CAPACITY)
    assert held(barn_site) == should_hold()
    assert (
        int(view.disk_used[view.row_of_number[view.disk("turnstone-8").number]]) * 2**30
        == preview.moves_bytes
    )
    assert all_whole()


def test_a_disk_that_is_gone_is_replaced_from_the_other_copies(barn_site: Site) -> None:
    barn_site.pool(disks=[d for d in barn_site.disks(nodes=NODES) if d != "turnstone-8"])
    barn_site.volume()
    old = current_view().disk("turnstone-2")
    barn_site.yard.machines.pulled.add(old.serial)
    with transaction() as session:
        session.get_one(DiskRow, old.number).present = False
        announce(session, "site")
    assert not all_whole()
    number = barn_site.do("replace-disk", disk="turnstone-2", by="turnstone-8")
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    assert all_whole()
    gone = current_view().disk("turnstone-2")
    assert (gone.role, gone.pool, gone.why) == (Role.UNFIT, -1, ["it was away when its pool let go of it"])


def test_replacing_wants_a_disk_and_says_which_are_fit(barn_site: Site) -> None:
    barn_site.pool(disks=[d for d in barn_site.disks(nodes=NODES) if d != "turnstone-8"])
    note = changes.preview("replace-disk", {"disk": "turnstone-2", "by": ""}).blockers[0]
    assert note.sentence == "Choose the disk that takes its place."
    assert note.next_step is not None
    assert note.next_step.startswith("turnstone-8, ")
    assert (
        "fulmar-1 is taken"
        in changes.preview("replace-disk", {"disk": "turnstone-2", "by": "fulmar-1"}).blockers[0].sentence
    )


def test_what_replacing_says_of_size_and_place_is_counted(barn_site: Site) -> None:
    barn_site.pool(disks=[d for d in barn_site.disks(nodes=NODES) if d not in ("turnstone-8", "fulmar-8")])
    barn_site.volume(size="500 GiB")
    view = current_view()
    pool, old = view.pools[0], view.disk("turnstone-2")
    held = int(view.disk_used[view.row_of_number[old.number]])
    assert held > 10

    def warned(by: str, slots: int) -> list[str]:
        """The warnings, were the new disk one that has room for so many strips."""
        smaller = replace(view.disk(by), size_bytes=slots * pool.strip_bytes * 100 // 99 + 2**21)
        then = replace(view, disks=tuple(smaller if d.name == by else d for d in view.disks))
        assert (
            int(
                with_disks(then, [replace(smaller, pool=0, role=Role.CAPACITY)]).disk_slots[
                    then.row_of_number[smaller.number]
                ]
            )
            == slots
        )
        return [n.sentence for n in _warnings(then, old, smaller)]

    assert [s.partition("; ")[2] for s in warned("turnstone-8", held)] == [
        "none of what it holds has to go elsewhere."
    ]
    assert [s.partition("; ")[2] for s in warned("turnstone-8", held - 2)] == [
        f"{say_size(2 * pool.strip_bytes)} of what it holds go elsewhere."
    ]
    sizes = {rack.name: 0 for rack in view.racks}
    for disk in view.disks:
        if (disk.pool == 0 and disk.name != "turnstone-2") or disk.name == "fulmar-8":
            sizes[view.racks[view.nodes[disk.node].rack].name] += disk.size_bytes
    there, here = (view.racks[view.node(n).rack].name for n in ("fulmar", "turnstone"))
    assert (
        f"fulmar-8 stands in another rack: of the pool's disks {there} {say_size(sizes[there])} and "
        f"{here} {say_size(sizes[here])} would be there."
        in [n.sentence for n in _warnings(view, old, view.disk("fulmar-8"))]
    )


def test_a_role_against_the_rule_is_told_of_the_disk_that_it_concerns(barn_site: Site) -> None:
    mixed_pool(barn_site, overrides={"fulmar-c2": {"role": "spare", "reason": "kept for a worn device"}})
    preview = changes.preview("change-role", {"disks": ["fulmar-c2", "petrel-3"], "role": "cache"})
    assert preview.blockers[0].sentence.startswith("By rule petrel-3 is capacity;")
    params = {"disks": ["petrel-c1", "petrel-c2"], "role": "cache"}
    assert (
        changes.preview("change-role", params).blockers[0].sentence
        == "petrel-c1 and petrel-c2 are cache already."
    )


def test_roles_follow_the_rule_and_caches_are_bound_within_their_node(barn_site: Site) -> None:
    preview = changes.preview(
        "form-pool",
        {
            "name": "q",
            "disks": barn_site.disks(nodes=NODES) + barn_site.disks("nvme", nodes=NODES),
            "overrides": {"fulmar-c2": {"role": "spare"}},
        },
    )
    assert "fulmar-c2 is cache by rule; making it spare wants a reason." in preview.blockers[0].sentence
    mixed_pool(barn_site, overrides={"fulmar-c2": {"role": "spare", "reason": "kept for a worn device"}})
    view = current_view()
    pool = view.pool("quayside")
    assert view.disk("fulmar-c2").role == Role.SPARE
    assert view.disk("fulmar-c2").role_reason == "kept for a worn device"
    bound = binding_of(view, pool)
    by_number = {d.number: d for d in view.disks}
    assert len(bound) == 32
    assert all(by_number[a].node == by_number[b].node for a, b in bound.items())
    serves = [
        list(bound.values()).count(view.disk(n).number) for n in ("petrel-c1", "petrel-c2", "fulmar-c1")
    ]
    assert serves == [4, 4, 8]
    serial = {d.number: d.serial for d in view.disks}
    assert barn_site.yard.machines.bound == {
        serial[a]: serial[b] for a, b in bound.items()
    }  # what the agents were told
    ledger = pool_space(view, pool).ledger
    assert (ledger.cache, ledger.spare) == (7 * 1_920 * 10**9, 1_920 * 10**9)
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw


@pytest.mark.pooled
def test_capacity_becomes_spare_and_back(barn_site: Site) -> None:
    barn_site.volume()
    with pytest.raises(NotPossible, match="By rule petrel-3 is capacity; another role wants a reason"):
        changes.carry_out(ME, "change-role", {"disks": ["petrel-3"], "role": "spare"})
    number = barn_site.do("change-role", disks=["petrel-3"], role="spare", reason="to stand in at night")
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    disk = current_view().disk("petrel-3")
    assert (disk.role, disk.role_reason, disk.retiring) == (Role.SPARE, "to stand in at night", False)
    assert not barn_site.yard.machines.strips[disk.serial]
    assert all_whole()
    assert barn_site.state(barn_site.do("change-role", disks=["petrel-3"], role="capacity")) == "done"
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    assert barn_site.yard.machines.strips[disk.serial]  # it has been levelled onto again


def test_a_spare_stands_in_once_for_a_disk_that_is_given_up(barn_site: Site) -> None:
    barn_site.pool(
        overrides={
            "petrel-8": {"role": "spare", "reason": "stands in"},
            "turnstone-8": {"role": "spare", "reason": "stands in too"},
        }
    )
    barn_site.volume()
    lost = current_view().disk("turnstone-2")
    barn_site.yard.machines.pulled.add(lost.serial)
    with transaction() as session:
        row = session.get_one(DiskRow, lost.number)
        row.present, row.given_up = False, True
        announce(session, "site")
    for _ in range(3):
        watching.call_in_spares()
        with transaction() as session:
            open_ones = list(
                session.scalars(
                    select(ChangeRow.id).where(ChangeRow.kind == "change-role", ChangeRow.state == "waiting")
                )
            )
        for number in open_ones:
            run_change(number)
    view = current_view()
    assert (view.disk("turnstone-8").role, view.disk("petrel-8").role) == (
        Role.CAPACITY,
        Role.SPARE,
    )  # the one in its own node, and only that
    assert view.disk("turnstone-8").role_reason == "stands in for turnstone-2"


@pytest.mark.pooled
def test_withdrawn_in_the_middle_the_disks_stay_in_use(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume(size="300 GiB")
    number = changes.carry_out(ME, "retire", {"what": "node", "names": ["petrel"]})
    barn_site.yard.machines.speed = 1.0
    kill_at_look(monkeypatch, number, lambda: changes.ask(ME, number, "withdraw"))
    barn_site.yard.machines.speed = 5000.0
    assert barn_site.state(number) == "withdrawn"
    assert not any(d.retiring for d in current_view().disks)
    assert len(current_view().in_pool(current_view().pool("quayside"))) == 32
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == should_hold()
    assert all_whole()


def kill_at(monkeypatch: pytest.MonkeyPatch, number: int, step: int, when: str) -> None:
    """Runs a change and kills it at a step: when all of it is done but not recorded, or when that has been
    recorded too.
    """
    finish, do = runner._finish_step, runner._next_step

    def before(session: Any, run: Any, outcome: str) -> None:
        if run.step == step:
            raise Killed
        finish(session, run, outcome)

    def after(run: Any) -> bool:
        at, going_on = run.step, do(run)
        if at == step:
            raise Killed
        return going_on

    with monkeypatch.context() as patch:
        patch.setattr(runner, *(("_finish_step", before) if when == "before" else ("_next_step", after)))
        with pytest.raises(Killed):
            run_change(number)


@pytest.mark.pooled
def test_once_disks_are_being_blanked_there_is_no_way_back(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume()
    number = changes.carry_out(ME, "retire", {"what": "disk", "names": ["petrel-3"]})
    kill_at(monkeypatch, number, 3, "before")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "paused"
    assert "There is no way back: what was emptied is being blanked." in barn_site.problem(number)
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"
    grown = changes.carry_out(ME, "grow-pool", {"pool": "quayside", "disks": ["petrel-3", "fulmar-c1"]})
    kill_at(monkeypatch, grown, 3, "after")
    changes.ask(ME, grown, "withdraw")
    run_change(grown)
    assert "the disks have joined; retire them instead" in barn_site.problem(grown)


@pytest.mark.pooled
def test_what_is_being_emptied_or_was_let_go_while_away_asks_for_nobody(barn_site: Site) -> None:
    barn_site.volume()
    lost = current_view().disk("turnstone-2")
    barn_site.yard.machines.pulled.add(lost.serial)
    with transaction() as session:
        session.get_one(DiskRow, lost.number).present = False
        leaves = session.get_one(DiskRow, current_view().disk("petrel-3").number)
        leaves.retiring = True
        announce(session, "site")
    outlook = Outlook(current_view(), 0.0, 30.0)
    assert outlook.disk(current_view().disk("petrel-3")).lamp == Lamp.AWAY
    assert any(a.name == "turnstone-2" for a in outlook.attention())
    barn_site.do("retire", what="disk", names=["turnstone-2"])
    outlook = Outlook(current_view(), 0.0, 30.0)
    assert outlook.disk(current_view().disk("turnstone-2")).lamp == Lamp.AWAY
    assert not any(a.name == "turnstone-2" for a in outlook.attention())


@pytest.mark.pooled
def test_disks_of_a_silent_node_that_could_not_be_blanked_are_unfit_and_say_why_when_it_returns(
    barn_site: Site,
) -> None:
    barn_site.volume()
    lose(barn_site, "petrel")
    barn_site.do("rebuild", pool="quayside")
    wish = {"what": "node", "names": ["petrel"]}
    details = [step.detail for step in changes.preview("retire", wish).steps]
    assert any("cannot be told to blank, and will be unfit" in detail for detail in details)
    assert not any("They are fit and free" in detail for detail in details)
    assert barn_site.state(barn_site.do("retire", **wish)) == "done"

    def unfit() -> dict[str, list[str]]:
        return {d.name: [r.code for r in d.reasons] for d in current_view().disks if d.name in names}

    names = {d.name for d in current_view().disks if d.name.startswith("petrel-") and d.role == Role.UNFIT}
    assert names
    assert set(map(tuple, unfit().values())) == {("taken-out",)}
    # It is as it was before, and so is its inventory; that is read again all the same.
    barn_site.yard.machines.power["petrel"] = True
    node = current_view().node("petrel")
    watching.note_report(node.number, Agent(node.agent_url).report())
    assert set(map(tuple, unfit().values())) == {("marked",)}
    assert {d.role for d in current_view().disks if d.name in names} == {Role.UNFIT}


def kill_at_look(monkeypatch: pytest.MonkeyPatch, number: int, then: Callable[[], None]) -> None:
    """Runs a change, and does something at its second look at the copies."""
    at_looks(monkeypatch, number, {1: then})


def at_looks(monkeypatch: pytest.MonkeyPatch, number: int, deeds: dict[int, Callable[[], None]]) -> None:
    """Runs a change, and does something at these looks at the copies, counted from 0."""
    from foldbarn.changes.engine.moving import Mover

    looks = iter(range(1000))
    original = Mover._tell_progress

    def acting(self: Any, *args: Any) -> None:
        original(self, *args)
        deeds.get(next(looks), lambda: None)()

    with monkeypatch.context() as patch:
        patch.setattr(Mover, "_tell_progress", acting)
        run_change(number)


def test_slowed_down_it_moves_no_faster_than_allowed_and_then_again(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.pool(level_rate=40_000_000)
    barn_site.volume(size="40 GiB")
    machines = barn_site.yard.machines
    machines.speed = 1.0  # far too slow to end before the last look that matters
    number = changes.carry_out(ME, "retire", {"what": "disk", "names": ["petrel-3"]})

    def slower() -> None:
        # Four nodes, eight disks each: every node may take a quarter of the limit.
        assert {limit for limit, _ in machines.throttles.values()} == {10_000_000.0}
        changes.limit(ME, number, 4_000_000)

    def told() -> None:
        assert {limit for limit, _ in machines.throttles.values()} == {1_000_000.0}
        machines.speed = 4000.0

    at_looks(monkeypatch, number, {1: slower, 3: told})
    assert barn_site.state(number) == "done"
    assert {limit for limit, _ in machines.throttles.values()} == {1_000_000.0}
    with transaction() as session:
        row = session.get_one(ChangeRow, number)
        assert row.moved / row.work_seconds <= 40_000_000
    with pytest.raises(NotPossible, match="is done"):
        changes.limit(ME, number, 1)


@pytest.mark.pooled
def test_power_cut_twice_while_a_disk_is_emptied(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    barn_site.volume(size="300 GiB")
    number = changes.carry_out(ME, "retire", {"what": "disk", "names": ["petrel-3", "petrel-4"]})
    barn_site.yard.machines.speed = 3.0
    from foldbarn.changes.engine.moving import Mover

    looks = iter(range(1000))
    original = Mover._tell_progress

    def cutting(self: Any, *args: Any) -> None:
        original(self, *args)
        look = next(looks)
        if look in (1, 5):
            lose(barn_site, "fulmar")
        if look in (3, 7):
            find_again(barn_site, "fulmar")
        if look == 8:
            barn_site.yard.machines.speed = 5000.0

    monkeypatch.setattr(Mover, "_tell_progress", cutting)
    run_change(number)
    assert next(looks) > 8  # it was cut off twice
    if barn_site.state(number) == "paused":
        changes.ask(ME, number, "resume")
        run_change(number)
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    barn_site.do("rebuild", pool="quayside")
    assert all_whole()
    assert spread_kept()
    assert held(barn_site) == should_hold()


@pytest.mark.pooled
def test_settings_change_at_once_and_are_taken_back(barn_site: Site) -> None:
    wish = changes.preview(
        "set-pool",
        {
            "pool": "quayside",
            "headroom": "node",
            "headroom_losses": 2,
            "rebuild_rate": 100_000_000,
            "priority": "even",
        },
    )
    assert {label: (before, after) for label, before, after in in_words(wish)} == {
        "Heals from losing": ("any one node", "any two nodes"),
        "Rebuilds at most": ("as fast as it goes", "100 MB/s"),
        "Goes first": ("consumers' work", "neither: copying gets at least half"),
    }
    assert wish.undo is not None
    number = barn_site.do(
        "set-pool",
        pool="quayside",
        headroom="node",
        headroom_losses=2,
        rebuild_rate=100_000_000,
        priority="even",
    )
    assert barn_site.state(number) == "done"
    pool = current_view().pool("quayside")
    assert (pool.headroom_losses, pool.rebuild_rate, pool.priority) == (2, 100_000_000, "even")
    barn_site.do("set-pool", **wish.undo["params"])
    assert current_view().pool("quayside").headroom_losses == 1
    with pytest.raises(NotPossible, match="Nothing would be different"):
        changes.carry_out(ME, "set-pool", wish.undo["params"])


@pytest.mark.parametrize("what", ["shrinks", "turns read-only", "is pulled", "is claimed"])
@pytest.mark.pooled
def test_a_disk_that_changes_between_preview_and_step_is_not_taken(barn_site: Site, what: str) -> None:
    number = changes.carry_out(ME, "grow-pool", {"pool": "quayside", "disks": ["razorbill-1"]})
    machines = barn_site.yard.machines
    disk = machines.disks[current_view().disk("razorbill-1").serial]
    if what == "shrinks":
        disk.size_bytes //= 2
    elif what == "turns read-only":
        disk.read_only = True
    elif what == "is claimed":  # by another site, for a pool of the same name
        machines.pool_of[disk.serial], machines.site_of[disk.serial] = "quayside", "elsewhere"
    else:
        machines.pulled.add(disk.serial)
    with transaction() as session:
        node = session.scalars(select(watching.NodeRow.id).where(watching.NodeRow.name == "razorbill")).one()
    watching.note_report(node, {"inventory_version": "new"})
    run_change(number)
    assert (
        barn_site.state(number) == "withdrawn"
    )  # by itself: nothing has been done, and it will not come true
    words = {
        "shrinks": "has become smaller",
        "turns read-only": "it is read-only",
        "is pulled": "is missing from razorbill",
        "is claimed": "another site has claimed it for its pool 'quayside'",
    }[what]
    assert words in barn_site.problem(number)
    assert machines.site_of.get(disk.serial) == ("elsewhere" if what == "is claimed" else None)
    with transaction() as session:
        assert session.scalars(
            select(StepRow.name).where(StepRow.change_id == number, StepRow.state == "failed")
        ).all() == ["prepare"]


@pytest.mark.pooled
def test_a_pooled_disk_that_shrinks_or_turns_read_only_gets_nothing_new_and_says_so(barn_site: Site) -> None:
    view = current_view()
    machines = barn_site.yard.machines
    small, frozen = view.disk("petrel-1"), view.disk("petrel-2")
    machines.disks[small.serial].size_bytes //= 2
    machines.disks[frozen.serial].read_only = True
    watching.note_report(view.nodes[small.node].number, {"inventory_version": "new"})
    barn_site.volume(size="100 GiB")
    view = current_view()
    assert not machines.strips[small.serial]
    assert not machines.strips[frozen.serial]
    assert view.disk("petrel-1").size_bytes == small.size_bytes  # what its pool counts on stays on record
    assert "it reports 1.92 TB, where it had 3.84 TB" in view.disk("petrel-1").why[0]
    ledger = pool_space(view, view.pool("quayside")).ledger
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw
    assert ledger.out_of_reach > 0


def test_encryption_wants_a_key_and_is_read_back(barn_site: Site) -> None:
    disks = barn_site.disks(nodes=NODES)
    with pytest.raises(NotPossible, match="There is no data key to encrypt with"):
        changes.carry_out(ME, "form-pool", {"name": "q", "disks": disks, "encrypted": True})


def test_an_encrypted_pool_shows_it_on_every_disk_that_joins(barn_site: Site) -> None:
    hear(barn_site)
    form(barn_site, members=EIGHT[:5], encrypted=True, passphrase="a long enough passphrase")
    hear(barn_site)
    number = barn_site.pool(encrypted=True)
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    assert current_view().pool("quayside").encrypted
    barn_site.do("grow-pool", pool="quayside", disks=["razorbill-1"])
    serials = {d.serial for d in current_view().all_of(current_view().pool("quayside"))}
    assert barn_site.yard.machines.sealed == serials
    assert len(serials) == 33
    barn_site.do("delete-pool", pool="quayside", typed="quayside")
    assert barn_site.yard.machines.sealed == set()


def test_a_fast_tier_keeps_to_its_own_disks(barn_site: Site) -> None:
    mixed_pool(barn_site, serves="fast tier")
    barn_site.volume("hot", tier="fast", size="50 GiB")
    barn_site.volume("cold", size="50 GiB")
    view = current_view()
    media = {
        v.name: {view.disks[r].media for r in np.unique(view.rows(v.plies[0])).tolist()} for v in view.volumes
    }
    assert media == {"hot": {"nvme"}, "cold": {"ssd"}}
    lose(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    view = current_view()
    assert {view.disks[r].media for r in np.unique(view.rows(view.volume("hot").plies[0])).tolist()} == {
        "nvme"
    }
    assert all_whole()
    space = pool_space(view, view.pool("quayside"))
    assert space.fast is not None
    assert sum(amount for _, amount in space.ledger.rows()) == space.ledger.raw


def test_a_cache_device_that_fails_takes_its_unsettled_strips_and_another_serves_its_disks(
    barn_site: Site,
) -> None:
    mixed_pool(barn_site)
    barn_site.volume(size="200 GiB")
    machines = barn_site.yard.machines
    view = current_view()
    foreseen = next(
        c
        for c in cache_losses(view, view.pool("quayside"), binding_of(view, view.pool("quayside")))
        if c.device == "petrel-c1"
    )
    assert foreseen.unreadable == 0
    device = view.disk("petrel-c1")
    served = {serial for serial, by in machines.bound.items() if by == device.serial}
    machines.pulled.add(device.serial)
    lose_unsettled(machines, device.serial)
    lost = should_hold() - held(barn_site)
    assert {serial for serial, *_ in lost} == served
    assert 0 < len({(v, e) for _, v, e, _ in lost}) <= foreseen.extents
    watching.note_report(view.nodes[device.node].number, {"inventory_version": "new"})
    watching.start_mending()
    with transaction() as session:
        number = session.scalars(select(ChangeRow.id).where(ChangeRow.kind == "rebuild")).one()
    run_change(number)
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    assert held(barn_site) == should_hold()
    assert all_whole()
    other = current_view().disk("petrel-c2").serial
    assert {machines.bound[serial] for serial in served} == {other}


def test_a_pool_on_one_node_spreads_over_its_disks(barn_site: Site) -> None:
    barn_site.pool(
        "skerries", disks=barn_site.disks(nodes=("skua",)), copies=2, level="disk", headroom="disk"
    )
    barn_site.volume("ours", pool="skerries", copies=2, level="disk", size="500 GiB")
    view = current_view()
    assert spread_kept()
    assert fate_of(view, view.volume("ours")).state == DataState.WHOLE
    lost = view.disk("skua-1")
    barn_site.yard.machines.pulled.add(lost.serial)
    with transaction() as session:
        row = session.get_one(DiskRow, lost.number)
        row.present, row.given_up = False, True
        announce(session, "site")
    assert barn_site.state(barn_site.do("rebuild", pool="skerries")) == "done"
    assert all_whole()
    assert spread_kept()


def test_a_pool_in_an_enclosure_outlives_the_node_that_carried_it(barn_site: Site) -> None:
    machines = barn_site.yard.machines
    for number in range(1, 9):  # dunlin and whimbrel reach one box of eight
        built = StandInDisk(
            str(20 + number),
            f"BOX{number}",
            f"0x5000ff00000000{number:02x}",
            "Holm S3840",
            "ssd",
            3_840 * 10**9,
        )
        built.enclosure = "box-1"
        machines.nodes["dunlin"].disks.append(built)
        machines.disks[built.serial], machines.node_of[built.serial] = built, "dunlin"
        machines.counters[built.serial] = Counters()
        machines.cable(built, "whimbrel")
    for node in current_view().nodes:
        if node.name in ("dunlin", "whimbrel"):
            watching.note_report(node.number, {"inventory_version": "boxed"})
    boxed = [d.name for d in current_view().disks if d.enclosure >= 0]
    assert len(boxed) == 8
    number = barn_site.pool("boxed", disks=boxed, copies=2, level="disk", headroom="disk")
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    barn_site.volume("kept", pool="boxed", copies=2, level="disk", size="100 GiB")
    lose(barn_site, "dunlin")
    watching.hand_over_boxes()
    view = current_view()
    assert {view.nodes[view.disk(n).node].name for n in boxed} == {"whimbrel"}
    assert fate_of(view, view.volume("kept")).state == DataState.WHOLE


@pytest.mark.pooled
def test_endless_clocks_do_not_confuse_what_was_measured(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A node's clock that jumps back adds nothing to what the copying took."""
    from foldbarn.links.agents import Agent

    barn_site.volume(size="200 GiB")
    told = iter([1000.0, 990.0, 991.0, *(992.0 + n for n in range(1000))])
    monkeypatch.setattr(Agent, "uptime", lambda self: next(told))
    number = barn_site.do("retire", what="disk", names=["petrel-3"])
    assert barn_site.state(number) == "done"
    with transaction() as session:
        assert 0 <= session.get_one(ChangeRow, number).work_seconds < 100


@pytest.mark.pooled
def test_an_orders_strips_stand_in_the_sequence_in_which_what_is_finished_is_read_back(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whatever goes first in a batch: what is lost does, and it may have been planned last."""
    barn_site.volume(size="200 GiB")
    send, told = moving.Mover._send, Agent.send
    orders: list[dict[str, Any]] = []

    def turned(self: moving.Mover, view: Any, pool: Any, row: int, batch: list[Any]) -> None:
        send(self, view, pool, row, batch[::-1])

    def noted(self: Agent, order: dict[str, Any]) -> Any:
        orders.append(order)
        return told(self, order)

    monkeypatch.setattr(moving.Mover, "_send", turned)
    monkeypatch.setattr(Agent, "send", noted)
    number = barn_site.do("retire", what="disk", names=["petrel-3", "fulmar-2"])
    assert barn_site.state(number) == "done", barn_site.problem(number)
    copies = [order for order in orders if order["kind"] == "copy"]
    assert max(len(order["strips"]) for order in copies) > 1
    for order in copies:
        with transaction() as session:
            moves = store_moves.of_order(session, number, order["id"])
        assert [(m.ply_id, m.extent, m.strip) for m in moves] == [
            (s["ply"], s["extent"], s["strip"]) for s in order["strips"]
        ]


@pytest.mark.pooled
def test_what_is_lost_for_good_is_not_tried_again_for_ever(barn_site: Site) -> None:
    """A change each few seconds that can do nothing would hide those that do something."""
    barn_site.volume(size="20 GiB")
    volume = current_view().volume("charts")
    ply, strips = volume.whole, volume.whole.scheme.strips

    def lay_nowhere(extent: int, few: int) -> list[str]:
        with transaction() as session:
            lies = current_view().volume("charts").whole.placement[extent]
            gone = [(ply.number, extent, s, int(lies[s]), 0) for s in range(few)]
            set_strips(session, gone)
            announce(session, "site")
        watching.start_mending()
        with transaction() as session:
            return [row.reason for row in kept.open_of_kind(session, "rebuild")]

    assert lay_nowhere(0, strips) == []
    assert lay_nowhere(1, 1) == [f"{strips + 1} strips of it lie nowhere."]
