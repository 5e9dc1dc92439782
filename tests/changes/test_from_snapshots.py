"""Volumes made from snapshots, and snapshots shown as volumes: open at once, and independent in the end,
against the stand-in nodes' own account.
"""

from __future__ import annotations

import time
from typing import Any

import numpy as np
import pytest
from conftest import ME, Site, begun
from sqlalchemy import select
from test_changes import Killed, held, lose, should_hold
from walking import attach, lane, look, register, type_there, walk

from foldbarn.api.volumes.pictures import volume_out
from foldbarn.changes.engine.effects import Texts
from foldbarn.changes.engine.preview import Preview
from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.snapshots import stand_alone
from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.lanes import Gate, Passage
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.site import Volume
from foldbarn.core.units import GIB
from foldbarn.core.volumes.ending import teardown
from foldbarn.core.volumes.loss import DataState, fate, fate_of
from foldbarn.core.volumes.snapshots import Origin
from foldbarn.core.watch.asking import Question, answers
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp, State
from foldbarn.services import changes
from foldbarn.services.copies import let_copies_stand_alone
from foldbarn.services.limits import tell_marks
from foldbarn.services.site import outlook
from foldbarn.services.watching import empty_bins
from foldbarn.store import changes as kept_changes
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import ChangeRow, SnapshotRow, VolumeRow
from foldbarn.store.views import current_view
from foldbarn.yard import fluid, shell
from foldbarn.yard import hosts as yard_hosts

pytestmark = pytest.mark.pooled


def as_taken(site: Site) -> None:
    """A volume of 20 GiB with a snapshot, noon."""
    site.volume(size="20 GiB")
    fluid.advance(site.yard.machines, 60.0)
    site.yard.machines.consumers = 0.0  # the yard is fast: they would overwrite more than there is room for
    number = site.do("take-snapshot", volumes=["charts"], name="noon", room=30)
    assert site.state(number) == "done", site.problem(number)


taken = begun(as_taken)


def made(site: Site, name: str = "again", **wish: object) -> int:
    number = site.do("copy-snapshot", **{"volume": "charts", "snapshot": "noon", "name": name, **wish})
    assert site.state(number) == "done", site.problem(number)
    return number


def fill(site: Site) -> list[int]:
    """What the watch would begin by itself, carried out; their numbers."""
    let_copies_stand_alone()
    begun = going_on()
    for number in begun:
        run_change(number)
    return begun


def going_on() -> list[int]:
    """Numbers of the changes that have not ended."""
    with transaction() as session:
        return list(session.scalars(select(ChangeRow.id).where(ChangeRow.ended_at.is_(None))))


def test_a_copy_is_open_at_once_and_stands_alone_in_the_end(taken: Site) -> None:
    before = pool_space(current_view(), current_view().pools[0]).ledger
    made(taken)
    view = current_view()
    again, charts = view.volume("again"), view.volume("charts")
    assert again.served
    assert not again.forming
    reading = answers(Outlook(view, 0.0, 0.0), Question.READING)
    assert [view.volumes[row].name for row in np.flatnonzero(reading)] == ["again"]
    assert again.size_bytes == charts.size_bytes
    assert again.origin == Origin(charts.number, 1)
    assert int(again.through.sum()) == again.extents == 20
    assert again.anew is not None
    assert again.anew.source == charts.whole.number
    assert fate_of(view, again).whole == 20
    ledger = pool_space(view, view.pools[0]).ledger
    assert sum(amount for _, amount in ledger.rows()) == ledger.raw
    assert ledger.moving - before.moving == 20 * again.whole.scheme.strips * GIB
    (number,) = fill(taken)
    assert taken.state(number) == "done", taken.problem(number)
    again = current_view().volume("again")
    assert again.origin is None
    assert again.anew is None
    assert not again.through.any()
    assert (again.whole.placement > 0).all()
    assert held(taken) == should_hold()
    assert fill(taken) == []


def refusals(kind: str, **wish: object) -> list[str]:
    return [note.sentence for note in changes.preview(kind, wish).blockers]


