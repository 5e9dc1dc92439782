"""Moving a volume into another pool while it is in use, against the stand-in nodes and hosts."""

from __future__ import annotations

from typing import Any

import pytest
from conftest import ME, Site, begun, stand_still
from test_changes import held, lose, should_hold
from test_from_snapshots import fill, refusals, state_of
from test_pace_taken import PLATTERS
from test_snapshots_taken import work
from walking import attach, lane, look, register, type_there, walk

from foldbarn.changes.engine.runner import run_change
from foldbarn.changes.kinds.volumes import move_volume
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.hosts.lanes import Passage
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.core.watch.states import Lamp
from foldbarn.services import changes
from foldbarn.services.hosts import move_gateways
from foldbarn.services.limits import tell_limits, tell_marks, tell_targets
from foldbarn.store.views import current_view
from foldbarn.yard import fluid

pytestmark = pytest.mark.pooled


def as_two(site: Site) -> None:
    """A volume in quayside, and a second pool, deepwater, that holds nothing."""
    site.volume(size="20 GiB")
    number = site.do("form-pool", name="deepwater", disks=site.disks("nvme"), copies=2)
    assert site.state(number) == "done", site.problem(number)


two = begun(as_two)


def move(site: Site, volume: str = "charts", pool: str = "deepwater") -> int:
    return site.do("move-volume", volume=volume, pool=pool)


def test_it_is_there_at_once_and_stands_alone_in_the_end(two: Site) -> None:
    two.yard.machines.consumers = 0.0
    two.do("take-snapshot", volumes=["charts"], name="noon")
    before = current_view().volume("charts")
    number = move(two)
    assert two.state(number) == "done", two.problem(number)
    view = current_view()
    charts, was = view.volume("charts"), view.volume("charts-in-quayside")
    assert (charts.number, view.pools[charts.pool].name) == (before.number, "deepwater")
    assert charts.origin is not None
    assert (charts.origin.volume, int(charts.through.sum())) == (was.number, 20)
    assert not charts.parked
    assert was.binned is not None
    assert view.pools[was.pool].name == "quayside"
    assert [s.name for s in was.snapshots] == ["noon", "moved-to-deepwater"]
    assert was.whole.number == before.whole.number
    assert charts.snapshots == ()
    assert fate_of(view, charts).state == DataState.WHOLE
    assert (state_of("charts").lamp, tell_limits(), tell_marks()) == (Lamp.MENDING, False, False)
    withheld = set().union(*two.yard.machines.withheld.values())
    assert withheld == {ply.number for ply in was.plies}
    assert refusals("empty-bin", pool="quayside", volumes=[was.name], typed=was.name) == [
        "charts reads from what is to go."
    ]
    two.yard.machines.speed = 5000.0
    (filling,) = fill(two)
    assert two.state(filling) == "done", two.problem(filling)
    charts = current_view().volume("charts")
    assert charts.origin is None
    assert (charts.whole.placement > 0).all()
    assert held(two) == should_hold()
    # What it was gives its snapshots back, and then its room.
    number = two.do("copy-snapshot", volume=was.name, snapshot="noon", name="again")
    assert two.state(number) == "done", two.problem(number)
    fill(two)
    number = two.do("empty-bin", pool="quayside", volumes=[was.name], typed=was.name)
    assert two.state(number) == "done", two.problem(number)
    assert fate_of(current_view(), current_view().volume("charts")).state == DataState.WHOLE
    number = move(two, pool="quayside")  # and back
    assert two.state(number) == "done", two.problem(number)


