"""VM hosts, and virtual machines that are switched on and off at them, against stand-in hosts which find
their disks by themselves.
"""

from __future__ import annotations

from contextlib import suppress
from typing import Any

import pytest
from conftest import ME, Site, begun
from sqlalchemy import select, text
from test_policies import plan_of, refusals, save
from test_vms import WISH, make
from walking import hear_vm_hosts, look, register

from foldbarn.changes.engine.effects import Promise, Texts
from foldbarn.changes.engine.runner import run_change
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.hosts.lanes import Passage, lanes_of
from foldbarn.core.site import Contact, SiteView, VmPart
from foldbarn.core.units import GIB, TIB
from foldbarn.core.vms.parts import is_memory, lasting_parts, moment_of, parts_of
from foldbarn.core.vms.power import Power, memory_left, places, power_of, uuid_of
from foldbarn.core.volumes.ending import teardown
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp
from foldbarn.core.watch.vms import vm_state
from foldbarn.links.vm_hosts import VmHostService
from foldbarn.services import changes
from foldbarn.services.limits import tell_targets
from foldbarn.services.schedules import go_by_schedules
from foldbarn.store.database import transaction
from foldbarn.store.tables import ChangeRow
from foldbarn.store.views import current_view
from foldbarn.yard import hosts as yard_hosts
from foldbarn.yard import vm_hosts as yard_vm_hosts

pytestmark = pytest.mark.pooled
NAME = "crew-roster"


def connect(site: Site, name: str, **wish: Any) -> int:
    url = f"{site.yard.url}/vm-hosts/{name}"
    said = {"host": name, "url": url, "user": "fold-barn", "password": "tide-table"}
    return site.do("connect-vm-host", **{**said, **wish})


def as_ready(site: Site) -> None:
    """A VM, and two VM hosts."""
    make(site)
    for name in ("bridge-1", "bridge-2"):
        register(site, name)
        number = connect(site, name)
        assert site.state(number) == "done", site.problem(number)


ready = begun(as_ready)


def the(view: SiteView | None = None) -> Any:
    return (view or current_view()).vm(NAME)


def guest(site: Site, host: str = "bridge-1") -> yard_vm_hosts.StandInGuest:
    return site.yard.machines.vm_hosts[host].guests[uuid_of(current_view(), the())]


def switch_on(site: Site, **wish: Any) -> int:
    number = site.do("power-on", vm=NAME, **wish)
    assert site.state(number) == "done", site.problem(number)
    return number


def lose_power(site: Site, name: str) -> None:
    yard_hosts.lose_power(site.yard.machines.hosts[name])
    yard_vm_hosts.lose_power(site.yard.machines, name)


def test_a_vm_host_says_what_it_has_and_what_its_account_may_not_do(barn_site: Site) -> None:
    register(barn_site, "bridge-1")
    number = connect(barn_site, "bridge-1", user="onlooker")
    assert barn_site.state(number) == "done", barn_site.problem(number)
    view = current_view()
    [runs] = view.vm_hosts
    assert (runs.cpus, runs.memory_bytes, runs.contact) == (32, 128 * GIB, Contact.HEARD)
    assert runs.missing == ("ConfigureComponents",)
    assert memory_left(view, runs) == 120 * GIB  # a sixteenth is its own
    make(barn_site)
    [words] = refusals("power-on", vm=NAME)
    assert "lacks ConfigureComponents" in words
    assert Outlook(view, 0.0, 60.0).host(view.host("bridge-1")).lamp is Lamp.WATCH
    assert barn_site.state(connect(barn_site, "bridge-1")) == "done"
    assert current_view().vm_hosts[0].missing == ()
    hear_vm_hosts()
    assert current_view().vm_hosts[0].missing == ()


