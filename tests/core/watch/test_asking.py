"""What is asked of volumes on call: each question against what the states say, and the order against one of
Python's own.
"""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, used_sites, with_volume, without_nodes

from foldbarn.core.columns import Columns
from foldbarn.core.errors import NotFound
from foldbarn.core.hosts.attachments import Serving
from foldbarn.core.hosts.initiators import Initiator, Transport, target_name
from foldbarn.core.machines.network import Port
from foldbarn.core.names import natural_key
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.filling import SOON_SECONDS, full_in
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import ANYWHERE, UNWRITTEN, Binned, OnlyOn, Purpose, Short, SiteView, Tier, Volume
from foldbarn.core.units import DAY_SECONDS
from foldbarn.core.volumes.growth import Growth
from foldbarn.core.volumes.lineage import Link, volumes_of
from foldbarn.core.watch.asking import By, Question, Wanted, answers, is_so, listed
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp


def named(
    outlook: Outlook, wanted: Wanted | None = None, by: By = By.NAME, *, falling: bool = False
) -> list[str]:
    found = listed(outlook, wanted or Wanted(), by, falling=falling)
    return [outlook.view.volumes[row].name for row in found.rows.tolist()]


def altered(view: SiteView, name: str, **parts: object) -> SiteView:
    volumes = (replace(v, **parts) if v.name == name else v for v in view.volumes)  # type: ignore[arg-type]
    return changed(view, volumes=tuple(volumes))


@st.composite
def troubled(draw: st.DrawFn) -> Outlook:
    """Volumes of which some are offline, in the bin, still made, short of room; nodes of which some are
    silent.
    """
    view = draw(used_sites())
    for volume in view.volumes:
        parts = {
            "offline": draw(st.booleans()),
            "binned": draw(st.sampled_from([None, None, Binned(1.0, 2.0)])),
            "forming": draw(st.sampled_from([False, False, True])),
            "short": draw(st.sampled_from([None, None, Short(1, False)])),
            "size_bytes": draw(st.integers(1, 3)),
        }
        view = altered(view, volume.name, **parts)
    gone = draw(st.sets(st.integers(0, len(view.nodes) - 1), max_size=1))
    return Outlook(without_nodes(view, gone, given_up=draw(st.booleans())), 100.0, 10.0)


@given(troubled())
def test_at_ease_is_what_its_state_says(outlook: Outlook) -> None:
    for row, volume in enumerate(outlook.view.volumes):
        lamp = outlook.volume(row).lamp
        assert outlook.at_ease(row) == (lamp in (Lamp.SOUND, Lamp.AWAY)), (volume.name, lamp)


@st.composite
def reached(draw: st.DrawFn) -> Outlook:
    """The same, with hosts of which some are connected, by some of the paths there are; strips of which some
    lie too close to others; and policies that ask for what not all volumes have.
    """
    outlook = draw(troubled())
    view = outlook.view
    hosts = tuple(replace(h, initiators=(Initiator(Transport.ISCSI, f"iqn.{h.name}"),)) for h in view.hosts)
    nodes = []
    for row, node in enumerate(view.nodes):
        ports = tuple(
            Port(node.name, f"s{n}", "storage", True, 1, 9000, (f"10.{n}.0.{row + 1}/16",)) for n in (0, 1)
        )
        possible = [
            (
                target_name(Transport.ISCSI, view.mark, target.volume),
                f"iqn.h{one.host}",
                f"10.{n}.0.{row + 1}",
            )
            for target in view.targets
            for one in target.attachments
            for n in (0, 1, 2)  # the last is no address of it
        ]
        some = st.frozensets(st.sampled_from(possible)) if possible else st.just(frozenset())
        sessions = draw(st.one_of(st.just(frozenset(possible)), some))
        nodes.append(replace(node, ports=ports, serving=Serving(sessions=sessions)))
    for volume in view.volumes:
        placement = volume.whole.placement.copy()
        other = draw(st.sampled_from(["as it is", "the same disk", "nowhere", "another disk"]))
        if other != "as it is":
            disk = draw(st.sampled_from(view.disks)).number
            placement[0, -1] = {"the same disk": placement[0, 0], "nowhere": 0}.get(other, disk)
        ply = replace(volume.whole, placement=placement, tier=draw(st.sampled_from([Tier.BULK, *Tier])))
        only = OnlyOn(disks=frozenset({1, 2}))
        thin, chosen = draw(st.booleans()), draw(st.sampled_from([ANYWHERE, ANYWHERE, only]))
        view = altered(view, volume.name, plies=(ply,), thin=thin, only_on=chosen)
    wishes = draw(
        st.sampled_from(
            [
                Wishes(mirror(2, Level.NODE), 1),
                Wishes(mirror(2, Level.NODE), 1, encrypted=True),
                Wishes(mirror(2, Level.NODE), 1, fast=True, thin=True),
                Wishes(mirror(2, Level.NODE), 1, landing=5),
                Wishes(mirror(1, Level.NODE), 0),
            ]
        )
    )
    policies = (view.policies[0], replace(view.policies[1], wishes=wishes))
    return replace(outlook, view=changed(view, nodes=tuple(nodes), hosts=hosts, policies=policies))


