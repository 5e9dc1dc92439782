"""What a claim asks for and whether it may have it. What it asks for is also read from bodies that the
Kubernetes project's own client for Python writes.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from kubernetes import client as official
from sites import changed, make_site, with_volume

from foldbarn.core.claims.admission import Admission
from foldbarn.core.claims.claims import AccessMode, Claim, VolumeMode, read_claim
from foldbarn.core.claims.classes import StorageClass, check_class_name, default_of, nearest
from foldbarn.core.claims.grants import (
    Excess,
    Grant,
    Had,
    Limits,
    Measure,
    excesses,
    most_for_one_more,
    say_excess,
)
from foldbarn.core.claims.kept import Hindrance
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.site import SiteView

GIB = 2**30
ONE_NODE = frozenset({AccessMode.ONE_NODE})


def body(**spec: Any) -> dict[str, Any]:
    """A claim as the project's own client writes it."""
    wanted = {"access_modes": ["ReadWriteOnce"], "storage_class_name": "steady"}
    size = official.V1VolumeResourceRequirements(requests={"storage": "5Gi"})
    made = official.V1PersistentVolumeClaim(
        metadata=official.V1ObjectMeta(name="seat-ledger", namespace="ticketing", uid="u1"),
        spec=official.V1PersistentVolumeClaimSpec(**{**wanted, "resources": size, **spec}),
    )
    found: dict[str, Any] = official.ApiClient().sanitize_for_serialization(made)
    return found


def test_what_a_claim_asks_for_is_read_as_it_was_written() -> None:
    assert read_claim(body()) == Claim("u1", "ticketing", "seat-ledger", "steady", 5 * GIB, ONE_NODE)
    block = read_claim(body(volume_mode="Block", access_modes=["ReadWriteMany", "ReadOnlyMany"]))
    assert block.volume_mode is VolumeMode.BLOCK
    assert block.modes == {AccessMode.MANY_WRITE, AccessMode.MANY_READ}
    assert read_claim(body(storage_class_name=None)).class_name is None
    assert read_claim(body(storage_class_name="")).class_name == ""
    assert read_claim(body()).path == "ticketing/seat-ledger"


@pytest.mark.parametrize(
    ("wrong", "about"),
    [
        ({"access_modes": ["ReadWriteTwice"]}, "spec.accessModes"),
        ({"access_modes": []}, "spec.accessModes"),
        ({"volume_mode": "Stream"}, "spec.volumeMode"),
        ({"resources": official.V1VolumeResourceRequirements(requests={"storage": "much"})}, "storage"),
        (
            {"resources": official.V1VolumeResourceRequirements(requests={})},
            "spec.resources.requests.storage",
        ),
    ],
)
def test_what_cannot_be_read_is_said_by_its_field(wrong: dict[str, Any], about: str) -> None:
    with pytest.raises(NotPossible) as caught:
        read_claim(body(**wrong))
    assert caught.value.about == about


@given(
    st.recursive(st.none() | st.text() | st.integers(), lambda s: st.lists(s) | st.dictionaries(st.text(), s))
)
def test_nonsense_is_refused_in_words(said: Any) -> None:
    for part in ("metadata", "spec"):
        with pytest.raises(NotPossible):
            read_claim({**body(), part: said} if not isinstance(said, dict) else {part: said})


# Names. ----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["a", "steady-three", "fast.2", "0", "a" * 253])
def test_names_that_a_class_can_have(name: str) -> None:
    """RFC 1123, section 2.1: a label may begin with a digit; a name has 253 characters at the most."""
    assert check_class_name(name, []) == name


@pytest.mark.parametrize("name", ["", "Steady", "-a", "a-", "a..b", "a_b", "a b", "a" * 254, ".a"])
def test_names_that_no_class_can_have(name: str) -> None:
    with pytest.raises(NotPossible, match="No class can be called"):
        check_class_name(name, [])


def test_a_name_is_had_once_and_the_nearest_is_found() -> None:
    with pytest.raises(NotPossible, match="There is a class called steady already"):
        check_class_name("steady", ["steady"])
    assert nearest("stedy-three", {"steady-three", "steady-two", "scratch"}) == "steady-three"
    assert nearest("quite-else", {"steady"}) == ""


# Grants. ---------------------------------------------------------------------------------------------------