def test_its_password_is_recorded_nowhere_but_sealed(ready: Site) -> None:
    everything = " union all ".join(
        f"select to_jsonb(one)::text from {table} one"
        for table in ("change", "change_step", "vm_host", "record")
    )
    with transaction() as session:
        found = " ".join(session.scalars(text(everything)))
    assert "fold-barn" in found  # the account is
    assert "tide-table" not in found


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"url": "bridge"}, "starts with http:// or https://"),
        ({"user": " "}, "It is asked by an account: give its name."),
        ({"password": ""}, "It is asked by an account: give its password."),
        ({"host": "nobody"}, "There is no host named 'nobody'."),
    ],
)
def test_what_cannot_be_connected_is_refused(barn_site: Site, wish: dict[str, Any], says: str) -> None:
    register(barn_site, "bridge-1")
    said = {"host": "bridge-1", "url": "http://127.0.0.1:9", "user": "fold-barn", "password": "x"}
    [words] = refusals("connect-vm-host", **{**said, **wish})
    assert says in words


@pytest.mark.parametrize(
    ("wish", "says"),
    [
        ({"password": "wrong"}, "does not accept this name and password"),
        ({"url": "/bmc/petrel"}, "does not accept this name and password"),
        ({"url": "/agents/petrel"}, "does not speak Redfish"),
        ({"url": "/vm-hosts/bridge-2"}, "is the service of bridge-2"),
    ],
)
def test_its_address_and_account_are_tried(ready: Site, wish: dict[str, str], says: str) -> None:
    said = {**wish, **({"url": ready.yard.url + wish["url"]} if "url" in wish else {})}
    number = connect(ready, "bridge-1", **said)
    assert ready.state(number) == "paused"
    assert says in ready.problem(number)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert ready.state(number) == "withdrawn"
    assert {runs.user for runs in current_view().vm_hosts} == {"fold-barn"}


def test_switched_on_its_host_finds_all_its_disks_and_has_a_swap(ready: Site) -> None:
    before = ready.yard.strips("quayside")
    switch_on(ready)
    view, machines = current_view(), ready.yard.machines
    vm = the(view)
    assert view.host_numbered(vm.host).name == "bridge-1"
    assert power_of(view, vm) is Power.ON
    assert guest(ready).on
    swap = parts_of(view, vm)[-1]
    assert (swap.part.what, swap.size_bytes, swap.name) == (VmPart.SWAP, 8 * GIB, f"{NAME}-swap")
    host = machines.hosts["bridge-1"]
    assert list(host.mounts) == [f"/var/lib/vms/{NAME}"]
    assert len(host.sizes) == 4
    assert vm_state(Outlook(view, 0.0, 60.0), vm).lamp is Lamp.SOUND
    look(ready)
    lanes = [
        lane
        for volume in parts_of(current_view(), the())
        for lane in lanes_of(current_view(), volume=volume.number)
    ]
    assert len(lanes) == 4
    assert {step.passage for lane in lanes for step in lane.steps} == {Passage.PASSED}
    ready.do("power-off", vm=NAME)
    assert power_of(current_view(), the()) is Power.OFF
    assert ready.yard.strips("quayside") == before
    assert not machines.vm_hosts["bridge-1"].guests
    assert (host.mounts, host.sizes, host.nodes) == ({}, {}, [])
    assert not current_view().targets
    # And again: it is as it was.
    switch_on(ready, host="bridge-2")
    assert list(machines.hosts["bridge-2"].mounts) == [f"/var/lib/vms/{NAME}"]