def test_what_is_written_until_it_is_there_is_there(two: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing is written to what it was from the moment on that it is read at."""
    placed = move_volume.PlaceThere.carry_out

    def while_consumers_go_on(step: move_volume.PlaceThere, run: Any, session: Any) -> str:
        work(two, 20, of=5.0)
        return placed(step, run, session)

    monkeypatch.setattr(move_volume.PlaceThere, "carry_out", while_consumers_go_on)
    machines = two.yard.machines
    stand_still(machines)
    fluid.advance(machines, 60.0)
    two.do("take-snapshot", volumes=["charts"], name="noon", room=100)
    work(two, 10, of=5.0)
    number = move(two)
    assert two.state(number) == "done", two.problem(number)
    view = current_view()
    was = view.volume("charts-in-quayside")
    assert was.past is not None
    kept = machines.pasts[was.past.number]
    assert kept.marks == [1, 2]
    used = kept.used
    assert used > 0
    assert not kept.others_than(2).any()
    work(two, 20, of=5.0)
    assert kept.used == used  # consumers write elsewhere now
    assert not kept.others_than(2).any()


def test_a_node_that_cannot_be_told_keeps_it_where_it_is(two: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    lose(two, "petrel", given_up=False)
    (words,) = refusals("move-volume", volume="charts", pool="deepwater")
    assert words == "petrel holds some of charts, and cannot be told that consumers wait."
    two.yard.machines.power["petrel"] = True
    look(two)
    told = move_volume.TellParked.carry_out

    seen: list[str] = []

    def and_then_one_falls_silent(step: move_volume.TellParked, run: object) -> str:
        outcome = told(step, run)  # type: ignore[arg-type]
        seen.append(state_of("charts").reason)
        lose(two, "petrel", given_up=False)
        return outcome

    with monkeypatch.context() as patched:
        patched.setattr(move_volume.TellParked, "carry_out", and_then_one_falls_silent)
        number = move(two)
    assert seen[0].startswith("Its consumers wait, while it goes into another pool. Whole: three copies")
    # Rather than that they wait for a person it is withdrawn, and says why.
    words = "petrel holds some of charts, and cannot be told that consumers wait."
    assert (two.state(number), two.problem(number)) == ("withdrawn", words)
    as_if_it_had_never_moved(two)


def as_if_it_had_never_moved(site: Site) -> None:
    """Once every node can be told."""
    site.yard.machines.power["petrel"] = True
    look(site)
    view = current_view()
    assert [(v.name, v.parked, v.snapshots) for v in view.volumes] == [("charts", False, ())]
    assert view.pools[view.volume("charts").pool].name == "quayside"
    assert not tell_limits()
    assert not any(site.yard.machines.withheld.values())
    for pool in ("quayside", "deepwater"):
        site.do("rebuild", pool=pool)
    assert held(site) == should_hold()


@pytest.mark.parametrize("step", ["TellParked", "NoteMoment", "PlaceThere", "ReadThere", "ChangePlaces"])
def test_consumers_wait_for_no_person(two: Site, monkeypatch: pytest.MonkeyPatch, step: str) -> None:
    """Whatever breaks before it is there."""

    def breaks(*_: Any) -> str:
        raise NotPossible("A node refuses.")

    with monkeypatch.context() as patched:
        patched.setattr(getattr(move_volume, step), "carry_out", breaks)
        number = move(two)
    assert (two.state(number), two.problem(number)) == ("withdrawn", "A node refuses.")
    as_if_it_had_never_moved(two)
    number = move(two)
    assert two.state(number) == "done", two.problem(number)


def test_a_pause_in_which_consumers_would_wait_is_none(two: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    told = move_volume.TellParked.carry_out

    def and_a_person_asks_for_a_pause(step: move_volume.TellParked, run: Any) -> str:
        outcome = told(step, run)
        changes.ask(ME, run.change, "pause")
        return outcome

    with monkeypatch.context() as patched:
        patched.setattr(move_volume.TellParked, "carry_out", and_a_person_asks_for_a_pause)
        number = move(two)
    words = "It was to pause, and consumers would have waited all the time."
    assert (two.state(number), two.problem(number)) == ("withdrawn", words)
    as_if_it_had_never_moved(two)


def test_a_name_that_is_taken_meanwhile_keeps_nobody_waiting(two: Site) -> None:
    two.yard.machines.consumers = 0.0
    number = changes.carry_out(ME, "move-volume", {"volume": "charts", "pool": "deepwater"})
    two.volume("charts-in-quayside", size="1 GiB")
    run_change(number)
    assert two.state(number) == "done", two.problem(number)
    assert sorted(v.name for v in current_view().volumes) == [
        "charts",
        "charts-in-quayside",
        "charts-in-quayside-2",
    ]


def test_hosts_that_have_mounted_it_keep_it_mounted(two: Site) -> None:
    two.yard.machines.consumers = 0.0
    register(two, "slipway")
    attach(two, "charts", "slipway", file_system="xfs")
    walk(two, "slipway")
    before = lane("slipway")
    number = move(two)
    assert two.state(number) == "done", two.problem(number)
    look(two)
    walk(two, "slipway")  # it may have to log in at other nodes
    after = lane("slipway")
    assert (after.mounted, after.wwid) == (before.mounted, before.wwid)
    assert {step.passage for step in after.steps} == {Passage.PASSED}
    assert before.seen is not None
    assert after.seen is not None
    assert after.seen.uuid == before.seen.uuid
    fill(two)
    two.do("take-snapshot", volumes=["charts"], name="evening")
    two.do("show-snapshot", volume="charts", snapshot="evening", name="late")
    attach(two, "late", "slipway", read_only=True, file_system="xfs")
    walk(two, "slipway", "late")
    late = lane("slipway", "late").seen
    assert late is not None
    assert late.uuid == before.seen.uuid
    assert not tell_targets()


def test_hosts_are_not_sent_away_before_they_have_logged_in_where_it_is(barn_site: Site) -> None:
    """The other pool's nodes are none of those that serve it now."""
    barn_site.yard.machines.consumers = 0.0
    barn_site.volume(size="10 GiB", copies=2, level="node")
    barn_site.do(
        "form-pool", name="deepwater", disks=barn_site.disks("hdd", nodes=PLATTERS), copies=2, level="node"
    )
    register(barn_site, "slipway", "chart-plotter")
    attach(barn_site, "charts", "slipway", "chart-plotter", file_system="gfs2")
    attached = current_view().target_of(current_view().volume("charts").number)
    assert attached is not None
    walk(barn_site, "slipway")
    walk(barn_site, "chart-plotter")
    preview = changes.preview("move-volume", {"volume": "charts", "pool": "deepwater"})
    assert "hosts-log-in" in {note.code for note in preview.warnings}
    number = move(barn_site)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    move_gateways()
    look(barn_site)
    assert set(attached.gateways) < set(serving())
    found = lane("slipway")
    assert found.live == 2 * len(attached.gateways)
    assert found.mounted == "/srv/charts"
    log_in(barn_site, "slipway")
    move_gateways()
    assert set(attached.gateways) < set(serving())  # the other has not logged in yet
    log_in(barn_site, "chart-plotter")
    move_gateways()
    assert not set(attached.gateways) & set(serving())
    look(barn_site)
    walk(barn_site, "slipway")
    found = lane("slipway")
    assert (found.mounted, found.live) == ("/srv/charts", found.width)
    assert {step.passage for step in found.steps} == {Passage.PASSED}


def log_in(site: Site, host: str) -> None:
    """By every path that is missing, as it is said there."""
    missing = [path for path in lane(host).paths if not path.live]
    assert missing
    for path in missing:
        type_there(site, host, *path.commands)
    look(site)
    assert not [path for path in lane(host).paths if path.commands]  # one port of chart-plotter is down


def serving() -> tuple[int, ...]:
    view = current_view()
    target = view.target_of(view.volume("charts").number)
    assert target is not None
    return target.gateways


def test_readers_of_its_snapshots_go_on_reading_from_what_it_was(two: Site) -> None:
    two.yard.machines.consumers = 0.0
    two.do("take-snapshot", volumes=["charts"], name="noon")
    two.do("show-snapshot", volume="charts", snapshot="noon", name="then")
    number = move(two)
    assert two.state(number) == "done", two.problem(number)
    view = current_view()
    shown = view.volume("then")
    assert shown.origin is not None
    assert view.volume_numbered(shown.origin.volume).name == "charts-in-quayside"
    assert fate_of(view, shown).state == DataState.WHOLE


@pytest.mark.parametrize(
    ("wish", "words"),
    [
        ({"volume": "charts", "pool": "quayside"}, "charts lies in quayside already."),
        ({"volume": "charts", "pool": "nowhere"}, "There is no pool named 'nowhere'."),
        ({"volume": "tides", "pool": "deepwater"}, "There is no volume named 'tides'."),
    ],
)
def test_what_cannot_be_is_refused(two: Site, wish: dict[str, str], words: str) -> None:
    with pytest.raises(BarnError) as refused:
        changes.carry_out(ME, "move-volume", wish)
    assert refused.value.sentence == words


def test_it_has_to_fit_by_its_policy_and_what_it_was_is_accounted_for(two: Site) -> None:
    two.volume("vast", size="23 TB")
    with pytest.raises(NotPossible, match="does not fit: deepwater can take"):
        changes.carry_out(ME, "move-volume", {"volume": "vast", "pool": "deepwater"})
    number = move(two)
    assert two.state(number) == "done", two.problem(number)
    for pool in current_view().pools:
        ledger = pool_space(current_view(), pool).ledger
        assert sum(amount for _, amount in ledger.rows()) == ledger.raw
