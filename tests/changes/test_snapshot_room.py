"""More room for snapshots of a volume that is in use, against the stand-in nodes' own account."""

from __future__ import annotations

from typing import Any

import pytest
from conftest import ME, Site, at_hour, begun
from test_changes import held, should_hold
from test_cluster import hear
from test_snapshots_taken import past, take, work

from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.snapshots import grow_room
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.units import GIB
from foldbarn.services import changes
from foldbarn.services.heat import HeatTaker
from foldbarn.store.views import current_view
from foldbarn.yard import fluid

pytestmark = pytest.mark.pooled


def as_used(site: Site) -> None:
    """With a volume of 20 GiB that consumers write, and 2 GiB of room for its snapshot."""
    at_hour(site.yard.machines, 13)
    site.volume(size="20 GiB")
    fluid.advance(site.yard.machines, 60.0)
    take(site, "noon", room=10)


used = begun(as_used, speed=0.0)


def grow(site: Site, room: int) -> int:
    return site.do("grow-room", volume="charts", room=room)


def held_up(site: Site, monkeypatch: pytest.MonkeyPatch, room: int) -> int:
    """Disks are chosen, and no node sets anything aside yet."""

    def refuses(*_: Any) -> str:
        raise NotPossible("A node refuses.")

    with monkeypatch.context() as patched:
        patched.setattr(grow_room.WidenPastAside, "carry_out", refuses)
        number = grow(site, room)
    assert site.state(number) == "paused"
    return number


def go_on(number: int, what: str = "resume") -> None:
    changes.ask(ME, number, what)
    run_change(number)


def test_more_is_kept_before_the_oldest_gives_way(used: Site) -> None:
    before = pool_space(current_view(), current_view().pools[0]).ledger
    number = grow(used, 30)
    assert used.state(number) == "done", used.problem(number)
    view = current_view()
    volume, ledger = view.volume("charts"), pool_space(view, view.pools[0]).ledger
    assert volume.past is not None
    assert volume.past.extents == 6
    assert ledger.past - before.past == 4 * volume.past.scheme.strips * GIB
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw
    assert past(used).room == 6 * GIB
    for extent in volume.past.placement.tolist():
        assert len(set(extent)) == volume.past.scheme.strips
    held = {
        (e, s)
        for strips in used.yard.machines.strips.values()
        for p, e, s in strips
        if p == volume.past.number
    }
    assert held == {(e, s) for e in range(6) for s in range(volume.past.scheme.strips)}
    while past(used).used <= 2 * GIB:
        work(used, 1, of=5.0)
    HeatTaker().take()
    (snapshot,) = current_view().volume("charts").snapshots
    assert not snapshot.lost
    assert past(used).marks == [1]


