"""Checks against published sources, reference libraries, and facts of the trade. Each names its source."""

import json
import subprocess
from decimal import Decimal
from fractions import Fraction

import networkx as nx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from kubernetes.utils.quantity import parse_quantity as official_quantity
from scipy.optimize import linprog
from sites import changed, make_site, placed_as, with_volume
from uhashring import HashRing

from foldbarn.core.errors import NotPossible
from foldbarn.core.machines.reading import read_inventory
from foldbarn.core.moving.levelling import level_targets, plan_levelling
from foldbarn.core.pools.capacity import usable_extents
from foldbarn.core.pools.placement import ONE, draw_domains, place, shares, usable_fraction
from foldbarn.core.pools.protection import Level, mirror
from foldbarn.core.units import TB, TIB, parse_quantity, parse_size, quantity_bytes


@pytest.mark.parametrize(
    ("text", "power"),
    [("1 KiB", 10), ("1 MiB", 20), ("1 GiB", 30), ("1 TiB", 40), ("1 PiB", 50), ("1 EiB", 60)],
)
def test_binary_prefixes_of_iec_80000_13(text: str, power: int) -> None:
    """IEC 80000-13:2008, prefixes for binary multiples: kibi is 2**10, mebi (2**10)**2, and so on."""
    assert parse_size(text) == 2**power


@pytest.mark.parametrize(
    ("text", "power"), [("1 kB", 3), ("1 MB", 6), ("1 GB", 9), ("1 TB", 12), ("1 PB", 15)]
)
def test_decimal_prefixes_of_iso_80000_1(text: str, power: int) -> None:
    """ISO 80000-1, SI prefixes: kilo is 10**3, and so on."""
    assert parse_size(text) == 10**power


@pytest.mark.parametrize(
    ("quantity", "value"),
    [
        ("128974848", 128_974_848),
        ("129e6", 129_000_000),
        ("129M", 129_000_000),
        ("128974848000m", 128_974_848),
        ("123Mi", 128_974_848),
        ("500m", Fraction(1, 2)),
        ("1E", 10**18),
        ("1E3", 1000),
        ("1e-3", Fraction(1, 1000)),
        ("+.5Gi", 2**29),
        ("5.", 5),
        ("-3k", -3000),
        ("7n", Fraction(7, 10**9)),
        ("2u", Fraction(2, 10**6)),
    ],
)
def test_quantities_of_the_kubernetes_api(quantity: str, value: Fraction) -> None:
    """Kubernetes documentation, 'Resource units': 128974848, 129e6, 129M, 128974848000m and 123Mi are roughly
    the same value; the grammar in the comment above type Quantity, k8s.io/apimachinery (both from memory)."""
    assert parse_quantity(quantity) == value


@given(
    st.decimals(-(10**6), 10**6, allow_nan=False, allow_infinity=False, places=3),
    st.sampled_from(["", "Ki", "Mi", "Gi", "Ti", "n", "u", "m", "k", "M", "G", "T", "e3", "e-2"]),
)
def test_quantities_mean_what_the_official_client_reads(number: Decimal, suffix: str) -> None:
    """kubernetes.utils.quantity of the Kubernetes project's own Python client; it reckons with 28 digits."""
    text = f"{number:f}{suffix}"
    theirs = Fraction(official_quantity(text))
    assert abs(parse_quantity(text) - theirs) <= abs(theirs) * Fraction(1, 10**25)


@pytest.mark.parametrize(
    "text",
    ["", "1 Gi", "1KB", "1K", "1kB", "1MiB", "1e", "1E1.5", "e3", "1ki", "1GI", "--1", "1_000", "٣", "1e3M"],
)
def test_what_is_no_quantity_of_the_kubernetes_api(text: str) -> None:
    """The same grammar: no space, no B, case matters, an exponent is a whole number and takes no suffix after
    it;
    magnitudes end at 2**63 - 1."""
    with pytest.raises(NotPossible):
        parse_quantity(text)


def test_a_quantity_of_bytes_is_rounded_up_to_a_whole_byte() -> None:
    """As Quantity.Value of k8s.io/apimachinery does (from memory)."""
    assert [quantity_bytes(q) for q in ("500m", "1500m", "1", "2Ki")] == [1, 2, 1, 2048]


