"""Strips of parity with real bytes. Reference: zfec, an erasure code of k blocks of data and m more, of which
any k make the rest.
"""

from __future__ import annotations

import random
from dataclasses import replace
from itertools import combinations

import numpy as np
import pytest
import zfec
from hypothesis import given
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, without_nodes

from foldbarn.core.arrays import Disks
from foldbarn.core.moving.moves import Moves
from foldbarn.core.moving.readings import readings
from foldbarn.core.moving.rebuild import plan_anew, plan_rebuild, ready_to_hold
from foldbarn.core.policies.adopting import adopt, with_volumes
from foldbarn.core.policies.matching import place_new
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import ANYWHERE, Ply, SiteView, Tier, Volume, plain_volume
from foldbarn.core.volumes.loss import fate, fate_of
from foldbarn.core.volumes.origins import as_read, copied_from, written_in
from foldbarn.core.volumes.snapshots import Origin, Snapshot
from foldbarn.core.volumes.tiers import in_tiers, new_hot

BYTES = 8  # of a strip, here
Held = dict[tuple[int, int, int, int], bytes]  # disk number, ply, extent, strip


def strips_of(scheme: Scheme, data: list[bytes]) -> list[bytes]:
    """The strips of an extent; a copy is a strip as well."""
    return data * scheme.strips if scheme.is_mirror else zfec.Encoder(scheme.k, scheme.strips).encode(data)


def data_of(scheme: Scheme, found: dict[int, bytes]) -> list[bytes]:
    """The data of an extent from k of its strips, by their place in it."""
    if scheme.is_mirror:
        return [next(iter(found.values()))]
    chosen = sorted(found)[: scheme.k]
    return zfec.Decoder(scheme.k, scheme.strips).decode([found[s] for s in chosen], chosen)


def content(number: int) -> bytes:
    """Of a data strip of the volume, counted from 0."""
    return np.random.default_rng(number).bytes(BYTES)


def filled(ply: Ply, size: int) -> Held:
    """What the disks hold of a ply of so many data strips; what is beyond them is zeros."""
    held: Held = {}
    for extent, row in enumerate(ply.placement.tolist()):
        if row[0] <= 0:
            continue
        first = extent * ply.scheme.k
        data = [content(n) if n < size else bytes(BYTES) for n in range(first, first + ply.scheme.k)]
        for strip, (disk, block) in enumerate(zip(row, strips_of(ply.scheme, data), strict=True)):
            held[disk, ply.number, extent, strip] = block
    return held


def carried_out(view: SiteView, moves: Moves, held: Held) -> SiteView:
    """The moves with real bytes, as an agent makes them: from what it is told to read and nothing else."""
    found = readings(view, moves)
    assert found.possible.all()
    placements = {n: p.placement.copy() for n, p in view.ply_numbered.items()}
    made: Held = {}
    anew = {
        (ply.number, extent): ply
        for ply in view.plies_anew
        for extent in np.flatnonzero(~ply.unwritten).tolist()
    }
    for row, (number, extent, strip, to) in enumerate(
        zip(moves.ply.tolist(), moves.extent.tolist(), moves.strip.tolist(), moves.to.tolist(), strict=True)
    ):
        lead = int(found.along[row])
        told = zip(
            *(a[lead].tolist() for a in (found.disks, found.plies, found.extents, found.strips)), strict=True
        )
        read = {(p, e, s): held[disk, p, e, s] for disk, p, e, s in told if disk}
        ply = anew.get((number, extent)) or view.ply_numbered[number]
        if ply.source:
            data = written_anew(view.ply_numbered[ply.source], ply, extent, read)
        elif (number, extent, strip) in read:
            made[to, number, extent, strip] = read[number, extent, strip]
            placements[number][extent, strip] = to
            continue
        else:
            data = data_of(ply.scheme, {s: block for (_, _, s), block in read.items()})
        made[to, number, extent, strip] = strips_of(ply.scheme, data)[strip]
        placements[number][extent, strip] = to
    held |= made
    return changed(view, volumes=tuple(_as_placed(v, placements) for v in view.volumes))


