"""Ledgers as they are printed: rows and columns add up as they stand there, whatever the amounts."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from foldbarn.core.figures import Figure, Part, apply_parts, make_figure
from foldbarn.core.pools.capacity import LEDGER_PARTS, Ledger
from foldbarn.core.pools.printing import TB, TIB, print_ledger, print_whole, round_together

amounts = st.lists(st.integers(0, 10**17), min_size=1, max_size=20)


@st.composite
def ledgers(draw: st.DrawFn) -> Ledger:
    parts = {name: draw(st.integers(0, 10**16)) for name in LEDGER_PARTS}
    return Ledger(raw=sum(parts.values()), **parts)


@given(amounts, st.sampled_from([TB, TIB]))
def test_what_is_rounded_together_adds_up_to_the_rounded_sum(found: list[int], unit: int) -> None:
    printed = round_together(found, unit)
    for amount, hundredths in zip(found, printed, strict=True):
        assert abs(hundredths * unit - amount * 100) < unit
    assert abs(sum(printed) * unit - sum(found) * 100) * 2 <= unit


def test_the_missing_hundredths_go_to_the_largest_remainders() -> None:
    # 11.4, 4.4 and 20.2 GB are 36: four hundredths of a TB; rounded each by itself they would be 1 + 0 + 2.
    assert round_together([11_400_000_000, 4_400_000_000, 20_200_000_000], TB) == [1, 1, 2]
    # Three times 0.5 of a hundredth: 1.5, which is 2; each by itself would be 3 or 0.
    assert round_together([5 * 10**9] * 3, TB) == [1, 1, 0]


@given(st.lists(ledgers(), min_size=1, max_size=4))
def test_rows_and_columns_add_up_as_printed_and_to_the_byte(found: list[Ledger]) -> None:
    rows = [print_ledger(f"pool {n}", ledger) for n, ledger in enumerate(found)]
    whole = print_whole("Whole site", rows)
    for row in [*rows, whole]:
        for of in ("bytes", "tb", "tib"):
            assert sum(getattr(p, of) for p in row.parts) == getattr(row.raw, of)
        for part in [row.raw, *row.parts]:
            assert (part.figure.value if part.figure else 0) == part.bytes
            assert not part.figure or apply_parts(part.figure.parts) == part.bytes
    for column, ours in enumerate(whole.parts):
        for of in ("bytes", "tb", "tib"):
            assert getattr(ours, of) == sum(getattr(row.parts[column], of) for row in rows)
    assert whole.raw.bytes == sum(ledger.raw for ledger in found)


def test_what_is_free_opens_into_the_sum_that_is_given_for_it() -> None:
    free: Figure = make_figure("Free in quayside", "bytes", [Part("+", "disks", 7, "bytes")])
    row = print_ledger("quayside", Ledger(raw=10, written=3, free=7), free)
    assert row.parts[-1].figure is free
    assert [p.label for p in row.parts[-2].figure.parts] == ["raw", "free to use"]  # type: ignore[union-attr]
