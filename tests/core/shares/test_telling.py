"""What nodes and hosts tell of shares: in its shape, and in others."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.errors import NotPossible
from foldbarn.core.hosts.facts import Facts, Kept, from_kept, to_keep
from foldbarn.core.machines.reading import read_files
from foldbarn.core.shares.addresses import anew, carriers, homes_for
from foldbarn.core.shares.filling import ShareGrowth, reached
from foldbarn.core.shares.proofs import proof_of, proves
from foldbarn.core.shares.share import FileAddress, FileService, Share
from foldbarn.core.shares.takeover import takeover
from foldbarn.core.site import Contact, Room, SiteView
from foldbarn.core.units import DAY_SECONDS, GIB
from foldbarn.core.volumes.growth import faded

GOOD: dict[str, Any] = {
    "order": "files-1-2",
    "carries": [2, 1],
    "used": {"7": 5, "3": 0},
    "refuses": [7],
    "mounts": [[7, "10.30.9.5", "nfs4.1", False, ""], [3, "fd00:30::9", "smb", True, "ines"]],
}


def test_what_a_node_tells_is_read_in_order() -> None:
    assert read_files({}) is None
    found = read_files({"files": GOOD})
    assert found is not None
    order, said = found
    assert order == "files-1-2"
    assert (said["carries"], said["used"], said["refuses"]) == ([1, 2], [[3, 0], [7, 5]], [7])
    assert said["mounts"][0][:2] == [3, "fd00:30::9"]


@pytest.mark.parametrize(
    "wrong",
    [
        {"order": "x" * 10_000},
        {"carries": ["one"]},
        {"carries": [-1]},
        {"carries": [True]},
        {"carries": 1},
        {"used": {"seven": 1}},
        {"used": {"7": -1}},
        {"used": {"7": 2**70}},
        {"used": []},
        {"refuses": None},
        {"mounts": [[7, "10.30.9.5", "nfs4.1", False]]},
        {"mounts": [[7, "nowhere", "nfs4.1", False, ""]]},
        {"mounts": [[7, "10.30.9.5", "gopher", False, ""]]},
        {"mounts": [[7, "10.30.9.5", "nfs3", "no", ""]]},
        {"mounts": [[7, "10.30.9.5", "smb", False, "u" * 10_000]]},
        {"mounts": "none"},
    ],
)
def test_another_shape_is_refused(wrong: dict[str, Any]) -> None:
    with pytest.raises(NotPossible, match="in another shape"):
        read_files({"files": GOOD | wrong})
    for key in GOOD:
        with pytest.raises(NotPossible, match="in another shape"):
            read_files({"files": {k: v for k, v in GOOD.items() if k != key}})


def test_facts_of_a_version_before_say_nothing_of_shares() -> None:
    facts = Facts(addresses=("10.30.9.5",), shares=(Kept("files-1.example:/charts", "/srv"),))
    assert from_kept(to_keep(facts)) == facts
    before = {k: v for k, v in to_keep(facts).items() if k not in ("addresses", "shares")}
    assert from_kept(before) == replace(facts, addresses=(), shares=())


def test_a_password_is_known_again_and_nothing_else_is() -> None:
    proof = proof_of("spring tide", b"s" * 16)
    assert proves(proof, "spring tide")
    assert not proves(proof, "neap tide")
    assert proof_of("spring tide", b"t" * 16) != proof
    assert "spring" not in proof
    for broken in ("", "scrypt", "md5:1:2:3:a:b", proof.replace("16384", "16385")):
        assert not proves(broken, "spring tide")


def test_scrypt_is_the_one_of_rfc_7914() -> None:
    """Section 12, second vector (N = 1024, r = 8, p = 16), from memory; it says that the library is right."""
    import hashlib

    found = hashlib.scrypt(b"password", salt=b"NaCl", n=1024, r=8, p=16, dklen=64)
    assert found.hex().startswith("fdbabe1c9d3472007856e7190d01e9fe7c6ad7cbc8237830e77376634b373162")


# How fast it fills. ----------------------------------------------------------------------------------------

SHARE = Share(number=1, name="charts", volume=1, address=1, quota=100 * GIB, used=40 * GIB)


def grown(*used: int, every: float = 30.0) -> ShareGrowth:
    found = ShareGrowth()
    for one in used:
        found = found.gone_on(one, every)
    return found


def test_an_even_pace_says_when_it_is_full() -> None:
    day = grown(*(n * GIB // 10 for n in range(100, 401)), every=DAY_SECONDS / 100)
    when = reached(replace(SHARE, used=40 * GIB), day)
    assert when is not None
    assert when.seconds == pytest.approx(60 * GIB / (10 * GIB) * DAY_SECONDS, rel=0.01)
    assert when.earliest < when.seconds < when.latest
    assert when.sentence().startswith("At its pace of lately it is full in about 6 d")


def test_nothing_is_said_of_what_is_not_known() -> None:
    assert reached(SHARE, ShareGrowth()) is None
    assert reached(SHARE, grown(0, GIB, 2 * GIB)) is None  # too few looks
    assert reached(SHARE, grown(*[GIB] * 100)) is None  # it does not grow
    assert reached(SHARE, grown(*range(100, 0, -1))) is None  # it shrinks
    full = replace(SHARE, used=100 * GIB)
    assert reached(full, grown(*(n * GIB for n in range(100)))) is None


@given(
    steps=st.lists(st.tuples(st.integers(0, 10**9), st.floats(1.0, 90_000.0)), min_size=1, max_size=40),
)
def test_an_average_lies_between_its_parts(steps: list[tuple[int, float]]) -> None:
    used, found, rates = 0, ShareGrowth(known=0), []
    for added, seconds in steps:
        used += added
        found = found.gone_on(used, seconds)
        rates.append(added / seconds)
    assert min(rates) * (1 - 1e-9) <= found.a_second <= max(rates) * (1 + 1e-9)
    assert found.known == used
    kept, fresh = faded(steps[0][1])
    assert 0 < kept < 1
    assert 0 < fresh <= 1


# Homes. ----------------------------------------------------------------------------------------------------


def members(view: SiteView, *without: int) -> SiteView:
    return replace(view, nodes=tuple(replace(n, member=n.number not in without) for n in view.nodes))


def house() -> SiteView:
    """Two rooms of two racks of two nodes each, all in a cluster."""
    view = members(make_site([[[4], [4]]] * 4))
    racks = tuple(replace(rack, room=row // 2) for row, rack in enumerate(view.racks))
    return replace(view, rooms=(*view.rooms, Room(2, "B")), racks=racks)


def test_homes_lie_as_far_apart_as_can_be() -> None:
    view = house()
    found = [view.node_numbered(number) for number in homes_for(view, 8)]
    rooms = [view.racks[node.rack].room for node in found]
    assert set(rooms[:2]) == {0, 1}
    assert len({node.rack for node in found[:4]}) == 4
    assert len({node.number for node in found}) == 8
    again = homes_for(view, 9)
    assert len(set(again)) == 8  # one has two


def test_who_may_fall_away_goes_by_votes_and_by_who_is_heard() -> None:
    def heard(*keepers: int, silent: tuple[int, ...] = ()) -> SiteView:
        view = house()
        nodes = tuple(
            replace(
                node,
                keeper=node.number in keepers,
                contact=Contact.SILENT if node.number in silent else Contact.HEARD,
            )
            for node in view.nodes
        )
        return replace(view, nodes=nodes)

    everybody = tuple(node.number for node in house().nodes)
    assert takeover(heard(1, 3, 5)).is_sure
    assert takeover(heard(1, 3, 5, silent=(2, 4))).is_sure
    assert takeover(heard(1, 3, 5, silent=(3,))).needed == ("n1", "n5")
    assert takeover(heard(1, silent=(2,))).needed == ("n1",)
    assert not takeover(heard(1, 3, 5, silent=(3, 5))).decides
    alone = takeover(heard(1, silent=everybody[1:]))
    assert (alone.decides, alone.others, alone.is_sure) == (True, False, False)
    assert "goes where its node does" in alone.sentence


def test_only_what_lost_its_home_gets_another() -> None:
    view = house()
    homes = homes_for(view, 4)
    service = FileService(
        "", tuple(FileAddress(n, f"f{n}", (f"10.0.0.{n}",), homes[n - 1]) for n in (1, 2, 3, 4))
    )
    view = replace(view, files=service)
    assert anew(view) == {}
    left = members(view, homes[1])
    moved = anew(left)
    assert set(moved) == {2}
    assert moved[2] not in homes
    nobody = members(view, *(node.number for node in view.nodes))
    assert anew(nobody) == {}
    with pytest.raises(NotPossible, match="No node belongs to a cluster"):
        homes_for(nobody, 1)
    # Until then the nodes reckon with the home that is none.
    names = {node.number: node.name for node in view.nodes}
    able = [node.name for node in left.nodes if node.member]
    has = carriers([(one.number, names[one.home]) for one in service.addresses], able)
    assert has[2] in able
