"""The bin and volumes that are offline, against real nodes: who is served, what stays, what comes back."""

from __future__ import annotations

import pytest
from conftest import ME, Site, stand_still
from sqlalchemy import func, update
from test_changes import find_again, held, lose, should_hold
from test_limits import asked_a_second
from test_policies import refusals, save
from test_thin_volumes import hear
from test_thin_volumes import live as some_time
from told import told

from foldbarn.changes.engine.effects import Promise, Sums
from foldbarn.changes.engine.runner import Run, run_change
from foldbarn.changes.kinds.volumes import delete_volume, empty_bin
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.limits import holders
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.volumes.loss import DataState, fate_of
from foldbarn.links.agents import Agent
from foldbarn.services import changes, watching
from foldbarn.services.bins import empty_bins
from foldbarn.services.giving import give_room
from foldbarn.services.limits import tell_limits
from foldbarn.store import changes as kept
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import ChangeRow, VolumeRow
from foldbarn.store.views import current_view

pytestmark = pytest.mark.pooled


def bin_it(site: Site, name: str = "charts", **how: int) -> int:
    number = site.do("delete-volume", volume=name, typed=name, **how)
    assert site.state(number) == "done", site.problem(number)
    return number


def time_is_over(name: str = "charts") -> None:
    with transaction() as session:
        session.execute(update(VolumeRow).where(VolumeRow.name == name).values(kept_until=func.now()))
        announce(session, "site")


def open_changes(kind: str) -> list[ChangeRow]:
    with transaction() as session:
        return [row for row in kept.unfinished(session) if row.kind == kind]


def withheld(site: Site) -> set[int]:
    """Plies that the nodes with power withhold."""
    machines = site.yard.machines
    return {ply for node, plies in machines.withheld.items() if machines.power[node] for ply in plies}


def test_what_is_deleted_is_served_to_nobody_stays_whole_and_comes_back_as_it_was(barn_site: Site) -> None:
    barn_site.volume(copies=2, level="node")
    before, strips = current_view().volume("charts"), held(barn_site)
    used = pool_space(current_view(), current_view().pools[0]).used
    assert changes.preview("delete-volume", {"volume": "charts"}).warnings == []  # nobody has told
    busy = asked_a_second(barn_site)
    assert busy > 0
    for kind in ("delete-volume", "offline-volume"):
        (note,) = changes.preview(kind, {"volume": "charts"}).warnings
        assert note.code == "in-use"
        said = float(note.sentence.removeprefix("It is in use: its consumers got ").split()[0])
        assert said == pytest.approx(busy, rel=0.3)  # what was long ago counts less
    bin_it(barn_site)
    assert held(barn_site) == strips
    assert withheld(barn_site) == {before.whole.number}
    assert asked_a_second(barn_site) == 0
    space = pool_space(current_view(), current_view().pools[0])
    assert (space.used, space.ledger.binned) == (used, 200 * 2**30)
    assert space.ledger.written == space.ledger.protection == 0
    number = barn_site.do("restore-volume", volume="charts")
    assert barn_site.state(number) == "done"
    after = current_view().volume("charts")
    assert after.binned is None
    assert (after.number, after.size_bytes) == (before.number, before.size_bytes)
    assert (after.whole.placement == before.whole.placement).all()
    assert not withheld(barn_site)
    assert asked_a_second(barn_site) == pytest.approx(busy, rel=0.05)
    assert held(barn_site) == strips == should_hold()
    barn_site.do("offline-volume", volume="charts")
    assert changes.preview("delete-volume", {"volume": "charts"}).warnings == []


