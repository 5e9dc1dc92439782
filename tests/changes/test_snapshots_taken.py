"""Snapshots: taken while a volume is in use, deleted, and brought back, against the stand-in nodes' own
account.
"""

from __future__ import annotations

from typing import Any

import pytest
from conftest import ME, Site, at_hour, begun, stand_still
from test_changes import lose

from foldbarn.changes.engine import moving
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.site import Contact
from foldbarn.core.units import GIB
from foldbarn.core.volumes.loss import DataState, fate, fate_of
from foldbarn.core.volumes.snapshots import held
from foldbarn.services import changes
from foldbarn.services.heat import HeatTaker
from foldbarn.services.limits import tell_marks
from foldbarn.store.views import current_view
from foldbarn.yard import fluid
from foldbarn.yard.past import BLOCK, Past

pytestmark = pytest.mark.pooled


def past(site: Site) -> Past:
    """What the stand-ins keep; of the one volume that has any."""
    (found,) = site.yard.machines.pasts.values()
    return found


def take(site: Site, name: str, **wish: object) -> None:
    number = site.do("take-snapshot", **{"volumes": ["charts"], "name": name, **wish})
    assert site.state(number) == "done", site.problem(number)


def work(site: Site, seconds: float, of: float = 100.0) -> None:
    """Consumers work, as a busy hour has it."""
    machines = site.yard.machines
    machines.consumers = of
    for _ in range(int(seconds)):
        fluid.advance(machines, 1.0)


def names(site: Site) -> list[str]:
    return [s.name for s in current_view().volume("charts").snapshots]


def as_used(site: Site) -> None:
    """With a volume that consumers write, between two rushes."""
    at_hour(site.yard.machines, 13)
    site.volume(size="20 GiB")
    fluid.advance(site.yard.machines, 60.0)


used = begun(as_used, speed=0.0)


def test_a_snapshot_keeps_what_is_overwritten_since(used: Site) -> None:
    before = pool_space(current_view(), current_view().pools[0]).ledger
    take(used, "before-the-migration", room=30)
    view = current_view()
    volume, pool = view.volume("charts"), view.pools[0]
    assert volume.past is not None
    assert volume.past.extents == 6  # 30 % of twenty
    assert volume.past.scheme == volume.whole.scheme
    ledger = pool_space(view, pool).ledger
    assert ledger.past == 6 * volume.past.scheme.strips * GIB
    assert (ledger.written, ledger.promised) == (before.written, before.promised)
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw
    assert past(used).marks == [1]
    work(used, 30)
    HeatTaker().take()
    volume = current_view().volume("charts")
    assert past(used).used > 0
    assert held(volume.spans) == pytest.approx(past(used).used, abs=20)
    assert {(span.first, span.last) for span in volume.spans} == {(1, 1)}
    assert volume.written_bytes == view.volume("charts").written_bytes  # that is no data of it
    take(used, "after")
    work(used, 30)
    HeatTaker().take()
    spans = {(s.first, s.last): s.bytes for s in current_view().volume("charts").spans}
    assert spans.keys() == {(1, 1), (1, 2), (2, 2)}
    assert [(a, b, n) for a, b, n in past(used).spans()] == [
        (a, b, pytest.approx(n, abs=20)) for (a, b), n in spans.items()
    ]


def test_several_volumes_are_marked_at_one_moment(used: Site) -> None:
    used.volume("logs", size="8 GiB")
    number = used.do("take-snapshot", volumes=["charts", "logs"], name="both")
    assert used.state(number) == "done", used.problem(number)
    machines = used.yard.machines
    assert sorted(p.marks for p in machines.pasts.values()) == [[1], [1]]
    orders = [(o.kind, o.node) for o in machines.orders.values() if o.kind in ("hold", "mark")]
    kinds = [kind for kind, _ in orders]
    nodes = len({node for _, node in orders})
    # Every node holds before the first marks, and none goes on before the last has marked.
    assert kinds == ["hold"] * nodes + ["mark"] * nodes + ["hold"] * nodes
    assert machines.on_hold == {}


def test_writes_wait_while_a_moment_is_marked(used: Site) -> None:
    take(used, "first")
    machines = used.yard.machines
    first = past(used).first
    work(used, 5)
    machines.on_hold[first] = float("inf")
    machines.load.summed_at = None
    was = past(used).used
    work(used, 20)
    assert past(used).used == was
    machines.on_hold[first] = 0.0  # held for too long: nobody waits for it any more
    work(used, 20)
    assert past(used).used > was


