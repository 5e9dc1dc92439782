"""Changes that touch the same things wait for one another; what they name is known by number; only the newest
runner writes.
"""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest
from conftest import ME, Site, stand_still
from hypothesis import HealthCheck, given
from hypothesis import settings as hypothesis_settings
from hypothesis import strategies as st
from sqlalchemy import func, select, text
from sqlalchemy.exc import IntegrityError
from test_changes import held, lose, should_hold

from foldbarn.changes.engine import moving, queue, runner
from foldbarn.changes.engine.moving import apart_now
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.pools.rebuild import Compare
from foldbarn.core.errors import NotPossible
from foldbarn.core.moving.rebuild import crowded_strips
from foldbarn.core.pools.capacity import most_that_fits
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import ANYWHERE, Tier
from foldbarn.core.touching import Thing, Touch, alone, meet, shared
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.services import changes, site, watching
from foldbarn.store import changes as kept
from foldbarn.store import touching
from foldbarn.store.database import announce, transaction
from foldbarn.store.placements import read_placement, set_strips
from foldbarn.store.tables import ChangeRow, NodeRow, PoolRow, StepRow, TouchRow
from foldbarn.store.views import current_view

NODES = ("fulmar", "petrel", "kittiwake", "turnstone")


def change_row(session: Any, state: str = "waiting") -> int:
    """A change that does nothing, for what it touches."""
    row = ChangeRow(
        kind="rebuild",
        params={},
        about="it",
        state=state,
        actor="me",
        revision=1,
        preview={"title": "it", "steps": []},
    )
    session.add(row)
    session.flush()
    return int(row.id)


@given(
    wishes=st.lists(
        st.lists(
            st.builds(Touch, st.sampled_from([Thing.POOL, Thing.DISK]), st.integers(1, 2), st.booleans()),
            min_size=1,
            max_size=3,
        ),
        min_size=2,
        max_size=5,
    ),
    order=st.permutations(range(5)),
)
@hypothesis_settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_the_table_says_what_the_rule_says_and_the_older_comes_first(
    barn_site: Site, wishes: list[list[Touch]], order: list[int]
) -> None:
    wishes = [list({(t.what, t.number): t for t in wish}.values()) for wish in wishes]
    with transaction() as session:
        session.execute(text("delete from touch"))
        session.execute(text("update change set state = 'done'"))
        numbers = [change_row(session) for _ in wishes]
        for number, wish in zip(numbers, wishes, strict=True):
            touching.note(session, number, wish)
    running: set[int] = set()
    for place in [o for o in order if o < len(wishes)]:
        with transaction() as session:
            other = touching.take(session, numbers[place])
            expected = [
                n
                for i, n in enumerate(numbers)
                if n != numbers[place]
                and meet(wishes[i], wishes[place])
                and (n in running or (i < place and n not in running))
            ]
            assert (other is None) == (not expected)
            assert other is None or other in expected
            if other is None:
                running.add(numbers[place])
                session.get_one(ChangeRow, numbers[place]).state = "running"


def test_the_database_itself_refuses_two_that_may_not_stand_side_by_side(barn_site: Site) -> None:
    with transaction() as session:
        one, other, third = (change_row(session) for _ in range(3))
        touching.note(session, one, [shared(Thing.POOL, 1), alone(Thing.DISK, 5)])
        touching.note(session, other, [shared(Thing.POOL, 1)])
        touching.note(session, third, [alone(Thing.POOL, 1)])
        session.execute(
            text("update touch set held = true where change_id in (:a, :b)"), {"a": one, "b": other}
        )
    with pytest.raises(IntegrityError, match="touched_by_one"), transaction() as session:
        session.execute(text("update touch set held = true where change_id = :c"), {"c": third})