def test_twenty_four_drives_of_1_6_tb_are_34_9_tib() -> None:
    """Common practice: what 24 drives sold as 1.6 TB show as in binary units."""
    assert round(24 * 1.6 * TB / TIB, 1) == 34.9


@pytest.mark.parametrize(("copies", "footprint"), [(3, 72), (2, 48)])
def test_copies_of_24_gb(copies: int, footprint: int) -> None:
    """Common practice: three copies of 24 GB take 72 GB (and a little for metadata); two take double."""
    view = with_volume(make_site([[[40]], [[40]], [[40]]], copies), 24, copies)
    assert int(view.disk_used.sum()) == footprint
    assert usable_extents(np.array([24, 24, 24]), np.arange(3), mirror(3, Level.RACK)) == 24


def test_a_fourth_equal_node_takes_three_tb_raw_to_four() -> None:
    """Common practice: capacity is added node by node; usable grows with raw while domains stay equal."""
    three, four = (usable_extents(np.full(n, 1000), np.arange(n), mirror(2, Level.NODE)) for n in (3, 4))
    assert (three, four) == (1500, 2000)


@settings(deadline=None)
@given(st.lists(st.integers(0, 300), min_size=1, max_size=7), st.integers(1, 4), st.integers(1, 3))
def test_usable_space_is_the_optimum_of_its_linear_program(
    room: list[int], strips: int, per_domain: int
) -> None:
    """Reference: scipy.optimize.linprog (HiGHS). Maximise U with x_i <= c_i, x_i <= t*U, sum x_i = w*U."""
    count = len(room)
    rows = np.hstack([np.eye(count), np.full((count, 1), -per_domain)])
    answer = linprog(
        np.append(np.zeros(count), -1.0),
        A_ub=rows,
        b_ub=np.zeros(count),
        A_eq=[[*np.ones(count), -strips]],
        b_eq=[0],
        bounds=[*((0, c) for c in room), (0, None)],
    )
    assert float(usable_fraction(np.array(room), strips, per_domain)) == pytest.approx(-answer.fun, abs=1e-6)


@settings(deadline=None)
@given(
    st.lists(st.lists(st.integers(0, 60), min_size=1, max_size=3), min_size=1, max_size=4),
    st.integers(1, 4),
    st.integers(1, 3),
)
def test_nested_usable_space_is_the_optimum_of_its_linear_program(
    racks: list[list[int]], strips: int, per_domain: int
) -> None:
    """Reference: scipy.optimize.linprog (HiGHS). As above, and every disk holds at most one strip of an
    extent: x_ij <= U.
    """
    sizes = [s for rack in racks for s in rack]
    rack_of = [r for r, rack in enumerate(racks) for _ in rack]
    count = len(sizes)
    by_disk = np.hstack([np.eye(count), np.full((count, 1), -1.0)])
    by_rack = np.array(
        [[*(float(r == rack) for r in rack_of), -float(per_domain)] for rack in range(len(racks))]
    )
    limits = np.vstack([by_disk, by_rack])
    answer = linprog(
        np.append(np.zeros(count), -1.0),
        A_ub=limits,
        b_ub=np.zeros(len(limits)),
        A_eq=[[*np.ones(count), -strips]],
        b_eq=[0],
        bounds=[*((0, s) for s in sizes), (0, None)],
    )
    found = usable_extents(np.array(sizes), np.array(rack_of), mirror(strips, Level.RACK, per_domain))
    assert found == int(-answer.fun + 1e-6)


def test_systematic_sampling_has_the_inclusion_probabilities_it_is_given() -> None:
    """Madow 1949 (Annals of Mathematical Statistics 20): unit i is included with probability pi_i exactly.

    Over evenly spaced starts u the count of each unit is within one of N * pi_i in every order.
    """
    probabilities = shares(np.array([5, 9, 2, 14, 10]), 2)
    edges = np.cumsum(probabilities)
    starts = np.arange(1000) * ONE // 1000
    hits = np.searchsorted(edges, np.concatenate([starts, starts + ONE]), side="right")
    assert (np.abs(np.bincount(hits, minlength=5) - probabilities / ONE * 1000) <= 1).all()