def state_of(name: str) -> State:
    view = current_view()
    row = next(row for row, v in enumerate(view.volumes) if v.name == name)
    return Outlook(view, time.time(), 60.0).volume(row)


def charts_and(name: str) -> tuple[Volume, Volume]:
    view = current_view()
    return view.volume("charts"), view.volume(name)


def test_what_is_read_from_is_not_let_go_of(taken: Site) -> None:
    made(taken)
    wish = {"volume": "charts", "snapshots": ["noon"], "typed": "noon"}
    assert refusals("delete-snapshot", **wish) == ["again reads from it."]
    with pytest.raises(NotPossible, match="again reads from it"):
        changes.carry_out(ME, "delete-snapshot", wish)
    # Its original may go into the bin, and is kept there for as long as it is read from.
    number = taken.do("delete-volume", volume="charts", typed="charts", days=1)
    assert taken.state(number) == "done", taken.problem(number)
    bins = {"pool": "quayside", "volumes": ["charts"], "typed": "charts"}
    assert refusals("empty-bin", **bins) == ["again reads from what is to go."]
    with transaction() as session:
        row = session.scalars(select(VolumeRow).where(VolumeRow.name == "charts")).one()
        row.kept_until = row.binned_at
        announce(session, "site")
    empty_bins()
    assert "it is kept while again read from it" in state_of("charts").reason
    fill(taken)
    assert refusals("empty-bin", **bins) == []
    empty_bins()
    (last,) = going_on()
    run_change(last)
    view = current_view()
    assert [v.name for v in view.volumes] == ["again"]
    assert fate_of(view, view.volume("again")).whole == 20
    assert held(taken) == should_hold()


def test_the_step_looks_again_for_what_reads_from_it(taken: Site) -> None:
    """The wish was previewed before anything read from it, and waits behind what makes it."""
    copying = changes.carry_out(
        ME, "copy-snapshot", {"volume": "charts", "snapshot": "noon", "name": "again"}
    )
    wish = {"volume": "charts", "snapshots": ["noon"], "typed": "noon"}
    deleting = changes.carry_out(ME, "delete-snapshot", wish)
    run_change(copying)
    run_change(deleting)
    assert taken.state(copying) == "done"
    assert taken.state(deleting) != "done"
    assert "again reads from it" in taken.problem(deleting)
    assert [s.name for s in current_view().volume("charts").snapshots] == ["noon"]


def test_a_copy_of_what_is_gone_is_not_made(taken: Site) -> None:
    wish = {"volume": "charts", "snapshots": ["noon"], "typed": "noon"}
    deleting = changes.carry_out(ME, "delete-snapshot", wish)
    copying = changes.carry_out(
        ME, "copy-snapshot", {"volume": "charts", "snapshot": "noon", "name": "again"}
    )
    run_change(deleting)
    run_change(copying)
    assert taken.state(deleting) == "done"
    assert [v.name for v in current_view().volumes] == ["charts"]
    assert held(taken) == should_hold()


def test_from_the_bin_a_volume_comes_back_under_another_name(taken: Site) -> None:
    taken.do("delete-volume", volume="charts", typed="charts")
    made(taken, "rescued")
    fill(taken)
    _, rescued = charts_and("rescued")
    assert rescued.served
    assert rescued.origin is None
    assert fate_of(current_view(), rescued).whole == 20


def test_it_is_read_from_its_original_as_long_as_it_is(taken: Site) -> None:
    """The same loss ends what both of them have."""
    made(taken)
    for node in ("fulmar", "petrel"):
        lose(taken, node)
    view = current_view()
    charts, again = charts_and("again")
    assert fate_of(view, again) == fate(view, charts.whole)
    assert fate_of(view, again).short > 0
    assert state_of("again").reason.startswith("Every byte is readable.")
    lose(taken, "kittiwake")
    view = current_view()
    charts, again = charts_and("again")
    found = fate_of(view, again)
    assert fate(view, charts.whole).unavailable == 5
    # Of what was overwritten some cannot be read either: which of its extents that concerns nobody knows.
    assert found.unavailable == 20
    assert state_of("again").lamp == Lamp.FAILED
    assert state_of("again").reason.startswith("Up to 20 of 20 extents cannot be read: ")
    assert "It is not known which of them have changed since noon." in state_of("again").reason