def test_offline_nothing_is_written_and_online_it_goes_on_where_it_was(barn_site: Site) -> None:
    barn_site.volume(copies=2, level="node", thin=True)
    stand_still(barn_site.yard.machines)

    def live(seconds: float) -> int:
        some_time(barn_site, seconds)
        give_room()
        watching.sum_written()
        return current_view().volume("charts").written_bytes

    live(600)
    wrote = live(600)
    assert wrote > 0
    assert barn_site.state(barn_site.do("offline-volume", volume="charts")) == "done"
    assert "Nothing would be different." in refusals("offline-volume", volume="charts")
    for _ in range(3):
        assert live(4000) == wrote
    room = current_view().volume("charts").whole.extents_set_aside
    # In the bin and back it is offline still, as it was.
    bin_it(barn_site)
    preview = changes.preview("restore-volume", {"volume": "charts"})
    assert preview.effects[0].rows[0].after == "none, it is offline as it was"
    barn_site.do("restore-volume", volume="charts")
    assert live(4000) == wrote
    assert current_view().volume("charts").whole.extents_set_aside == room
    assert barn_site.state(barn_site.do("offline-volume", volume="charts", offline=False)) == "done"
    assert live(3000) > wrote
    assert live(4000) > wrote
    assert current_view().volume("charts").whole.extents_set_aside > room


def test_who_was_silent_is_told_when_heard_again_and_until_then_it_is_said(barn_site: Site) -> None:
    barn_site.volume(copies=2, level="node")
    ply = current_view().volume("charts").whole.number
    lose(barn_site, "petrel", given_up=False)
    preview = changes.preview("delete-volume", {"volume": "charts"})
    assert [note.code for note in preview.warnings] == ["cannot-be-told"]
    assert preview.warnings[0].sentence.startswith("petrel cannot be told now, and is told when heard again.")
    number = bin_it(barn_site)
    with transaction() as session:
        _, steps = kept.one(session, number)
    assert steps[-1].outcome == "Told to 3 nodes. petrel will be told when heard again."
    assert tell_limits()
    assert ply not in barn_site.yard.machines.withheld["petrel"]
    find_again(barn_site, "petrel")
    assert not tell_limits()
    assert ply in barn_site.yard.machines.withheld["petrel"]


def test_a_node_that_is_given_strips_of_it_withholds_them_from_the_first(barn_site: Site) -> None:
    barn_site.volume(copies=2, level="node", size="10 GiB")
    bin_it(barn_site)
    lose(barn_site, "petrel")
    assert barn_site.state(barn_site.do("rebuild", pool="quayside")) == "done"
    volume = current_view().volume("charts")
    assert fate_of(current_view(), volume).state == DataState.WHOLE
    holders = {current_view().disk_numbered(int(n)).node for n in set(volume.whole.placement.flat)}
    for row in holders:
        assert volume.whole.number in barn_site.yard.machines.withheld[current_view().nodes[row].name]
    barn_site.do("restore-volume", volume="charts")
    assert not withheld(barn_site)


def test_an_order_of_before_that_a_node_takes_late_does_not_keep_consumers_out(barn_site: Site) -> None:
    """Strips were ordered there while it was in the bin; the order comes when it is back in use."""
    barn_site.volume(copies=2, level="node", size="10 GiB")
    ply = current_view().volume("charts").whole.number
    bin_it(barn_site)
    barn_site.do("restore-volume", volume="charts")
    assert not tell_limits()
    late = {"id": "late", "kind": "reserve", "ply": ply, "bytes": 2**30, "strips": {}, "withheld": [ply]}
    Agent(barn_site.yard.agent("skua")).send(late)
    assert withheld(barn_site) == {ply}
    hear(barn_site)
    assert not tell_limits()
    assert not withheld(barn_site)
    goes_by = dict(barn_site.yard.machines.terms)
    hear(barn_site)
    assert not tell_limits()  # and once is enough
    assert barn_site.yard.machines.terms == goes_by


def test_when_its_time_is_over_the_bin_is_emptied_of_it_and_of_nothing_else(barn_site: Site) -> None:
    for name in ("charts", "tides", "logs"):
        barn_site.volume(name, size="10 GiB")
    bin_it(barn_site)
    bin_it(barn_site, "tides", days=30)
    empty_bins()
    assert not open_changes("empty-bin")
    time_is_over()
    empty_bins()
    empty_bins()  # not twice
    (change,) = open_changes("empty-bin")
    assert (change.actor, change.reason) == (BY_ITSELF, "The time that charts was kept there is over.")
    run_change(change.id)
    assert barn_site.state(change.id) == "done"
    assert {v.name for v in current_view().volumes} == {"tides", "logs"}
    assert held(barn_site) == should_hold()


