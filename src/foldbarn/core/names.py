"""Names people give, and the order names are listed in."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable

from foldbarn.core.errors import Conflict, NotPossible

LONGEST_NAME = 63  # the longest label of RFC 1123, so that a name can be used as one
_NAME = re.compile(r"[a-z0-9]([a-z0-9-]*[a-z0-9])?", re.IGNORECASE | re.ASCII)


def folded(name: str) -> str:
    """What names are compared by: case does not tell them apart."""
    return name.casefold()


def natural_key(name: str) -> tuple[tuple[int, int, str], ...]:
    """Sort key that puts nq-2 before nq-10 and ignores case."""
    key: list[tuple[int, int, str]] = []
    for part in re.split("([0-9]+)", folded(name)):
        if part.isascii() and part.isdecimal():
            # By length, then digit by digit: as the numbers are ordered, however long they are.
            digits = part.lstrip("0")
            key.append((0, len(digits), digits))
        elif part:
            key.append((1, 0, part))
    return tuple(key)


def fitting(wanted: str, taken: Collection[str]) -> str:
    """A name that comes as close to what is wanted (a name of the Kubernetes API) as one here can; with a
    number where another thing is called so.
    """
    whole, known = wanted.replace(".", "-"), {folded(name) for name in taken}
    name, number = whole[:LONGEST_NAME].rstrip("-"), 1
    while folded(name) in known:
        number += 1
        end = f"-{number}"
        name = whole[: LONGEST_NAME - len(end)].rstrip("-") + end
    return name


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
        raise NotPossible(
            f"'{name}' cannot be a name.",
            about="name",
            next_step="Use letters, digits and hyphens, with a letter or digit at both ends.",
        )
    twin = next((other for other in taken if folded(other) == folded(name)), None)
    if twin is not None:
        but_for_case = "" if twin == name else f" (as '{twin}'; case does not tell names apart)"
        raise Conflict(
            f"A {kind} named '{name}' exists already{but_for_case}.",
            about="name",
            next_step="Choose another name.",
        )
    return name


MOST_LABELS = 12


def labels_of(words: Iterable[str], about: str = "labels") -> tuple[str, ...]:
    """Labels, trimmed, in small letters, each once and in order. Raises NotPossible for what cannot be one,
    and for too many.
    """
    found = {word.strip().lower() for word in words}
    wrong = sorted(word for word in found if not _NAME.fullmatch(word) or len(word) > LONGEST_NAME)
    if wrong:
        raise NotPossible(
            f"'{wrong[0][:LONGEST_NAME]}' cannot be a label.",
            about=about,
            next_step="Use letters, digits and hyphens, with a letter or digit at both ends.",
        )
    if len(found) > MOST_LABELS:
        raise NotPossible(f"{len(found)} labels are too many; {MOST_LABELS} are the most.", about=about)
    return tuple(sorted(found, key=natural_key))


_SPAN = re.compile(r"\{([0-9]{1,9})\.\.([0-9]{1,9})\}")
MOST_NAMES = 4096


def expand(pattern: str) -> list[str]:
    """Names of a pattern: "heron-{01..12}" is heron-01 to heron-12, leading zeros kept; without braces, the
    one name.

    Several spans multiply, the last one running fastest. Raises NotPossible: a span that runs backwards,
    braces that are no span, more than 4096 names.
    """
    parts = _SPAN.split(pattern)
    names = [parts[0]]
    for first, last, rest in zip(parts[1::3], parts[2::3], parts[3::3], strict=True):
        if int(last) < int(first):
            raise NotPossible(
                f"The span {{{first}..{last}}} runs backwards.",
                about="pattern",
                next_step=f"Write {{{last}..{first}}}.",
            )
        if (int(last) - int(first) + 1) * len(names) > MOST_NAMES:
            raise NotPossible(f"'{pattern}' stands for more than {MOST_NAMES:,} names.", about="pattern")
        width = len(first) if first.startswith("0") else 0
        names = [
            f"{name}{number:0{width}d}{rest}" for name in names for number in range(int(first), int(last) + 1)
        ]
    if any("{" in name or "}" in name for name in names):
        raise NotPossible(
            f"'{pattern}' has braces that are no span of numbers.",
            about="pattern",
            next_step="Write a span as {1..9} or {01..12}.",
        )
    return names