@given(reached())
def test_what_is_seen_at_a_glance_is_what_is_found_one_by_one(outlook: Outlook) -> None:
    alone = replace(outlook, view=changed(outlook.view))  # nothing is found out of it yet
    for question in Question:
        found = answers(outlook, question).tolist()
        assert found == [is_so(alone, question, row) for row in range(len(found))], question


@st.composite
def news(draw: st.DrawFn, view: SiteView) -> SiteView:
    """Something has changed since a picture: of volumes, of what reaches them, or of what bears them."""
    volumes, row = list(view.volumes), draw(st.integers(0, max(0, len(view.volumes) - 1)))
    of_hosts = ["parted", "host", "targets", "targets"] if view.targets else []
    what = draw(st.sampled_from([*of_hosts, "volume", "more", "fewer", "silent", "order"]))
    if what == "silent":
        return without_nodes(view, {draw(st.integers(0, len(view.nodes) - 1))})
    if what == "parted":
        row = draw(st.integers(0, len(view.nodes) - 1))
        silent = replace(view.nodes[row], serving=Serving())
        return changed(view, nodes=(*view.nodes[:row], silent, *view.nodes[row + 1 :]))
    if what == "host":
        return changed(view, hosts=(replace(view.hosts[0], initiators=()), *view.hosts[1:]))
    if what == "targets":
        return changed(view, targets=view.targets[1:])
    if what == "order":
        return changed(view, volumes=tuple(reversed(volumes)))
    attached = {target.volume for target in view.targets}
    if what == "fewer" and volumes and volumes[row].number not in attached:
        del volumes[row]
    elif what == "more" and volumes:
        volumes.insert(row, replace(volumes[row], number=1000 + len(volumes), name=f"n{len(volumes)}"))
    elif volumes:
        parts = draw(
            st.sampled_from([{"offline": True}, {"labels": ("V",)}, {"policy": None}, {"thin": True}])
        )
        volumes[row] = replace(volumes[row], **parts)
    return changed(view, volumes=tuple(volumes))


@given(reached(), st.data())
def test_what_was_found_of_earlier_pictures_is_so_of_the_next(outlook: Outlook, data: st.DataObject) -> None:
    view = outlook.view
    for _ in range(3):
        for_itself = replace(outlook, view=changed(view, before=Columns()))
        carried = replace(outlook, view=view)
        for question in Question:
            assert answers(carried, question).tolist() == answers(for_itself, question).tolist(), question
        wanted = Wanted("v", (), ((Link.NODE, view.nodes[0].name),))
        assert (
            listed(carried, wanted, By.HOSTS).rows.tolist()
            == listed(for_itself, wanted, By.HOSTS).rows.tolist()
        )
        view = replace(data.draw(news(view)), before=view.columns)


@given(
    troubled(),
    st.sets(st.sampled_from(Question), max_size=2),
    st.booleans(),
    st.sampled_from(["", "V", "1 v"]),
)
def test_what_is_listed_is_what_each_question_says(
    outlook: Outlook, questions: set[Question], binned: bool, words: str
) -> None:
    view = outlook.view

    def fits(row: int, volume: Volume, *more: Question) -> bool:
        asked = all(answers(outlook, q)[row] for q in (*questions, *more))
        has = all(word in volume.name for word in words.lower().split())
        return asked and has and (volume.binned is not None) == binned

    for of in [(), ((Link.NODE, view.nodes[0].name),), ((Link.HOST, "h1"), (Link.POLICY, "p1"))]:
        on = np.ones(len(view.volumes), dtype=np.bool_)
        for link, name in of:
            on &= volumes_of(view, link, name)
        here = [(row, v) for row, v in enumerate(view.volumes) if on[row]]
        wanted = Wanted(words, tuple(questions), of, binned)
        assert named(outlook, wanted) == [v.name for row, v in here if fits(row, v)]
        counts = listed(outlook, wanted).counts
        assert counts == {q: sum(fits(row, v, q) for row, v in here) for q in Question}


@given(troubled(), st.sampled_from(By), st.booleans())
def test_what_is_alike_is_listed_by_name(outlook: Outlook, by: By, falling: bool) -> None:
    view = outlook.view
    lamps = list(Lamp)
    keys = {
        By.NAME: lambda v: natural_key(v.name),
        By.STATE: lambda v: max(1, lamps.index(outlook.volume(view.volumes.index(v)).lamp)),
        By.POOL: lambda v: v.pool,
        By.SIZE: lambda v: v.size_bytes,
        By.WRITTEN: lambda v: v.written_bytes,
        By.ON_DISKS: lambda v: v.whole.placement.size,
        By.POLICY: lambda v: (9, 9) if v.policy is None else v.policy,
        By.SURVIVES: lambda v: v.whole.scheme.survives,
        By.HOSTS: lambda v: len(outlook.lanes_from(v)),
    }
    kept = [v for v in view.volumes if v.binned is None]
    wanted = [v.name for v in sorted(kept, key=keys[by], reverse=falling)]  # stable both ways
    assert named(outlook, by=by, falling=falling) == wanted