@settings(deadline=None, max_examples=30)
@given(st.integers(0, 10_000))
def test_levelling_moves_as_little_as_a_minimum_cost_flow(seed: int) -> None:
    """Reference: networkx.min_cost_flow. Every strip may go to any disk at cost 1, or stay at 0; disks end at
    their targets.
    """
    rng = np.random.default_rng(seed)
    view = make_site([[[40]] for _ in range(5)], copies=2)
    start = np.array([rng.permutation(5)[:2] + 1 for _ in range(24)], dtype=np.int32)
    old = with_volume(view, 24).volumes[0]
    view = changed(view, volumes=(placed_as(old, start),))
    targets = level_targets(view, view.pools[0])
    graph = nx.DiGraph()
    for extent, row in enumerate(start.tolist()):
        graph.add_node(("extent", extent), demand=-2)
        for disk in range(1, 6):
            graph.add_edge(
                ("extent", extent), disk, capacity=1, weight=0 if disk in row else 1
            )  # one strip per disk keeps the spread
    for disk in range(1, 6):
        graph.add_node(disk, demand=int(targets[disk - 1]))
    least = nx.min_cost_flow_cost(graph)
    moves = plan_levelling(view, view.pools[0], seed=seed)
    surplus = int(np.maximum(view.disk_used - targets, 0).sum())
    assert len(moves) <= least
    assert len(moves) + moves.stuck == surplus <= least


def test_our_placement_strays_less_than_the_hash_ring_and_weighted_rendezvous() -> None:
    """References: PyPI's uhashring, and weighted rendezvous hashing by its formula -w / ln(h) (IETF
    draft-mohanty-bess-weighted-hrw).
    """
    domains, extents, copies = 40, 20_000, 3
    expected = extents * copies / domains
    ours = np.bincount(
        place(np.full(domains, 10**6), np.arange(domains), np.arange(domains), extents, copies, 1).reshape(-1)
    )
    ring = HashRing(nodes=[str(d) for d in range(domains)])
    held = np.zeros(domains)
    for extent in range(2000):
        held[[int(n["nodename"]) for n in ring.range(f"extent {extent}", size=copies)]] += extents / 2000
    rng = np.random.default_rng(5)
    rendezvous = np.argsort(-1.0 / np.log(rng.random((extents, domains))), axis=1)[:, -copies:]
    strays = [
        float(np.abs(c - expected).max() / expected)
        for c in (ours, np.bincount(rendezvous.reshape(-1)), held)
    ]
    assert strays[0] < 0.005
    assert strays[0] < strays[1] / 3
    assert strays[0] < strays[2] / 3


def test_drawing_matches_numpys_own_weighted_choice_in_expectation() -> None:
    """Reference: numpy.random.Generator.choice for one copy: the same expected counts, ours with less
    scatter.
    """
    weights = np.array([1, 2, 3, 4])
    ours = np.bincount(draw_domains(shares(weights, 1), 10_000, 1, 3).reshape(-1))
    theirs = np.bincount(np.random.default_rng(3).choice(4, size=10_000, p=weights / 10))
    expected = weights / 10 * 10_000
    assert np.abs(ours - expected).sum() < np.abs(theirs - expected).sum()


def test_the_lsblk_of_this_machine_is_understood() -> None:
    """The tool itself: util-linux's lsblk on the machine that the tests run on, in the call that the agent
    protocol names.
    """
    try:
        said = subprocess.run(
            ["lsblk", "--json", "--bytes", "--output-all"], capture_output=True, text=True, check=True
        )
    except (FileNotFoundError, subprocess.CalledProcessError) as error:
        pytest.skip(f"lsblk does not run here: {error}")
    report = {"node": {"name": "here", "room": "r", "rack": "k"}, "lsblk": json.loads(said.stdout)}
    disks = [
        d
        for d in report["lsblk"]["blockdevices"]
        if d["type"] == "disk" and not d["name"].startswith(("zram", "ram"))
    ]
    found = read_inventory(report)
    assert sum(len(d.paths) for d in found.disks) == len(disks)
    assert {d.size_bytes for d in found.disks} == {int(d["size"]) for d in disks}