@given(
    st.lists(st.tuples(st.integers(1, 9), st.sampled_from("ab")), max_size=30),
    st.integers(0, 40) | st.none(),
    st.integers(0, 9) | st.none(),
    st.integers(1, 9) | st.none(),
    st.integers(0, 20) | st.none(),
)
def test_who_is_let_in_one_after_the_other_never_passes_a_limit_and_who_is_not_would(
    asked: list[tuple[int, str]],
    size: int | None,
    count: int | None,
    largest: int | None,
    of_a: int | None,
) -> None:
    grant = Grant(1, "n", Limits(size, count), largest, {"a": Limits(of_a)})
    had: list[Had] = []

    def within(ones: list[Had]) -> bool:
        sizes = [one.bytes for one in ones]
        return (
            (size is None or sum(sizes) <= size)
            and (count is None or len(ones) <= count)
            and (largest is None or max(sizes, default=0) <= largest)
            and (of_a is None or sum(one.bytes for one in ones if one.class_name == "a") <= of_a)
        )

    for number, (amount, of) in enumerate(asked):
        one = Had(str(number), of, amount)
        assert bool(excesses(grant, had, one)) != within([*had, one])
        if within([*had, one]):
            had.append(one)
    # One that grows counts once; one that stays as it is passes nothing, though the limits were lowered.
    for number, one in enumerate(had):
        more = replace(one, bytes=one.bytes + 1)
        assert bool(excesses(grant, had, more)) != within([*had[:number], more, *had[number + 1 :]])
        assert excesses(Grant(1, "n", Limits(0, 0), 0), had, one) == []


def test_by_how_much_a_limit_is_passed_is_said_to_the_byte() -> None:
    grant = Grant(1, "ticketing", Limits(10 * GIB, 3), 4 * GIB, {"steady": Limits(claims=1)})
    had = [Had("a", "steady", 4 * GIB), Had("b", "scratch", 4 * GIB)]
    found = excesses(grant, had, Had("c", "steady", 4 * GIB + 1))
    assert found == [
        Excess(Measure.BYTES, 10 * GIB, 8 * GIB, 4 * GIB + 1),
        Excess(Measure.A_CLAIM, 4 * GIB, 0, 4 * GIB + 1),
        Excess(Measure.CLASS_CLAIMS, 1, 1, 1),
    ]
    assert [say_excess(one, "ticketing", "steady") for one in found] == [
        "ticketing may have 10 GiB and has 8 GiB: this would be 2,147,483,649 bytes too much.",
        "One claim of ticketing may ask for 4 GiB at the most: 1 byte more than that is asked for.",
        "ticketing in steady may have 1 claim, and has 1.",
    ]


# All of it. ------------------------------------------------------------------------------------------------


def a_site(copies: int = 2) -> SiteView:
    policies = (
        Policy(1, "steady", 1, Wishes(mirror(copies, Level.RACK), copies - 1)),
        Policy(2, "scratch", 1, Wishes(mirror(1, Level.NODE), 0)),
    )
    return changed(make_site([[[20], [20]], [[20], [20]]]), policies=policies)


CLASSES = (StorageClass("steady-two", 1, default=True), StorageClass("scratch", 2))
GRANTS = (Grant(1, "ticketing", Limits(bytes=8 * GIB)), Grant(2, "cargo-desk"))


def admission(view: SiteView | None = None, **parts: Any) -> Admission:
    return Admission(view or a_site(), **{"classes": CLASSES, "grants": GRANTS, "had": {}, **parts})


def claim(name: str | None = "steady-two", size: int = GIB, **parts: Any) -> Claim:
    return Claim(
        **{"uid": "u", "namespace": "ticketing", "name": "c", "modes": ONE_NODE, **parts},
        class_name=name,
        size=size,
    )


def test_a_claim_that_fits_gets_its_class_a_policy_and_a_pool() -> None:
    found = admission().judge(claim())
    assert found.fits
    assert (found.storage_class, found.policy and found.policy.name, found.pool and found.pool.name) == (
        CLASSES[0],
        "steady",
        "p",
    )
    assert admission().judge(claim(None)).storage_class == CLASSES[0]  # the default


