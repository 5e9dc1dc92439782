"""Votes, ports and addresses, name patterns, arranging, stages: the computation under the forming of a
cluster.
"""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import make_site

from foldbarn.core.cluster.forming import Wish, need_of, needs, prechecks, reach_matrix
from foldbarn.core.cluster.quorum import (
    Voter,
    domain_losses,
    doubts,
    majority,
    survivable,
    tolerates,
    vote_sentence,
)
from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.arranging import level_effects, warnings
from foldbarn.core.machines.network import Finding, Port, hand_out, port_findings, say_speed
from foldbarn.core.names import check_name, expand, natural_key
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Node
from foldbarn.core.units import GIB, MB
from foldbarn.core.watch.stages import stages

GBIT = 125 * MB


def voters(*places: str, witness: str | None = None) -> list[Voter]:
    """Keepers by "room/rack"; a witness by its place, "" for apart."""
    found = [Voter(f"k{i}", *place.split("/")) for i, place in enumerate(places, 1)]
    return (
        [*found, Voter("w", *(witness.split("/") if witness else ("", "")), witness=True)]
        if witness is not None
        else found
    )


def test_vote_arithmetic() -> None:
    assert [(n, majority(n), tolerates(n)) for n in range(1, 8)] == [
        (1, 1, 0),
        (2, 2, 0),
        (3, 2, 1),
        (4, 3, 1),
        (5, 3, 2),
        (6, 4, 2),
        (7, 4, 3),
    ]
    assert vote_sentence(voters("a/1", "a/2", "b/3")) == "3 votes, 2 decide, any 1 may be lost"
    assert vote_sentence(voters("a/1", "a/2")) == "2 votes, 2 decide, none may be lost"


def test_what_is_unwise_about_votes_is_said() -> None:
    assert doubts(voters("a/1", "b/2", witness="")) == []
    assert doubts(voters("a/1", "a/1", "b/2")) == [
        "k1 and k2 share rack 1: losing it takes 2 votes at once",
        "losing room a would leave no majority",
    ]
    assert doubts(voters("a/1", "b/2", witness="a/1")) == [
        "losing room a would leave no majority",
        "the witness w stands in the same rack as k1",
    ]
    assert "the witness w stands in the same room as k1" in doubts(voters("a/1", "b/2", witness="a/9"))
    assert doubts(voters("a/1", "b/2", "c/3", witness=""))[-1] == "4 votes tolerate no more losses than 3"


def test_losses_by_room_rack_keeper_and_witness() -> None:
    found = {e.what: (e.votes_lost, e.decides) for e in domain_losses(voters("a/1", "a/2", "b/3"))}
    assert found == {
        "room a": (2, False),
        "room b": (1, True),
        "rack 1": (1, True),
        "rack 2": (1, True),
        "rack 3": (1, True),
        "k1": (1, True),
        "k2": (1, True),
        "k3": (1, True),
    }


def port(node: str, name: str, address: str = "", **facts: object) -> Port:
    plain = {
        "purpose": "storage",
        "up": True,
        "bytes_per_second": 25 * GBIT,
        "mtu": 9000,
        "addresses": (address,) if address else (),
    }
    return Port(node, name, **(plain | facts))  # type: ignore[arg-type]


def two_each(*nodes: str) -> list[Port]:
    return [port(n, f"s{k}", f"10.2{k}.0.{i + 11}/24") for i, n in enumerate(nodes) for k in (0, 1)]


def said(findings: list[Finding]) -> list[tuple[str, str]]:
    return [(f.weight, f.sentence) for f in findings]


