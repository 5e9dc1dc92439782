"""How snapshots and their room are said to be."""

from __future__ import annotations

from dataclasses import replace

from sites import changed, make_site, with_volume, without_nodes

from foldbarn.core.policies.adopting import new_past
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import SiteView
from foldbarn.core.units import GIB
from foldbarn.core.volumes.schedules import Schedule
from foldbarn.core.volumes.snapshots import Snapshot, Span
from foldbarn.core.watch.kept import LATE_SECONDS, overdue, room_state, snapshot_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp

NOON = 1_772_625_600.0  # 12:00 UTC


def site(taken: int = 0, *snapshots: Snapshot) -> SiteView:
    """A volume of ten extents by a policy that has a snapshot taken every hour, with room of two for them."""
    view = with_volume(make_site([[[20]], [[20]], [[20]]], headroom=None), 10, 2, Level.RACK)
    policy = Policy(1, "p", 1, Wishes(mirror(2, Level.RACK), 1, schedule=Schedule(hourly=3, room=20)))
    [volume] = view.volumes
    past = replace(new_past(view, volume, 2), forming=False)
    spans = (Span(1, 1, taken),) if taken else ()
    kept = replace(volume, plies=(*volume.plies, past), snapshots=snapshots, spans=spans, policy=(1, 1))
    return changed(view, volumes=(kept,), policies=(policy,))


def test_a_room_that_is_nearly_full_says_which_gives_way() -> None:
    one = Snapshot(1, "one", NOON)
    view = site(GIB, one)
    state = room_state(view, view.volumes[0])
    assert state is not None
    assert (state.lamp, state.reason) == (Lamp.SOUND, "1.1 GB of 2.1 GB kept for snapshots are taken.")
    view = site(17 * GIB // 10, one)
    said = Outlook(view, NOON, 30.0).volume(0)
    assert said.lamp == Lamp.WATCH
    assert said.reason.endswith("kept for snapshots are taken: once that is full, one gives way.")
    plain = with_volume(make_site([[[20]], [[20]], [[20]]]), 10, 2, Level.RACK)
    assert room_state(plain, plain.volumes[0]) is None


def test_a_snapshot_says_whether_it_is_there_and_can_be_read() -> None:
    lost, going = Snapshot(1, "a", NOON, lost="No room."), Snapshot(2, "b", forming=True)
    there = Snapshot(3, "c", NOON)
    view = site(0, lost, going, there)
    [volume] = view.volumes
    states = [snapshot_state(view, volume, one) for one in volume.snapshots]
    assert [s.lamp for s in states] == [Lamp.FAILED, Lamp.MENDING, Lamp.SOUND]
    assert states[0].reason == "Lost. No room."
    away = without_nodes(view, {0, 1, 2}, given_up=False)
    unread = snapshot_state(away, away.volumes[0], there)
    assert (unread.lamp, "cannot be read" in unread.reason) == (Lamp.FAILED, True)


def test_one_that_is_due_for_a_while_wants_someone() -> None:
    view = site(0, Snapshot(1, "auto", NOON + 5, scheduled=True))
    [volume] = view.volumes
    hour = NOON + 3600
    assert overdue(view, volume, hour - 1) is None
    assert overdue(view, volume, hour + LATE_SECONDS - 1) is None
    said = overdue(view, volume, hour + LATE_SECONDS + 1)
    assert said is not None
    assert said.reason == "A snapshot is due by its policy, and the last one was taken 1 h 10 min ago."
    assert Outlook(view, hour + LATE_SECONDS + 1, 30.0).volume(0).lamp == Lamp.WATCH
    by_hand = site(0, Snapshot(1, "mine", NOON))
    assert overdue(by_hand, by_hand.volumes[0], NOON + 10**6) is None  # none was ever taken by it