def test_who_takes_the_same_again_lets_those_go_first_who_have_come_meanwhile(barn_site: Site) -> None:
    """What moves strips portion by portion frees them between two of these, whichever change is the older."""
    strips = alone(Thing.STRIPS, 1)
    with transaction() as session:
        portions, waiting = (change_row(session, "running") for _ in range(2))
        assert touching.take_also(session, portions, strips) is None
        assert touching.take_also(session, waiting, strips) == portions
        touching.let_go_of(session, portions, strips)
        assert touching.take_also(session, portions, strips) == waiting
        assert touching.waiting_for_others(session) == {portions: waiting}
        assert touching.take_also(session, waiting, strips) is None
        assert touching.take_also(session, portions, strips) == waiting  # which has them now
        touching.let_go_of(session, waiting, strips)
        assert touching.take_also(session, portions, strips) is None


@pytest.mark.pooled
def test_disks_of_two_pools_are_retired_side_by_side(barn_site: Site) -> None:
    slow = [d for d in barn_site.disks("hdd") if "skua" not in d]
    assert (
        barn_site.state(barn_site.pool("slow", disks=slow, copies=2, level="node", headroom=None)) == "done"
    )
    barn_site.volume(size="40 GiB")
    barn_site.volume("cold", pool="slow", size="40 GiB", copies=2, level="node")
    stand_still(barn_site.yard.machines)  # the stand-ins' time stands still
    first, same, other = (
        changes.carry_out(ME, "retire", {"what": "disk", "names": [name]})
        for name in ("petrel-3", "fulmar-2", slow[0])
    )
    with transaction() as session:
        assert changes.waiting(session) == {same: first}
    threads = [threading.Thread(target=run_change, args=(n,)) for n in (first, same, other)]
    for thread in threads:
        thread.start()

    def draining() -> set[int]:
        with transaction() as session:
            steps = select(StepRow.change_id).where(StepRow.name == "drain", StepRow.state == "running")
            return set(session.scalars(steps))

    deadline = time.monotonic() + 60
    while draining() != {first, other}:
        assert time.monotonic() < deadline
        time.sleep(0.05)
    assert barn_site.state(same) == "waiting"
    barn_site.yard.machines.speed = 5000.0
    for thread in threads:
        thread.join(480)
    run_change(same)
    assert {barn_site.state(n) for n in (first, same, other)} == {"done"}
    assert held(barn_site) == should_hold()


@pytest.mark.pooled
def test_a_node_that_is_renamed_while_its_disk_leaves_is_the_same_node(barn_site: Site) -> None:
    barn_site.volume(size="40 GiB")
    number = changes.carry_out(ME, "retire", {"what": "disk", "names": ["petrel-3"]})
    disk = current_view().disk("petrel-3").number
    next_step = runner._next_step

    def pausing(run: Any) -> bool:
        changes.ask(ME, number, "pause")
        return next_step(run)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(runner, "_next_step", pausing)
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert (
        barn_site.state(barn_site.do("rename", nodes=["petrel", "fulmar"], names=["fulmar", "petrel"]))
        == "done"
    )
    assert current_view().disk("petrel-3").number != disk  # that is another one now
    changes.ask(ME, number, "resume")
    run_change(number)
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    gone = next(d for d in current_view().disks if d.number == disk)
    assert (gone.name, gone.pool) == ("fulmar-3", -1)
    assert current_view().disk("petrel-3").pool == 0
    again = changes.carry_out(ME, "retire", {"what": "disk", "names": ["petrel-3"]})
    changes.ask(ME, again, "pause")
    run_change(again)
    barn_site.do("rename", nodes=["petrel"], names=["puffin"])
    changes.ask(ME, again, "withdraw")
    run_change(again)
    assert barn_site.state(again) == "withdrawn"