def _as_placed(volume: Volume, placements: dict[int, Disks]) -> Volume:
    plies = tuple(replace(p, placement=placements[p.number]) for p in volume.plies)
    anew = volume.anew
    if volume.origin is None:
        anew = replace(anew, placement=placements[anew.number]) if anew else None
    elif anew is not None:
        plies = (plies[0], *volume.plies[1:])
        whole, anew = as_read(plies[0], volume.origin, anew.source)
        plies = (whole, *plies[1:])
    return replace(volume, plies=plies, anew=anew)


def written_anew(source: Ply, ply: Ply, extent: int, read: dict[tuple[int, int, int], bytes]) -> list[bytes]:
    """The data of an extent of what is written anew: each strip as it was read, made from others of its
    extent of the source, or read from the ply of single strips that holds it instead.
    """
    k, of = ply.scheme.k, source.scheme.k
    data = []
    for number in range(extent * k, extent * k + k):
        e, s = divmod(number, of)
        mine = {strip: block for (p, one, strip), block in read.items() if (p, one) == (source.number, e)}
        hot = [block for (p, one, _), block in read.items() if p != source.number and one == number]
        if e >= source.extents:
            assert not mine  # there is nothing, which is zeros
            data.append(bytes(BYTES))
        elif hot:
            assert source.elsewhere is not None
            assert source.elsewhere[e]
            data.append(hot[0])
        elif s in mine and not source.scheme.is_mirror:
            data.append(mine[s])
        else:
            data.append(data_of(source.scheme, mine)[s])
    return data


@pytest.mark.parametrize(("k", "m"), [(2, 1), (4, 2), (8, 3)])
def test_any_m_losses_leave_enough_and_one_more_does_not(k: int, m: int) -> None:
    """What the core says of an extent with these losses, beside what the code can really make."""
    scheme = Scheme(k, m, Level.RACK)
    view = make_site([[[30]]] * (k + m))
    ply = Ply(1, 1, "v", 0, scheme, np.arange(1, k + m + 1, dtype=np.int32)[None, :])
    data = [content(n) for n in range(k)]
    blocks = strips_of(scheme, data)
    for losses in (m, m + 1):
        for lost in combinations(range(k + m), losses):
            left = {s: blocks[s] for s in range(k + m) if s not in lost}
            now = without_nodes(view, set(lost))
            readable = fate(now, ply).unavailable + fate(now, ply).lost == 0
            assert readable == (losses == m)
            if readable:
                assert data_of(scheme, left) == data
            else:
                with pytest.raises(zfec.Error):
                    zfec.Decoder(k, k + m).decode(list(left.values()), list(left))