def test_without_a_hold_no_moment_is_marked(used: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("foldbarn.changes.kinds.snapshots.take_snapshot.HOLD_SECONDS", 0)
    number = used.do("take-snapshot", volumes=["charts"], name="late")
    assert used.state(number) == "paused"
    assert "is not on hold" in used.problem(number)
    assert [s.forming for s in current_view().volume("charts").snapshots] == [True]
    monkeypatch.undo()
    changes.ask(ME, number, "resume")
    run_change(number)
    assert used.state(number) == "done"
    assert past(used).marks == [1]


def test_withdrawn_it_leaves_nothing(used: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("foldbarn.changes.kinds.snapshots.take_snapshot.HOLD_SECONDS", 0)
    number = used.do("take-snapshot", volumes=["charts"], name="late")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert used.state(number) == "withdrawn"
    assert names(used) == []
    assert current_view().volume("charts").past is None
    used.do("rebuild", pool="quayside")  # what the withdrawal asks for
    tell_marks()
    assert used.yard.machines.pasts == {}


def test_deleting_frees_what_none_of_the_others_has(used: Site) -> None:
    for name in ("one", "two", "three"):
        take(used, name)
        work(used, 10)
    HeatTaker().take()
    before = past(used).used
    preview = changes.preview("delete-snapshot", {"volume": "charts", "snapshots": ["two"], "typed": ""})
    assert [note.about for note in preview.blockers] == ["typed"]
    sums = next(effect for effect in preview.effects if effect.effect == "sums")
    foretold = sums.rows[0].before.value - sums.rows[0].after.value
    number = used.do("delete-snapshot", volume="charts", snapshots=["two"], typed="two")
    assert used.state(number) == "done", used.problem(number)
    assert past(used).marks == [1, 3]
    assert before - past(used).used == pytest.approx(foretold, abs=100)
    assert names(used) == ["one", "three"]
    # With the last of them goes the room.
    number = used.do("delete-snapshot", volume="charts", snapshots=["one", "three"], typed="charts")
    assert used.state(number) == "done", used.problem(number)
    assert used.yard.machines.pasts == {}
    view = current_view()
    assert view.volume("charts").past is None
    assert pool_space(view, view.pools[0]).ledger.past == 0
    take(used, "one")  # the name is free again; its number is not
    assert [s.number for s in current_view().volume("charts").snapshots] == [4]


def test_it_is_brought_back_to_what_it_held_and_the_present_is_kept(used: Site) -> None:
    take(used, "good", room=100)
    work(used, 20)
    HeatTaker().take()
    wish = {"volume": "charts", "snapshot": "good", "keep_as": "before-going-back"}
    found = changes.preview("restore-snapshot", wish)
    assert "is in use" in found.blockers[0].sentence
    used.do("offline-volume", volumes=["charts"], offline=True)
    others = int(past(used).others_than(1).sum()) * BLOCK
    was = past(used).used
    number = changes.carry_out(ME, "restore-snapshot", wish)
    used.yard.machines.speed = 600.0  # it takes as long as its disks do
    run_change(number)
    stand_still(used.yard.machines)
    assert used.state(number) == "done", used.problem(number)
    assert past(used).marks == [1, 2]
    assert names(used) == ["good", "before-going-back"]
    assert past(used).used == was + others  # what the present was is kept, once
    # Deleting the one that it was brought back to takes nothing from it, nor from the other.
    used.do("delete-snapshot", volume="charts", snapshots=["good"], typed="good")
    assert past(used).marks == [2]
    assert past(used).used == others


def test_what_would_find_no_room_is_not_brought_back(used: Site) -> None:
    take(used, "good", room=5)
    while past(used).used < 0.6 * GIB:
        work(used, 1, of=3.0)
    used.do("offline-volume", volumes=["charts"], offline=True)
    HeatTaker().take()
    wish = {"volume": "charts", "snapshot": "good", "keep_as": "now"}
    with pytest.raises(NotPossible, match="would be overwritten and kept, and the room for snapshots has"):
        changes.carry_out(ME, "restore-snapshot", wish)


def test_a_room_that_is_full_lets_the_oldest_go_and_says_so(used: Site) -> None:
    take(used, "small", room=1)
    past(used).room = 4 * BLOCK
    work(used, 60)
    HeatTaker().take()
    (snapshot,) = current_view().volume("charts").snapshots
    refused = changes.preview("restore-snapshot", {"volume": "charts", "snapshot": "small", "keep_as": "now"})
    assert "small is lost. There was no room left" in refused.blockers[0].sentence
    assert snapshot.lost == "There was no room left for what was overwritten, and it was the oldest."
    assert past(used).marks == []


def test_names_room_and_what_is_in_the_bin_are_looked_at(used: Site) -> None:
    take(used, "one")
    for name, words in (
        ("ONE", "A snapshot named 'ONE' exists already"),
        ("", "needs a name"),
        ("two words", "cannot be a name"),
    ):
        with pytest.raises(NotPossible, match=words):
            changes.carry_out(ME, "take-snapshot", {"volumes": ["charts"], "name": name})
    used.volume("wide", size="18 TiB")
    with pytest.raises(NotPossible, match="of room for snapshots of wide does not fit"):
        changes.carry_out(ME, "take-snapshot", {"volumes": ["wide"], "name": "a", "room": 100})


def test_snapshots_go_into_the_bin_and_come_back_with_their_volume(used: Site) -> None:
    take(used, "one")
    used.do("delete-volume", volumes=["charts"], typed="charts")
    tell_marks()
    assert past(used).marks == [1]
    with pytest.raises(NotPossible, match="charts is in the bin"):
        changes.carry_out(ME, "take-snapshot", {"volumes": ["charts"], "name": "two"})
    used.do("restore-volume", volumes=["charts"])
    assert names(used) == ["one"]
    used.do("delete-volume", volumes=["charts"], typed="charts")
    number = used.do("empty-bin", pool="quayside", volumes=["charts"], typed="charts")
    assert used.state(number) == "done", used.problem(number)
    assert used.yard.machines.pasts == {}


def test_they_outlive_another_policy_growing_and_a_lost_node(used: Site) -> None:
    """Written anew as parity, grown, and rebuilt: what was kept of its past is kept."""
    take(used, "one")
    work(used, 10)
    kept = past(used).used
    assert kept > 0
    used.yard.machines.consumers = 0.0  # nothing more is overwritten
    used.do("save-policy", name="two-and-one", data=2, parity=1, level="node")
    used.yard.machines.speed = 600.0
    number = used.do("keep-policy", volumes=["charts"], policy="two-and-one")
    stand_still(used.yard.machines)
    assert used.state(number) == "done", used.problem(number)
    assert (past(used).marks, past(used).used) == ([1], kept)
    volume = current_view().volume("charts")
    assert volume.past is not None
    stands = conformance(current_view(), volume)
    assert stands is not None
    assert stands.standing == Standing.KEPT
    used.do("grow-volume", volume="charts", size="30 GiB")
    lose(used, "petrel")
    used.yard.machines.speed = 600.0
    used.do("rebuild", pool="quayside")
    stand_still(used.yard.machines)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    assert not tell_marks() or view.node("petrel").contact != Contact.HEARD
    take(used, "two")
    work(used, 20, of=2.0)
    assert past(used).marks == [1, 2]
    assert past(used).used > kept


@pytest.mark.parametrize("first", [False, True])
def test_one_is_taken_while_strips_are_written_again(
    used: Site, monkeypatch: pytest.MonkeyPatch, first: bool
) -> None:
    """A rebuild is half way: it holds nobody up, nor do they who choose the disks for room for the first
    one; and what is written again keeps what a snapshot has.
    """
    if not first:
        take(used, "before", room=50)
    work(used, 10)
    kept = 0 if first else past(used).used
    used.yard.machines.consumers = 0.0
    lose(used, "petrel")
    taken: list[tuple[int, str]] = []
    progress = moving.Mover._tell_progress

    def and_half_way_one_is_taken(mover: moving.Mover, *so_far: Any) -> None:
        progress(mover, *so_far)
        if not taken:
            number = used.do("take-snapshot", volumes=["charts"], name="meanwhile")
            taken.append((number, used.state(number)))

    monkeypatch.setattr(moving.Mover, "_tell_progress", and_half_way_one_is_taken)
    used.yard.machines.speed = 600.0
    number = used.do("rebuild", pool="quayside")
    stand_still(used.yard.machines)
    assert used.state(number) == "done", used.problem(number)
    assert [state for _, state in taken] == ["done"]
    assert names(used) == (["meanwhile"] if first else ["before", "meanwhile"])
    assert (past(used).marks, past(used).used) == ([1] if first else [1, 2], kept)
    view = current_view()
    assert fate_of(view, view.volume("charts")).state == DataState.WHOLE
    found = view.volume("charts").past
    assert found is not None
    assert fate(view, found).whole == found.extents