def test_where_the_snapshot_is_lost_so_is_what_was_not_written(taken: Site) -> None:
    made(taken)
    with transaction() as session:
        session.scalars(select(SnapshotRow)).one().lost = "It gave way."
        session.scalars(select(VolumeRow).where(VolumeRow.name == "charts")).one().snapshots_altered += 1
        announce(session, "site")
    charts, again = charts_and("again")
    assert fate_of(current_view(), again).lost == 20
    assert fate_of(current_view(), charts).state == DataState.WHOLE
    assert "noon of charts is lost" in state_of("again").reason
    assert refusals("copy-snapshot", volume="charts", snapshot="noon", name="more") == [
        "noon is lost. It gave way."
    ]
    (number,) = fill(taken)
    assert taken.state(number) == "paused"
    assert taken.problem(number).startswith("60 strips of again are not written yet")


def test_what_is_read_from_gives_way_last(taken: Site) -> None:
    made(taken)
    taken.do("take-snapshot", volumes=["charts"], name="evening")
    tell_marks()
    (kept,) = taken.yard.machines.pasts.values()
    assert kept.read == {1}
    assert kept.marks == [1, 2]
    kept.room = 0
    kept.grow(5120)
    kept.overwrite(np.ones(5120, dtype=np.bool_))
    assert kept.marks == []  # there is room for neither
    kept.marks, kept.room = [1, 2], 10**15
    kept.wrote[:] = 0
    kept.overwrite(np.arange(5120) < 4)
    kept.mark(3)
    kept.overwrite(np.arange(5120) < 8)
    kept.room = kept.used - 1
    kept.overwrite(np.arange(5120) < 9)
    assert 1 in kept.marks
    assert 2 not in kept.marks


def killed(*_: Any) -> str:
    raise Killed


def test_what_gives_way_next_is_said_with_what_goes_with_it(taken: Site) -> None:
    taken.do("take-snapshot", volumes=["charts"], name="evening")
    room = current_view().volume("charts").past
    assert room is not None
    with transaction() as session:
        row = session.scalars(select(VolumeRow).where(VolumeRow.name == "charts")).one()
        row.spans = [[1, 2, int(0.9 * room.extents * GIB)]]
        announce(session, "site")
    assert "once that is full, noon gives way." in state_of("charts").reason
    made(taken)
    assert "once that is full, evening gives way." in state_of("charts").reason
    made(taken, "late", snapshot="evening")
    going = "once that is full, noon gives way, and with it what again reads from it."
    assert going in state_of("charts").reason
    warned = changes.preview("copy-snapshot", {"volume": "charts", "snapshot": "noon", "name": "third"})
    assert [note.code for note in warned.warnings] == ["snapshots-give-way"]


