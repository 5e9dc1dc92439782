"""What becomes of a claim's volume: every way in which things can come about, with Fold Barn killed before
and after each deed, is walked to its end.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import pytest

from foldbarn.core.claims.classes import Reclaim
from foldbarn.core.claims.reclaiming import Deed, Life, ObjectState, Seen, VolumeState, next_turn

MOST_TURNS = 12


@dataclass(frozen=True)
class World:
    """All that there is: what is written down here, the claim, the volume, the orchestrator's object; and
    what has ever been: whether it was told of the volume, whether somebody took the object or the volume
    away.
    """

    reclaim: Reclaim
    life: Life = Life.WAITING
    claim: bool = True
    admitted: bool = False
    volume: VolumeState = VolumeState.NONE
    thing: ObjectState = ObjectState.NONE
    bound: bool = False
    told: bool = False
    taken: bool = False  # the object, by hand
    theirs: bool = False  # a person did something to the volume

    @property
    def seen(self) -> Seen:
        return Seen(self.claim, self.admitted, self.volume, self.thing, self.bound and self.claim)


def events(world: World) -> Iterator[World]:
    """What others may do at any moment."""
    if not world.admitted:
        yield replace(world, admitted=True)
    if world.claim:
        # An object that was only kept for it by its binding goes with it.
        thing = ObjectState.NONE if world.thing is ObjectState.LEAVING else world.thing
        yield replace(world, claim=False, thing=thing)
    if world.thing is ObjectState.THERE and not world.bound and world.claim:
        yield replace(world, bound=True)
    if world.thing is ObjectState.THERE:
        held = world.bound and world.claim
        yield replace(world, thing=ObjectState.LEAVING if held else ObjectState.NONE, taken=True)
    if world.volume is VolumeState.FORMING:
        yield replace(world, volume=VolumeState.THERE)
        yield replace(world, volume=VolumeState.NONE)  # its change was withdrawn
    if world.volume is VolumeState.THERE:
        yield replace(world, volume=VolumeState.BINNED, theirs=True)
    if world.life is Life.ASIDE and world.volume is VolumeState.THERE:
        # Another claim has it from then on: of this one there is none.
        yield replace(world, life=Life.HANDED_ON, volume=VolumeState.NONE, theirs=True)
    if world.volume is VolumeState.BINNED:
        yield replace(world, volume=VolumeState.THERE, theirs=True)
        yield replace(world, volume=VolumeState.NONE, theirs=True)


def done(world: World, deed: Deed) -> World:
    """The world after a deed."""
    match deed:
        case Deed.MAKE:
            return replace(world, volume=VolumeState.FORMING)
        case Deed.GIVE_UP:
            return replace(world, volume=VolumeState.NONE)
        case Deed.TELL:
            return replace(world, thing=ObjectState.THERE, told=True, taken=False)
        case Deed.BIN:
            return replace(world, volume=VolumeState.BINNED)
        case Deed.FORGET:
            return replace(world, thing=ObjectState.NONE)
    return world


def turns(world: World) -> Iterator[World]:
    """What Fold Barn makes of it; killed after it has written down its next step, or after the deed."""
    turn = next_turn(world.life, world.reclaim, world.seen)
    yield replace(done(world, turn.deed), life=turn.life)
    yield replace(world, life=turn.life)
    yield done(world, turn.deed)


def reachable(reclaim: Reclaim) -> set[World]:
    found, ahead = set(), [World(reclaim)]
    while ahead:
        world = ahead.pop()
        if world not in found:
            found.add(world)
            ahead += [*events(world), *turns(world)]
    return found


def at_rest(world: World) -> World:
    """Where it comes to when nobody does anything any more; what forms is made in the end."""
    for _ in range(MOST_TURNS):
        turn = next_turn(world.life, world.reclaim, world.seen)
        after = replace(done(world, turn.deed), life=turn.life)
        if after.volume is VolumeState.FORMING:
            after = replace(after, volume=VolumeState.THERE)
        if after.thing is ObjectState.THERE and after.claim and not after.bound:
            after = replace(after, bound=True)
        if after == world:
            return world
        world = after
    raise AssertionError(f"it comes to no rest: {world}")


@pytest.fixture(scope="module", params=Reclaim)
def worlds(request: pytest.FixtureRequest) -> set[World]:
    found = reachable(request.param)
    assert {world.life for world in found} >= set(Life) - {Life.BINNED}
    return found


def test_no_deed_is_done_that_must_not_be(worlds: set[World]) -> None:
    for world in worlds:
        deed = next_turn(world.life, world.reclaim, world.seen).deed
        if deed is Deed.MAKE:
            assert world.volume is VolumeState.NONE, world  # never two for a claim
            assert world.claim, world
        if deed is Deed.BIN:
            assert not world.claim, world
            assert world.reclaim is Reclaim.DELETE or not world.told, world  # never what was to be kept
            assert not (world.taken and world.bound), world  # without its object it is left alone
        if deed is Deed.TELL:
            assert (world.claim, world.volume, world.thing) == (True, VolumeState.THERE, ObjectState.NONE), (
                world
            )
        if deed is Deed.FORGET:
            assert world.volume is not VolumeState.THERE or world.theirs, world
        if deed is Deed.GIVE_UP:
            assert world.volume is VolumeState.FORMING, world
            assert not world.claim, world


def test_from_everywhere_it_comes_to_rest_and_nothing_is_left_that_nobody_lists(worlds: set[World]) -> None:
    for world in worlds:
        end = at_rest(world)
        if end.volume is VolumeState.THERE and not world.theirs:
            assert end.life in (Life.TOLD, Life.BOUND, Life.ASIDE), (world, end)
        if end.claim and end.admitted and not (world.taken or world.theirs):
            assert (end.life, end.bound, end.volume) == (Life.BOUND, True, VolumeState.THERE), (world, end)
        if not end.claim and not (world.taken or world.theirs):
            if end.volume is VolumeState.THERE:
                # Killed as it was to tell of it, nobody knows whether it has: then too it is kept.
                assert end.life is Life.ASIDE, (world, end)
                assert end.reclaim is Reclaim.RETAIN or not end.told, (world, end)
            else:
                assert end.thing is ObjectState.NONE, (world, end)
                assert end.life is Life.OVER, (world, end)


def test_what_is_kept_aside_stays_until_a_person_lets_it_go(worlds: set[World]) -> None:
    for world in worlds:
        if world.life is Life.ASIDE:
            turn = next_turn(world.life, world.reclaim, world.seen)
            gone, there = world.volume is VolumeState.NONE, world.thing is ObjectState.THERE
            assert turn.deed is (Deed.FORGET if gone and there else Deed.NOTHING), world
            assert (turn.life is Life.OVER) == (gone and world.thing is ObjectState.NONE), world
