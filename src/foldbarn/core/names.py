"""Names people give, and the order names are listed in."""

from __future__ import annotations

import re

from foldbarn.core.errors import Conflict, NotPossible

LONGEST_NAME = 63  # the longest label of RFC 1123, so that a name can be used as one
_NAME = re.compile(r"[a-z0-9]([a-z0-9-]*[a-z0-9])?", re.IGNORECASE)


def natural_key(name: str) -> tuple[tuple[int, int, str], ...]:
    """Sort key that puts nq-2 before nq-10 and ignores case."""
    return tuple((0, int(part), "") if part.isdecimal() else (1, 0, part) for part in re.split(r"(\d+)", name.casefold()) if part)


def check_name(name: str, kind: str, taken: list[str]) -> str:
    """The name, trimmed, if it may be given to a new thing of this kind.

    Raises NotPossible: empty, longer than 63 characters, or not a label of RFC 1123 (letters, digits, inner
    hyphens; capitals are allowed). Raises Conflict: taken, also when only the case differs.
    """
    name = name.strip()
    if not name:
        raise NotPossible(f"The {kind} needs a name.", about="name")
    if len(name) > LONGEST_NAME:
        raise NotPossible(f"The name has {len(name)} characters; {LONGEST_NAME} are the most.", about="name")
    if not _NAME.fullmatch(name):
        raise NotPossible(f"'{name}' cannot be a name.", about="name", next_step="Use letters, digits and hyphens, with a letter or digit at both ends.")
    twin = next((other for other in taken if other.casefold() == name.casefold()), None)
    if twin is not None:
        but_for_case = "" if twin == name else f" (as '{twin}'; case does not tell names apart)"
        raise Conflict(f"A {kind} named '{name}' exists already{but_for_case}.", about="name", next_step="Choose another name.")
    return name