def site_of(scheme: Scheme, racks: int, size: int) -> SiteView:
    view = make_site([[[400, 400]]] * racks)
    extents = -(-size // scheme.k)
    placement = place_new(view, view.pools[0], Tier.BULK, scheme, extents, "v", only=ANYWHERE)
    return changed(view, volumes=(plain_volume(1, "v", 0, size * EXTENT, scheme, placement),))


SCHEMES = st.sampled_from([(1, 1), (1, 2), (2, 1), (2, 2), (3, 1), (4, 2), (5, 2)])


@given(
    st.sampled_from([(2, 1, 1), (2, 2, 1), (4, 2, 1), (5, 3, 1), (4, 2, 2), (2, 4, 2), (3, 3, 3)]),
    st.integers(1, 40),
    st.integers(0, 3),
)
def test_what_is_lost_is_made_again_byte_by_byte(shape: tuple[int, int, int], size: int, spare: int) -> None:
    """As many racks are lost as the scheme survives, of a node with two disks each."""
    k, m, per_domain = shape
    scheme = Scheme(k, m, Level.RACK, per_domain)
    view = site_of(scheme, scheme.strips + 1 + spare, size)
    ply = view.plies[0]
    held = filled(ply, size)
    gone = set(range(min(scheme.survives, 1 + spare)))
    assert gone
    lost = without_nodes(view, gone)
    moves = plan_rebuild(lost, lost.pools[0], seed=1)
    held = {key: block for key, block in held.items() if view.disk_node[key[0] - 1] not in gone}
    after = carried_out(lost, moves, held)
    assert fate(after, after.plies[0]).short == 0
    wanted = filled(after.plies[0], size)
    assert {key: held[key] for key in wanted} == wanted


@given(SCHEMES, SCHEMES, st.integers(1, 40), st.booleans())
def test_what_is_written_anew_holds_the_same_bytes(
    old: tuple[int, int], new: tuple[int, int], size: int, short: bool
) -> None:
    """To any scheme of another number of data strips, also while a node of the source is away."""
    was, wish = Scheme(*old, Level.RACK), Scheme(*new, Level.RACK)
    view = site_of(was, 9, size)
    policy = Policy(1, "p", 1, Wishes(wish, wish.survives))
    if short:
        view = without_nodes(view, {0}, given_up=False)
    found = adopt(view, [view.volumes[0]], policy)
    if old[0] == new[0]:
        assert not found.anew  # it is held otherwise in place, or what would stay is away
        return
    assert found.opposed == ()
    assert found.anew == {1}
    held = {key: b for key, b in filled(view.plies[0], size).items() if not short or key[0] != 1}
    during = found.during
    anew = during.volumes[0].anew
    assert anew is not None
    assert not ready_to_hold(during, anew)
    moves = plan_anew(during, during.pools[0], anew, seed=1, busy={}, most=7)
    while len(moves):
        during = carried_out(during, moves, held)
        anew = during.volumes[0].anew
        assert anew is not None
        moves = plan_anew(during, during.pools[0], anew, seed=1, busy={}, most=7)
    assert ready_to_hold(during, anew)
    wanted = filled(anew, size)
    assert {key: held[key] for key in wanted} == wanted
    then = with_volumes(during, {1: found.after.volumes[0]})
    assert (then.plies[0].placement == anew.placement).all()


@given(SCHEMES, SCHEMES, st.integers(1, 40), st.booleans(), st.randoms())
def test_a_copy_holds_the_same_bytes(
    old: tuple[int, int], new: tuple[int, int], size: int, short: bool, luck: random.Random
) -> None:
    """Of a volume of which some lies in a hot ply, to any scheme, also while a node of it is away."""
    was, wish = Scheme(*old, Level.RACK), Scheme(*new, Level.RACK)
    view = site_of(was, 9, size)
    volume = view.volumes[0]
    hot_scheme = Scheme(1, was.m, Level.RACK)
    lies = place_new(
        view, view.pools[0], Tier.BULK, hot_scheme, volume.whole.extents * was.k, "hot", only=ANYWHERE
    )
    hot = replace(new_hot(volume, hot_scheme), number=7, placement=lies)
    holds = np.array([luck.random() < 0.5 for _ in range(volume.whole.extents)])
    plies, _ = in_tiers((*volume.plies, hot), holds)
    held = filled(plies[0], size) | filled(plies[1], size)  # and nothing where the other one holds it
    original = replace(volume, plies=plies, snapshots=(Snapshot(1, "noon"),))
    extents = -(-size // wish.k)
    places = place_new(view, view.pools[0], Tier.BULK, wish, extents, "copy", only=ANYWHERE)
    raw = copied_from(places, written_in(original, wish, extents), extents)
    copy = plain_volume(2, "copy", 0, size * EXTENT, wish, raw)
    origin = Origin(1, 1)
    whole, anew = as_read(copy.whole, origin, original.whole.number)
    view = changed(view, volumes=(original, replace(copy, plies=(whole,), anew=anew, origin=origin)))
    gone = {0} if short and was.m else set()
    during = without_nodes(view, gone, given_up=False)
    held = {key: block for key, block in held.items() if during.disk_node[key[0] - 1] not in gone}
    while (fresh := during.volumes[1].anew) is not None:
        moves = plan_anew(during, during.pools[0], fresh, seed=1, busy={}, most=7)
        if not len(moves):
            break
        during = carried_out(during, moves, held)
    # What is to go to the node that is away waits for it.
    there = filled(during.volumes[1].whole, size)
    assert {key: held[key] for key in there} == there
    if not gone:
        assert during.volumes[1].anew is None
        assert len(there) == extents * wish.strips
        assert fate_of(during, during.volumes[1]).whole == extents
