"""Several volumes asked for at once: as a pattern of names, or as a table from a spreadsheet."""

from __future__ import annotations

import re
from dataclasses import dataclass

from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.names import expand, folded
from foldbarn.core.units import parse_size

MOST_AT_ONCE = 1000  # each is placed beside those before it, and a person reads the whole list
_APART = re.compile(r"[\t;,]")  # cells of a line; where there are none of these, spaces after the name
_HEADS = ("name", "volume")


@dataclass(frozen=True, slots=True)
class Asked:
    """A volume asked for: its name, and bytes."""

    name: str
    size: int


def is_several(name: str, table: str) -> bool:
    """Whether this asks for other than one volume of this name."""
    return bool(table.strip()) or "{" in name or "}" in name


def asked_for(name: str, size: str, table: str) -> list[Asked]:
    """The volumes that a pattern of names and a size ask for, or a table: a line each, with a name or a
    pattern, and a size; a first line that heads the columns is passed over.

    Raises NotPossible, for a table with the line: neither or both of the two, no size, a pattern or a size
    that is none, a name twice, more than 1,000.
    """
    if not table.strip():
        found = [Asked(one, parse_size(size)) for one in _names(name, "name")]
    elif name.strip():
        raise NotPossible(
            "The table has a name in each line.", about="name", next_step="Leave the name empty."
        )
    else:
        found = [asked for line in _lines(table) for asked in line]
    if not found:
        raise NotPossible("The table has no line with a name and a size.", about="table")
    about = "table" if table.strip() else "name"
    if len(found) > MOST_AT_ONCE:
        words = f"That is {len(found):,} volumes; {MOST_AT_ONCE:,} at once are the most."
        raise NotPossible(words, about=about, next_step="Make them in several changes.")
    seen: set[str] = set()
    for one in found:
        if folded(one.name) in seen:
            raise NotPossible(f"{one.name} is asked for twice.", about=about)
        seen.add(folded(one.name))
    return found


def _names(pattern: str, about: str) -> list[str]:
    try:
        return expand(pattern.strip())
    except BarnError as error:
        raise NotPossible(error.sentence, about=about, next_step=error.next_step) from error


def _lines(table: str) -> list[list[Asked]]:
    """What each line asks for."""
    found: list[list[Asked]] = []
    for number, line in enumerate(table.splitlines(), 1):
        if not line.strip():
            continue
        apart = _APART.split(line) if _APART.search(line) else line.split(None, 1)
        cells = [cell.strip() for cell in apart]
        if not found and folded(cells[0]) in _HEADS:
            continue
        try:
            if len([cell for cell in cells if cell]) != 2 or not cells[0]:
                words = f"'{line.strip()[:60]}' is not a name and a size."
                raise NotPossible(words, next_step="Write a line such as web-01, 500 GB.")
            size = parse_size(cells[1])
            found.append([Asked(name, size) for name in _names(cells[0], "table")])
        except BarnError as error:
            words = f"Line {number}: {error.sentence}"
            raise NotPossible(words, about="table", next_step=error.next_step) from error
    return found
