"""Policies on paper: which wishes hold together, what pools say to them, and schemes side by side."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations, islice

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import EXTENT, changed, make_site, with_volume, without_nodes

from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.bench import (
    landed_write,
    large_write,
    lay_side_by_side,
    read_short,
    schemes_at,
    small_write,
)
from foldbarn.core.policies.conformance import Promise, Standing, conformance
from foldbarn.core.policies.matching import Wish, against, answer, answers, best
from foldbarn.core.policies.policy import Policy, Wishes, scheme_wished, wishes_of
from foldbarn.core.pools.capacity import most_that_fits, pool_space, usable_extents
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import ANYWHERE, SiteView, Tier
from foldbarn.core.volumes.loss import survives_at

SITE = [[[90, 90], [90]], [[90], [60, 60]], [[120]], [[90], [90, 30]]]


def test_the_handbooks_write_penalties() -> None:
    """Handbook: a small write costs 2 disk operations on a mirror of two, 4 with one parity, 6 with two."""

    def penalty(scheme: Scheme) -> float:
        work = small_write(scheme)
        return work.reads + work.writes

    assert penalty(mirror(2, Level.NODE)) == 2
    assert [penalty(Scheme(k, 1, Level.NODE)) for k in (4, 7, 8)] == [4, 4, 4]
    assert [penalty(Scheme(k, 2, Level.NODE)) for k in (4, 6, 8)] == [6, 6, 6]
    # With few strips of data it is less to read the others than what stood there (reconstruct-write).
    assert penalty(Scheme(2, 1, Level.NODE)) == 3
    assert penalty(Scheme(2, 2, Level.NODE)) == 4


@given(st.integers(1, 5))
def test_a_mirror_writes_each_copy_and_reads_one(copies: int) -> None:
    scheme = mirror(copies, Level.NODE)
    assert (small_write(scheme).reads, small_write(scheme).writes) == (0, copies)
    assert large_write(scheme).writes == copies
    assert read_short(scheme).reads == 1


@given(st.integers(2, 16), st.integers(1, 4))
def test_a_whole_stripe_writes_each_strip_once(k: int, m: int) -> None:
    scheme = Scheme(k, m, Level.NODE)
    assert large_write(scheme).writes * k == pytest.approx(k + m)
    assert read_short(scheme).reads == k


@pytest.mark.parametrize(("m", "copies"), [(1, 2), (2, 3), (3, 4)])
def test_a_landing_is_written_once_more_than_parity_survives_losses(m: int, copies: int) -> None:
    """Common practice: two landing copies for one parity, three for two."""
    assert (landed_write(Scheme(4, m, Level.NODE)).reads, landed_write(Scheme(4, m, Level.NODE)).writes) == (
        0,
        copies,
    )
    landing = wishes_of(Scheme(4, m, Level.NODE), landing=5).landing_scheme
    assert landing == mirror(copies, Level.NODE)
    assert landing.survives == m


@given(
    st.lists(st.lists(st.integers(1, 3), min_size=1, max_size=3), min_size=1, max_size=4),
    st.sampled_from([(1, 1), (1, 2), (2, 1), (2, 2), (4, 2)]),
    st.sampled_from([Level.RACK, Level.NODE, Level.DISK]),
    st.integers(1, 3),
    st.sampled_from(list(Level)),
)
def test_losses_survived_are_what_trying_every_stripe_and_every_loss_says(
    racks: list[list[int]], strips: tuple[int, int], spread: Level, most: int, lost: Level
) -> None:
    view = make_site([[[50] * disks for disks in nodes] for nodes in racks])
    scheme = Scheme(*strips, spread, 1 if spread == Level.DISK else most)
    rows = view.in_pool(view.pools[0])
    if not usable_extents(view.disk_slots, view.domain_of(spread), scheme) or len(rows) > 12:
        return
    survived = survives_at(view, view.pools[0], Tier.BULK, scheme, lost)
    domains = np.unique(view.domain_of(lost)[rows]).tolist()
    stripes = [
        disks
        for disks in combinations(rows.tolist(), scheme.strips)
        if max(np.bincount(view.domain_of(spread)[list(disks)])) <= scheme.per_domain
    ]

    def worst(losses: int) -> int:
        """The most strips that so many losses take from any stripe."""
        return max(
            sum(int(view.domain_of(lost)[d]) in gone for d in disks)
            for gone in map(set, combinations(domains, losses))
            for disks in islice(stripes, 4000)
        )

    if 0 < survived <= len(domains):
        assert worst(survived) <= scheme.m
    if survived + 1 <= len(domains):
        assert worst(survived + 1) > scheme.m
    if lost == spread:
        assert survived >= scheme.survives  # what the scheme says by itself


def test_each_figure_of_the_bench_is_what_its_own_computation_says() -> None:
    view = make_site(SITE)
    pool = view.pools[0]
    for level in (Level.RACK, Level.NODE):
        for row in lay_side_by_side(view, pool, schemes_at(level)):
            scheme = row.scheme
            assert row.takes.value == 2**40 * scheme.strips // scheme.k
            there = len(np.unique(view.domain_of(level)))
            assert (row.against is None) == (there >= scheme.strips)
            if row.against is not None:
                assert row.usable is None
                assert row.against.wish == Wish.DOMAINS
                continue
            tried = replace(pool, usual=scheme)
            empty = changed(view, pools=(tried,))
            assert row.usable is not None
            assert row.usable.value == pool_space(empty, tried).usable * scheme.k * EXTENT
            # And that much does fit, were the fill line no bound, and no extent more.
            full = replace(tried, fill_line=1.0, headroom=None, overcommit_cap=100.0)
            bare = changed(view, pools=(full,))
            fit = most_that_fits(bare, full, scheme, Tier.BULK, only=ANYWHERE).extents
            assert row.usable.value <= fit * scheme.k * EXTENT
            assert dict(row.survives)[Level.DISK] == scheme.m
            assert (row.repair_disk is None) == (scheme.m == 0)


def test_parity_holds_more_than_copies_that_survive_as_much_and_is_remade_more_slowly() -> None:
    view = make_site([[[300, 300]]] * 8)
    rows = {r.scheme.counted(): r for r in lay_side_by_side(view, view.pools[0], schemes_at(Level.RACK))}
    pair, parity = rows["2 copies"], rows["4 and 1 of parity"]
    assert None not in (pair.usable, parity.usable, pair.repair_disk, parity.repair_disk)
    assert parity.usable.value > 1.5 * pair.usable.value
    assert parity.repair_disk.copying.seconds > pair.repair_disk.copying.seconds
    assert parity.chance.a_year > pair.chance.a_year


@pytest.mark.parametrize(
    ("copies", "data", "parity"),
    [(None, None, None), (2, 2, 1), (0, None, None), (None, 17, 1), (None, 4, 5)],
)
def test_a_protection_out_of_bounds_is_refused(
    copies: int | None, data: int | None, parity: int | None
) -> None:
    with pytest.raises(NotPossible):
        scheme_wished(copies, data, parity, Level.NODE)


@given(st.integers(1, 5), st.integers(-2, 6))
def test_what_is_to_survive_is_no_more_than_what_survives(copies: int, wanted: int) -> None:
    scheme = mirror(copies, Level.RACK)
    if 0 <= wanted < copies:
        assert wishes_of(scheme, wanted).survives == wanted
    else:
        with pytest.raises(NotPossible):
            wishes_of(scheme, wanted)
    assert wishes_of(scheme).survives == copies - 1


@given(st.integers(1, 3), st.integers(0, 3), st.sampled_from([Level.RACK, Level.NODE, Level.DISK]))
def test_a_yes_is_kept_and_a_no_is_one_by_trying(data: int, more: int, level: Level) -> None:
    """The largest volume that a pool says it has room for is taken, and one extent more is not."""
    if data == 1 and more == 0:
        return
    scheme = Scheme(data, more, level)
    view = make_site(SITE)
    pool = view.pools[0]
    wishes = wishes_of(scheme)
    found = answer(view, pool, wishes)
    there = len(np.unique(view.domain_of(level)))
    assert found.keeps == (there >= scheme.strips)
    if found.keeps:
        assert against(view, pool, wishes, found.room) == []
        beyond = against(view, pool, wishes, found.room + 1)
        assert [a.wish for a in beyond] == [Wish.ROOM]
        assert answer(view, pool, wishes, found.room).full <= pool.fill_line


def test_all_that_stands_against_a_pool_is_said_and_the_least_full_that_keeps_is_chosen() -> None:
    view = make_site(SITE)
    wishes = Wishes(mirror(5, Level.RACK), 4, encrypted=True)
    said = answer(view, view.pools[0], wishes)
    assert [a.wish for a in said.against] == [Wish.ENCRYPTION, Wish.DOMAINS]
    assert best(answers(view, wishes)) is None
    chosen = best(answers(view, wishes_of(mirror(2, Level.RACK))))
    assert chosen is not None
    assert chosen.pool == 0


def kept(view: SiteView, survives: int = 1) -> SiteView:
    scheme = view.volumes[0].plies[0].scheme
    policy = Policy(7, "plain-pair", 1, Wishes(scheme, survives))
    volume = replace(view.volumes[0], policy=(7, 1))
    return changed(view, policies=(policy,), volumes=(volume,))


def test_a_volume_keeps_its_policy_until_it_would_survive_less_and_says_what_it_breaks() -> None:
    whole = kept(with_volume(make_site([[[90]]] * 4), 40))
    assert conformance(whole, whole.volumes[0]).standing == Standing.KEPT  # type: ignore[union-attr]
    lost = without_nodes(whole, {0})
    found = conformance(lost, lost.volumes[0])
    assert found is not None
    assert found.standing == Standing.BROKEN
    assert [b.promise for b in found.broken] == [Promise.SURVIVES]
    assert found.strips == int((lost.rows(lost.volumes[0].plies[0]) == 0).sum())
    # A policy that asks for no loss to be survived is kept while anything can be read.
    lenient = kept(lost, survives=0)
    assert conformance(lenient, lenient.volumes[0]).standing == Standing.KEPT  # type: ignore[union-attr]
    # Once all that is short is on its way it catches up.
    ply = lost.volumes[0].plies[0]
    extents, strips = np.nonzero(lost.rows(ply) == 0)
    going = {(ply.number, int(e), int(s)): 4 for e, s in zip(extents, strips, strict=True)}
    coming = changed(lost, under_way=going)
    assert conformance(coming, coming.volumes[0]).standing == Standing.CATCHING_UP  # type: ignore[union-attr]
    all_but_one = dict(islice(going.items(), len(going) - 1))
    nearly = changed(lost, under_way=all_but_one)
    assert conformance(nearly, nearly.volumes[0]).standing == Standing.BROKEN  # type: ignore[union-attr]


def test_a_volume_without_a_policy_stands_to_none() -> None:
    view = with_volume(make_site([[[90]]] * 4), 40)
    assert conformance(view, view.volumes[0]) is None
