"""Two things at once: what one change finds, the other has just made, moved, deleted or withdrawn."""

from __future__ import annotations

import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site
from sqlalchemy import func, select, update
from test_changes import find_again, held, lose, should_hold

from foldbarn.changes.engine import moving, runner
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.pools import rebuild
from foldbarn.changes.kinds.volumes import create_volume, empty_bin
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import Conflict, NotPossible, Unreachable
from foldbarn.core.touching import Thing, alone
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.links.agents import Agent
from foldbarn.services import changes, site, watching
from foldbarn.settings import settings
from foldbarn.store import changes as kept
from foldbarn.store import pools, touching
from foldbarn.store.database import transaction
from foldbarn.store.tables import ChangeRow, MoveRow, NodeRow, PoolRow, StepRow
from foldbarn.store.views import current_view


def all_whole() -> bool:
    view = current_view()
    return all(fate_of(view, v).state == DataState.WHOLE for v in view.volumes)


def outcome(number: int) -> str:
    with transaction() as session:
        steps = session.scalars(
            select(StepRow).where(StepRow.change_id == number, StepRow.state == "running")
        )
        return " ".join(f"{s.name}: {s.outcome}" for s in steps)


@pytest.mark.pooled
def test_what_is_made_while_a_comparison_asks_is_neither_left_over_nor_missing(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume("old")
    ask, asked = Agent.strips, 0

    def while_asked(self: Agent, serial: str) -> Any:
        nonlocal asked
        asked += 1
        if asked == 5:  # some disks have answered by now, the others have not
            barn_site.volume("late")
        return ask(self, serial)

    number = changes.carry_out(ME, "rebuild", {"pool": "quayside"})
    with monkeypatch.context() as patch:
        patch.setattr(Agent, "strips", while_asked)
        run_change(number)
    assert asked > 5
    assert barn_site.state(number) == "done"
    with transaction() as session:
        compared = session.scalars(
            select(StepRow.outcome).where(StepRow.change_id == number, StepRow.name == "compare")
        ).one()
    assert compared == "0 left-over strips dropped, 0 strips found missing."
    assert {v.name for v in current_view().volumes} == {"old", "late"}
    assert held(barn_site) == should_hold()
    assert all_whole()


@pytest.mark.pooled
def test_who_wants_strips_that_another_moves_leaves_its_thread_and_goes_on_when_its_turn_comes(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("first", "second"):
        barn_site.volume(name)
    strips = alone(Thing.STRIPS, current_view().pools[0].number)
    mover = changes.carry_out(ME, "retire", {"what": "disk", "names": ["petrel-3"]})
    for name in ("first", "second"):
        barn_site.do("delete-volume", volume=name, typed=name)
    one, two = (
        changes.carry_out(ME, "empty-bin", {"pool": "quayside", "volumes": [name], "typed": name})
        for name in ("first", "second")
    )

    def turns(*, held_up: bool = True) -> set[int]:
        with transaction() as session:
            return set(kept.to_be_run(session, held_up=held_up)) - {mover}

    def waits_for(number: int) -> int | None:
        with transaction() as session:
            _, _, other = changes.one(session, number)
            return None if other is None else other.id

    with transaction() as session:
        assert touching.take_also(session, mover, strips) is None
    for number in (one, two):
        run_change(number)  # comes back at once: however many wait, the mover has a thread
        assert f"drop-strips: Waits until change {mover} has done with the strips" in outcome(number)
        assert (barn_site.state(number), waits_for(number)) == ("running", mover)
    assert turns() == turns(held_up=False) == set()

    # A person is heard meanwhile.
    changes.ask(ME, two, "pause")
    assert turns() == {two}
    run_change(two)
    assert (barn_site.state(two), waits_for(two)) == ("paused", None)
    changes.ask(ME, two, "resume")
    run_change(two)

    # The older one comes first, and the other does not get between.
    with transaction() as session:
        touching.let_go_of(session, mover, strips)
    assert (turns(), waits_for(two)) == ({one}, one)
    run_change(two)
    assert (barn_site.state(one), barn_site.state(two)) == ("running", "running")
    seen, drop = [], empty_bin.DropStrips._drop
    with monkeypatch.context() as patch:
        patch.setattr(
            empty_bin.DropStrips,
            "_drop",
            lambda self, run: [seen.append(outcome(one)), drop(self, run)][1],
        )
        run_change(one)
    assert seen == ["drop-strips: "]  # it does not say that it waits any more
    assert (barn_site.state(one), turns()) == ("done", {two})
    run_change(two)
    assert barn_site.state(two) == "done"
    assert held(barn_site) == should_hold()


@pytest.mark.pooled
def test_a_half_made_volume_whose_strips_were_rebuilt_is_withdrawn_whole(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FOLDBARN_ATTEMPTS", "1")
    settings.cache_clear()
    barn_site.volume("old")
    machines = barn_site.yard.machines
    machines.answers["petrel"] = "garbled"
    number = barn_site.volume("half")
    assert barn_site.state(number) == "paused"
    machines.answers["petrel"] = "well"
    lose(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    with transaction() as session:
        view = current_view()
        half = view.volume("half")
        # Nothing is written in it yet, so nothing was copied: its strips stand elsewhere now.
        moves = select(func.count(MoveRow.id)).where(MoveRow.ply_id == half.number)
        assert session.scalar(moves) == 0
        assert not np.isin(half.plies[0].placement, [d.number for d in view.node_disks[2]]).any()
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert (barn_site.state(number), barn_site.problem(number)) == ("withdrawn", "")
    find_again(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    assert [v.name for v in current_view().volumes] == ["old"]
    assert held(barn_site) == should_hold()
    assert all_whole()


@pytest.mark.pooled
def test_strips_that_nobody_has_yet_are_placed_anew_and_their_volume_is_made(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A rebuild would ask for ever for a copy of what its source never held."""
    number = changes.carry_out(ME, "create-volume", {"name": "v", "pool": "quayside", "size": "40 GiB"})

    def nobody(self: Any, run: Any) -> str:
        raise Unreachable("Nobody answers.")

    with monkeypatch.context() as patch:
        patch.setattr(create_volume.Reserve, "carry_out", nobody)
        run_change(number)
    assert barn_site.state(number) == "paused"
    lose(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    view = current_view()
    gone = [d.number for d in view.disks if view.nodes[d.node].name == "petrel"]
    assert not np.isin(view.volume("v").plies[0].placement, [0, *gone]).any()
    changes.ask(ME, number, "resume")
    run_change(number)
    assert (barn_site.state(number), barn_site.problem(number)) == ("done", "")
    find_again(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    assert held(barn_site) == should_hold()


@pytest.mark.pooled
def test_what_breaks_in_withdrawing_pauses_with_the_reason_and_may_be_tried_again(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FOLDBARN_ATTEMPTS", "1")
    settings.cache_clear()
    barn_site.yard.machines.answers["petrel"] = "garbled"
    number = barn_site.do("create-volume", name="v", pool="quayside", size="10 GiB")
    barn_site.yard.machines.answers["petrel"] = "well"
    with monkeypatch.context() as patch:
        patch.setattr(create_volume.Place, "take_back", lambda self, run: 1 / 0)
        changes.ask(ME, number, "withdraw")
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert barn_site.problem(number).startswith(
        "It could not be withdrawn: The step broke off: ZeroDivisionError."
    )
    with transaction() as session:
        assert session.get_one(ChangeRow, number).asked is None  # or it would be tried each second for ever
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"


@pytest.mark.pooled
@pytest.mark.parametrize("kind", ["delete-volume", "empty-bin"])
def test_a_stale_deletion_leaves_a_newer_volume_of_that_name_alone(barn_site: Site, kind: str) -> None:
    barn_site.volume("tides")
    wish = {"volume": "tides", "typed": "tides"}
    if kind == "empty-bin":
        barn_site.do("delete-volume", **wish)
        wish = {"pool": "quayside", "typed": "tides"}
    first, second = (changes.carry_out(ME, kind, wish) for _ in range(2))
    run_change(first)
    if kind == "delete-volume":
        with transaction() as session:  # as if the second had been held up for long
            kept.pause(session, second, "Held up.")
        barn_site.do("empty-bin", pool="quayside", typed="tides")
        changes.ask(ME, second, "resume")
    barn_site.volume("tides", size="20 GiB")
    newer = held(barn_site)
    assert newer
    run_change(second)
    assert barn_site.state(second) == "done"
    assert [v.extents for v in current_view().volumes] == [20]
    assert held(barn_site) == newer == should_hold()


@pytest.mark.pooled
def test_a_pool_that_is_being_deleted_takes_neither_volume_nor_disk(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = changes.carry_out(ME, "delete-pool", {"pool": "quayside", "typed": "quayside"})
    volume = changes.carry_out(ME, "create-volume", {"name": "v", "pool": "quayside", "size": "10 GiB"})
    growth = changes.carry_out(ME, "grow-pool", {"pool": "quayside", "disks": ["razorbill-1"]})
    run_change(volume)
    assert barn_site.state(volume) == "waiting"  # the deletion came first
    with transaction() as session:
        assert changes.waiting(session) == {volume: number, growth: number}
    barn_site.yard.machines.answers["petrel"] = "garbled"
    monkeypatch.setenv("FOLDBARN_ATTEMPTS", "1")
    settings.cache_clear()
    run_change(number)
    assert barn_site.state(number) == "paused"  # some disks are blanked by now
    for other in (volume, growth):
        run_change(other)
        assert (barn_site.state(other), barn_site.problem(other)) == (
            "withdrawn",
            "quayside is being deleted.",
        )
    with pytest.raises(NotPossible, match="quayside is being deleted"):
        changes.carry_out(ME, "create-volume", {"name": "w", "pool": "quayside", "size": "10 GiB"})
    barn_site.yard.machines.answers["petrel"] = "well"
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"
    assert (barn_site.yard.machines.pool_of, held(barn_site)) == ({}, set())


@pytest.mark.pooled
def test_a_pool_that_has_a_volume_by_now_is_not_closed(barn_site: Site) -> None:
    quick = changes.carry_out(ME, "create-volume", {"name": "quick", "pool": "quayside", "size": "10 GiB"})
    number = changes.carry_out(ME, "delete-pool", {"pool": "quayside", "typed": "quayside"})
    run_change(number)
    assert barn_site.state(number) == "waiting"
    run_change(quick)
    run_change(number)
    assert (barn_site.state(number), barn_site.problem(number)) == ("withdrawn", "quayside holds quick.")
    barn_site.volume("next")  # it is as open as before
    assert all_whole()


@pytest.mark.pooled
def test_withdrawn_in_time_a_pool_is_open_again(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    number = changes.carry_out(ME, "delete-pool", {"pool": "quayside", "typed": "quayside"})
    next_step = runner._next_step

    def one_step(run: Any) -> bool:
        changes.ask(ME, number, "withdraw")
        return next_step(run)

    with monkeypatch.context() as patch:
        patch.setattr(runner, "_next_step", one_step)
        patch.setattr(runner, "_withdraw", lambda run: None)
        run_change(number)
    assert current_view().pool("quayside").closing
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert not current_view().pool("quayside").closing
    assert barn_site.state(barn_site.volume()) == "done"


@pytest.mark.pooled
def test_a_node_that_was_away_for_a_moment_only_drops_what_it_was_not_told_to(barn_site: Site) -> None:
    barn_site.volume()
    barn_site.yard.machines.power["petrel"] = False
    with transaction() as session:
        row = session.scalars(select(NodeRow).where(NodeRow.name == "petrel")).one()
        row.contact = "silent"  # and not given up
        watching.announce(session, "site")
    assert barn_site.state(barn_site.erase("charts")) == "done"
    barn_site.do("rebuild", pool="quayside")  # what the deletion asks for ends before the node is back
    assert held(barn_site)
    find_again(barn_site, "petrel")
    with transaction() as session:
        assert session.scalars(select(PoolRow.look_reason)).one() == "petrel is back"
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == set()


@pytest.mark.pooled
@pytest.mark.parametrize("how", ["its power was off for a moment", "a disk of it was out for a moment"])
def test_a_node_that_a_comparison_could_not_ask_is_compared_when_it_is_next_heard(
    barn_site: Site, how: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    barn_site.volume()
    machines = barn_site.yard.machines
    disk, other = (current_view().disk(name) for name in ("petrel-3", "petrel-1"))
    left_over = next(iter(machines.strips[disk.serial] - machines.strips[other.serial]))
    machines.add_strip(other.serial, left_over)
    if "power" in how:
        machines.power["petrel"] = False
    else:
        machines.pulled.add(disk.serial)
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    machines.power["petrel"] = True
    machines.pulled.clear()
    assert held(barn_site) != should_hold()  # nobody has noticed that it was away
    find_again(barn_site, "petrel")
    with transaction() as session:
        assert session.scalars(select(PoolRow.look_reason)).one() == "petrel is back"
    barn_site.do("rebuild", pool="quayside")
    assert held(barn_site) == should_hold()


@pytest.mark.pooled
def test_a_look_that_is_asked_for_during_another_with_the_same_reason_still_stands(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = current_view().pools[0].number
    compare = moving.compare

    def ask() -> None:
        with transaction() as session:
            pools.look(session, [number], "petrel is back")

    def while_asked(run: runner.Run, pool: int) -> tuple[int, int]:
        ask()
        return compare(run, pool)

    def asked_for() -> str:
        with transaction() as session:
            return pools.looks(session)[number]

    ask()
    with monkeypatch.context() as patch:
        patch.setattr(rebuild, "compare", while_asked)
        barn_site.do("rebuild", pool="quayside")
    assert asked_for() == "petrel is back"
    barn_site.do("rebuild", pool="quayside")
    assert asked_for() == ""


@pytest.mark.pooled
def test_what_nobody_answered_and_what_no_person_asked_for_is_tried_again(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FOLDBARN_ATTEMPTS", "1")
    settings.cache_clear()
    barn_site.volume()
    machines = barn_site.yard.machines
    number = changes.carry_out(BY_ITSELF, "rebuild", {"pool": "quayside"})
    of_a_person, unanswered = (
        changes.carry_out(ME, "create-volume", {"name": name, "pool": "quayside", "size": "9 GiB"})
        for name in ("v", "w")
    )
    with monkeypatch.context() as patch:
        patch.setattr(moving, "_ask_what_is_held", refused)
        run_change(number)
        with monkeypatch.context() as inner:
            inner.setattr(create_volume.Reserve, "carry_out", refused)
            run_change(of_a_person)
        machines.answers["petrel"] = "garbled"
        run_change(unanswered)
        assert {barn_site.state(n) for n in (number, of_a_person, unanswered)} == {"paused"}
        rests = []
        for tries in range(4):
            titles = {a.title for a in site.outlook().attention()}
            assert "Make v is held up" in titles
            assert ("Rebuild and level quayside is held up" in titles) == (tries >= 3)
            with transaction() as session:
                row = session.get_one(ChangeRow, number)
                assert row.paused_at is not None
                at = changes.again_at(row)
                assert at is not None
                rests.append((at - row.paused_at).total_seconds())
                assert changes.again_at(session.get_one(ChangeRow, of_a_person)) is None
                assert changes.again_at(session.get_one(ChangeRow, unanswered)) is not None
            changes.try_again()
            assert barn_site.state(number) == "paused"  # its rest is not over
            with transaction() as session:
                session.get_one(ChangeRow, number).paused_at = at - timedelta(seconds=2 * rests[-1])
            changes.try_again()
            assert barn_site.state(number) == "waiting"
            run_change(number)
    assert rests == [5.0, 10.0, 20.0, 40.0]
    machines.answers["petrel"] = "well"
    with transaction() as session:
        for change in (number, unanswered):
            session.get_one(ChangeRow, change).paused_at = datetime.now(UTC) - timedelta(hours=1)
    changes.try_again()
    for change in (number, unanswered):
        run_change(change)
        assert barn_site.state(change) == "done"
    assert barn_site.state(of_a_person) == "paused"
    assert "Rebuild and level quayside is held up" not in {a.title for a in site.outlook().attention()}


def refused(*_: object) -> None:
    raise NotPossible("It cannot be asked now.")


@pytest.mark.pooled
def test_what_a_person_paused_is_not_resumed_and_old_open_changes_stay_in_the_list(barn_site: Site) -> None:
    number = changes.carry_out(BY_ITSELF, "rebuild", {"pool": "quayside"})
    changes.ask(ME, number, "pause")
    run_change(number)
    assert barn_site.state(number) == "paused"
    changes.try_again()
    assert barn_site.state(number) == "paused"
    assert all(a.kind != "change" for a in site.outlook().attention())
    barn_site.volume("a")
    barn_site.volume("b")
    with transaction() as session:
        assert [row.id for row, _, _ in changes.recent(session, limit=1)][-1] == number
        assert len(changes.recent(session, limit=1)) == 2


@pytest.mark.pooled
def test_a_preview_is_carried_out_once_however_often_it_is_sent(barn_site: Site) -> None:
    wish = {"name": "v", "pool": "quayside", "size": "9 GiB"}
    digest = changes.preview("create-volume", wish).digest

    def send() -> int | str:
        try:
            return changes.carry_out(ME, "create-volume", wish, digest)
        except Conflict as error:
            return error.sentence

    with ThreadPoolExecutor(max_workers=12) as crew:
        answers = [future.result() for future in [crew.submit(send) for _ in range(24)]]
    numbers = [a for a in answers if isinstance(a, int)]
    assert len(numbers) == 1
    assert {a for a in answers if isinstance(a, str)} == {
        f"This preview is carried out already, as change {numbers[0]}."
    }
    run_change(numbers[0])
    assert barn_site.state(numbers[0]) == "done"


@pytest.mark.pooled
def test_what_ended_changes_moved_is_forgotten_after_a_while_and_their_sums_are_kept(barn_site: Site) -> None:
    barn_site.volume()
    lose(barn_site, "petrel")
    number = barn_site.do("rebuild", pool="quayside")
    assert barn_site.state(number) == "done"

    def moves() -> int:
        with transaction() as session:
            return session.scalar(select(func.count(MoveRow.id))) or 0

    before = moves()
    assert before > 0
    watching.prune()
    assert moves() == before  # it has only just ended
    with transaction() as session:
        change = session.get_one(ChangeRow, number)
        moved = change.moved
        change.ended_at = datetime.now(UTC) - timedelta(hours=2)
    paused = changes.carry_out(ME, "rebuild", {"pool": "quayside"})
    with transaction() as session:  # those of an open change are what it goes on from
        session.execute(update(MoveRow).where(MoveRow.id % 2 == 0).values(change_id=paused))
    watching.prune()
    with transaction() as session:
        assert set(session.scalars(select(MoveRow.change_id))) == {paused}
        assert session.get_one(ChangeRow, number).moved == moved > 0
    assert before > moves() > 0


@pytest.mark.pooled
def test_one_that_is_withdrawn_at_this_moment_is_not_brought_back(barn_site: Site) -> None:
    number = changes.carry_out(BY_ITSELF, "rebuild", {"pool": "quayside"})
    with transaction() as session:
        row = session.get_one(ChangeRow, number)
        row.state, row.paused_at = "paused", datetime.now(UTC) - timedelta(hours=1)
    with transaction() as session:
        session.get_one(ChangeRow, number).state = "withdrawn"
        session.flush()
        thread = threading.Thread(target=changes.try_again)
        thread.start()
        thread.join(1.0)
    thread.join(160)
    assert barn_site.state(number) == "withdrawn"