def test_who_brings_it_back_at_the_last_moment_has_it(barn_site: Site) -> None:
    """Of two that want it, the one that was first: the other ends with the reason, and nothing is dropped."""
    barn_site.volume(size="10 GiB")
    bin_it(barn_site)
    time_is_over()
    back = changes.carry_out(ME, "restore-volume", {"volume": "charts"})
    empty_bins()
    assert not open_changes("empty-bin")  # somebody has it in hand
    late = changes.carry_out(ME, "empty-bin", {"pool": "quayside", "typed": "charts"})
    run_change(back)
    run_change(late)
    assert barn_site.state(back) == "done"
    assert (barn_site.state(late), barn_site.problem(late)) == (
        "withdrawn",
        "charts is not in the bin.",
    )
    assert held(barn_site) == should_hold()
    assert held(barn_site)


def test_withdrawn_before_its_end_a_deletion_leaves_the_volume_in_use(barn_site: Site) -> None:
    barn_site.volume(size="10 GiB")
    number = changes.carry_out(ME, "delete-volume", {"volume": "charts", "typed": "charts"})
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            "foldbarn.changes.kinds.volumes.serving.tell_for_a_step",
            lambda *_: (_ for _ in ()).throw(NotPossible("Held up.")),
        )
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert current_view().volume("charts").binned is not None
    tell_limits()
    assert withheld(barn_site)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert current_view().volume("charts").binned is None
    assert not tell_limits()
    assert not withheld(barn_site)


@pytest.mark.parametrize("kind", ["delete-volume", "offline-volume"])
def test_who_comes_second_and_is_withdrawn_undoes_nothing_of_the_first(barn_site: Site, kind: str) -> None:
    barn_site.volume(size="10 GiB")
    wish = {"volume": "charts", **({"typed": "charts"} if kind == "delete-volume" else {})}
    first, second = (changes.carry_out(ME, kind, wish) for _ in range(2))
    run_change(first)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            "foldbarn.changes.kinds.volumes.serving.tell_for_a_step",
            lambda *_: (_ for _ in ()).throw(NotPossible("Held up.")),
        )
        run_change(second)
    changes.ask(ME, second, "withdraw")
    run_change(second)
    assert (barn_site.state(first), barn_site.state(second)) == ("done", "withdrawn")
    volume = current_view().volume("charts")
    assert (volume.binned is not None, volume.offline) == (kind == "delete-volume", kind == "offline-volume")
    assert not tell_limits()
    assert withheld(barn_site) == {volume.whole.number}


def test_what_is_in_the_bin_is_left_alone_and_its_name_is_kept(barn_site: Site) -> None:
    save(barn_site, name="pair", copies=2, level="node")
    barn_site.volume(size="10 GiB")
    assert refusals("restore-volume", volume="charts") == ["charts is not in the bin."]
    assert refusals("empty-bin", pool="quayside") == ["The bin of quayside is empty."]
    assert refusals("empty-bin", pool="quayside", volumes=["charts"]) == ["charts is not in the bin."]
    bin_it(barn_site)
    for kind, wish in (
        ("grow-volume", {"volume": "charts", "size": "20 GiB"}),
        ("keep-policy", {"volumes": ["charts"], "policy": "pair"}),
        ("offline-volume", {"volume": "charts"}),
    ):
        assert refusals(kind, **wish) == ["charts is in the bin."]
    assert "charts is in the bin already." in refusals("delete-volume", volume="charts", typed="charts")
    with pytest.raises(NotPossible, match="A volume in the bin is called charts"):
        barn_site.volume("Charts")
    assert barn_site.state(barn_site.do("rename-volume", volume="charts", name="old-charts")) == "done"
    barn_site.volume(size="10 GiB")
    barn_site.do("restore-volume", volume="old-charts")
    assert {v.name for v in current_view().volumes} == {"charts", "old-charts"}