def test_a_network_without_fault_has_no_findings() -> None:
    assert port_findings(two_each("a", "b", "c"), ["a", "b", "c"]) == []


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (
            lambda p: p.__setitem__(0, port("a", "s0", "10.20.0.11/24", up=False)),
            ("doubt", "Storage port s0 of a is down."),
        ),
        (
            lambda p: p.__delitem__(0),
            ("doubt", "a has one storage port that is up; two are advised, for redundancy and throughput."),
        ),
        (
            lambda p: p.__delitem__(slice(0, 2)),
            ("fail", "a has no storage port of at least 1 Gb/s that is up."),
        ),
        (
            lambda p: p.__setitem__(0, port("a", "s0", "10.20.0.11/24", bytes_per_second=GBIT // 10)),
            ("doubt", "Storage port s0 of a runs at 100 Mb/s, below 1 Gb/s."),
        ),
        (
            lambda p: p.__setitem__(0, port("a", "s0", "10.20.0.11/24", bytes_per_second=10 * GBIT)),
            (
                "doubt",
                "Storage port s0 of a has a speed of 10 Gb/s, the others in 10.20.0.0/24 have 25 Gb/s.",
            ),
        ),
        (
            lambda p: p.__setitem__(0, port("a", "s0", "10.20.0.11/24", mtu=1500)),
            ("fail", "Storage port s0 of a has an MTU of 1500, the others in 10.20.0.0/24 have 9000."),
        ),
        (
            lambda p: p.__setitem__(0, port("a", "s0", "192.168.7.11/24")),
            (
                "fail",
                "Storage port s0 of a is in 192.168.7.0/24, where the others are in 10.20.0.0/24 and "
                "10.21.0.0/24.",
            ),
        ),
        (lambda p: p.__setitem__(0, port("a", "s0")), ("fail", "Storage port s0 of a has no address.")),
        (
            lambda p: p.__setitem__(0, port("a", "s0", "10.20.0.12/24")),
            ("fail", "10.20.0.12 is the address of s0 of a and s0 of b."),
        ),
        (
            lambda p: p.__setitem__(0, port("a", "s0", "10.20.0.11/24", neighbour="b")),
            (
                "fail",
                "A direct cable joins a and b; it can carry storage only between exactly two nodes, and 3 "
                "are chosen.",
            ),
        ),
    ],
)
def test_each_fault_of_a_network_is_found_with_a_cure(change: object, expected: tuple[str, str]) -> None:
    ports = two_each("a", "b", "c")
    change(ports)  # type: ignore[operator]
    found = port_findings(ports, ["a", "b", "c"])
    assert expected in said(found)
    assert all(f.cure for f in found)


def test_a_direct_cable_is_fine_between_exactly_two_nodes() -> None:
    ports = [
        port(a, f"s{k}", f"10.2{k}.0.{i}/24", neighbour=b)
        for i, (a, b) in enumerate((("a", "b"), ("b", "a")), 1)
        for k in (0, 1)
    ]
    assert port_findings(ports, ["a", "b"]) == []


def test_addresses_in_sequence() -> None:
    assert hand_out("10.0.0.253/24", 2) == ["10.0.0.253/24", "10.0.0.254/24"]
    assert hand_out("10.0.0.0/30", 2) == ["10.0.0.1/30", "10.0.0.2/30"]  # never the network's own address
    assert hand_out("10.0.0.0/31", 2) == ["10.0.0.0/31", "10.0.0.1/31"]  # RFC 3021: point to point
    assert hand_out("10.0.0.10/24", 2, ["10.0.0.10/24", "10.0.0.11"]) == ["10.0.0.12/24", "10.0.0.13/24"]
    assert hand_out("fd00::/64", 1) == ["fd00::1/64"]
    for start, count, words in (
        ("10.0.0.254/24", 2, "room for 1 more"),
        ("10.0.0.1", 1, "prefix length"),
        ("10.0.0.300/24", 1, "not an address"),
        ("", 1, "not an address"),
    ):
        with pytest.raises(NotPossible, match=words):
            hand_out(start, count)


@given(st.integers(2, 30), st.integers(0, 2**32 - 1), st.integers(1, 20))
def test_handed_out_addresses_are_distinct_inside_and_in_order(prefix: int, start: int, count: int) -> None:
    text = ".".join(str(start >> s & 255) for s in (24, 16, 8, 0))
    try:
        found = hand_out(f"{text}/{prefix}", count)
    except NotPossible:
        return
    numbers = [int.from_bytes(bytes(int(p) for p in a.split("/")[0].split("."))) for a in found]
    assert numbers == sorted(set(numbers))
    assert {n >> (32 - prefix) for n in numbers} == {start >> (32 - prefix)}
    assert all(n % 2 ** (32 - prefix) not in (0, 2 ** (32 - prefix) - 1) for n in numbers)


def test_name_patterns() -> None:
    assert expand("heron-{01..12}")[0::11] == ["heron-01", "heron-12"]
    assert expand("n{8..11}") == ["n8", "n9", "n10", "n11"]
    assert expand("r{1..2}-n{1..2}") == ["r1-n1", "r1-n2", "r2-n1", "r2-n2"]
    assert expand("skua") == ["skua"]
    for pattern, words in (
        ("x{5..1}", "runs backwards"),
        ("x{1..5000}", "more than 4,096"),
        ("x{a..b}", "no span"),
        ("x{1..2", "no span"),
    ):
        with pytest.raises(NotPossible, match=words):
            expand(pattern)