@pytest.mark.pooled
def test_two_who_set_a_pool_at_once_each_set_what_they_changed(barn_site: Site) -> None:
    now = {"copies": 3, "level": "rack", "headroom": "node"}
    lines, rates, never = (
        changes.carry_out(ME, "set-pool", {"pool": "quayside", **now, **wish})
        for wish in ({"fill_line": 0.7}, {"rebuild_rate": 10**8}, {"fill_line": 0.5})
    )
    changes.ask(ME, never, "withdraw")
    for number in (rates, lines, never):
        run_change(number)
    with transaction() as session:
        assert changes.waiting(session) == {rates: lines} or barn_site.state(rates) == "waiting"
    run_change(rates)
    assert [barn_site.state(n) for n in (lines, rates, never)] == ["done", "done", "withdrawn"]
    pool = current_view().pools[0]
    assert (pool.fill_line, pool.rebuild_rate) == (0.7, 10**8)


@pytest.mark.pooled
def test_of_many_volumes_of_one_name_one_is_made_and_the_others_end_by_themselves(barn_site: Site) -> None:
    wish = {"name": "one", "pool": "quayside", "size": "2 GiB"}
    numbers = [changes.carry_out(ME, "create-volume", wish) for _ in range(30)]
    with ThreadPoolExecutor(max_workers=8) as crew:
        list(crew.map(run_change, numbers))
    assert sorted(barn_site.state(n) for n in numbers) == ["done", *["withdrawn"] * 29]
    told = {barn_site.problem(n) for n in numbers if barn_site.state(n) == "withdrawn"}
    assert told == {"A volume named 'one' exists already."}
    assert all(a.kind != "change" for a in site.outlook().attention())  # nobody has to clear up after them


@pytest.mark.pooled
def test_two_volumes_wished_for_at_once_do_not_pass_the_line_together(barn_site: Site) -> None:
    changes.carry_out(ME, "set-pool", {"pool": "quayside", "headroom": "node", "fill_line": 0.2})
    run_change(2)
    pool = current_view().pools[0]
    fit = most_that_fits(current_view(), pool, mirror(3, Level.RACK), Tier.BULK, only=ANYWHERE)
    size = f"{fit.extents * 7 // 10} GiB"
    numbers = [
        changes.carry_out(ME, "create-volume", {"name": name, "pool": "quayside", "size": size})
        for name in ("one", "two")
    ]
    for number in numbers:
        run_change(number)
    assert [barn_site.state(n) for n in numbers] == ["done", "withdrawn"]
    assert "does not fit" in barn_site.problem(numbers[1])


def test_an_older_runner_writes_nothing_more(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    disks = barn_site.disks(nodes=("fulmar", "petrel", "kittiwake"))
    number = changes.carry_out(ME, "form-pool", {"name": "one", "disks": disks})
    finish = runner._finish_step

    def overtaken(session: Any, run: Any, outcome: str) -> None:
        finish(session, run, outcome)

    original = runner.Run.tell_nodes

    def while_telling(self: Any, *args: Any, **more: Any) -> Any:
        with transaction() as session:  # its lock went with its connection, and another has taken over
            kept.new_token(session, number)
        return original(self, *args, **more)

    monkeypatch.setattr(runner, "_finish_step", overtaken)
    with monkeypatch.context() as patch:
        patch.setattr(runner.Run, "tell_nodes", while_telling)
        run_change(number)
    with transaction() as session:
        states = {s.name: s.state for s in kept.steps_of(session, number)}
    assert states["prepare"] == "running"  # what was done is not recorded by the one that was fenced off
    run_change(number)
    assert barn_site.state(number) == "done"


@pytest.mark.pooled
def test_strips_stay_held_where_another_runner_goes_on_or_the_process_is_gone(barn_site: Site) -> None:
    pool = current_view().pools[0]

    def held_by() -> list[int]:
        with transaction() as session:
            return list(session.scalars(select(TouchRow.change_id).where(TouchRow.what == "strips")))

    with transaction() as session:
        number = change_row(session, "running")
        token = kept.new_token(session, number)
    run = runner.Run(change=number, token=token or 0)
    with run.holding_strips(pool):
        assert held_by() == [number]
    assert held_by() == []
    with pytest.raises(NotPossible), run.holding_strips(pool):
        raise NotPossible("It breaks.")
    assert held_by() == []
    with pytest.raises(GeneratorExit), run.holding_strips(pool):
        raise GeneratorExit  # as good as killed
    assert held_by() == [number]

    def overtaken() -> None:
        with transaction() as session:
            kept.new_token(session, number)
        run.say("too late")

    with pytest.raises(kept.Fenced), run.holding_strips(pool):
        overtaken()
    assert held_by() == [number]  # they are the newer runner's


@pytest.mark.pooled
def test_what_breaks_in_stopping_pauses_all_the_same(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})

    def pausing(self: Compare, run: runner.Run) -> str:
        changes.ask(ME, number, "pause")
        run.check_asked()
        raise AssertionError("it was asked to pause")

    with monkeypatch.context() as patch:
        patch.setattr(Compare, "carry_out", pausing)
        patch.setattr(Compare, "stop", lambda self, run: 1 / 0)
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert "could not be stopped: The step broke off: ZeroDivisionError" in barn_site.problem(number)
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"