def test_what_comes_back_and_cannot_be_read_is_said_before(barn_site: Site) -> None:
    barn_site.volume(copies=1, level="disk", size="10 GiB")
    bin_it(barn_site)
    assert changes.preview("restore-volume", {"volume": "charts"}).warnings == []
    lose(barn_site, "petrel", given_up=False)
    (note,) = changes.preview("restore-volume", {"volume": "charts"}).warnings
    volume = current_view().volume("charts")
    gone = fate_of(current_view(), volume)
    assert gone.unavailable > 0
    assert note.sentence == f"{gone.unavailable} of 10 extents cannot be read now."
    assert barn_site.state(barn_site.do("restore-volume", volume="charts")) == "done"


def test_a_whole_bin_is_emptied_after_the_pools_name_is_typed(barn_site: Site) -> None:
    for name in ("charts", "tides"):
        barn_site.volume(name, size="10 GiB")
        bin_it(barn_site, name)
    barn_site.volume("logs", size="10 GiB")
    assert refusals("empty-bin", pool="quayside", typed="charts") == [
        "Type quayside to confirm that their data may be destroyed."
    ]
    preview = changes.preview("empty-bin", {"pool": "quayside", "typed": "quayside"})
    assert preview.summary.startswith("2 volumes, 21.5 GB, in quayside. This cannot be undone.")
    (taken,) = told(preview, Sums).rows
    assert barn_site.state(barn_site.do("empty-bin", pool="quayside", typed="quayside")) == "done"
    assert taken.after.value == pool_space(current_view(), current_view().pools[0]).used << 30
    assert taken.before.value - taken.after.value == 60 << 30
    assert [v.name for v in current_view().volumes] == ["logs"]
    assert held(barn_site) == should_hold()
    for days in (0, 366):
        with pytest.raises(NotPossible, match="days"):
            changes.preview("delete-volume", {"volume": "logs", "days": days})


def test_several_go_offline_into_the_bin_and_come_back_in_one_change_each(barn_site: Site) -> None:
    names = ["charts", "logs", "tides"]
    disks = [d.name for d in current_view().disks if d.name.startswith("whimbrel") and d.media == "hdd"]
    assert barn_site.state(barn_site.pool("deep", disks=disks, copies=1)) == "done"
    for name in names:
        where = {"pool": "deep", "copies": 1, "level": "disk"} if name == "tides" else {}
        barn_site.volume(name, size="10 GiB", **where)
    plies = {v.name: v.whole.number for v in current_view().volumes}
    strips = held(barn_site)
    lie = [{n for n, _ in holders(current_view(), v)} for v in current_view().volumes]
    assert not lie[0] & lie[2]  # others are to be told of the last
    assert barn_site.state(barn_site.do("offline-volume", volume="logs")) == "done"
    preview = changes.preview("offline-volume", {"volumes": names})
    assert (preview.title, preview.summary) == ("Take 3 volumes offline", "1 of them is offline already.")
    assert [s.about for s in preview.steps] == ["charts", "tides", ""]
    assert preview.undo == {
        "kind": "offline-volume",
        "params": {"volumes": ["charts", "tides"], "offline": False},
    }
    assert barn_site.state(barn_site.do("offline-volume", volumes=names)) == "done"
    assert withheld(barn_site) == set(plies.values())
    assert "Nothing would be different." in refusals("offline-volume", volumes=names)
    assert barn_site.state(barn_site.do(**preview.undo["params"], kind=preview.undo["kind"])) == "done"
    assert withheld(barn_site) == {plies["logs"]}

    assert refusals("delete-volume", volumes=names, typed="charts") == [
        "Type 3 volumes to confirm that their consumers are to lose them."
    ]
    preview = changes.preview("delete-volume", {"volumes": [*names, "CHARTS"], "typed": "3 volumes"})
    assert preview.type_to_confirm == "3 volumes"  # however often one is named
    assert preview.summary.startswith("32.2 GB in deep and quayside. They can be brought back for 7 days")
    assert "on disks of deep and quayside stay taken" in told(preview, Promise).sentence
    assert barn_site.state(barn_site.do("delete-volume", volumes=names, typed="3 volumes")) == "done"
    assert withheld(barn_site) == set(plies.values())
    assert all(v.binned for v in current_view().volumes)
    assert barn_site.state(barn_site.do(kind=preview.undo["kind"], **preview.undo["params"])) == "done"
    assert (withheld(barn_site), held(barn_site)) == ({plies["logs"]}, strips)  # it is offline as it was


