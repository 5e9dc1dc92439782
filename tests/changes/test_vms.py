"""Virtual machines: made of several volumes at once, deleted and brought back as one thing, never in part."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from conftest import ME, USUAL_SPEED, Site, at_hour
from test_policies import plan_of, refusals, save

from foldbarn.changes.engine.effects import OnDisks
from foldbarn.changes.engine.kind import KINDS
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.errors import NotFound, NotPossible
from foldbarn.core.site import UNWRITTEN, VmPart, to_come
from foldbarn.core.units import GIB
from foldbarn.core.vms.parts import CONFIGURATION_BYTES, is_binned, missing_from, parts_of
from foldbarn.core.volumes.ending import teardown
from foldbarn.core.volumes.snapshots import held
from foldbarn.core.watch.states import Lamp
from foldbarn.core.watch.vms import keeping_state, vm_state
from foldbarn.services import changes
from foldbarn.services.copies import let_copies_stand_alone
from foldbarn.services.heat import HeatTaker
from foldbarn.services.site import outlook
from foldbarn.settings import settings
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view
from foldbarn.yard import fluid
from foldbarn.yard.past import BLOCK

pytestmark = pytest.mark.pooled
DISKS = [{"name": "system", "size": "40 GiB"}, {"name": "records", "size": "60 GiB"}]
WISH: dict[str, Any] = {
    "name": "crew-roster",
    "cpus": 4,
    "memory": "8 GiB",
    "policy": "pairs",
    "disks": DISKS,
}


def make(site: Site, **wish: Any) -> int:
    save(site, name="pairs", copies=2, level="node")
    number = site.do("make-vm", **{**WISH, **wish})
    assert site.state(number) == "done", site.problem(number)
    return number


def parts() -> list[str]:
    view = current_view()
    return [volume.name for volume in parts_of(view, view.vm("crew-roster"))]


def test_it_is_a_volume_for_its_configuration_and_one_for_each_disk(barn_site: Site) -> None:
    make(barn_site)
    view = current_view()
    vm = view.vm("CREW-roster")
    assert (vm.cpus, vm.memory_bytes, vm.disks) == (4, 8 * GIB, ("system", "records"))
    assert parts() == ["crew-roster-configuration", "crew-roster-disk-1", "crew-roster-disk-2"]
    sizes = [volume.size_bytes for volume in parts_of(view, vm)]
    assert sizes == [CONFIGURATION_BYTES, 40 * GIB, 60 * GIB]
    assert all(v.policy is not None and not v.forming for v in parts_of(view, vm))
    assert vm_state(outlook(), vm).lamp is Lamp.SOUND
    assert "All its 3 volumes" in vm_state(outlook(), vm).reason
    keeps = keeping_state(outlook(), vm)
    assert keeps is not None
    assert keeps.lamp is Lamp.SOUND


def test_a_disk_may_have_a_policy_of_its_own(barn_site: Site) -> None:
    save(barn_site, name="thrice", copies=3, level="node")
    make(barn_site, disks=[DISKS[0], {"size": "60 GiB", "policy": "thrice"}])
    held = [v.whole.scheme.strips for v in parts_of(current_view(), current_view().vm("crew-roster"))]
    assert held == [2, 2, 3]


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"name": ""}, "The VM needs a name."),
        ({"name": "crew roster"}, "'crew roster' cannot be a name."),
        ({"name": "x" * 60}, "49 are the most"),
        ({"cpus": 0}, "1 to 4,096 processors"),
        ({"memory": "8 Gb"}, "counts bits"),
        ({"memory": "100 kB"}, "of memory"),
        ({"disks": []}, "A VM needs a disk."),
        ({"disks": [{"size": "1 GiB"}] * 65}, "64 are the most"),
        ({"disks": [DISKS[0], {"size": "much"}]}, "Disk 2: 'much' is not a size."),
        ({"policy": "unheard-of"}, "crew-roster-configuration: "),
        ({"policy": "", "pool": ""}, "draws from a pool, or keeps a policy"),
        ({"disks": [DISKS[0], {"size": "900 TiB"}]}, "crew-roster-disk-2: "),
    ],
)
def test_what_cannot_be_is_refused_with_what_it_is_about(
    barn_site: Site, wish: dict[str, Any], says: str
) -> None:
    save(barn_site, name="pairs", copies=2, level="node")
    assert says in " ".join(refusals("make-vm", **{**WISH, **wish}))


def test_names_are_taken_once_also_by_what_is_in_the_bin(barn_site: Site) -> None:
    make(barn_site)
    assert "exists already" in " ".join(refusals("make-vm", **{**WISH, "name": "Crew-Roster"}))
    barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")
    assert "comes back under that name" in " ".join(refusals("make-vm", **WISH))


def test_none_of_its_volumes_is_deleted_or_brought_back_behind_its_back(barn_site: Site) -> None:
    make(barn_site)
    [refusal] = refusals("delete-volume", volume="crew-roster-disk-1", typed="crew-roster-disk-1")
    assert refusal == "crew-roster-disk-1 is disk 1 of the VM crew-roster."
    both = ["charts", "crew-roster-configuration"]
    barn_site.volume("charts")
    assert "of the VM crew-roster" in " ".join(refusals("delete-volume", volumes=both, typed="2 volumes"))
    assert barn_site.state(barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")) == "done"
    assert "of the VM crew-roster" in " ".join(refusals("restore-volume", volume="crew-roster-disk-1"))


def test_it_goes_into_the_bin_as_one_and_comes_back_as_one(barn_site: Site) -> None:
    make(barn_site)
    assert "Type crew-roster" in " ".join(refusals("delete-vm", vm="crew-roster"))
    plan = plan_of("delete-vm", vm="crew-roster", typed="crew-roster")
    assert plan.undo is not None
    assert plan.undo.kind == "restore-vm"
    assert barn_site.state(barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")) == "done"
    view = current_view()
    assert is_binned(parts_of(view, view.vm("crew-roster")))
    assert vm_state(outlook(), view.vm("crew-roster")).lamp is Lamp.AWAY
    assert "in the bin already" in " ".join(refusals("delete-vm", vm="crew-roster", typed="crew-roster"))
    assert barn_site.state(barn_site.do("restore-vm", vm="crew-roster")) == "done"
    assert not any(v.binned for v in parts_of(current_view(), current_view().vm("crew-roster")))
    assert "not in the bin" in " ".join(refusals("restore-vm", vm="crew-roster"))


def test_with_its_last_volume_it_is_gone_and_until_then_says_what_is(barn_site: Site) -> None:
    make(barn_site)
    barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")
    pool, gone = "quayside", "crew-roster-disk-1"
    barn_site.do("empty-bin", pool=pool, volumes=[gone], typed=gone)
    view = current_view()
    assert missing_from(view.vm("crew-roster"), parts_of(view, view.vm("crew-roster"))) == ["disk 1"]
    [warned] = plan_of("restore-vm", vm="crew-roster").warnings
    assert warned.code == "incomplete"
    assert "disk 1" in warned.sentence
    assert barn_site.state(barn_site.do("restore-vm", vm="crew-roster")) == "done"
    state = vm_state(outlook(), current_view().vm("crew-roster"))
    assert (state.lamp, state.reason) == (Lamp.FAILED, "Its disk 1 is gone for good.")
    barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")
    barn_site.do("empty-bin", pool=pool, typed=pool)
    with pytest.raises(NotFound):
        current_view().vm("crew-roster")


def test_withdrawn_in_the_middle_nothing_is_left_of_it(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("FOLDBARN_ATTEMPTS", "1")
    settings.cache_clear()
    save(barn_site, name="pairs", copies=2, level="node")
    before = barn_site.yard.strips("quayside")
    machines = barn_site.yard.machines
    machines.answers["fulmar"] = "garbled"
    number = barn_site.do("make-vm", **WISH)
    assert barn_site.state(number) == "paused"
    view = current_view()
    assert [v.forming for v in parts_of(view, view.vm("crew-roster"))] == [True] * 3
    assert "still being made" in " ".join(refusals("delete-vm", vm="crew-roster", typed="crew-roster"))
    machines.answers["fulmar"] = "well"
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert barn_site.state(number) == "withdrawn"
    assert not current_view().vms
    assert not current_view().volumes
    assert barn_site.yard.strips("quayside") == before


def test_a_pool_wants_it_deleted_once(barn_site: Site) -> None:
    make(barn_site)
    view = current_view()
    deeds = [deed for deed in teardown(view, view.pool("quayside")) if deed.kind != "empty-bin"]
    assert [(deed.kind, dict(deed.wish)) for deed in deeds] == [
        ("delete-vm", {"vm": "crew-roster", "typed": "crew-roster"})
    ]
    for deed in teardown(view, view.pool("quayside")):
        assert barn_site.state(barn_site.do(deed.kind, **deed.wish)) == "done", deed.title
    assert barn_site.state(barn_site.do("delete-pool", pool="quayside", typed="quayside")) == "done"
    assert not current_view().vms


def test_snapshots_of_all_its_volumes_are_of_one_moment(barn_site: Site) -> None:
    make(barn_site)
    number = barn_site.do("take-snapshot", volumes=parts(), name="before-the-upgrade")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    taken = [v.snapshots[0].taken_at for v in parts_of(current_view(), current_view().vm("crew-roster"))]
    assert taken[0] > 0
    assert len(set(taken)) == 1


def reverted(site: Site, **wish: Any) -> dict[str, Any]:
    """The wish to bring it back to a snapshot that was taken of all, before consumers wrote for a while."""
    make(site, **wish)
    site.do("take-snapshot", volumes=parts(), name="before-the-season")
    machines = site.yard.machines
    at_hour(machines, 13, times=20.0)
    for _ in range(10):
        fluid.advance(machines, 1.0)
    machines.speed, machines.consumers = USUAL_SPEED, 0.0
    HeatTaker().take()
    view = current_view()
    assert any(held(volume.spans) for volume in parts_of(view, view.vm("crew-roster")))
    return {"vm": "crew-roster", "snapshot": "before-the-season", "keep_as": "as-it-was"}


def test_all_its_volumes_go_back_to_one_moment_once_nobody_uses_them(barn_site: Site) -> None:
    wish = reverted(barn_site)
    [refusal] = refusals("revert-vm", **wish)
    assert refusal == "crew-roster is in use: who uses it would see it change under them."
    barn_site.do("offline-volume", volumes=parts()[1:], offline=True)
    [note] = plan_of("revert-vm", **wish).blockers
    assert note.next_step == "Take crew-roster-configuration offline first."
    barn_site.do("offline-volume", volumes=parts(), offline=True)
    pasts = barn_site.yard.machines.pasts
    # What the present of each was is kept, once.
    kept_then = {ply: past.used + int(past.others_than(1).sum()) * BLOCK for ply, past in pasts.items()}
    number = barn_site.do("revert-vm", **wish)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    for volume in parts_of(current_view(), current_view().vm("crew-roster")):
        assert [s.name for s in volume.snapshots] == ["before-the-season", "as-it-was"]
    assert {ply: past.used for ply, past in pasts.items()} == kept_then
    assert any(kept_then.values())
    kept = [v.snapshots[1].taken_at for v in parts_of(current_view(), current_view().vm("crew-roster"))]
    assert len(set(kept)) == 1


def test_it_goes_back_only_to_what_all_its_volumes_have(barn_site: Site) -> None:
    wish = reverted(barn_site)
    barn_site.do("take-snapshot", volumes=parts()[1:], name="of-its-disks")
    barn_site.do("offline-volume", volumes=parts(), offline=True)
    assert "of-its-disks" in " ".join(refusals("revert-vm", **{**wish, "snapshot": "of-its-disks"}))
    assert refusals("revert-vm", **{**wish, "keep_as": "before-the-season"})
    [warned] = plan_of(
        "restore-snapshot",
        volume="crew-roster-disk-1",
        snapshot="before-the-season",
        keep_as="x",
    ).warnings
    assert warned.sentence.startswith("It is disk 1 of the VM crew-roster, and the others")


def test_another_one_is_made_from_a_snapshot_of_all_and_comes_to_stand_alone(barn_site: Site) -> None:
    wish = reverted(barn_site)
    asked = {"vm": "crew-roster", "snapshot": wish["snapshot"], "name": "watch-keeper"}
    number = barn_site.do("clone-vm", **asked)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    made, old = view.vm("watch-keeper"), view.vm("crew-roster")
    assert (made.cpus, made.memory_bytes, made.disks) == (old.cpus, old.memory_bytes, old.disks)
    pairs = list(zip(parts_of(view, made), parts_of(view, old), strict=True))
    for copy, original in pairs:
        assert copy.origin is not None
        assert (copy.origin.volume, copy.origin.snapshot) == (original.number, 1)
        assert (copy.size_bytes, copy.policy) == (original.size_bytes, original.policy)
    # What it still reads from is not let go of, though the VM that it is of may be deleted.
    assert barn_site.state(barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")) == "done"
    assert refusals("empty-bin", pool="quayside", typed="quayside")
    barn_site.yard.machines.speed = 5000.0
    let_copies_stand_alone()
    with transaction() as session:
        started = [row.id for row in changes.unfinished(session)]
    assert len(started) == len(pairs)
    for one in started:
        run_change(one)
    view = current_view()
    assert all(copy.origin is None for copy in parts_of(view, view.vm("watch-keeper")))
    assert vm_state(outlook(), view.vm("watch-keeper")).lamp is Lamp.SOUND


def test_copies_of_several_shapes_are_planned_though_others_are_being_written(barn_site: Site) -> None:
    save(barn_site, name="thrice", copies=3, level="node")
    wish = reverted(barn_site, disks=[DISKS[0], {**DISKS[1], "policy": "thrice"}])
    asked = {"vm": "crew-roster", "snapshot": wish["snapshot"]}
    barn_site.do("clone-vm", name="watch-keeper", **asked)
    view = current_view()
    ply = view.plies_anew[0]
    extent = int(np.flatnonzero(ply.placement[:, 0] < UNWRITTEN)[0])
    under_way = {(ply.number, extent, 0): view.disks[0].number}
    kind = KINDS["clone-vm"]
    plan = kind.plan(
        replace(view, under_way=under_way), kind.params.model_validate({**asked, "name": "night-watch"})
    )
    assert not plan.blockers
    assert len(plan.steps) == 4


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"name": "crew-roster"}, "exists already"),
        ({"name": ""}, "The VM needs a name."),
        ({"snapshot": "unheard-of"}, "no snapshot of crew-roster-configuration named 'unheard-of'"),
        ({"vm": "nobody"}, "nobody"),
    ],
)
def test_a_copy_that_cannot_be_is_refused(barn_site: Site, wish: dict[str, str], says: str) -> None:
    reverted(barn_site)
    asked = {"vm": "crew-roster", "snapshot": "before-the-season", "name": "watch-keeper"}
    assert says in " ".join(refusals("clone-vm", **{**asked, **wish}))


def test_what_a_change_names_is_known_by_number(barn_site: Site) -> None:
    make(barn_site)
    number = barn_site.do("delete-vm", vm="crew-roster", typed="crew-roster")
    view = current_view()
    with transaction() as session:
        row, _, _ = changes.one(session, number)
    assert row.meant == {"vm": {"crew-roster": view.vm("crew-roster").number}}
    parts_there = {v.part.what for v in view.volumes if v.part is not None}
    assert parts_there == {VmPart.CONFIGURATION, VmPart.DISK}


def test_all_its_volumes_move_at_one_moment_and_keep_their_policies(barn_site: Site) -> None:
    make(barn_site)
    number = barn_site.do("form-pool", name="deepwater", disks=barn_site.disks("nvme"), copies=2)
    assert barn_site.state(number) == "done", barn_site.problem(number)
    numbers = [v.number for v in parts_of(current_view(), current_view().vm("crew-roster"))]
    [said] = [
        effect.arriving
        for effect in plan_of("move-vm", vm="crew-roster", pool="deepwater").effects
        if isinstance(effect, OnDisks)
    ]
    number = barn_site.do("move-vm", vm="crew-roster", pool="deepwater")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    there = parts_of(view, view.vm("crew-roster"))
    assert [v.number for v in there] == numbers
    assert {view.pools[v.pool].name for v in there} == {"deepwater"}
    assert all(not v.parked and v.origin is not None for v in there)
    assert {view.policy_of(v).name for v in there} == {"pairs"}  # type: ignore[union-attr]
    were = [view.volume_numbered(v.origin.volume) for v in there if v.origin]
    assert all(v.binned is not None and v.part is None for v in were)
    # What was said comes to the disks is what they are to hold.
    placed = [ply.placement.reshape(-1) for v in there for ply in v.every_ply]
    disks = Counter(np.concatenate([np.maximum(one, to_come(one)) for one in placed]).tolist())
    strip = view.pool("deepwater").strip_bytes
    assert {view.disk_numbered(n).name: count * strip for n, count in disks.items() if n > 0} == said
    moments = [v.snapshots[-1].taken_at for v in were]
    assert len(set(moments)) == 1
    assert refusals("move-vm", vm="crew-roster", pool="deepwater") == [
        "crew-roster lies in deepwater already."
    ]


def test_it_stays_where_a_policy_of_its_volumes_would_be_broken(barn_site: Site) -> None:
    barn_site.do("set-pool", pool="quayside", labels=["quiet"])
    save(barn_site, name="quiet", copies=2, level="node", labels=["quiet"])
    make(barn_site, disks=[DISKS[0], {"size": "60 GiB", "policy": "quiet"}])
    barn_site.do("form-pool", name="deepwater", disks=barn_site.disks("nvme"), copies=2)
    [words] = refusals("move-vm", vm="crew-roster", pool="deepwater")
    assert words.startswith("Its disk 2: ")
    assert "quiet" in words


def test_moved_in_vain_it_is_where_it_was_and_its_consumers_go_on(
    barn_site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    make(barn_site)
    barn_site.do("form-pool", name="deepwater", disks=barn_site.disks("nvme"), copies=2)
    before = barn_site.yard.strips("deepwater")

    def fails(*_: Any) -> str:
        raise NotPossible("A disk does not hold what it was given.")

    monkeypatch.setattr("foldbarn.changes.kinds.volumes.move_volume.ReadThere.carry_out", fails)
    number = barn_site.do("move-vm", vm="crew-roster", pool="deepwater")
    assert barn_site.state(number) == "withdrawn"  # rather than that consumers wait for a person
    view = current_view()
    there = parts_of(view, view.vm("crew-roster"))
    assert {view.pools[v.pool].name for v in there} == {"quayside"}
    assert not any(v.parked or v.snapshots for v in there)
    assert barn_site.yard.strips("deepwater") == before


def test_others_are_made_from_a_template_which_stays_off(barn_site: Site) -> None:
    make(barn_site)
    [step, *_] = [
        p.step for p in plan_of("set-template", vm="crew-roster").steps if p.step.name == "note-snapshots"
    ]
    assert step.called == "as-template"
    number = barn_site.do("set-template", vm="crew-roster")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert current_view().vm("crew-roster").template
    [note] = plan_of("power-on", vm="crew-roster").blockers
    assert note.sentence == "crew-roster is a template."
    number = barn_site.do("clone-vm", vm="crew-roster", name="watch-keeper", cpus=8, memory="2 GiB")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    made = view.vm("watch-keeper")
    assert (made.cpus, made.memory_bytes, made.template) == (8, 2 * GIB, False)
    sources = {v.origin.volume for v in parts_of(view, made) if v.origin}
    assert sources == {v.number for v in parts_of(view, view.vm("crew-roster"))}
    [words] = refusals("clone-vm", vm="crew-roster", name="x", cpus=0, memory="1 kB")
    assert words.startswith("A VM has between 1 MB and ")
    # It may be a VM again; made one once more, no other snapshot is taken.
    barn_site.do("set-template", vm="crew-roster", template=False)
    assert not current_view().vm("crew-roster").template
    assert [p.step.name for p in plan_of("set-template", vm="crew-roster").steps] == ["mark-template"]
    assert refusals("clone-vm", vm="watch-keeper", name="x") == [
        "There is no snapshot of all volumes of watch-keeper."
    ]


def test_it_is_renamed_and_its_volumes_keep_their_names(barn_site: Site) -> None:
    make(barn_site)
    before = parts()
    number = barn_site.do("rename-vm", vm="crew-roster", name="Crew-Roster")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    assert current_view().vm("crew-roster").name == "Crew-Roster"
    assert barn_site.state(barn_site.do("rename-vm", vm="crew-roster", name="rota")) == "done"
    view = current_view()
    assert [v.name for v in parts_of(view, view.vm("rota"))] == before
    assert refusals("rename-vm", vm="rota", name="rota") == ["Nothing would be different."]
    assert refusals("rename-vm", vm="rota", name="a b") == ["'a b' cannot be a name."]
    barn_site.do("make-vm", **{**WISH, "name": "second"})
    assert "exists already" in " ".join(refusals("rename-vm", vm="rota", name="SECOND"))