def test_a_person_calls_the_writing_off_and_takes_it_up_again(
    taken: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    made(taken)
    let_copies_stand_alone()
    (number,) = going_on()
    changes.ask(ME, number, "withdraw")  # before it has begun, or after
    run_change(number)
    assert taken.state(number) == "withdrawn"
    assert fill(taken) == []
    _, again = charts_and("again")
    assert again.origin == Origin(again.origin.volume if again.origin else 0, 1, left=True)
    assert "A person called off the writing of that." in state_of("again").reason
    with monkeypatch.context() as patched:
        patched.setattr(stand_alone.LetStandAlone, "carry_out", killed)
        number = changes.carry_out(ME, "stand-alone", {"volume": "again"})
        with pytest.raises(Killed):
            run_change(number)
        _, again = charts_and("again")
        assert again.origin is not None
        assert not again.origin.left
        assert not again.through.any()
        changes.ask(ME, number, "withdraw")
        run_change(number)
    assert fill(taken) == []
    assert held(taken) == should_hold()
    number = taken.do("stand-alone", volume="again")
    assert taken.state(number) == "done", taken.problem(number)
    assert charts_and("again")[1].origin is None
    assert refusals("stand-alone", volume="again") == ["again stands alone already."]


def refuses(*_: Any) -> str:
    raise NotPossible("Held up.")


def seen_now(name: str) -> State:
    """As a page shows it, with the changes that are open."""
    now = outlook()
    return now.volume(next(row for row, v in enumerate(now.view.volumes) if v.name == name))


def test_what_is_said_of_a_copy_is_as_it_is(taken: Site) -> None:
    made(taken)
    reads = "0 of 20 extents of it are its own; the rest is read from noon of charts"
    to_come = f"{reads}, and is to be written."
    assert seen_now("again") == State(Lamp.MENDING, f"Readable and writable. {to_come}")
    taken.do("offline-volume", volume="again")
    assert seen_now("again").reason == f"Offline: its nodes serve none of it. {to_come}"
    taken.do("offline-volume", volume="again", offline=False)
    let_copies_stand_alone()
    (number,) = going_on()
    with transaction() as session:
        kept_changes.pause(session, number, "Held up.")
        announce(session, "site")
    paused = f"Readable and writable. {reads}. The writing of that, change {number}, is paused."
    assert seen_now("again") == State(Lamp.WATCH, paused)
    taken.do("delete-volume", volume="again", typed="again")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert fill(taken) == []  # it may be erased before long
    assert seen_now("again").reason.endswith(f"{reads}.")


def test_each_part_that_is_short_says_its_own_reason(taken: Site) -> None:
    """Of a copy of which some is its own: what misses a disk, and what its original does."""
    made(taken)

    def one_portion(step: stand_alone.WriteRest, run: Any) -> int:
        stand_alone.Mover(run, step.name, step.pool, stand_alone._Portion(step).plan).carry()
        return int(refuses())

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(stand_alone, "PORTION", 30)
        patch.setattr(stand_alone.WriteRest, "write", one_portion)
        (number,) = fill(taken)
    assert taken.state(number) == "paused"
    assert 0 < int(charts_and("again")[1].through.sum()) < 20
    lose(taken, "petrel")
    reason = state_of("again").reason
    assert ": petrel is not heard since" in reason
    assert "Of charts, petrel is not heard since" in reason


def test_a_preview_warns_of_what_cannot_be_read_now(taken: Site) -> None:
    """Of one copy some is away with a node, and so may be what was overwritten."""
    taken.volume("solo", size="20 GiB", copies=1, level="disk")
    taken.do("take-snapshot", volumes=["solo"], name="noon")
    wish = {"volume": "solo", "snapshot": "noon", "name": "again"}
    kinds = ("copy-snapshot", "show-snapshot")
    for kind in kinds:
        assert "cannot-be-read" not in {note.code for note in changes.preview(kind, wish).warnings}
    lose(taken, "petrel")
    for kind in kinds:
        found = changes.preview(kind, wish)
        assert not found.blockers
        said = {note.code: note.sentence for note in found.warnings}
        assert said["cannot-be-read"].endswith(" of 20 extents cannot be read now.")


def test_its_bin_is_emptied_while_the_writing_is_paused(taken: Site) -> None:
    made(taken)
    let_copies_stand_alone()
    (number,) = going_on()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(stand_alone.LetStandAlone, "carry_out", refuses)
        run_change(number)
    assert taken.state(number) == "paused"
    assert taken.state(taken.erase("again")) == "done"
    changes.ask(ME, number, "resume")
    run_change(number)
    assert taken.state(number) == "done", taken.problem(number)
    assert [v.name for v in current_view().volumes] == ["charts"]
    assert held(taken) == should_hold()


def test_a_shown_snapshot_is_held_as_its_original_is_now(taken: Site) -> None:
    taken.do("show-snapshot", volume="charts", snapshot="noon", name="then")
    taken.do("save-policy", name="parity", data=2, parity=1, level="rack", survives=1)
    number = taken.do("keep-policy", volumes=["charts"], policy="parity")
    assert taken.state(number) == "done", taken.problem(number)
    now = outlook()
    rows = {v.name: row for row, v in enumerate(now.view.volumes)}
    shown, charts = (volume_out(now, rows[name]) for name in ("then", "charts"))
    assert (shown.counted, shown.protection, shown.survives) == (
        charts.counted,
        charts.protection,
        charts.survives,
    )
    assert not shown.thin
    assert fate_of(now.view, now.view.volume("then")).whole == 20
    for question in (Question.UNKEPT, Question.BY_HAND, Question.THIN):
        assert not answers(now, question)[rows["then"]]


def test_the_original_is_held_otherwise_meanwhile(taken: Site) -> None:
    made(taken)
    wishes = {"name": "two", "copies": 2, "level": "rack", "survives": 1}
    taken.do("save-policy", **wishes)
    taken.do("save-policy", **{**wishes, "name": "parity", "copies": None, "data": 2, "parity": 1})
    number = taken.do("keep-policy", volumes=["charts"], policy="parity")
    assert taken.state(number) == "done", taken.problem(number)
    charts, again = charts_and("again")
    assert again.anew is not None
    assert again.anew.source == charts.whole.number
    assert charts.whole.scheme.k == 2
    (number,) = fill(taken)
    assert taken.state(number) == "done", taken.problem(number)
    assert held(taken) == should_hold()
    assert refusals("keep-policy", volumes=["again"], policy="two") == []


def test_while_it_reads_from_another_it_is_held_as_it_is(taken: Site) -> None:
    made(taken)
    taken.do("save-policy", name="two", copies=2, level="rack", survives=1)
    alone = "again does not stand alone yet."
    assert refusals("keep-policy", volumes=["again"], policy="two") == [alone]
    assert refusals("grow-volume", volume="again", size="40 GiB") == [alone]
    number = taken.do("take-snapshot", volumes=["again"], name="mine")
    assert taken.state(number) == "done", taken.problem(number)
    assert refusals("copy-snapshot", volume="again", snapshot="mine", name="third") == [alone]
    fill(taken)
    assert refusals("copy-snapshot", volume="again", snapshot="mine", name="third") == []


def test_by_another_policy_and_into_another_shape(taken: Site) -> None:
    taken.do("save-policy", name="parity", data=2, parity=1, level="rack", survives=1, share=0)
    number = made(taken, policy="parity")
    fill(taken)
    view = current_view()
    again = view.volume("again")
    assert again.policy is not None
    assert again.whole.scheme.k == 2
    assert again.whole.extents == 10
    assert fate_of(view, again).whole == 10
    assert held(taken) == should_hold()
    assert taken.state(number) == "done"


def test_what_was_never_written_is_not_copied(taken: Site) -> None:
    taken.volume("maps", size="40 GiB", thin=True)
    number = taken.do("take-snapshot", volumes=["maps"], name="noon")
    assert taken.state(number) == "done", taken.problem(number)
    set_aside = current_view().volume("maps").whole.extents_set_aside
    assert 0 < set_aside < 40
    made(taken, "maps-2", volume="maps")
    maps2 = current_view().volume("maps-2")
    assert int(maps2.through.sum()) == set_aside
    assert int(maps2.whole.unwritten.sum()) == 40
    fill(taken)
    maps2 = current_view().volume("maps-2")
    assert maps2.whole.extents_set_aside == set_aside
    assert held(taken) == should_hold()


def test_a_snapshot_is_shown_without_taking_room(taken: Site) -> None:
    before = pool_space(current_view(), current_view().pools[0])
    number = taken.do("show-snapshot", volume="charts", snapshot="noon", name="charts-at-noon")
    assert taken.state(number) == "done", taken.problem(number)
    view = current_view()
    charts, shown = charts_and("charts-at-noon")
    after = pool_space(view, view.pools[0])
    assert after.ledger == before.ledger
    assert after.promised == before.promised
    assert (shown.extents, int(shown.through.sum())) == (20, 20)
    assert state_of("charts-at-noon") == State(
        Lamp.SOUND, "Shows noon of charts, to be read only, and holds nothing itself."
    )
    assert fill(taken) == []
    assert refusals("take-snapshot", volumes=["charts-at-noon"], name="x") == [
        "charts-at-noon shows a snapshot: it is one already."
    ]
    deleting = {"volume": "charts", "snapshots": ["noon"], "typed": "noon"}
    assert refusals("delete-snapshot", **deleting) == ["charts-at-noon reads from it."]
    assert held(taken) == should_hold()
    number = taken.do("delete-volume", volume="charts-at-noon", typed="charts-at-noon")
    assert taken.state(number) == "done", taken.problem(number)
    assert [v.name for v in current_view().volumes] == ["charts"]
    assert refusals("delete-snapshot", **deleting) == []
    assert fate(current_view(), charts.whole).whole == 20


# On hosts. ------------------------------------------------------------------------------------------------


def as_mounted(site: Site) -> None:
    """charts carries an xfs that slipway has mounted, and has a snapshot, noon."""
    site.volume(size="10 GiB")
    register(site, "slipway", "chart-plotter")
    attach(site, "charts", "slipway", file_system="xfs")
    walk(site, "slipway")
    site.yard.machines.consumers = 0.0
    number = site.do("take-snapshot", volumes=["charts"], name="noon")
    assert site.state(number) == "done", site.problem(number)


mounted = begun(as_mounted)


def test_a_shown_snapshot_is_mounted_beside_its_original_to_be_read(mounted: Site) -> None:
    mounted.do("show-snapshot", volume="charts", snapshot="noon", name="then")
    assert refusals("attach-volume", volume="then", hosts=["slipway"]) == [
        "then shows a snapshot: nobody can write to it."
    ]
    attach(mounted, "then", "slipway", read_only=True)  # as what its original carries
    walk(mounted, "slipway", "then")
    found, original = lane("slipway", "then"), lane("slipway")
    assert found.mounted == "/srv/then"
    assert {step.passage for step in found.steps} == {Passage.PASSED}
    assert found.seen is not None
    assert original.seen is not None
    assert found.seen.uuid == original.seen.uuid
    with pytest.raises(shell.Failed, match="Read-only file system"):
        type_there(mounted, "slipway", "umount /srv/then", f"mkfs.xfs {found.seen.device}")
    type_there(mounted, "slipway", "mount /srv/then")
    # The UUID tells the two apart no more, so the original is to be named otherwise too.
    missing = original.missing
    assert missing is not None
    assert missing.gate == Gate.KEPT
    assert "names it by a UUID that another disk has as well" in missing.reason
    assert walk(mounted, "slipway") == [Gate.KEPT]
    # They come back when the host starts anew, and none is taken for the other.
    host = mounted.yard.machines.hosts["slipway"]
    yard_hosts.lose_power(host)
    yard_hosts.start(mounted.yard.machines, host)
    assert {at: m.disk for at, m in host.mounts.items()} == {
        "/srv/charts": original.wwid,
        "/srv/then": found.wwid,
    }


def test_a_copy_carries_what_its_original_did_then_and_not_what_it_does_now(mounted: Site) -> None:
    made(mounted)
    charts = lane("slipway")
    assert charts.seen is not None
    was = charts.seen.uuid
    type_there(mounted, "slipway", "umount /srv/charts", f"mkfs.ext4 {charts.seen.device}")
    look(mounted)
    after = lane("slipway").seen
    assert after is not None
    assert after.uuid != was
    attach(mounted, "again", "chart-plotter", file_system="xfs")
    gates = walk(mounted, "chart-plotter", "again")
    assert Gate.FILE_SYSTEM not in gates  # nothing has to be made there
    found = lane("chart-plotter", "again")
    assert found.seen is not None
    assert (found.seen.uuid, found.seen.file_system) == (was, "xfs")
    fill(mounted)
    mounted.do("take-snapshot", volumes=["charts"], name="evening")
    mounted.do("show-snapshot", volume="charts", snapshot="evening", name="late")
    attach(mounted, "late", "chart-plotter", read_only=True, file_system="ext4")
    walk(mounted, "chart-plotter", "late")
    late = lane("chart-plotter", "late").seen
    assert late is not None
    assert (late.uuid, late.file_system) == (after.uuid, "ext4")


def test_beside_its_original_a_copy_is_mounted_by_its_own_name(mounted: Site) -> None:
    made(mounted)
    attach(mounted, "again", "slipway")
    walk(mounted, "slipway", "again")
    host = mounted.yard.machines.hosts["slipway"]
    found = lane("slipway", "again")
    assert host.mounts["/srv/again"].disk == found.wwid
    assert [line[0] for line in host.table if line[1] == "/srv/again"] == [
        f"/dev/disk/by-id/wwn-{found.wwid}"
    ]
    assert [line[3] for line in host.table if line[1] == "/srv/again"] == ["nouuid,_netdev,nofail"]
    with pytest.raises(shell.Failed, match="duplicate UUID"):
        type_there(
            mounted, "slipway", "umount /srv/again", f"mount {found.seen and found.seen.device} /mnt/x"
        )


def test_a_snapshot_from_before_there_was_a_file_system_carries_none(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    barn_site.yard.machines.consumers = 0.0
    barn_site.do("take-snapshot", volumes=["charts"], name="bare")
    register(barn_site, "slipway")
    attach(barn_site, "charts", "slipway", file_system="xfs")
    walk(barn_site, "slipway")
    made(barn_site, snapshot="bare")
    attach(barn_site, "again", "slipway")
    look(barn_site)
    for _ in range(5):
        step = lane("slipway", "again").missing
        assert step is not None
        if step.gate == Gate.FILE_SYSTEM:
            break
        type_there(barn_site, "slipway", *step.commands)
        look(barn_site)
    assert step.gate == Gate.FILE_SYSTEM
    assert not any("mkfs" in command for command in step.commands)
    assert "it carries what charts did then" in step.reason


def test_a_pool_is_torn_down_in_the_order_that_its_preview_gives(mounted: Site) -> None:
    """Each thing is done as it is said there, and only the order makes it possible."""
    mounted.do("show-snapshot", volume="charts", snapshot="noon", name="then")
    attach(mounted, "then", "slipway", read_only=True)
    walk(mounted, "slipway", "then")
    walk(mounted, "slipway")
    made(mounted)
    pool = {"pool": "quayside", "typed": "quayside"}
    look(mounted)
    deeds = teardown(current_view(), current_view().pools[0])
    (told_order,) = [t for t in texts(changes.preview("delete-pool", pool)) if t.heads[:1] == [BEFORE]]
    assert [row.label for row in told_order.rows] == [f"{n}. {d.title}" for n, d in enumerate(deeds, 1)]
    assert [deed.title for deed in deeds] == [
        "Let go of then on slipway",
        "Detach then",
        "Delete then",
        "Wait until again stands alone",
        "Delete again",
        "Let go of charts on slipway",
        "Detach charts",
        "Delete charts",
        "Empty the bin of quayside",
    ]
    # What waits for others is refused before them.
    for deed in deeds[1:]:
        if deed.kind in ("detach-volume", "empty-bin") or deed.title == "Delete charts":
            assert refusals(deed.kind, **deed.wish), deed
    for deed in deeds:
        if deed.commands:
            type_there(mounted, deed.host, *deed.commands)
            look(mounted)
        elif deed.kind:
            number = mounted.do(deed.kind, **deed.wish)
            assert mounted.state(number) == "done", (deed, mounted.problem(number))
        else:
            fill(mounted)
    number = mounted.do("delete-pool", **pool)
    assert mounted.state(number) == "done", mounted.problem(number)
    assert not held(mounted)
    assert not mounted.yard.machines.pool_of  # its disks are clean again


BEFORE = "Before that, in this order"


def texts(preview: Preview) -> list[Texts]:
    return [effect for effect in preview.effects if isinstance(effect, Texts)]
