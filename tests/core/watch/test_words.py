"""Small rules: sizes, names, natural order, figures, lamps, counters, flows, verdicts."""

import contextlib

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from sites import changed, make_site, with_volume, without_nodes

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.figures import Part, apply_parts, make_figure
from foldbarn.core.machines.counters import rate
from foldbarn.core.moving.flows import max_min_rates
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.names import check_name, natural_key
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.pools.roles import Endurance
from foldbarn.core.units import (
    GB,
    GIB,
    TIB,
    parse_size,
    quantity_bytes,
    say_binary,
    say_count,
    say_duration,
    say_list,
    say_size,
)
from foldbarn.core.volumes.loss import fate_of
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp, State, worst


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("1 TiB", TIB),
        ("500 GB", 500 * GB),
        ("10Gi", 10 * GIB),
        ("1.5 TB", 1500 * GB),
        ("129e6", 129_000_000),
        ("1.5e3 GB", 1500 * GB),
        (".5 kB", 500),
        ("4096", 4096),
        (" 2M ", 2_000_000),
    ],
)
def test_sizes_people_type(text: str, size: int) -> None:
    assert parse_size(text) == size


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("0", "more than zero"),
        ("-1 TB", "more than zero"),
        ("", "not a size"),
        ("ten TB", "not a size"),
        ("5 parsecs", "not a unit"),
        ("0.3 B", "whole number of bytes"),
        ("9999999 EB", "more than any site"),
        ("NaN", "not a size"),
        ("1e999", "not a size"),
        ("9" * 5000, "not a size"),
        ("٣ TB", "not a size"),
        ("1 1 TB", "not a size"),
    ],
)
def test_sizes_that_are_refused_say_why(text: str, says: str) -> None:
    with pytest.raises(NotPossible, match=says) as refused:
        parse_size(text)
    assert refused.value.about == "size"


@pytest.mark.parametrize(
    ("text", "right"),
    [
        ("1 Tb", "Write TB for bytes."),
        ("8 Gbit", "Write GB for bytes."),
        ("1 Kb", "Write kB for bytes."),
        ("3 Tib", "Write TiB for bytes."),
        ("1 tb", "Write TB."),
        ("1 GIB", "Write GiB."),
        ("4 KB", "Write kB (1,000 bytes) or KiB (1,024 bytes)."),
        ("500m", "Write MB for millions of bytes, or MiB."),
    ],
)
def test_a_unit_that_means_something_else_is_refused_with_the_right_one(text: str, right: str) -> None:
    with pytest.raises(NotPossible) as refused:
        parse_size(text)
    assert refused.value.next_step == right


@given(st.text(max_size=60) | st.from_regex(r"[0-9.eE+-]{1,50} ?[kKMGTPEiBbm]{0,4}", fullmatch=True))
def test_whatever_is_typed_is_a_size_or_is_refused_in_words(text: str) -> None:
    for read in (parse_size, quantity_bytes):
        with contextlib.suppress(NotPossible):
            assert 0 < read(text) < 2**63


@given(st.integers(1, 2**62))
def test_a_plain_number_of_bytes_is_kept(size: int) -> None:
    assert parse_size(str(size)) == parse_size(f"{size} B") == size


@given(st.floats(0, 9e18))
def test_no_amount_is_said_with_a_thousand_of_its_unit(size: float) -> None:
    number, unit = say_size(size).split()
    assert float(number) < 1000 or unit == "EB"
    assert float(say_binary(int(size)).split()[0]) < 1024


def test_amounts_at_the_edges_of_their_units() -> None:
    assert [say_size(s) for s in (999_949_999_999, 999_960_000_000, 999.96e3, 999)] == [
        "999.9 GB",
        "1.00 TB",
        "1 MB",
        "999 B",
    ]
    assert [say_duration(s) for s in (0, 0.5, 172_800, 172_801, 15 * 86_400, float("inf"))] == [
        "no time",
        "under a second",
        "48 h 00 min",
        "2 days 1 h",
        "15 days",
        "never",
    ]


def test_amounts_in_words() -> None:
    assert [say_size(s) for s in (12 * 10**12, 3_500_000_000, 999, 1500 * 10**12)] == [
        "12.00 TB",
        "3.5 GB",
        "999 B",
        "1.50 PB",
    ]
    assert [say_duration(s) for s in (0.2, 8.2, 2600, 3840, 200_000)] == [
        "under a second",
        "9 s",
        "44 min",
        "1 h 04 min",
        "2 days 8 h",
    ]
    assert [say_binary(s) for s in (GIB, 256 * 2**20, 100)] == ["1 GiB", "256 MiB", "100 B"]
    assert say_count(1, "copy", "copies") == "1 copy"
    assert say_list(["a", "b", "c", "d", "e"]) == "a, b, c and 2 more"


