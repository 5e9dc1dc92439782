"""A policy as text: read with the line of every error, written without loss."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.changes.kinds.policies.save_policy import SavePolicyParams
from foldbarn.changes.policy_text import read_policy, write_policy
from foldbarn.changes.text import BadText
from foldbarn.core.policies.policy import Cache
from foldbarn.core.pools.protection import Level

names = st.text(st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")), min_size=1, max_size=40)
limits = st.none() | st.integers(-5, 10**14)
wishes = st.builds(
    SavePolicyParams,
    name=names,
    version=st.just(0),
    copies=st.none() | st.integers(-2, 9),
    data=st.none() | st.integers(-2, 20),
    parity=st.none() | st.integers(-2, 9),
    level=st.sampled_from(Level),
    per_domain=st.integers(1, 9),
    survives=st.none() | st.integers(-1, 5),
    fast=st.booleans(),
    encrypted=st.booleans(),
    compressed=st.booleans(),
    cache=st.sampled_from(Cache),
    landing=st.integers(-5, 120),
    share=st.integers(-5, 120),
    share_copies=st.none() | st.integers(-2, 9),
    memory=st.integers(-1, 30),
    first=st.integers(0, 1 << 52),
    thin=st.booleans(),
    labels=st.lists(names, max_size=4),
    operations=limits,
    throughput=limits.filter(lambda value: value is None or value > 0),
    meant_for=names | st.just(""),
    draft=st.booleans(),
)


@given(wishes)
def test_nothing_is_lost(wished: SavePolicyParams) -> None:
    """Whatever is wished for, sensible or not: whether it can be is for the preview to say."""
    text = write_policy(wished)
    assert read_policy(text, {}) == wished
    assert write_policy(read_policy(text, {})) == text


def test_what_is_half_filled_in_is_written_all_the_same() -> None:
    assert write_policy(SavePolicyParams(name="")) == "policy: ''\n"
    long = SavePolicyParams(name="n" * 400, copies=2)
    assert write_policy(long).startswith("policy: nnn")


def test_it_reads_as_a_person_writes_it() -> None:
    found = read_policy(
        "# what must not stop\npolicy: steady\nmeant for: tickets\ncopies: 3\nspread: rack\n"
        "throughput: 200 MB\nlabels: [quiet, near the harbour]\n",
        {"steady": 4, "other": 9},
    )
    assert (found.name, found.version, found.copies, found.level) == ("steady", 4, 3, Level.RACK)
    assert (found.throughput, found.labels) == (200_000_000, ["quiet", "near the harbour"])
    assert write_policy(SavePolicyParams(name="steady", copies=3, throughput=200_000_000)) == (
        "policy: steady\ncopies: 3\nthroughput: 200 MB\n"
    )


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "Line 1: A policy's text begins with 'policy:' and its name."),
        ("copies: 3\n", "'policy' is missing"),
        ("policy: p\n\ncopys: 3\n", "Line 3: There is no key 'copys' here."),
        ("policy: p\ncopies: three\n", "Line 2: 'copies' is not usable"),
        ("policy: p\nspread: shelf\n", "Line 2: 'spread' is not usable"),
        ("policy: p\nthroughput: 20 parsecs\n", "Line 2: 'throughput' is not usable"),
        ("policy: p\nfast: perhaps\n", "Line 2: 'fast' is not usable"),
        ("policy: [p\n", "Line "),
    ],
)
def test_what_is_wrong_is_told_with_its_line(text: str, says: str) -> None:
    with pytest.raises(BadText) as refused:
        read_policy(text, {})
    assert says in refused.value.sentence
