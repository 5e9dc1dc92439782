"""Where a VM can be switched on: against memory that is counted by hand, and the laws that follow."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.site import Contact, Guest, Host, SiteView, Vm, VmHost
from foldbarn.core.units import GIB
from foldbarn.core.vms.power import HOSTS_OWN, Power, memory_left, places, power_of, uuid_of

BARE = replace(make_site([[[4]], [[4]]]), mark="here")


def runs(host: int, memory: int, *guests: Guest, contact: Contact = Contact.HEARD) -> VmHost:
    return VmHost(host, f"https://h{host}", "barn", str(host), 16, memory, contact=contact, guests=guests)


def site(vms: list[Vm], *hosts: VmHost) -> SiteView:
    named = tuple(Host(one.host, f"bridge-{one.host}") for one in hosts)
    return replace(BARE, vms=tuple(vms), vm_hosts=hosts, hosts=named)


def guest_of(view: SiteView, vm: Vm, *, on: bool = True) -> Guest:
    return Guest(uuid_of(view, vm), vm.name, on, vm.memory_bytes)


WANTS = st.lists(
    st.tuples(st.integers(1, 40), st.sampled_from([None, 1, 2]), st.booleans(), st.booleans()), max_size=8
)


@given(
    wants=WANTS,
    others=st.lists(st.tuples(st.integers(1, 40), st.booleans()), max_size=4),
    size=st.integers(16, 256),
)
def test_memory_is_counted_once_whether_its_host_tells_of_it_yet_or_not(
    wants: list[tuple[int, int | None, bool, bool]], others: list[tuple[int, bool]], size: int
) -> None:
    vms = [Vm(n, f"vm{n}", 2, gib * GIB, host=host) for n, (gib, host, _, _) in enumerate(wants, 1)]
    strangers = [
        Guest(f"{n:08}-0000-4000-8000-000000000000", "x", on, gib * GIB) for n, (gib, on) in enumerate(others)
    ]
    bare = site(vms, runs(1, size * GIB), runs(2, size * GIB))
    told = [
        guest_of(bare, vm, on=on)
        for vm, (_, host, tells, on) in zip(vms, wants, strict=True)
        if host == 1 and tells
    ]
    view = site(vms, runs(1, size * GIB, *told, *strangers), runs(2, size * GIB))
    mine = sum(vm.memory_bytes for vm in vms if vm.host == 1)
    theirs = sum(gib * GIB for gib, on in others if on)
    own = size * GIB // HOSTS_OWN
    assert memory_left(view, view.vm_hosts[0]) == size * GIB - own - mine - theirs


@given(wants=WANTS, asked=st.integers(1, 60), sizes=st.tuples(st.integers(8, 64), st.integers(8, 64)))
def test_the_place_that_comes_first_has_the_most_left_of_those_that_can_take_it(
    wants: list[tuple[int, int | None, bool, bool]], asked: int, sizes: tuple[int, int]
) -> None:
    vms = [Vm(n, f"vm{n}", 2, gib * GIB, host=host) for n, (gib, host, _, _) in enumerate(wants, 1)]
    fresh = Vm(99, "fresh", 2, asked * GIB)
    view = site([*vms, fresh], *(runs(n, size * GIB) for n, size in enumerate(sizes, 1)))
    found = places(view, fresh)
    left = {one.host: memory_left(view, one) for one in view.vm_hosts}
    fits = [number for number, bytes_ in left.items() if bytes_ >= asked * GIB]
    assert {place.host.number for place in found if not place.against} == set(fits)
    if fits:
        assert left[found[0].host.number] == max(left[number] for number in fits)
    assert all(f"fresh wants {asked} GiB" in place.against[0] for place in found if place.against)


def test_one_that_is_not_heard_is_no_place_and_says_nothing_else() -> None:
    fresh = Vm(1, "fresh", 64, 900 * GIB)
    silent = replace(runs(1, GIB, contact=Contact.SILENT), reason="No answer within 2 s.", missing=("Login",))
    [place] = places(site([fresh], silent), fresh)
    assert place.against == ("bridge-1 is not heard. No answer within 2 s.",)


def test_power_is_what_the_host_says_of_just_this_one() -> None:
    vm, other = Vm(1, "one", 2, GIB, host=1), Vm(2, "two", 2, GIB, host=1)
    bare = site([vm, other], runs(1, 64 * GIB))
    assert power_of(bare, replace(vm, host=None)) is Power.OFF
    assert power_of(bare, vm) is Power.STOPPED
    view = site([vm, other], runs(1, 64 * GIB, guest_of(bare, vm), guest_of(bare, other, on=False)))
    assert (power_of(view, vm), power_of(view, other)) == (Power.ON, Power.STOPPED)
    silent = site([vm], runs(1, 64 * GIB, guest_of(bare, vm), contact=Contact.SILENT))
    assert power_of(silent, vm) is Power.UNKNOWN
    assert uuid_of(bare, vm) != uuid_of(replace(bare, mark="elsewhere"), vm)