@given(st.lists(st.integers(0, 10**6), max_size=20))
def test_natural_order_is_the_order_of_the_numbers(numbers: list[int]) -> None:
    assert sorted((f"node-{n}" for n in numbers), key=natural_key) == [f"node-{n}" for n in sorted(numbers)]


@given(st.integers(1, 99), st.integers(0, 30))
def test_names_of_a_pattern_sort_as_they_were_made(first: int, more: int) -> None:
    names = expand(f"n-{{{first}..{first + more}}}")
    assert sorted(names, key=natural_key) == names
    assert [check_name(n, "node", []) for n in names] == names


def test_four_nodes_of_six_disks_reach_24_from_each() -> None:
    """Common practice: after joining, each node sees the disks of all."""
    view = make_site([[[10] * 6], [[10] * 6], [[10] * 6], [[10] * 6]], 2)
    names = [n.name for n in view.nodes]
    found = reach_matrix(view, names)
    assert {a: sum(r.reached for r in found if r.source == a) for a in names} == dict.fromkeys(names, 24)


def test_what_storage_needs_of_a_node_and_what_is_left() -> None:
    node = Node(1, "a", 0, make_site([[[1]]], 1).nodes[0].contact, cores=32, memory_bytes=128 * GIB)
    need = need_of(node, 10, keeper=True, dedicated=False)
    assert (need.cores, need.memory_bytes, need.cores_left, need.memory_left) == (
        2 + 3,
        (4 + 5 + 1) * GIB,
        27,
        118 * GIB,
    )
    assert need_of(node, 10, keeper=False, dedicated=True).memory_left == 0


def test_a_small_cluster_all_of_it_dedicated_is_warned_of() -> None:
    view = make_site([[[10]], [[10]], [[10]]], 2)
    names = tuple(n.name for n in view.nodes)
    wish = Wish("c", names, names, "10.0.0.5/24", dedicated=names)
    assert all(n.memory_left == 0 for n in needs(view, wish))
    found = [c.sentence for c in prechecks(view, wish) if c.name == "room to run" and c.result == "doubt"]
    assert "All 3 nodes are dedicated to storage: nothing is left for other work." in found


def test_the_effect_of_an_arrangement_on_every_level() -> None:
    view = make_site([[[100], [100]], [[100], [100]]], 2)  # two racks of two nodes
    rack_of = {n.name: view.racks[n.rack].name for n in view.nodes}
    room_of = {r.name: view.rooms[r.room].name for r in view.racks}
    before = {e.level: e for e in level_effects(view, rack_of, room_of)}
    assert (
        before[Level.RACK].domains,
        before[Level.RACK].stranded_two,
        before[Level.RACK].stranded_three,
    ) == (2, 0, None)
    first, second = view.racks[0].name, view.racks[1].name
    moved = rack_of | {view.nodes[2].name: first}  # three in the first rack, one in the second
    after = {e.level: e for e in level_effects(view, moved, room_of)}
    each = before[Level.NODE].smallest
    assert (after[Level.RACK].largest_name, after[Level.RACK].largest, after[Level.RACK].smallest) == (
        first,
        3 * each,
        each,
    )
    assert after[Level.RACK].stranded_two == 2 * each
    assert second == after[Level.RACK].smallest_name
    words = warnings(list(after.values()))
    assert any(w.startswith("With 2 copies kept apart by rack") for w in words)
    assert any("only one room" in w for w in words)


def test_the_stages_of_the_work_come_in_order() -> None:
    empty = replace(make_site([], 1), pools=())
    found = [(s.name, s.state) for s in stages(empty)]
    assert found == [
        ("Gather", "next"),
        ("Arrange", "later"),
        ("Form", "later"),
        ("Pool", "later"),
        ("Provision", "later"),
    ]
    some = make_site([[[10]], [[10]]], 2)
    assert next(s.name for s in stages(some) if s.state == "next") == "Form"


def test_speeds_as_network_people_say_them() -> None:
    assert [say_speed(s) for s in (25 * GBIT, GBIT, GBIT // 10, GBIT * 5 // 2)] == [
        "25 Gb/s",
        "1 Gb/s",
        "100 Mb/s",
        "2.5 Gb/s",
    ]


def test_survivable_losses_are_named() -> None:
    assert survivable(voters("a/1", "b/2", "c/3")) == [
        frozenset(),
        frozenset({"k1"}),
        frozenset({"k2"}),
        frozenset({"k3"}),
    ]
