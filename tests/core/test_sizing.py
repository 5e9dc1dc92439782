"""The sizing bench: plans are read and written without loss, refused line by line, and come to what a real pool would."""

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.capacity import pool_space
from foldbarn.core.durability import LossChance
from foldbarn.core.errors import NotPossible
from foldbarn.core.protection import Level
from foldbarn.core.sizing import LEFT_OUT, Settings, comparison_csv, read_plan, say_chance, size_up, write_plan

PLAN = """
room North
rack A
  heron-{1..2}: 8 x 3.84 TB SSD, 2 x 1.92 TB NVMe, 2 x 25 Gb/s   # the newest
rack B
  heron-3: 8 x 3.84 TB SATA SSD, 2x1.92TB NVMe, 1 x 100 Gb/s
room South
rack C
  heron-4: 6 × 12 TB SAS HDD
"""


def test_a_plan_becomes_a_site() -> None:
    view = read_plan(PLAN)
    assert [r.name for r in view.rooms] == ["North", "South"]
    assert [(k.name, view.rooms[k.room].name) for k in view.racks] == [("A", "North"), ("B", "North"), ("C", "South")]
    assert [(n.name, view.racks[n.rack].name, n.port_bytes_per_second) for n in view.nodes] == [
        ("heron-1", "A", 6_250_000_000),
        ("heron-2", "A", 6_250_000_000),
        ("heron-3", "B", 12_500_000_000),
        ("heron-4", "C", 6_250_000_000),  # two of 25 Gb/s where nothing is said
    ]
    assert len(view.disks) == 10 + 10 + 10 + 6
    assert {(d.media, d.bus, d.size_bytes) for d in view.disks if d.node == 3} == {("hdd", "sas", 12 * 10**12)}


def test_a_pasted_table_is_read_with_its_heading() -> None:
    view = read_plan("rack\tnode\tcount\tsize\tmedium\nNQ-1\tfulmar\t8\t3.84 TB\tSSD\nNQ-1\tfulmar\t2\t1.92 TB\tNVMe\nNQ-2;petrel;6;12 TB;HDD")
    assert [(n.name, view.racks[n.rack].name) for n in view.nodes] == [("fulmar", "NQ-1"), ("petrel", "NQ-2")]
    assert len(view.disks) == 16


names = st.from_regex(r"[a-z]{1,6}-[0-9]{1,2}", fullmatch=True)
kinds = st.sampled_from(["8 x 3.84 TB SSD", "2 x 1.92 TB NVMe", "6 x 12 TB SAS HDD", "1 x 999999999999 B SATA SSD", "3 x 512 GB pmem"])


@given(st.dictionaries(names, st.lists(kinds, min_size=1, max_size=3, unique=True), min_size=1, max_size=6))
def test_what_is_written_reads_back_the_same(nodes: dict[str, list[str]]) -> None:
    view = read_plan("\n".join(f"{name}: {', '.join(parts)}" for name, parts in nodes.items()))
    again = read_plan(write_plan(view))
    assert [(n.name, n.port_bytes_per_second) for n in again.nodes] == [(n.name, n.port_bytes_per_second) for n in view.nodes]

    def counted(v: object) -> list[tuple[object, ...]]:
        return sorted((d.node, d.media, d.bus, d.size_bytes) for d in v.disks)  # type: ignore[attr-defined]

    assert counted(again) == counted(view)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "The plan has no disk"),
        ("fulmar", "Line 1: 'fulmar' is no room, no rack, and no node"),
        ("fulmar: eight disks", "Line 1: 'eight disks' is neither disks"),
        ("fulmar: 8 x 3.84 XB SSD", "Line 1: 'XB' is not a unit of size"),
        ("fulmar: 8 x 3.84 TB SSD\nfulmar: 1 x 1 TB HDD", "Line 2: There are two nodes named 'fulmar'"),
        ("a-{9..1}: 8 x 3.84 TB SSD", "Line 1: The span {9..1} runs backwards"),
        ("a-{1..3000}: 1 x 1 TB SSD", "more than the bench takes"),
        ("a: 9000 x 1 TB SSD", "A node has 1 to 2,048 disks"),
        ("NQ-1;petrel;six;12 TB;HDD\nNQ-1;auk;1;1 TB;HDD\nNQ-1;b;x;1 TB;HDD", "Line 3: 'x' is no number of disks"),
    ],
)
def test_a_bad_plan_is_refused_with_its_lines(text: str, words: str) -> None:
    with pytest.raises(NotPossible) as caught:
        read_plan(text)
    assert words in caught.value.sentence


def test_a_plan_comes_to_what_a_pool_of_it_would() -> None:
    view = read_plan("rack A\na: 8 x 4 TB SSD\nrack B\nb: 8 x 4 TB SSD\nrack C\nc: 8 x 4 TB SSD\nrack D\nd: 8 x 4 TB SSD")
    found = size_up(view, Settings(copies=3, level=Level.RACK, headroom=Level.RACK))
    slots = (4 * 10**12 - 4 * 10**10) // 2**30
    assert found.without_headroom_bytes == 8 * slots * 4 // 3 * 2**30
    assert found.usable_bytes == 8 * slots * 2**30  # what any three racks hold
    assert sum(amount for _, amount in found.ledger.rows()) == found.ledger.raw == 128 * 10**12
    assert pool_space(found.view, found.pool).usable * 2**30 == found.usable_bytes
    assert "After losing any one rack everything can be rebuilt" in found.healing
    assert found.additions[0].gain_bytes > 0
    # A rebuild writes again what the disk held, over at most the disks of its peers: more than at their full speed is impossible.
    held = found.rebuild_disk.bytes_moved
    assert 0.8 * 0.85 * 3 / 4 * slots * 2**30 < held <= slots * 2**30
    assert held * 2 / (31 * 450 * 10**6) <= found.rebuild_disk.seconds <= held * 2 / (8 * 450 * 10**6)
    assert 7 * held < found.rebuild_node.bytes_moved < 9 * held


def test_too_few_racks_is_said_and_not_computed_around() -> None:
    found = size_up(read_plan("rack A\na: 8 x 4 TB SSD\nb: 8 x 4 TB SSD"), Settings(copies=3, level=Level.RACK))
    assert found.usable_bytes == 0
    assert next(r for r in found.protections if r.protection.copies == 3 and r.protection.level == Level.RACK).why_not == "It needs 3 racks; there is 1."
    assert found.rebuild_disk.seconds == 0


def test_variants_side_by_side_as_csv() -> None:
    view = read_plan(PLAN)
    table = list(csv.reader(io.StringIO(comparison_csv([("with cache", size_up(view, Settings())), ("without", size_up(view, Settings(serves="capacity")))]))))
    assert table[0] == ["", "with cache", "without"]
    by_label = {row[0]: row[1:] for row in table}
    assert int(by_label["Raw, bytes"][0]) == sum(d.size_bytes for d in view.disks)
    assert by_label["Cache"] == ["11.52 TB", "0 B"]
    assert int(by_label["Usable, bytes"][1]) > int(by_label["Usable, bytes"][0])
    assert table[-1] == [LEFT_OUT]


@pytest.mark.parametrize(
    ("a_year", "words"),
    [(0.0, "none"), (1e-15, "less than 1 in a million million"), (1 / 4712, "1 in 4,700"), (0.009, "1 in 110"), (0.7, "more likely than not")],
)
def test_chances_are_said_with_two_figures(a_year: float, words: str) -> None:
    assert say_chance(LossChance(a_year, 1.0, 1.0, 0.01)) == words