def test_withdrawn_nodes_keep_no_more_than_before_and_hold_nothing_of_it(
    used: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = held_up(used, monkeypatch, 40)
    assert current_view().volume("charts").past.extents == 8  # type: ignore[union-attr]
    go_on(number, "withdraw")
    assert used.state(number) == "withdrawn"
    used.do("rebuild", pool="quayside")  # what the withdrawal asks for
    volume = current_view().volume("charts")
    assert volume.past is not None
    assert volume.past.extents == 2
    assert past(used).room == 2 * GIB
    held = [
        1 for strips in used.yard.machines.strips.values() for p, _, _ in strips if p == volume.past.number
    ]
    assert len(held) == 2 * volume.past.scheme.strips
    number = grow(used, 40)  # and once more, it is done
    assert (used.state(number), past(used).room) == ("done", 8 * GIB)


def test_a_disk_that_goes_before_it_was_set_aside_is_replaced_by_others(
    used: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = held_up(used, monkeypatch, 40)
    view = current_view()
    volume = view.volume("charts")
    assert volume.past is not None
    gone = view.disks[int(view.rows(volume.past)[7, 0])]
    used.yard.machines.pulled.add(gone.serial)
    hear(used)
    go_on(number)
    assert used.state(number) == "done", used.problem(number)
    volume = current_view().volume("charts")
    assert volume.past is not None
    assert gone.number not in volume.past.placement[2:]
    assert past(used).room == 8 * GIB


def test_what_makes_no_sense_is_refused(used: Site) -> None:
    for room, words in (
        (0, "Say how much of its size"),
        (5, "There are 2 extents for snapshots of charts already"),
        (10, "nothing"),
    ):
        blockers = changes.preview("grow-room", {"volume": "charts", "room": room}).blockers
        assert any(words in note.sentence.lower() or words in note.sentence for note in blockers), blockers
    used.do("delete-snapshot", volume="charts", snapshots=["noon"], typed="noon")
    (note,) = changes.preview("grow-room", {"volume": "charts", "room": 20}).blockers
    assert note.sentence == "There are no snapshots of charts, and no room for any."


def test_that_there_may_be_more_room_is_said_where_there_may(used: Site) -> None:
    """What does not fit is told how to, and then it does."""
    while past(used).used <= 1.1 * GIB:
        work(used, 1, of=3.0)
    used.yard.machines.consumers = 0.0
    used.do("offline-volume", volumes=["charts"], offline=True)
    HeatTaker().take()
    wish = {"volume": "charts", "snapshot": "noon", "keep_as": "now"}
    (note,) = changes.preview("restore-snapshot", wish).blockers
    assert note.next_step == "Give it more room."
    number = grow(used, 100)
    assert used.state(number) == "done", used.problem(number)
    assert changes.preview("restore-snapshot", wish).blockers == []


def test_a_policy_that_wants_more_room_than_there_is_has_a_cure_that_cures(used: Site) -> None:
    used.do("save-policy", name="often", copies=3, level="rack", hourly=2, snapshot_room=30)
    used.yard.machines.speed = 600.0
    number = used.do("keep-policy", volumes=["charts"], policy="often")
    assert used.state(number) == "done", used.problem(number)
    found = conformance(current_view(), current_view().volume("charts"))
    assert found is not None
    (broken,) = found.broken
    assert broken.cure == "Give its snapshots more room: 30 % of its size."
    number = grow(used, 30)
    assert used.state(number) == "done", used.problem(number)
    found = conformance(current_view(), current_view().volume("charts"))
    assert found is not None
    assert found.standing == Standing.KEPT


def test_two_do_not_build_on_one_another(used: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    first = held_up(used, monkeypatch, 30)
    second = grow(used, 60)
    words = "Another change is about to give snapshots of charts more room."
    assert (used.state(second), used.problem(second)) == ("withdrawn", words)
    go_on(first)
    assert (used.state(first), past(used).room) == ("done", 6 * GIB)
    second = grow(used, 60)
    assert (used.state(second), past(used).room) == ("done", 12 * GIB)


def test_room_for_snapshots_that_are_gone_is_not_that_of_newer_ones(
    used: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    number = held_up(used, monkeypatch, 50)
    used.do("delete-snapshot", volume="charts", snapshots=["noon"], typed="noon")
    take(used, "evening", room=20)
    go_on(number)
    assert used.state(number) == "paused"
    assert used.problem(number) == "The snapshots that it was for are gone, and their room."
    go_on(number, "withdraw")
    assert used.state(number) == "withdrawn"
    used.do("rebuild", pool="quayside")
    volume = current_view().volume("charts")
    assert volume.past is not None
    assert (volume.past.extents, past(used).room, past(used).marks) == (4, 4 * GIB, [2])
    assert held(used) == should_hold()


def test_nodes_that_keep_more_already_are_not_told_to_keep_less(
    used: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One is told, and then the next falls silent: from there on there is only one way."""
    keeps = grow_room.KeepMore.carry_out

    def and_then_breaks(step: grow_room.KeepMore, run: Any) -> str:
        keeps(step, run)
        raise NotPossible("A node refuses.")

    with monkeypatch.context() as patched:
        patched.setattr(grow_room.KeepMore, "carry_out", and_then_breaks)
        number = grow(used, 50)
    assert (used.state(number), past(used).room) == ("paused", 10 * GIB)
    go_on(number, "withdraw")
    assert (
        used.problem(number)
        == "It could not be withdrawn: There is no way back: nodes may keep there what was overwritten."
    )
    go_on(number)
    assert (used.state(number), past(used).room) == ("done", 10 * GIB)