def test_each_question_has_a_volume_to_which_it_applies_and_one_to_which_not() -> None:
    view = make_site([[[40], [40]], [[40], [40]]])
    for number in range(1, 6):
        view = with_volume(view, 4, 2, Level.NODE, number)
    plain = Outlook(view, 0.0, 1.0)
    ask = partial(answers, plain)
    assert not ask(Question.AMISS).any()
    assert ask(Question.UNATTACHED).all()
    assert ask(Question.BY_HAND).all()
    view = altered(view, "v1", offline=True)
    view = altered(view, "v2", short=Short(2, True))
    view = altered(view, "v3", forming=True)
    view = altered(view, "v4", thin=True)
    found = {q: named(Outlook(view, 0.0, 1.0), Wanted(questions=(q,))) for q in Question}
    assert found[Question.AMISS] == ["v2"]
    assert found[Question.OFFLINE] == ["v1"]
    assert found[Question.WANTS_ROOM] == ["v2"]
    assert found[Question.MAKING] == ["v3"]
    assert found[Question.THIN] == ["v4"]
    lost = Outlook(without_nodes(view, {0}), 0.0, 1.0)
    short = named(lost, Wanted(questions=(Question.SHORT,)))
    on_it = named(lost, Wanted(of=((Link.NODE, "n1"),)))
    assert short == [name for name in on_it if name != "v3"] != []  # what is being made is not short yet
    assert not named(lost, Wanted(questions=(Question.UNREADABLE,)))
    both = Outlook(without_nodes(view, {0, 1, 2, 3}), 0.0, 1.0)
    assert named(both, Wanted(questions=(Question.UNREADABLE,))) == [f"v{n}" for n in range(1, 6)]


def test_volumes_of_as_many_extents_may_need_landings_of_other_sizes() -> None:
    """Which of them keeps the policy is found for each, though they are made alike but for their size."""
    view, plies = make_site([[[40], [40]], [[40], [40]]]), {}
    scheme = mirror(2, Level.NODE)
    for number in (1, 2):
        view = with_volume(view, 4, 2, Level.NODE, number)
        whole = view.volumes[-1].whole
        of_landing = {"number": 10 + number, "tier": Tier.FAST, "purpose": Purpose.LANDING}
        plies[f"v{number}"] = (whole, replace(whole, placement=whole.placement[:1], **of_landing))
    policy = Policy(1, "lands", 1, Wishes(scheme, 1, landing=10))
    view = changed(view, policies=(policy,))
    for name, extents in (("v1", 10), ("v2", 40)):  # a tenth of which are 1 and 4
        size = extents * view.pools[0].strip_bytes
        view = altered(view, name, plies=plies[name], policy=(1, 1), size_bytes=size)
    outlook = Outlook(view, 0.0, 1.0)
    assert answers(outlook, Question.DEPARTING).tolist() == [False, True]
    assert [is_so(outlook, Question.DEPARTING, row) for row in (0, 1)] == [False, True]


def test_a_thing_that_is_not_there_is_refused() -> None:
    with pytest.raises(NotFound, match="There is no node named 'auk'"):
        listed(Outlook(make_site([[[9]]]), 0.0, 1.0), Wanted(of=((Link.NODE, "auk"),)))


def thin_one(extents: int, aside: int, a_day: float) -> SiteView:
    """A thin volume of so many extents, of which some have room; it took so many a day for ten days."""
    view = with_volume(make_site([[[100]], [[100]]]), extents)
    [volume] = view.volumes
    placement = volume.whole.placement.copy()
    placement[aside:] = UNWRITTEN
    growth = Growth(10 * DAY_SECONDS, 10 * a_day, aside)
    plies = (replace(volume.whole, placement=placement),)
    return altered(view, "v1", thin=True, plies=plies, growth=growth)


def test_a_thin_volume_is_full_when_it_has_taken_all_or_its_pool_has_no_more() -> None:
    slow, fast = thin_one(20, 10, a_day=1.0), thin_one(20, 10, a_day=2.0)
    assert full_in(slow, slow.volumes[0]) == pytest.approx(10 * DAY_SECONDS)
    assert full_in(fast, fast.volumes[0]) == pytest.approx(5 * DAY_SECONDS)
    asked = Wanted(questions=(Question.FILLING,))
    assert [named(Outlook(v, 0.0, 1.0), asked) for v in (slow, fast)] == [[], ["v1"]]
    # Where its pool is full before: the room for it is what the others leave.
    tight = with_volume(fast, 87, 2, Level.RACK, 2)
    soon = full_in(tight, tight.volumes[0])
    assert soon is not None
    assert soon < 2 * DAY_SECONDS < SOON_SECONDS
    for nothing in (
        altered(fast, "v1", thin=False),
        altered(fast, "v1", offline=True),
        altered(fast, "v1", growth=Growth(DAY_SECONDS, 2.0, 10)),
        thin_one(20, 20, a_day=2.0),
    ):
        assert full_in(nothing, nothing.volumes[0]) is None