def test_the_host_with_the_most_memory_left_is_chosen_and_others_say_why_not(ready: Site) -> None:
    switch_on(ready)
    make_second(ready, memory="100 GiB")
    view = current_view()
    found = places(view, view.vm("second"))
    assert [(p.host.name, p.left // GIB, len(p.against)) for p in found] == [
        ("bridge-2", 120, 0),
        ("bridge-1", 112, 0),
    ]
    assert ready.state(ready.do("power-on", vm="second")) == "done"
    make_second(ready, name="third", memory="119 GiB")
    [words] = refusals("power-on", vm="third")
    assert "bridge-1 has 112 GiB of memory left; third wants 119 GiB." in words
    assert "bridge-2 has 20 GiB of memory left; third wants 119 GiB." in words
    make_second(ready, name="fourth", cpus=64)
    [words] = refusals("power-on", vm="fourth", host="bridge-1")
    assert words == "bridge-1 has 32 processors; fourth wants 64 processors."


def make_second(site: Site, **wish: Any) -> None:
    said = {**WISH, "name": "second", "disks": [{"size": "2 GiB"}]}
    number = site.do("make-vm", **{**said, **wish})
    assert site.state(number) == "done", site.problem(number)


def test_memory_of_what_is_not_ours_counts_while_it_is_on(ready: Site) -> None:
    one = ready.yard.machines.vm_hosts["bridge-1"]
    other = yard_vm_hosts.StandInGuest(
        "0" * 8 + "-0000-4000-8000-" + "0" * 12, "old-ledger", 4, 100 * GIB, []
    )
    one.guests[other.uuid] = other
    hear_vm_hosts()
    left = {place.host.name: place.left // GIB for place in places(current_view(), the())}
    assert left == {"bridge-1": 120, "bridge-2": 120}
    other.on = True
    hear_vm_hosts()
    left = {place.host.name: place.left // GIB for place in places(current_view(), the())}
    assert left == {"bridge-1": 20, "bridge-2": 120}


def test_while_it_is_on_nothing_goes_on_behind_its_back(ready: Site) -> None:
    ready.do("take-snapshot", volumes=[v.name for v in parts_of(current_view(), the())], name="calm")
    switch_on(ready)
    register(ready, "slipway")
    disk = f"{NAME}-disk-1"
    assert "is on at bridge-1" in " ".join(refusals("attach-volume", volume=disk, hosts=["slipway"]))
    assert "is on at bridge-1" in " ".join(refusals("detach-volume", volume=disk, hosts=["bridge-1"]))
    assert "is on at bridge-1" in " ".join(refusals("offline-volume", volumes=[disk], offline=True))
    assert "is on at bridge-1" in " ".join(refusals("delete-vm", vm=NAME, typed=NAME))
    wish = {"vm": NAME, "snapshot": "calm", "keep_as": "now"}
    assert "is on at bridge-1" in " ".join(refusals("revert-vm", **wish))
    assert "is on at bridge-1 already" in " ".join(refusals("power-on", vm=NAME))
    assert "the swap of a VM" in " ".join(refusals("take-snapshot", volumes=[f"{NAME}-swap"], name="x"))
    assert "It runs virtual machines" in " ".join(refusals("delete-host", host="bridge-1"))
    assert "is on at it" in " ".join(refusals("disconnect-vm-host", host="bridge-1"))
    assert "is the swap of the VM" in " ".join(
        refusals("delete-volume", volumes=[f"{NAME}-swap"], typed=f"{NAME}-swap")
    )
    # A copy is of what lasts; a pool names what has to be done first.
    assert not refusals("clone-vm", vm=NAME, snapshot="calm", name="newer")
    deeds = [deed.kind for deed in teardown(current_view(), current_view().pools[0])]
    assert deeds == ["power-off", "delete-vm", "empty-bin"]


def test_what_another_host_uses_is_not_switched_on(ready: Site) -> None:
    register(ready, "slipway")
    disk = f"{NAME}-disk-2"
    assert ready.state(ready.do("attach-volume", volume=disk, hosts=["slipway"])) == "done"
    [note] = plan_of("power-on", vm=NAME).blockers
    assert note.sentence == f"{disk} is attached to slipway: who uses it there would see it change."
    assert note.next_step == "Detach it there first."
    assert ready.state(ready.do("detach-volume", volume=disk, hosts=["slipway"])) == "done"
    ready.do("offline-volume", volumes=[disk], offline=True)
    [note] = plan_of("power-on", vm=NAME).blockers
    assert (note.sentence, note.next_step) == (f"{disk} is offline.", "Bring it online first.")
    ready.do("offline-volume", volumes=[disk], offline=False)
    switch_on(ready)


def test_without_room_for_its_swap_it_stays_off(ready: Site) -> None:
    for one in ready.yard.machines.vm_hosts.values():
        one.memory_bytes = 512 * TIB
    hear_vm_hosts()
    make_second(ready, memory="200 TiB")
    [words] = refusals("power-on", vm="second")
    assert words.startswith("second-swap: ")
    assert not [v for v in current_view().volumes if v.name == "second-swap"]
    switch_on(ready)


def test_a_host_that_refuses_says_why_and_nothing_is_left_once_it_is_withdrawn(ready: Site) -> None:
    before = ready.yard.strips("quayside")
    one = ready.yard.machines.vm_hosts["bridge-1"]
    one.memory_bytes = 4 * GIB  # taken out since it was asked
    number = ready.do("power-on", vm=NAME, host="bridge-1")
    assert ready.state(number) == "paused"
    assert "The VM host refuses: bridge-1 has not enough memory for crew-roster." in ready.problem(number)
    assert "waits" not in ready.problem(number)
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert ready.state(number) == "withdrawn"
    assert (the().host, one.guests) == (None, {})
    assert not current_view().targets
    assert ready.yard.strips("quayside") == before
    switch_on(ready, host="bridge-2")


def test_withdrawn_while_its_host_is_silent_that_is_let_in_no_more(ready: Site) -> None:
    ready.yard.machines.vm_hosts["bridge-1"].memory_bytes = 4 * GIB
    number = ready.do("power-on", vm=NAME, host="bridge-1")
    assert ready.state(number) == "paused"
    lose_power(ready, "bridge-1")
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert ready.state(number) == "withdrawn"
    assert the().host is None
    tell_targets()
    assert all(not serving["targets"] for serving in ready.yard.machines.serving.values())


def test_a_system_that_does_not_shut_down_is_said_and_can_be_cut(
    ready: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("foldbarn.changes.kinds.vms.power_off.SHUTS_DOWN_SECONDS", 0.0)
    switch_on(ready)
    guest(ready).deaf = True
    number = ready.do("power-off", vm=NAME)
    assert ready.state(number) == "paused"
    assert ready.problem(number) == "It was asked to shut down, and is still on at bridge-1."
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert ready.state(number) == "withdrawn"
    assert (guest(ready).on, power_of(current_view(), the())) == (True, Power.ON)
    [warned] = plan_of("power-off", vm=NAME, forced=True).warnings
    assert warned.code == "cut-off"
    assert ready.state(ready.do("power-off", vm=NAME, forced=True)) == "done"
    assert power_of(current_view(), the()) is Power.OFF


def test_where_its_host_is_lost_it_is_switched_on_elsewhere_once_nodes_let_that_in_no_more(
    ready: Site,
) -> None:
    switch_on(ready)
    assert refusals("power-off", vm=NAME, host_gone=True, typed=NAME) == [
        "bridge-1 is heard: it is asked to switch it off."
    ]
    lose_power(ready, "bridge-1")
    hear_vm_hosts()
    view = current_view()
    assert power_of(view, the(view)) is Power.UNKNOWN
    state = vm_state(Outlook(view, 0.0, 60.0), the(view))
    assert state.lamp is Lamp.NOT_HEARD
    assert "It was switched on at bridge-1, which is not heard." in state.reason
    [note] = plan_of("power-off", vm=NAME).blockers
    assert "is not heard" in note.sentence
    [words] = refusals("power-off", vm=NAME, host_gone=True)
    assert words.startswith("Type crew-roster to confirm")
    assert ready.state(ready.do("power-off", vm=NAME, host_gone=True, typed=NAME)) == "done"
    assert all(not serving["targets"] for serving in ready.yard.machines.serving.values())
    number = switch_on(ready)
    assert ready.state(number) == "done"
    assert current_view().host_numbered(the().host).name == "bridge-2"
    # The lost one comes back: it reaches none of it, and what it knows of it is off.
    yard_hosts.start(ready.yard.machines, ready.yard.machines.hosts["bridge-1"])
    hear_vm_hosts()
    assert not ready.yard.machines.hosts["bridge-1"].sizes
    assert power_of(current_view(), the()) is Power.ON


def test_one_that_its_host_stopped_is_told_from_one_that_is_off(ready: Site) -> None:
    switch_on(ready)
    guest(ready).on = False
    hear_vm_hosts()
    view = current_view()
    assert power_of(view, the(view)) is Power.STOPPED
    state = vm_state(Outlook(view, 0.0, 60.0), the(view))
    assert (state.lamp, state.reason) == (
        Lamp.WATCH,
        "It was switched on at bridge-1, which says that it is not on.",
    )
    assert ready.state(ready.do("power-off", vm=NAME)) == "done"
    switch_on(ready)


def test_another_service_at_the_address_of_one_that_is_known_is_not_believed(
    ready: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = yard_vm_hosts.uuid.uuid5
    monkeypatch.setattr(yard_vm_hosts.uuid, "uuid5", lambda space, name: real(space, f"other {name}"))
    hear_vm_hosts()
    assert {(runs.contact, runs.reason) for runs in current_view().vm_hosts} == {
        (Contact.GARBLED, "What answers there is another service than it was.")
    }


def test_a_vm_that_was_made_by_nvme_hosts_is_found_by_nvme(barn_site: Site) -> None:
    save(barn_site, name="pairs", copies=2, level="node")
    barn_site.do("make-vm", **WISH)
    own = barn_site.yard.machines.hosts["bridge-1"].names["nvme"]
    barn_site.do(
        "save-host",
        name="bridge-1",
        initiators=[own],
        agent_url=f"{barn_site.yard.url}/hosts/bridge-1",
    )
    assert barn_site.state(connect(barn_site, "bridge-1")) == "done"
    switch_on(barn_site)
    host = barn_site.yard.machines.hosts["bridge-1"]
    assert list(host.mounts) == [f"/var/lib/vms/{NAME}"]
    assert all(disk.startswith("uuid.") for disk in host.sizes)
    assert barn_site.state(barn_site.do("power-off", vm=NAME)) == "done"
    assert (host.mounts, host.sizes) == ({}, {})


def awake(site: Site, **wish: Any) -> int:
    switch_on(site)
    number = site.do("keep-memory", vm=NAME, name="awake", **wish)
    assert site.state(number) == "done", site.problem(number)
    return number


def offline(site: Site, *, yes: bool) -> None:
    names = [volume.name for volume in lasting_parts(current_view(), the())]
    assert site.state(site.do("offline-volume", volumes=names, offline=yes)) == "done"


def test_its_memory_is_kept_at_the_moment_of_its_volumes_and_it_goes_on_from_there(ready: Site) -> None:
    awake(ready)
    view = current_view()
    parts = lasting_parts(view, the(view))
    taken = [volume.snapshots[0].taken_at for volume in parts]
    assert {volume.snapshots[0].name for volume in parts} == {"awake"}
    assert len(set(taken)) == 1
    [image] = [volume for volume in parts_of(view, the(view)) if is_memory(volume)]
    assert (image.name, image.size_bytes, image.part.place) == (f"{NAME}-memory-1", 8 * GIB, 1)  # type: ignore[union-attr]
    assert moment_of(view, image).name == "awake"  # type: ignore[union-attr]
    assert view.target_of(image.number) is None
    [told] = [effect for effect in plan_of("power-off", vm=NAME).effects if isinstance(effect, Texts)]
    assert image.name not in [row.label for row in told.rows]  # which nobody reaches
    assert (guest(ready).on, guest(ready).paused, guest(ready).woken) == (True, False, False)
    assert not refusals("keep-memory", vm=NAME, name="again")
    # It is brought back with it, and goes on from there once.
    ready.do("power-off", vm=NAME)
    offline(ready, yes=True)
    wish = {"vm": NAME, "snapshot": "awake", "keep_as": "before", "memory": True}
    number = ready.do("revert-vm", **wish)
    assert ready.state(number) == "done", ready.problem(number)
    offline(ready, yes=False)
    assert the().resumes == 1
    promised = [e.sentence for e in plan_of("power-on", vm=NAME).effects if isinstance(e, Promise)]
    assert promised[0] == "It goes on with what its memory held at awake."
    anew = [e.sentence for e in plan_of("power-on", vm=NAME, anew=True).effects if isinstance(e, Promise)]
    assert anew[0] == "It starts anew, and what its memory held at awake is not used."
    switch_on(ready)
    assert guest(ready).woken
    assert the().resumes is None
    ready.do("power-off", vm=NAME)
    switch_on(ready)
    assert not guest(ready).woken


def test_what_its_disks_go_through_by_hand_its_memory_knows_nothing_of(ready: Site) -> None:
    awake(ready)
    ready.do("power-off", vm=NAME)
    offline(ready, yes=True)
    wish = {"vm": NAME, "snapshot": "awake", "keep_as": "before", "memory": True}
    assert ready.state(ready.do("revert-vm", **wish)) == "done"
    offline(ready, yes=False)
    register(ready, "slipway")
    disk = f"{NAME}-disk-1"
    assert ready.state(ready.do("attach-volume", volume=disk, hosts=["slipway"])) == "done"
    assert the().resumes is None
    ready.do("detach-volume", volume=disk, hosts=["slipway"])
    switch_on(ready)
    assert not guest(ready).woken


def test_memory_is_of_one_that_is_on_and_goes_with_its_snapshot(ready: Site) -> None:
    [note] = plan_of("keep-memory", vm=NAME, name="x").blockers
    assert note.sentence == f"{NAME} is off: its memory holds nothing."
    awake(ready)
    image = f"{NAME}-memory-1"
    typed = {"volumes": [image], "typed": image}
    assert "is memory 1 of the VM" in " ".join(refusals("delete-volume", **typed))
    assert "the memory of a VM held" in " ".join(refusals("take-snapshot", volumes=[image], name="x"))
    [exists] = refusals("keep-memory", vm=NAME, name="awake")
    assert "exists already" in exists
    wish = {"volume": f"{NAME}-configuration", "snapshots": ["awake"], "typed": "awake"}
    assert "memory-of" in {warned.code for warned in plan_of("delete-snapshot", **wish).warnings}
    assert ready.state(ready.do("delete-snapshot", **wish)) == "done"
    assert ready.state(ready.do("delete-volume", **typed)) == "done"
    ready.do("power-off", vm=NAME)
    again = {"vm": NAME, "snapshot": "awake", "keep_as": "before", "memory": True}
    assert "no snapshot" in " ".join(refusals("revert-vm", **again))


def test_without_room_for_its_memory_it_goes_on_as_before(ready: Site) -> None:
    for one in ready.yard.machines.vm_hosts.values():
        one.memory_bytes = 512 * TIB
    hear_vm_hosts()
    make_second(ready, memory="2 TiB")
    assert ready.state(ready.do("power-on", vm="second")) == "done"
    for nth, size in enumerate((16, 8, 4, 2, 1, 1)):  # what is left is less than its memory
        with suppress(NotPossible):
            ready.volume(f"wide-{nth}", size=f"{size} TiB")
    [words] = refusals("keep-memory", vm="second", name="awake")
    assert words.startswith("second-memory-1: ")
    [one] = [g for r in ready.yard.machines.vm_hosts.values() for g in r.guests.values()]
    assert (one.on, one.paused) == (True, False)


def test_where_the_moment_cannot_be_marked_it_goes_on_without(
    ready: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    switch_on(ready)

    def fails(*_: Any) -> str:
        assert guest(ready).paused
        raise NotPossible("A node did not mark the moment.")

    monkeypatch.setattr("foldbarn.changes.kinds.snapshots.take_snapshot.TakeSnapshots.carry_out", fails)
    number = ready.do("keep-memory", vm=NAME, name="awake")
    assert ready.state(number) == "withdrawn"  # rather than that it stands still until a person comes
    assert (guest(ready).on, guest(ready).paused) == (True, False)
    assert not [v for v in parts_of(current_view(), the()) if is_memory(v) or v.snapshots]
    assert not [v for v in current_view().volumes if v.name == f"{NAME}-memory-1"]


def test_neither_its_swap_nor_its_memory_goes_by_the_schedule_of_its_policy(ready: Site) -> None:
    save(ready, name="hourly", copies=2, level="node", hourly=2)
    names = [volume.name for volume in lasting_parts(current_view(), the())]
    assert ready.state(ready.do("keep-policy", volumes=names, policy="hourly")) == "done"
    awake(ready)
    go_by_schedules()
    with transaction() as session:
        begun_ = list(session.scalars(select(ChangeRow).where(ChangeRow.actor == BY_ITSELF)))
    assert [row.kind for row in begun_] == ["take-snapshot"]  # of all three together
    run_change(begun_[0].id)
    assert ready.state(begun_[0].id) == "done", ready.problem(begun_[0].id)
    taken = {v.name: [s.scheduled for s in v.snapshots] for v in parts_of(current_view(), the())}
    others = {f"{NAME}-swap": [], f"{NAME}-memory-1": []}
    assert taken == {name: [False, True] for name in names} | others
    go_by_schedules()
    with transaction() as session:
        assert len(list(session.scalars(select(ChangeRow).where(ChangeRow.actor == BY_ITSELF)))) == 1


def test_one_that_was_left_standing_goes_on_once_its_host_is_heard(
    ready: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its host falls silent just after it has written the memory, and the change comes to nothing."""
    switch_on(ready)
    written = VmHostService.write_memory

    def and_falls_silent(service: VmHostService, *said: Any) -> None:
        written(service, *said)
        ready.yard.machines.hosts["bridge-1"].power = False

    monkeypatch.setattr(VmHostService, "write_memory", and_falls_silent)
    number = ready.do("keep-memory", vm=NAME, name="awake")
    assert ready.state(number) == "withdrawn"
    assert guest(ready).paused
    ready.yard.machines.hosts["bridge-1"].power = True
    hear_vm_hosts()
    assert (guest(ready).on, guest(ready).paused) == (True, False)
    assert power_of(current_view(), the()) is Power.ON


def test_what_may_have_run_never_goes_on_with_what_its_memory_held_before(
    ready: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    awake(ready)
    ready.do("power-off", vm=NAME)
    offline(ready, yes=True)
    wish = {"vm": NAME, "snapshot": "awake", "keep_as": "before", "memory": True}
    assert ready.state(ready.do("revert-vm", **wish)) == "done"
    offline(ready, yes=False)
    switch = VmHostService.switch

    def is_done_and_not_told(service: VmHostService, uuid: str, kind: str) -> None:
        switch(service, uuid, kind)
        if kind == "On":
            raise Unreachable("No answer.")

    with monkeypatch.context() as patched:
        patched.setattr(VmHostService, "switch", is_done_and_not_told)
        number = ready.do("power-on", vm=NAME)
    assert ready.state(number) == "paused"
    assert guest(ready).woken
    changes.ask(ME, number, "withdraw")
    run_change(number)
    assert ready.state(number) == "withdrawn"
    assert the().resumes is None
    switch_on(ready)
    assert not guest(ready).woken