def test_what_stands_against_a_claim_is_said_and_what_would_help_helps() -> None:
    unknown = admission().judge(claim("stedy-two"))
    assert (unknown.hindrance, unknown.meant) == (Hindrance.UNKNOWN_CLASS, "steady-two")
    assert admission().judge(claim(unknown.meant)).fits
    plain = replace(CLASSES[0], default=False)
    none = admission(classes=(plain, CLASSES[1])).judge(claim(None))
    assert (none.hindrance, none.cure) == (Hindrance.NO_CLASS, "ticketing may use steady-two.")
    two = admission(classes=(CLASSES[0], replace(CLASSES[1], default=True))).judge(claim(None))
    assert two.hindrance == Hindrance.SEVERAL_DEFAULTS
    assert "scratch and steady-two" in two.sentence
    assert admission().judge(claim("")).hindrance == Hindrance.NO_CLASS  # it says that it wants none
    other = admission().judge(claim("scratch"))
    assert (other.hindrance, other.cure) == (Hindrance.NOT_GRANTED, "ticketing may use steady-two.")
    nobody = admission().judge(claim(namespace="timetable"))
    assert (nobody.hindrance, nobody.cure) == (Hindrance.NOT_GRANTED, "Nothing was granted to timetable yet.")
    assert admission(view=changed(a_site(), policies=())).judge(claim()).hindrance == Hindrance.NO_POLICY


def test_many_writers_need_a_share_or_blocks() -> None:
    many = frozenset({AccessMode.MANY_WRITE})
    refused = admission().judge(claim(modes=many))
    assert refused.hindrance == Hindrance.ACCESS_MODE
    for good in (
        claim(modes=many, volume_mode=VolumeMode.BLOCK),
        claim(modes=frozenset({AccessMode.MANY_READ})),
        claim(modes=frozenset({AccessMode.ONE_POD})),
    ):
        assert admission().judge(good).fits


def test_what_is_promised_counts_against_a_grant() -> None:
    had = {("ticketing", 1): [Had("other", "steady-two", 7 * GIB)]}
    assert admission(had=had).judge(claim(size=GIB)).fits
    over = admission(had=had).judge(claim(size=GIB + 1))
    assert over.hindrance == Hindrance.OVER_LIMIT
    assert over.sentence == "ticketing may have 8 GiB and has 7 GiB: this would be 1 byte too much."


def test_where_no_pool_can_keep_it_the_wish_is_said() -> None:
    three = admission(view=a_site(copies=3)).judge(claim())
    assert three.hindrance == Hindrance.NO_POOL
    assert "3 racks" in three.sentence
    full = a_site()
    while admission(view=full).judge(claim(size=8 * GIB)).fits:
        full = with_volume(full, 4, number=len(full.volumes) + 1)
    refused = admission(view=full).judge(claim(size=8 * GIB))
    assert refused.hindrance == Hindrance.NO_POOL
    gone = admission(classes=(replace(CLASSES[0], pool=7),)).judge(claim())
    assert gone.hindrance == Hindrance.NO_POOL
    assert "where steady-two is to lie" in gone.sentence


def test_one_default_is_a_default() -> None:
    assert default_of(CLASSES) == CLASSES[0]
    assert default_of(()) is None
    assert default_of((CLASSES[0], replace(CLASSES[1], default=True))) is None


LIMITS = st.builds(Limits, st.none() | st.integers(0, 20), st.none() | st.integers(0, 4))


@given(
    LIMITS,
    st.none() | st.integers(0, 12),
    st.dictionaries(st.sampled_from(["a", "b"]), LIMITS),
    st.lists(st.tuples(st.sampled_from(["a", "b"]), st.integers(1, 8)), max_size=5),
)
def test_what_one_more_claim_could_ask_for_is_let_in_and_a_byte_more_is_not(
    limits: Limits, a_claim: int | None, by_class: dict[str, Limits], there: list[tuple[str, int]]
) -> None:
    grant = Grant(1, "ticketing", limits, a_claim, by_class)
    had = [Had(f"u{n}", name, size) for n, (name, size) in enumerate(there)]
    most = most_for_one_more(grant, had, "a")
    if most is None:
        assert not excesses(grant, had, Had("new", "a", 10**15))
        return
    assert not most or not excesses(grant, had, Had("new", "a", most))
    assert excesses(grant, had, Had("new", "a", most + 1))