@pytest.mark.pooled
def test_one_that_was_killed_before_it_did_anything_still_ends_by_itself(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    wish = {"name": "one", "pool": "quayside", "size": "2 GiB"}
    first, second = (changes.carry_out(ME, "create-volume", wish) for _ in range(2))

    def killed(session: Any, run: Any, outcome: str) -> None:
        raise GeneratorExit

    with monkeypatch.context() as patch:
        patch.setattr(runner, "_finish_step", killed)
        with pytest.raises(GeneratorExit):
            run_change(second)
    run_change(first)
    run_change(second)
    assert [barn_site.state(n) for n in (first, second)] == ["done", "withdrawn"]
    assert barn_site.problem(second) == "A volume named 'one' exists already."


@pytest.mark.pooled
def test_what_arrives_beside_a_copy_that_has_returned_is_left_over(barn_site: Site) -> None:
    """A strip that was planned into a rack while that rack's copy was away is not taken for a copy once that
    is back.
    """
    barn_site.volume(size="20 GiB")
    view = current_view()
    volume = view.volume("charts")
    rack = view.disk_rack
    rows = view.rows(volume.plies[0])
    extent = 0
    lies = rows[extent]
    beside = next(
        row
        for row in view.in_pool(view.pools[0]).tolist()
        if rack[row] == rack[lies[1]] and row not in lies.tolist()
    )
    wish = (volume.number, extent, 0, view.disks[lies[0]].number, view.disks[beside].number)

    with transaction() as session:
        assert set_strips(session, [wish], apart_now(view)) == []
        assert read_placement(session, volume.number)[extent, 0] == wish[3]
        assert set_strips(session, [wish]) == [wish]  # without a say in where copies stand it would have been
        session.rollback()


@pytest.mark.pooled
def test_two_nodes_that_return_in_the_middle_of_a_rebuild_leave_no_copies_in_one_rack(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume(size="200 GiB")
    lose(barn_site, "petrel")
    lose(barn_site, "kittiwake")
    barn_site.yard.machines.speed = 2.0
    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})
    looks, collect = 0, moving.Mover._collect

    def back_again(self: Any, view: Any) -> None:
        nonlocal looks
        looks += 1
        name = {4: "petrel", 9: "kittiwake"}.get(looks)
        if name:
            barn_site.yard.machines.power[name] = True
            with transaction() as session:
                row = session.scalars(select(NodeRow).where(NodeRow.name == name)).one()
                row.contact, row.given_up = "heard", False
                announce(session, "site")
        if looks == 14:
            barn_site.yard.machines.speed = 5000.0
        collect(self, view)

    monkeypatch.setattr(moving.Mover, "_collect", back_again)
    run_change(number)
    assert looks >= 14
    assert barn_site.state(number) == "done"
    view = current_view()
    assert sum(int(crowded_strips(view, v.plies[0]).sum()) for v in view.volumes) == 0
    assert all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes)
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == should_hold()