def test_of_several_none_goes_where_one_of_them_may_not(barn_site: Site) -> None:
    for name in ("charts", "logs"):
        barn_site.volume(name, size="10 GiB")
    bin_it(barn_site, "logs")
    both = {"volumes": ["charts", "logs"]}
    assert refusals("delete-volume", **both, typed="2 volumes") == ["logs is in the bin already."]
    assert refusals("offline-volume", **both) == ["logs is in the bin."]
    assert refusals("restore-volume", **both) == ["charts is not in the bin."]
    for kind in ("delete-volume", "offline-volume", "restore-volume"):
        assert refusals(kind, volumes=[]) == ["No volume is chosen."]
        assert refusals(kind, volumes=["charts", "auk"]) == ["There is no volume named 'auk'."]


def test_withdrawn_between_two_volumes_a_deletion_takes_both_back(barn_site: Site) -> None:
    for name in ("charts", "logs"):
        barn_site.volume(name, size="10 GiB")
    wish = {"volumes": ["charts", "logs"], "typed": "2 volumes"}
    number = changes.carry_out(ME, "delete-volume", wish)
    done = delete_volume.PutInBin.carry_out

    def until_the_second(step: delete_volume.PutInBin, run: Run, session: Session) -> str:
        if step.volume == current_view().volume("logs").number:
            raise NotPossible("Held up.")
        return done(step, run, session)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(delete_volume.PutInBin, "carry_out", until_the_second)
        run_change(number)
    assert barn_site.state(number) == "paused"
    assert [v.name for v in current_view().volumes if v.binned] == ["charts"]
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert not any(v.binned for v in current_view().volumes)
    tell_limits()
    assert not withheld(barn_site)


def test_what_is_being_erased_comes_back_no_more(barn_site: Site, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its strips are dropped already, though it is not forgotten yet."""
    for name in ("charts", "logs"):
        barn_site.volume(name, size="10 GiB")
        bin_it(barn_site, name)
    emptying = {"pool": "quayside", "volumes": ["charts"], "typed": "charts"}
    number = changes.carry_out(ME, "empty-bin", emptying)

    def held_up(*_: object) -> str:
        raise NotPossible("Held up.")

    with monkeypatch.context() as patched:
        patched.setattr(empty_bin.ForgetVolume, "carry_out", held_up)
        run_change(number)
    assert barn_site.state(number) == "paused"
    gone = "charts is being erased: some of it is gone already."
    assert refusals("restore-volume", volumes=["charts", "logs"]) == [gone]
    changes.ask(ME, number, "resume")
    run_change(number)
    assert barn_site.state(number) == "done"
    assert [v.name for v in current_view().volumes] == ["logs"]


def test_of_several_that_are_brought_back_one_may_be_gone(barn_site: Site) -> None:
    """The others are back, and in use."""
    for name in ("charts", "logs"):
        barn_site.volume(name, size="10 GiB")
        bin_it(barn_site, name)
    emptying = {"pool": "quayside", "volumes": ["logs"], "typed": "logs"}
    first = changes.carry_out(ME, "empty-bin", emptying)
    back = changes.carry_out(ME, "restore-volume", {"volumes": ["charts", "logs"]})
    run_change(first)
    run_change(back)
    assert (barn_site.state(first), barn_site.state(back)) == ("done", "done"), barn_site.problem(back)
    assert [(v.name, v.binned) for v in current_view().volumes] == [("charts", None)]
    assert held(barn_site) == should_hold()
