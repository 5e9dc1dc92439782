"""What is proposed for a cluster: votes and an address that its own checks would pass."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations

from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site

from foldbarn.core.cluster.forming import KEEPERS, Wish, prechecks, voters
from foldbarn.core.cluster.proposing import propose
from foldbarn.core.cluster.quorum import domain_losses, doubts
from foldbarn.core.machines.network import Port
from foldbarn.core.site import Contact, Room, SiteView

GBIT = 125_000_000


def house(*places: str, first: int = 11) -> SiteView:
    """Nodes n1, n2, ... by "room/rack", each with a client and a storage port; addresses count up."""
    racks = sorted(set(places))
    rooms = sorted({p.split("/")[0] for p in places})
    view = make_site([[[4]] for _ in racks])
    placed = tuple(
        replace(rack, name=name, room=rooms.index(name.split("/")[0]))
        for rack, name in zip(view.racks, racks, strict=True)
    )
    nodes = tuple(
        replace(
            view.nodes[0],
            number=i + 1,
            name=f"n{i + 1}",
            rack=racks.index(place),
            ports=(
                Port(f"n{i + 1}", "eth1", "client", True, GBIT, addresses=(f"10.30.0.{first + i}/24",)),
                Port(f"n{i + 1}", "eth2", "storage", True, GBIT, addresses=(f"10.20.0.{first + i}/24",)),
            ),
        )
        for i, place in enumerate(places)
    )
    found = tuple(Room(i + 1, name) for i, name in enumerate(rooms))
    return changed(view, rooms=found, racks=placed, nodes=nodes, disks=(), pools=())


def all_of(view: SiteView) -> list[str]:
    return [n.name for n in view.nodes]


def test_three_rooms_have_a_keeper_each() -> None:
    view = house("a/1", "a/2", "b/3", "c/5")
    found = propose(view, all_of(view))
    assert found.keepers == ("n1", "n3", "n4")
    assert found.witness == ""
    more = propose(house("a/1", "a/2", "b/3", "b/4", "c/5"), [f"n{i}" for i in range(1, 6)])
    assert len(more.keepers) == 5  # any two of them may be lost
    assert found.votes_because.startswith("3 votes, 2 decide, any 1 may be lost.")
    assert found.votes_because.endswith("No room, rack or node that is lost alone takes the majority.")


def test_two_rooms_cannot_do_without_a_witness_and_that_is_said() -> None:
    view = house("a/1", "a/2", "b/3", "b/4")
    alone = propose(view, all_of(view))
    assert len(alone.keepers) == 3
    assert "Losing room a takes the majority." in alone.votes_because
    assert "a witness that stands apart would outlast that" in alone.votes_because
    together = propose(view, all_of(view), witness="lamp-room")
    assert (together.keepers, together.witness) == (("n1", "n3"), "lamp-room")
    assert "takes the majority." not in together.votes_because.replace("alone takes", "")


def test_only_members_that_are_heard_keep_votes() -> None:
    view = house("a/1", "b/2", "c/3", "d/4")
    silent = changed(view, nodes=(replace(view.nodes[0], contact=Contact.SILENT), *view.nodes[1:]))
    assert propose(silent, all_of(view)).keepers == ("n2", "n3", "n4")
    few = propose(silent, ["n1", "n2", "n3"])
    assert few.keepers == ()
    assert few.votes_because == "Three nodes that are heard are needed, or two and a witness."


def test_the_address_is_the_lowest_that_nothing_has_but_the_gateways() -> None:
    view = house("a/1", "b/2", "c/3", first=2)  # .2, .3 and .4 are taken; .1 is commonly the gateway's
    found = propose(view, all_of(view))
    assert found.service_address == "10.30.0.5/24"
    assert "10.30.0.0/24" in found.address_because
    assert "client" in found.address_because
    dark = [replace(n, ports=(replace(n.ports[0], up=False), n.ports[1])) for n in view.nodes]
    assert propose(changed(view, nodes=tuple(dark)), all_of(view)).service_address == "10.20.0.5/24"
    none = changed(view, nodes=tuple(replace(n, ports=()) for n in view.nodes))
    assert propose(none, all_of(view)).service_address == ""


@given(
    st.lists(st.sampled_from(["a/1", "a/2", "b/3", "b/4", "c/5", "c/6"]), min_size=3, max_size=7),
    st.sampled_from(["", "lamp-room"]),
)
def test_what_is_proposed_passes_the_checks_and_no_other_choice_has_less_against_it(
    places: list[str], witness: str
) -> None:
    view = house(*places)
    names = all_of(view)
    found = propose(view, names, witness)
    wish = Wish("quay", tuple(names), found.keepers, found.service_address, found.witness)
    failing = [
        c for c in prechecks(view, wish) if c.result == "fail" and c.name in ("votes", "service address")
    ]
    assert failing == []

    def against(keepers: tuple[str, ...], by: str) -> int:
        votes = voters(view, replace(wish, keepers=keepers, witness=by))
        return len(doubts(votes))

    others = [(k, "") for count in KEEPERS for k in combinations(names, count)]
    others += [(k, witness) for k in combinations(names, 2)] if witness else []
    assert against(found.keepers, found.witness) == min(against(*other) for other in others)
    fatal = any(not loss.decides for loss in domain_losses(voters(view, wish)))
    assert fatal == ("takes the majority." in found.votes_because.replace("alone takes", ""))


def test_a_member_that_is_unknown_is_no_member() -> None:
    view = house("a/1", "b/2", "c/3")
    assert propose(view, ["n1", "n2", "n3", "nobody"]).keepers == ("n1", "n2", "n3")
    assert propose(view, ["nobody"]).keepers == ()