@pytest.mark.pooled
def test_paused_it_leaves_its_strips_to_others(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    barn_site.volume(size="100 GiB")
    lose(barn_site, "petrel")
    barn_site.yard.machines.speed = 1.0
    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})
    order = moving.Mover._order

    def then_pause(self: Any, view: Any, pool: Any) -> None:
        order(self, view, pool)
        changes.ask(ME, number, "pause")

    with monkeypatch.context() as patch:
        patch.setattr(moving.Mover, "_order", then_pause)
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert current_view().under_way == {}
    with transaction() as session:
        assert "running" not in {s.state for s in kept.steps_of(session, number)}
    assert not any(o.state == "running" and o.kind == "copy" for o in barn_site.yard.machines.orders.values())
    barn_site.yard.machines.speed = 5000.0
    assert barn_site.state(barn_site.do("retire", what="disk", names=["fulmar-1"])) == "done"
    view = current_view()
    assert all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes)


@pytest.mark.pooled
def test_most_nodes_silent_at_once_are_not_given_up_until_a_person_says_so(barn_site: Site) -> None:
    barn_site.volume(size="40 GiB")
    away = [n.name for n in current_view().nodes][:6]
    with transaction() as session:
        for row in session.scalars(select(NodeRow).where(NodeRow.name.in_(away))):
            row.contact, row.since = "silent", kept.now(session).replace(year=2020)
        announce(session, "site")
    assert watching.give_up() is True  # it looks again
    assert not any(n.given_up for n in current_view().nodes)
    outlook = site.outlook()
    assert outlook.attention()[0].title == "Most nodes fell silent together"
    volume = outlook.volume(0)
    assert "6 of 9 nodes fell silent" in volume.reason or "cannot be read" in volume.reason
    preview = changes.preview("give-up", {"nodes": [away[0]]})
    assert not preview.blockers
    # Three of nine nodes take strips: what it promises is what a plan finds, which here is nothing.
    assert "none of these can be written again elsewhere as things are" in preview.summary
    assert barn_site.state(barn_site.do("give-up", nodes=[away[0]])) == "done"
    assert [n.name for n in current_view().nodes if n.given_up] == [away[0]]
    with pytest.raises(Exception, match="is given up already"):
        changes.carry_out(ME, "give-up", {"nodes": [away[0]]})
    # Once most are heard again the others are given up as ever.
    with transaction() as session:
        for row in session.scalars(select(NodeRow).where(NodeRow.name.in_(away[2:]))):
            row.contact = "heard"
        announce(session, "site")
    watching.give_up()
    assert {n.name for n in current_view().nodes if n.given_up} == set(away[:2])


@pytest.mark.pooled
def test_what_open_changes_of_the_version_before_touch_is_told_when_their_turn_comes(barn_site: Site) -> None:
    number = changes.carry_out(ME, "create-volume", {"name": "v", "pool": "quayside", "size": "2 GiB"})
    with transaction() as session:
        session.execute(text("delete from touch"))
        session.execute(text("update change_step set payload = null"))
        session.get_one(ChangeRow, number).meant = {}
    run_change(number)
    assert barn_site.state(number) == "done"
    with transaction() as session:
        assert session.scalars(select(TouchRow.what)).all() == ["pool"]


@pytest.mark.pooled
def test_those_whose_turn_has_come_are_queued_and_the_others_wait(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    queued: list[int] = []
    monkeypatch.setattr(queue, "enqueue", queued.append)
    first = changes.carry_out(ME, "delete-pool", {"pool": "quayside", "typed": "quayside"})
    second = changes.carry_out(ME, "create-volume", {"name": "v", "pool": "quayside", "size": "2 GiB"})
    queue.enqueue_ready()
    assert queued == [first]
    run_change(first)
    queue.enqueue_ready()
    assert queued == [first, second]
    run_change(second)
    assert (barn_site.state(second), barn_site.problem(second)) == ("withdrawn", "The pool is gone.")
    with transaction() as session:
        assert session.scalar(select(func.count(PoolRow.id))) == 0
