"""Addresses of the file service: ranges, homes, and where each goes when its node falls away."""

from __future__ import annotations

from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.shares.addresses import carriers, paired, read_range


def test_ranges_are_read_in_order() -> None:
    assert read_range("10.30.0.21-10.30.0.24") == [f"10.30.0.{n}" for n in (21, 22, 23, 24)]
    assert read_range("10.30.0.9, 10.30.0.7 10.30.0.10") == ["10.30.0.7", "10.30.0.9", "10.30.0.10"]
    assert read_range("fd00:30::21 - fd00:30::22") == ["fd00:30::21", "fd00:30::22"]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "needs an address"),
        ("10.30.0.24-10.30.0.21", "runs backwards"),
        ("10.30.0.1-10.30.1.1", "are more than 64 addresses"),
        ("10.30.0.1-10.30.0.40 10.31.0.1-10.31.0.40", "are more than 64 addresses"),
        ("10.30.0.1 10.30.0.1", "is named twice"),
        ("10.30.0.1-10.30.0.5 10.30.0.3", "10.30.0.3 is named twice"),
        ("10.30.0.1 fd00::1", "both versions"),
        ("224.0.0.1", "is for groups"),
        ("127.0.0.1", "never leaves a machine"),
        ("169.254.1.1", "is known on one link only"),
        ("0.0.0.0", "stands for none"),
        ("255.255.255.255", "is for everybody"),
        ("files-1.example", "no address"),
        ("10.30.0.0/24", "no address"),
    ],
)
def test_what_no_client_could_mount_from_is_refused(text: str, says: str) -> None:
    with pytest.raises(NotPossible) as found:
        read_range(text)
    assert says in found.value.sentence


def test_both_versions_go_together() -> None:
    four, six = ["10.30.0.21", "10.30.0.22"], ["fd00::1", "fd00::2"]
    assert paired(four, six) == [("10.30.0.21", "fd00::1"), ("10.30.0.22", "fd00::2")]
    assert paired([], six) == [("fd00::1",), ("fd00::2",)]
    with pytest.raises(NotPossible, match="2 addresses of version 4, and 1 of version 6"):
        paired(four, six[:1])


NODES = ["fulmar", "gannet", "petrel", "kittiwake"]


def test_an_address_is_at_home_where_it_can_and_goes_to_who_has_fewest() -> None:
    homes = [(1, "fulmar"), (2, "gannet"), (3, "petrel"), (4, "kittiwake")]
    assert carriers(homes, NODES) == dict(homes)
    assert carriers(homes, ["gannet", "petrel", "kittiwake"]) == dict(homes) | {1: "gannet"}
    assert carriers(homes, ["petrel", "kittiwake"]) == dict(homes) | {1: "kittiwake", 2: "petrel"}
    assert carriers(homes, []) == {}


homes_of = st.lists(st.sampled_from(NODES), max_size=12).map(lambda names: list(enumerate(names, 1)))


@given(homes=homes_of, able=st.sets(st.sampled_from([*NODES, "turnstone"])))
def test_all_are_had_by_somebody_and_nobody_is_loaded_while_another_has_less(
    homes: list[tuple[int, str]], able: set[str]
) -> None:
    found = carriers(homes, sorted(able))
    assert set(found.values()) <= able
    assert found.keys() == ({number for number, _ in homes} if able else set())
    assert all(found[number] == node for number, node in homes if node in able)
    has, own = Counter(found.values()), Counter(node for _, node in homes if node in able)
    for node in able:
        for other in able:
            # Whoever took one in had no more than anybody else when it did.
            assert has[node] == own[node] or has[node] <= has[other] + 1
    # Each comes to the same by itself, in whatever order it knows of the others.
    assert carriers(list(reversed(homes)), sorted(able, reverse=True)) == found
