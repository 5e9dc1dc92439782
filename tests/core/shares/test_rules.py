"""Who may mount a share: against a look at each rule by itself, with the standard library's addresses."""

from __future__ import annotations

import ipaddress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.shares.rules import (
    BITS,
    MOST_RULES,
    Decision,
    Right,
    Rule,
    Rules,
    check_rules,
    idle_rules,
    read_who,
)

OFFICE = (
    Rule("everyone", Right.READ),
    Rule("10.4.0.0/16", Right.READ),
    Rule("10.4.7.0/24", Right.WRITE),
    Rule("10.4.7.20", Right.READ),
    Rule("10.4.7.30-10.4.7.39", Right.WRITE, root=True),
    Rule("10.9.0.0/16", Right.NONE),
    Rule("fd00:30::/64", Right.WRITE),
)


@pytest.mark.parametrize(
    ("address", "right", "rule", "says"),
    [
        ("10.4.7.20", Right.READ, 4, "read only, by rule 4"),
        ("10.4.7.21", Right.WRITE, 3, "read and write, by rule 3"),
        ("10.4.7.35", Right.WRITE, 5, "read and write, root stays root, by rule 5"),
        ("10.4.8.1", Right.READ, 2, "read only, by rule 2"),
        ("10.9.1.1", Right.NONE, 6, "no access, by rule 6"),
        ("192.0.2.1", Right.READ, 1, "read only, by rule 1"),
        ("fd00:30::7", Right.WRITE, 7, "read and write, by rule 7"),
        ("2001:db8::1", Right.READ, 1, "read only, by rule 1"),
        ("::ffff:10.4.7.20", Right.READ, 4, "read only, by rule 4"),  # RFC 4291, 2.5.5.2
    ],
)
def test_the_rule_that_covers_fewest_decides(address: str, right: Right, rule: int, says: str) -> None:
    found = Rules(OFFICE).decide(address)
    assert (found.right, found.rule, found.sentence) == (right, rule, says)


def test_whom_no_rule_covers_is_let_in_nowhere() -> None:
    found = Rules((Rule("10.4.0.0/16", Right.WRITE),)).decide("10.5.0.1")
    assert found == Decision(Right.NONE, root=False, rule=None)
    assert found.sentence == "no access: no rule covers it"
    assert Rules(()).decide("10.5.0.1").rule is None


def small(version: int) -> st.SearchStrategy[int]:
    """Addresses that are near to one another, so that rules meet; some at the very end."""
    last = 2 ** BITS[version] - 1
    return st.one_of(st.integers(0, 40), st.integers(last - 8, last))


def written(version: int, number: int) -> str:
    return str(ipaddress.IPv4Address(number) if version == 4 else ipaddress.IPv6Address(number))


@st.composite
def whos(draw: st.DrawFn) -> str:
    version = draw(st.sampled_from([4, 6]))
    how = draw(st.sampled_from(["one", "range", "network", "everyone"]))
    low, high = sorted([draw(small(version)), draw(small(version))])
    match how:
        case "one":
            return written(version, low)
        case "range":
            return f"{written(version, low)}-{written(version, high)}"
        case "network":
            prefix = BITS[version] - draw(st.integers(0, 6))
            return str(ipaddress.ip_network((low, prefix), strict=False))
    return "everyone"


def covers(who: str, address: ipaddress.IPv4Address | ipaddress.IPv6Address) -> int | None:
    """How many addresses a rule covers, where this is one of them; by the standard library alone."""
    if who == "everyone":
        return int(2**address.max_prefixlen)
    if "/" in who:
        network = ipaddress.ip_network(who)
        return network.num_addresses if address in network else None
    first, _, last = who.partition("-")
    low, high = ipaddress.ip_address(first), ipaddress.ip_address(last or first)
    if low.version != address.version or not int(low) <= int(address) <= int(high):
        return None
    return int(high) - int(low) + 1


@given(rules=st.lists(st.builds(Rule, whos(), st.sampled_from(Right), st.booleans()), max_size=12))
def test_it_is_what_a_look_at_every_rule_comes_to(rules: list[Rule]) -> None:
    """The address range ::ffff:0:0/96 lies nowhere near what is tried."""
    made = Rules(rules)
    ever = set()
    for version in BITS:
        edge = 2 ** BITS[version] - 1
        for number in [*range(48), *range(edge - 10, edge + 1)]:
            address = ipaddress.ip_address(written(version, number))
            sizes = [(size, place) for place, r in enumerate(rules) if (size := covers(r.who, address))]
            found = made.decide(str(address))
            if not sizes:
                assert found.rule is None
                continue
            _, place = min(sizes)
            assert found == Decision(rules[place].right, rules[place].root, place + 1)
            ever.add(place + 1)
    # Where nothing was decided among what was tried, it may be elsewhere: of everyone, and of large networks.
    assert not ever & set(made.idle())


def test_rules_that_can_never_apply_are_found_with_those_that_decide_instead() -> None:
    rules = check_rules(
        [
            Rule("10.4.7.0/24", Right.WRITE),
            Rule("10.4.7.0-10.4.7.255", Right.READ),  # the same addresses: the first holds
            Rule("10.4.8.0/31", Right.READ),
            Rule("10.4.8.0", Right.NONE),
            Rule("10.4.8.1", Right.WRITE),
            Rule("everyone", Right.NONE),
        ]
    )
    assert [(one.rule, one.instead) for one in idle_rules(rules)] == [(2, (1,)), (3, (4, 5))]
    assert [one.sentence for one in idle_rules(rules)] == [
        "Rule 2 can never apply: rule 1 decides for each of its addresses.",
        "Rule 3 can never apply: rule 4 and rule 5 decide for each of its addresses.",
    ]


@pytest.mark.parametrize(
    ("who", "says"),
    [
        ("10.4.7.20/16", "10.4.7.20/16 is an address in 10.4.0.0/16."),
        ("10.4.7.9-10.4.7.1", "The range 10.4.7.9-10.4.7.1 runs backwards."),
        ("10.4.7.1-fd00::1", "begins in one version and ends in another"),
        ("10.4.7", "is no address, no range and no network"),
        ("10.4.0.0/33", "'10.4.0.0/33' is no network."),
        ("fe80::1%eth0", "is no address, no range and no network"),
        ("", "is no address, no range and no network"),
        ("1" * 200, "is too long for an address"),
        ("10.4.7.1-", "is no address, no range and no network"),
        ("٣.1.1.1", "is no address, no range and no network"),
    ],
)
def test_what_covers_nothing_is_refused_with_its_place(who: str, says: str) -> None:
    with pytest.raises(NotPossible, match="Rule 2") as found:
        check_rules([Rule("everyone", Right.READ), Rule(who, Right.READ)])
    assert says in found.value.sentence


def test_so_many_and_no_more() -> None:
    with pytest.raises(NotPossible, match="10,001 rules"):
        check_rules([Rule("everyone", Right.READ)] * (MOST_RULES + 1))


def test_the_same_range_may_be_written_in_many_ways() -> None:
    assert read_who("10.0.0.0/8") == read_who(" 10.0.0.0 - 10.255.255.255 ")
    assert read_who("::ffff:10.0.0.0/104") == read_who("10.0.0.0/8")
    assert check_rules([Rule(" Everyone ", Right.NONE, root=True)]) == (Rule("everyone", Right.NONE),)
