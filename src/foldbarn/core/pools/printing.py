"""A ledger as it is printed: rounded so that rows and columns add up as they stand there, each number opened
into its sum.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.pools.capacity import LEDGER_GROWS, LEDGER_LABELS, Ledger

TB = 10**12
TIB = 2**40


@dataclass(frozen=True, slots=True)
class PrintedPart:
    """One number of a ledger. tb, tib: whole hundredths of them, as printed; grows: by itself, as consumers
    write; figure: the exact sum behind it, where there is one.
    """

    name: str
    label: str
    bytes: int
    tb: int
    tib: int
    grows: bool
    figure: Figure | None


@dataclass(frozen=True, slots=True)
class PrintedLedger:
    """The account of raw bytes. The parts add up to raw: their bytes to the byte, and what is printed of
    them as printed.
    """

    name: str
    raw: PrintedPart
    parts: tuple[PrintedPart, ...]


def round_together(amounts: Sequence[int], unit: int) -> list[int]:
    """Whole hundredths of a unit that add up to the rounded sum of the amounts, each less than one away from
    its own: rounded down, and those that are missing given to the largest remainders (the first of equals).
    """
    hundredths = [amount * 100 // unit for amount in amounts]
    missing = (sum(amounts) * 200 + unit) // (2 * unit) - sum(hundredths)
    by_rest = sorted(range(len(amounts)), key=lambda i: -(amounts[i] * 100 % unit))
    for i in by_rest[:missing]:
        hundredths[i] += 1
    return hundredths


def print_ledger(name: str, ledger: Ledger, free: Figure | None = None) -> PrintedLedger:
    """free: the sum that opens behind what is free, in place of the plain one."""
    rows = ledger.rows()
    tb = round_together([amount for _, amount in rows], TB)
    tib = round_together([amount for _, amount in rows], TIB)
    parts = tuple(
        PrintedPart(
            name=part,
            label=LEDGER_LABELS[part],
            bytes=amount,
            tb=tb[i],
            tib=tib[i],
            grows=part in LEDGER_GROWS,
            figure=free if part == "free" and free else _left_over(name, ledger, part),
        )
        for i, (part, amount) in enumerate(rows)
    )
    lines = [(p.label, p.bytes) for p in parts]
    return PrintedLedger(name, _raw(name, lines, sum(tb), sum(tib)), parts)


def print_whole(name: str, ledgers: Sequence[PrintedLedger]) -> PrintedLedger:
    """All of them in one: what is printed is the sum of what is printed of each."""
    columns = zip(*(ledger.parts for ledger in ledgers), strict=True)
    names = [ledger.name for ledger in ledgers]
    parts = tuple(
        PrintedPart(
            name=column[0].name,
            label=column[0].label,
            bytes=sum(p.bytes for p in column),
            tb=sum(p.tb for p in column),
            tib=sum(p.tib for p in column),
            grows=column[0].grows,
            figure=_summed(f"{name}: {column[0].label}", zip(names, (p.bytes for p in column), strict=True)),
        )
        for column in columns
    )
    lines = [(ledger.name, ledger.raw.bytes) for ledger in ledgers]
    raw = _raw(name, lines, sum(g.raw.tb for g in ledgers), sum(g.raw.tib for g in ledgers))
    return PrintedLedger(name, raw, parts)


def _left_over(name: str, ledger: Ledger, part: str) -> Figure | None:
    """What is left of raw when every other part is taken off; none where nothing is."""
    if not getattr(ledger, part):
        return None
    lines = [Part("+", "raw", ledger.raw, "bytes")]
    lines += [
        Part("−", LEDGER_LABELS[other], amount, "bytes", grows=other in LEDGER_GROWS)
        for other, amount in ledger.rows()
        if amount and other != part
    ]
    return make_figure(f"{name}: {LEDGER_LABELS[part]}", "bytes", lines)


def _raw(name: str, lines: Iterable[tuple[str, int]], tb: int, tib: int) -> PrintedPart:
    """Raw is what its parts are, of one ledger or of all of them."""
    figure = _summed(f"{name}: raw", lines, "Raw is the size the disks report.")
    return PrintedPart("raw", "raw", int(figure.value), tb, tib, grows=False, figure=figure)


def _summed(label: str, lines: Iterable[tuple[str, int]], note: str = "") -> Figure:
    return make_figure(label, "bytes", [Part("+", what, n, "bytes") for what, n in lines if n], note)
