"""What snapshots hold, share and free, against sets of blocks by brute force; and the stand-in nodes' own
account of it.
"""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from foldbarn.core.volumes.snapshots import (
    Span,
    differs,
    freed_by,
    held,
    room_extents,
    shares,
)
from foldbarn.yard.past import BLOCK, Past

BLOCKS = 12


class Blocks(RuleBasedStateMachine):
    """A volume of a few blocks, each with its content as a number that no other write ever had; and a
    snapshot as the contents that it saw.
    """

    def __init__(self) -> None:
        super().__init__()
        self.past = Past(first=1, room=10**6 * BLOCK)
        self.past.grow(BLOCKS)
        self.now = list(range(BLOCKS))
        self.writes, self.numbers = BLOCKS, 0
        self.seen: dict[int, list[int]] = {}

    @rule(blocks=st.sets(st.integers(0, BLOCKS - 1)))
    def consumers_write(self, blocks: set[int]) -> None:
        self.past.overwrite(np.isin(np.arange(BLOCKS), list(blocks)))
        for block in blocks:
            self.now[block] = self.writes
            self.writes += 1

    @rule()
    def a_snapshot_is_taken(self) -> None:
        self.numbers += 1
        self.past.mark(self.numbers)
        self.seen[self.numbers] = list(self.now)

    @precondition(lambda self: self.seen and max(self.seen) == self.numbers)
    @rule()
    def the_newest_is_taken_once_more(self) -> None:
        self.past.mark(self.numbers)
        self.seen[self.numbers] = list(self.now)

    @precondition(lambda self: self.seen)
    @rule(data=st.data())
    def one_is_deleted(self, data: st.DataObject) -> None:
        number = data.draw(st.sampled_from(sorted(self.seen)))
        self.past.unmark(number)
        del self.seen[number]

    @precondition(lambda self: self.seen)
    @rule(data=st.data())
    def it_is_brought_back_to_one(self, data: st.DataObject) -> None:
        """With the present kept first; what is written then is its own, whatever becomes of the snapshot."""
        number = data.draw(st.sampled_from(sorted(self.seen)))
        self.a_snapshot_is_taken()
        others = self.past.others_than(number)
        for block in np.flatnonzero(others).tolist():
            self.now[block] = self.writes
            self.writes += 1
        self.past.overwrite(others)

    @property
    def spans(self) -> list[Span]:
        return [Span(*span) for span in self.past.spans()]

    @invariant()
    def it_holds_exactly_what_is_not_in_the_volume_any_more(self) -> None:
        kept = {content for seen in self.seen.values() for content in seen} - set(self.now)
        assert held(self.spans) == self.past.used == len(kept) * BLOCK

    @invariant()
    def each_has_its_own_and_what_it_shares(self) -> None:
        found = shares(self.spans, self.seen.keys())
        assert found.keys() == self.seen.keys()
        for number, seen in self.seen.items():
            mine = set(seen) - set(self.now)
            others = {c for other, theirs in self.seen.items() if other != number for c in theirs}
            share = found[number]
            assert share.alone == len(mine - others) * BLOCK
            assert share.shared == len(mine & others) * BLOCK
            assert differs(self.spans, number) == len(mine) * BLOCK
            assert int(self.past.others_than(number).sum()) == len(mine)

    @invariant()
    def any_set_frees_what_none_of_the_others_has(self) -> None:
        numbers = sorted(self.seen)
        for gone in (numbers[:1], numbers[-2:], numbers[::2], numbers):
            stay = {c for n in numbers if n not in gone for c in self.seen[n]} | set(self.now)
            freed = {c for n in gone for c in self.seen[n]} - stay
            assert freed_by(self.spans, numbers, gone) == len(freed) * BLOCK


TestBlocks = Blocks.TestCase


def test_where_there_is_no_room_the_oldest_give_way() -> None:
    past = Past(first=1, room=3 * BLOCK)
    past.grow(8)
    blocks = np.arange(8)
    past.mark(1)
    past.overwrite(blocks < 2)
    past.mark(2)
    past.overwrite(blocks == 2)
    assert (past.marks, past.used) == ([1, 2], past.room)
    past.overwrite(blocks == 4)
    assert (past.marks, past.used) == ([2], 2 * BLOCK)  # what both had stays
    past.overwrite(blocks >= 0)  # nothing of that finds room
    assert (past.marks, past.used) == ([], 0)


@given(st.integers(1, 10_000), st.integers(1, 100))
def test_room_is_whole_extents_and_never_less_than_was_wished_for(extents: int, per_cent: int) -> None:
    room = room_extents(extents, per_cent)
    assert room * 100 >= extents * per_cent > (room - 1) * 100
