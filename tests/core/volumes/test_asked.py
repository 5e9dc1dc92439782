"""Several volumes asked for at once."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import GB, GIB, TIB
from foldbarn.core.volumes.asked import MOST_AT_ONCE, Asked, asked_for, is_several


def refusal(name: str = "", size: str = "", table: str = "") -> tuple[str, str | None]:
    with pytest.raises(NotPossible) as found:
        asked_for(name, size, table)
    return found.value.sentence, found.value.about


def test_a_pattern_stands_for_a_name_each_with_the_size_of_all() -> None:
    assert is_several("web-{08..10}", "")
    assert not is_several("web-08", " \n")
    assert asked_for("web-{08..10}", "2 GiB", "") == [Asked(f"web-{n}", 2 * GIB) for n in ("08", "09", "10")]
    assert len(asked_for("r{1..3}-{1..4}", "1 GB", "")) == 12


@pytest.mark.parametrize(
    "table",
    [
        "web-1\t500 GB\ndb-{1..2}\t1 TiB\n",  # as a spreadsheet copies it
        "name,size\nweb-1,500 GB\ndb-{1..2},1 TiB",
        "Volume ; Size\n\nweb-1; 500 GB;\n db-{1..2} ; 1TiB ",
        "web-1 500 GB\r\ndb-{1..2}   1 TiB\r\n",
    ],
)
def test_a_table_is_read_however_its_cells_are_kept_apart(table: str) -> None:
    assert asked_for("", "", table) == [Asked("web-1", 500 * GB), Asked("db-1", TIB), Asked("db-2", TIB)]


@given(
    st.dictionaries(
        st.from_regex(r"[a-z][a-z0-9-]{0,20}[a-z0-9]", fullmatch=True).filter(
            lambda name: name not in ("name", "volume")
        ),
        st.integers(1, 10**15),
        min_size=1,
        max_size=20,
    ),
    st.sampled_from(["\t", ",", ";", " ", "  ", " ; "]),
)
def test_what_is_written_as_a_table_is_read_back_in_order(wanted: dict[str, int], apart: str) -> None:
    table = "\n".join(f"{name}{apart}{size} B" for name, size in wanted.items())
    assert asked_for("", "", table) == [Asked(name, size) for name, size in wanted.items()]


def test_what_is_wrong_is_refused_whole_with_its_line() -> None:
    assert refusal("web", "1 GB", "a 1 GB") == ("The table has a name in each line.", "name")
    assert refusal(table="name,size\n") == ("The table has no line with a name and a size.", "table")
    assert refusal(table="a 1 GB\nb") == ("Line 2: 'b' is not a name and a size.", "table")
    assert refusal(table="a,1 GB,fast") == ("Line 1: 'a,1 GB,fast' is not a name and a size.", "table")
    assert refusal(table="a 1 GB\n\nb 1 Gb")[0].startswith("Line 3: ")
    assert refusal(table="a 1 GB\nA 2 GB") == ("A is asked for twice.", "table")
    assert refusal("a-{9..1}", "1 GB") == ("The span {9..1} runs backwards.", "name")
    assert refusal("a-{x}", "1 GB") == ("'a-{x}' has braces that are no span of numbers.", "name")
    assert refusal("a-{1..2}", "") == ("'' is not a size.", "size")
    most = refusal(f"a-{{1..{MOST_AT_ONCE + 1}}}", "1 GB")
    assert most == ("That is 1,001 volumes; 1,000 at once are the most.", "name")