@pytest.mark.parametrize("name", ["", "   ", "-a", "a-", "a b", "a/b", "ünder", "x" * 64])
def test_names_that_cannot_be_given(name: str) -> None:
    with pytest.raises(NotPossible):
        check_name(name, "pool", [])


def test_a_taken_name_is_refused_also_by_case() -> None:
    with pytest.raises(Conflict, match="as 'Quayside'; case does not tell names apart"):
        check_name("quaySIDE", "pool", ["Quayside"])
    assert check_name(" quay-2 ", "pool", ["quay-1"]) == "quay-2"


def test_natural_order() -> None:
    assert sorted(["n10", "n2", "N1", "m3", "2", "10"], key=natural_key) == [
        "2",
        "10",
        "m3",
        "N1",
        "n2",
        "n10",
    ]


@given(st.lists(st.tuples(st.sampled_from("+−×÷"), st.integers(1, 10**6)), min_size=1, max_size=8))
def test_a_figure_is_its_parts(steps: list[tuple[str, int]]) -> None:
    parts = [Part(op, "x", value, "bytes") for op, value in steps]  # type: ignore[arg-type]
    figure = make_figure("x", "bytes", parts)
    value = 0
    for op, amount in steps:
        value = {"+": value + amount, "−": value - amount, "×": value * amount, "÷": value // amount}[op]
    assert figure.value == value == apply_parts(figure.parts)


def test_a_counter_that_fell_was_reset() -> None:
    assert rate(100, 400, 2.0) == 150.0
    assert rate(400, 100, 2.0) is None
    assert rate(1, 2, 0.0) is None


def test_flows_share_fairly_and_fill_what_others_leave() -> None:
    # Two flows through resource 0 (10), one of them also through resource 1 (2): it gets 2, the other the 8
    # that are left.
    assert max_min_rates(np.array([[0, -1], [0, 1]]), np.array([10.0, 2.0])).tolist() == [8.0, 2.0]
    assert max_min_rates(np.array([[0, 0], [0, -1]]), np.array([9.0])).tolist() == [3.0, 3.0]
    assert max_min_rates(np.zeros((0, 2), dtype=int), np.array([1.0])).tolist() == []
    assert max_min_rates(np.array([[0, 1]]), np.array([0.0, 5.0])).tolist() == [0.0]


@given(
    st.lists(st.lists(st.integers(0, 4), min_size=2, max_size=2), min_size=1, max_size=8),
    st.lists(st.floats(0.1, 100), min_size=5, max_size=5),
)
def test_no_resource_is_exceeded_and_every_flow_meets_a_full_one(
    routes: list[list[int]], capacities: list[float]
) -> None:
    rates = max_min_rates(np.array(routes), np.array(capacities))
    load = [sum(r * route.count(i) for r, route in zip(rates, routes, strict=True)) for i in range(5)]
    assert all(used <= room * (1 + 1e-9) for used, room in zip(load, capacities, strict=True))
    for rate_, route in zip(rates, routes, strict=True):
        # Max-min: some resource on the way is full, and no flow through it is faster.
        assert any(
            load[i] >= capacities[i] * (1 - 1e-9)
            and rate_ >= max(r for r, other in zip(rates, routes, strict=True) if i in other) * (1 - 1e-9)
            for i in route
        )


def test_protection_in_words() -> None:
    assert (
        mirror(3, Level.RACK).sentence()
        == "three copies, each in another rack; survives the loss of any two racks"
    )
    assert (
        mirror(2, Level.NODE).sentence()
        == "two copies, each in another node; survives the loss of any one node"
    )
    assert (
        mirror(4, Level.RACK, per_domain=2).survives,
        mirror(4, Level.RACK, per_domain=2).least_domains,
    ) == (1, 2)
    with pytest.raises(NotPossible):
        mirror(0, Level.RACK)


def test_a_parent_shows_the_worst() -> None:
    assert worst([State(Lamp.WATCH, "a"), State(Lamp.SHORT, "b"), State(Lamp.SOUND, "c")]).reason == "b"
    assert worst([]).lamp == Lamp.SOUND


def test_states_say_why_and_what_happens_next() -> None:
    view = with_volume(make_site([[[50]], [[50]], [[50]]], 2), 30, 2)
    silent = without_nodes(view, {0}, given_up=False)
    outlook = Outlook(silent, now=12.0, grace_seconds=30.0)
    state = outlook.volume(0)
    assert state.lamp == Lamp.SHORT
    assert state.reason == (
        "Every byte is readable. 20 of 30 extents have one copy left: n1 is not heard since 12 s ago. "
        "If nothing returns before, a rebuild starts in about 18 s."
    )
    assert Outlook(silent, 12.0, 30.0, mending=frozenset({1})).volume(0).lamp == Lamp.MENDING
    assert outlook.headline() == ("Every byte is readable.", "20 extents short of copies, in v1.")
    assert [a.name for a in outlook.attention()][:2] == ["v1", "n1"]
    gone = Outlook(without_nodes(view, {0, 1}, given_up=False), 12.0, 30.0)
    assert gone.volume(0).lamp == Lamp.FAILED
    assert "cannot be read: n1 is not heard since 12 s ago and n2 is not heard" in gone.volume(0).reason
    assert gone.headline()[0] == "10 extents cannot be read."


def test_nobody_keeping_watch_is_the_first_thing_said() -> None:
    view = with_volume(make_site([[[50]], [[50]], [[50]]], 2), 30, 2)
    watched = Outlook(view, 100.0, 30.0, unwatched=9.0)
    assert watched.headline()[0] == "Every byte is readable."
    assert watched.attention() == []
    alone = Outlook(view, 100.0, 30.0, unwatched=45.0)
    assert alone.headline() == ("Nobody has kept watch for 45 s.", "This is how things stood then.")
    assert [(a.title, a.since) for a in alone.attention()] == [("Nobody keeps watch", 55.0)]


def test_how_short_is_counted_and_not_guessed() -> None:
    """Three copies in three racks: those in both lost racks have one copy left, those in one of them two."""
    view = with_volume(make_site([[[60]] for _ in range(5)], 3), 60, 3)
    lost = without_nodes(view, {0, 1})
    found = fate_of(lost, lost.volumes[0])
    assert found.bare > 0
    assert found.reduced > 0
    words = Outlook(lost, 0.0, 30.0).volume(0).reason
    assert (
        f" {found.bare} of 60 extents have one copy left, {found.reduced} have two of three copies: " in words
    )


def test_what_can_be_mended_is_never_said_not_to_be() -> None:
    """The grace time is over, and the rebuild has not begun: whether it can is what planning it says."""
    view = with_volume(make_site([[[60]] for _ in range(4)], 3), 40, 3)
    lost = without_nodes(view, {0})
    strips = plan_rebuild(lost, lost.pools[0], seed=1)
    assert len(strips) > 0
    assert (
        f"A rebuild has a place for {len(strips)} strips, and is due."
        in Outlook(lost, 99.0, 30.0).volume(0).reason
    )
    running = Outlook(lost, 99.0, 30.0, mending=frozenset({1})).volume(0)
    assert (running.lamp, running.reason.endswith("Its rebuild is running.")) == (Lamp.MENDING, True)
    paused = Outlook(lost, 99.0, 30.0, paused={1: 7}).volume(0)
    assert (paused.lamp, paused.reason.endswith("Its rebuild, change 7, is paused.")) == (Lamp.SHORT, True)


def test_what_cannot_be_mended_says_what_is_missing() -> None:
    racks = with_volume(make_site([[[60]] for _ in range(3)], 3), 40, 3)
    lost = without_nodes(racks, {0})
    words = Outlook(lost, 99.0, 30.0, mending=frozenset({1})).volume(0).reason
    assert words.endswith(
        "It cannot be made whole as things are. 40 strips of v1 have no place: it needs 3 racks, 2 "
        "racks take strips."
    )
    full = with_volume(make_site([[[40]], [[40]], [[40]], [[40]]], 3), 53, 3)
    lost = without_nodes(full, {0})
    assert "full, and moving others makes no room there." in Outlook(lost, 99.0, 30.0).volume(0).reason


def test_strips_on_their_way_are_counted() -> None:
    view = with_volume(make_site([[[60]] for _ in range(4)], 3), 40, 3)
    lost = without_nodes(view, {0})
    moves = plan_rebuild(lost, lost.pools[0], seed=1).only(np.arange(30) < 10)
    keys = zip(moves.ply.tolist(), moves.extent.tolist(), moves.strip.tolist(), strict=True)
    under_way = dict(zip(keys, moves.to.tolist(), strict=True))
    lost = changed(lost, under_way=under_way)
    assert (
        "10 strips on their way to other disks." in Outlook(lost, 9.0, 30.0, frozenset({1})).volume(0).reason
    )
    assert len(plan_rebuild(lost, lost.pools[0], seed=1)) == 20


@given(st.floats(0.01, 40.0))
def test_what_lasts_less_than_five_years_never_reads_as_five(years: float) -> None:
    daily = 10**13 / (years * 365)
    found = Endurance(devices=1, size_bytes=10**12, rated_bytes=10**13, daily_bytes=daily, assumed=False)
    said = float(found.sentence("disk").rpartition("about ")[2].split()[0])
    assert said <= found.years * (1 + 1e-12)
    assert (said >= 5) <= found.lasts
