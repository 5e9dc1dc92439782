"""What disks hold against what they should: the one sort against sets, and names that may not run side by
side.
"""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.moving.comparing import Places, differences, held_by
from foldbarn.core.site import Contact, Node
from foldbarn.core.touching import Thing, Touch, meet
from foldbarn.core.watch.silence import silence_of

PLACES = st.sets(
    st.tuples(*(st.integers(min_value=0, max_value=most) for most in (5, 3, 2**50, 4))), max_size=40
)


def places(found: set[tuple[int, int, int, int]]) -> Places:
    table = np.array(sorted(found), dtype=np.int64).reshape(-1, 4)
    return Places(*(table[:, i] for i in range(4)))


def as_set(found: Places) -> set[tuple[int, int, int, int]]:
    return set(zip(*(column.tolist() for column in found), strict=True))


@given(held=PLACES, should=PLACES, asked=st.sets(st.integers(min_value=0, max_value=5)))
def test_differences_are_those_of_sets(
    held: set[tuple[int, int, int, int]], should: set[tuple[int, int, int, int]], asked: set[int]
) -> None:
    """Reference: Python's sets."""
    held = {place for place in held if place[0] in asked}
    found = differences(places(held), places(should), np.array(sorted(asked), dtype=np.int64))
    assert as_set(found.beyond) == held - should
    assert as_set(found.missing) == {place for place in should if place[0] in asked} - held


def test_what_disks_hold_is_put_beside_their_numbers() -> None:
    strips = np.array([[7, 0, 1], [7, 3, 0]], dtype=np.int64)
    found = held_by({4: strips, 9: strips[:1], 2: strips[:0]})
    assert as_set(found) == {(4, 7, 0, 1), (4, 7, 3, 0), (9, 7, 0, 1)}
    assert len(held_by({}).disk) == 0


def test_more_places_than_a_number_can_tell_apart_are_refused() -> None:
    wide = {(0, 0, 0, 0), (2**20, 2**20, 2**50, 2**10)}
    assert as_set(differences(places(wide), places(set()), np.array([0, 2**20])).beyond) == wide  # made dense
    many = places({(i, i, i * 2**30, i) for i in range(70_000)})
    with pytest.raises(OverflowError):
        differences(many, places(set()), np.arange(70_000))


TOUCHES = st.lists(
    st.builds(
        Touch, st.sampled_from([Thing.POOL, Thing.DISK]), st.integers(min_value=1, max_value=3), st.booleans()
    ),
    max_size=4,
)


@given(one=TOUCHES, other=TOUCHES)
def test_two_meet_where_one_of_them_wants_the_same_thing_alone(one: list[Touch], other: list[Touch]) -> None:
    expected = any(
        (a.what, a.number) == (b.what, b.number) and (a.alone or b.alone) for a in one for b in other
    )
    assert meet(one, other) == meet(other, one) == expected


@pytest.mark.parametrize(
    ("heard", "silent", "given_up", "doubted"),
    [(4, 5, 0, True), (5, 4, 0, False), (0, 2, 0, False), (0, 3, 0, True), (2, 3, 4, True), (3, 3, 3, False)],
)
def test_most_nodes_silent_at_once_are_doubted(heard: int, silent: int, given_up: int, doubted: bool) -> None:
    nodes = [Node(i, f"n{i}", 0, Contact.HEARD) for i in range(heard)]
    nodes += [Node(50 + i, f"s{i}", 0, Contact.SILENT) for i in range(silent)]
    nodes += [Node(90 + i, f"g{i}", 0, Contact.SILENT, given_up=True) for i in range(given_up)]
    assert silence_of(nodes).doubted == doubted
