"""Snapshots that are taken by themselves as a policy has it, and go by it; and the room that it promises for
them.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from conftest import ME, Site, begun
from sqlalchemy import select, update

from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.conformance import Standing, conformance
from foldbarn.core.policies.matching import room_for
from foldbarn.core.policies.policy import Wishes
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.volumes.schedules import Schedule
from foldbarn.services import changes
from foldbarn.services.schedules import go_by_schedules
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import ChangeRow, SnapshotRow, VolumeRow
from foldbarn.store.views import current_view

pytestmark = pytest.mark.pooled


def go(site: Site) -> list[str]:
    """A turn of the duty, with what it starts carried out; kinds of the changes."""
    go_by_schedules()
    with transaction() as session:
        mine = ChangeRow.actor == BY_ITSELF, ChangeRow.ended_at.is_(None)
        found = [(row.id, row.kind) for row in session.scalars(select(ChangeRow).where(*mine))]
    for number, _ in found:
        run_change(number)
        assert site.state(number) == "done", site.problem(number)
    return [kind for _, kind in found]


def altered(session: Session) -> None:
    """The picture of volumes is read anew."""
    session.execute(update(VolumeRow).values(snapshots_altered=VolumeRow.snapshots_altered + 1))


def earlier(hours: float) -> None:
    """All that was taken so far was taken so much earlier, and is called after that."""
    with transaction() as session:
        for row in session.scalars(select(SnapshotRow).order_by(SnapshotRow.taken_at)):
            assert row.taken_at is not None
            row.taken_at -= timedelta(hours=hours)
            row.name = f"{row.name.split('-')[0]}-{row.taken_at:%Y%m%d-%H%M%S}-{row.number}"
        altered(session)
        announce(session, "site")


def numbers(volume: str) -> list[int]:
    return [s.number for s in current_view().volume(volume).snapshots]


def as_kept(site: Site) -> None:
    """With a policy that keeps two hours and two days, and a volume that keeps it."""
    site.do("save-policy", name="hourly", copies=2, level="node", hourly=2, daily=2, snapshot_room=30)
    site.do("create-volume", name="charts", policy="hourly", size="10 GiB")


kept = begun(as_kept)


def test_they_are_taken_when_they_are_due_and_go_when_no_rule_keeps_them(kept: Site) -> None:
    assert go(kept) == ["take-snapshot"]
    volume = current_view().volume("charts")
    (first,) = volume.snapshots
    assert first.scheduled
    assert first.name == f"auto-{datetime.now(UTC):%Y-%m-%d-%H}{first.name[-2:]}"
    assert volume.past is not None
    assert volume.past.extents == 3
    assert go(kept) == []
    take = kept.do("take-snapshot", volumes=["charts"], name="by-hand")
    assert kept.state(take) == "done"
    for _ in range(3):
        earlier(25)
        assert go(kept) == ["take-snapshot"]
    assert numbers("charts") == [1, 2, 3, 4, 5]
    # The newest two are those of two hours and of two days; a person's goes by nobody's rule.
    assert go(kept) == ["delete-snapshot"]
    assert numbers("charts") == [2, 4, 5]
    assert go(kept) == []
    with transaction() as session:
        mine = select(ChangeRow).where(ChangeRow.actor == BY_ITSELF).order_by(ChangeRow.id)
        rows = list(session.scalars(mine))
    assert rows[0].reason == "hourly has one taken of 1 volume now."
    assert rows[-1].reason == "Its policy keeps 2 snapshots no longer."


def test_all_volumes_of_a_policy_are_taken_at_one_moment(kept: Site) -> None:
    kept.do("create-volume", name="logs", policy="hourly", size="4 GiB")
    kept.do("create-volume", name="plain", pool="quayside", size="4 GiB")
    assert go(kept) == ["take-snapshot"]
    taken = [current_view().volume(name).snapshots[0].taken_at for name in ("charts", "logs")]
    assert abs(taken[0] - taken[1]) < 1
    assert numbers("plain") == []
    # Where something stands against one of them the other has its own.
    earlier(2)
    with transaction() as session:
        name = f"auto-{datetime.now(UTC):%Y-%m-%d-%H%M}"
        later = f"auto-{datetime.now(UTC) + timedelta(minutes=1):%Y-%m-%d-%H%M}"
        volume = current_view().volume("logs").number
        for number, taken_name in ((90, name), (91, later)):
            session.add(
                SnapshotRow(
                    volume_id=volume,
                    number=number,
                    name=taken_name,
                    made_by=session.scalars(select(ChangeRow.id)).first(),
                    taken_at=datetime(2020, 1, 1, tzinfo=UTC),
                )
            )
        altered(session)
        announce(session, "site")
    assert "take-snapshot" in go(kept)
    assert len(numbers("charts")) == 2


def test_what_another_change_touches_waits(kept: Site) -> None:
    number = changes.carry_out(ME, "rename-volume", {"volume": "charts", "name": "maps"})
    assert go(kept) == []
    run_change(number)
    assert go(kept) == ["take-snapshot"]
    kept.do("delete-volume", volumes=["maps"], typed="maps")
    earlier(2)
    assert go(kept) == []  # what is in the bin rests


def test_a_lost_one_is_let_go_of(kept: Site) -> None:
    go(kept)
    with transaction() as session:
        session.execute(update(SnapshotRow).values(lost="There was no room."))
        altered(session)
        announce(session, "site")
    assert go(kept) == ["delete-snapshot"]
    assert numbers("charts") == []
    assert go(kept) == ["take-snapshot"]


def test_a_version_without_a_schedule_lets_go_of_what_the_other_took(kept: Site) -> None:
    go(kept)
    kept.do("save-policy", name="hourly", version=1, copies=2, level="node")
    assert go(kept) == []  # its volume keeps the version that it was made by
    number = kept.do("keep-policy", volumes=["charts"], policy="hourly")
    assert kept.state(number) == "done", kept.problem(number)
    assert (
        current_view().volume("charts").past is not None
    )  # what it holds stays as long as there are snapshots
    assert go(kept) == ["delete-snapshot"]
    assert current_view().volume("charts").past is None


def test_a_room_that_is_smaller_than_the_policy_says_is_told(kept: Site) -> None:
    number = kept.do("take-snapshot", volumes=["charts"], name="early", room=10)
    assert kept.state(number) == "done"
    stands = conformance(current_view(), current_view().volume("charts"))
    assert stands is not None
    assert stands.standing == Standing.BROKEN
    assert stands.sentence() == "It is to keep 3.2 GB for what its snapshots hold, and keeps 1.1 GB."
    kept.do("delete-snapshot", volume="charts", snapshots=["early"], typed="early")
    go(kept)
    stands = conformance(current_view(), current_view().volume("charts"))
    assert stands is not None
    assert stands.standing == Standing.KEPT


def test_room_for_them_is_part_of_what_a_pool_is_asked_for(barn_site: Site) -> None:
    view = current_view()
    pool = view.pools[0]
    plain = Wishes(mirror(2, Level.NODE), 1)
    kept = Wishes(mirror(2, Level.NODE), 1, schedule=Schedule(hourly=1, room=50))
    most, with_room = room_for(view, pool, plain).bytes, room_for(view, pool, kept).bytes
    assert with_room == pytest.approx(most / 1.5, rel=0.01)
    barn_site.do("save-policy", name="kept", copies=2, level="node", hourly=1, snapshot_room=50)
    more = {"name": "a", "policy": "kept", "size": str(with_room + 2 * 2**30)}
    with pytest.raises(NotPossible, match="does not fit"):
        changes.carry_out(ME, "create-volume", more)
    made = barn_site.do("create-volume", name="a", policy="kept", size=str(with_room))
    assert barn_site.state(made) == "done", barn_site.problem(made)
    assert go(barn_site) == ["take-snapshot"]  # and the room that was counted on is there
