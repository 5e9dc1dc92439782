"""How data is protected: how many strips an extent has, how many of them it needs, and what they must keep
apart.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.errors import NotPossible
from foldbarn.core.units import say_count


class Level(StrEnum):
    """A level of the physical tree at which things fail as a whole, widest first."""

    ROOM = "room"
    RACK = "rack"
    NODE = "node"
    DISK = "disk"


MOST_COPIES = 5
_WORDS = {1: "one", 2: "two", 3: "three", 4: "four", 5: "five"}


@dataclass(frozen=True, slots=True)
class Scheme:
    """k strips of data and m more for each extent, spread over one level, at most `per_domain` in one domain.
    A mirror of n has k = 1 and m = n - 1; any k strips of an extent are enough to read it.
    """

    k: int
    m: int
    level: Level
    per_domain: int = 1

    def __post_init__(self) -> None:
        if self.k < 1 or self.m < 0:
            raise NotPossible("A scheme has at least one strip of data.")
        if self.k == 1 and self.m >= MOST_COPIES:
            raise NotPossible(
                f"A volume has between 1 and {MOST_COPIES} copies, not {self.m + 1}.", about="copies"
            )
        if self.per_domain < 1:
            raise NotPossible("At least one strip must be allowed in a domain.", about="per_domain")
        if self.per_domain > 1 and self.level == Level.DISK:
            raise NotPossible(
                "Two strips of an extent never share a disk.",
                about="per_domain",
                next_step="Spread over nodes or racks, where several strips may lie in one.",
            )

    @property
    def strips(self) -> int:
        """w = k + m: strips of one extent."""
        return self.k + self.m

    @property
    def survives(self) -> int:
        """Domains that may be lost with the data still readable: floor(m / t)."""
        return self.m // self.per_domain

    @property
    def least_domains(self) -> int:
        """Domains without which nothing can be placed: ceil(w / t)."""
        return -(-self.strips // self.per_domain)

    @property
    def is_mirror(self) -> bool:
        return self.k == 1

    def counted(self) -> str:
        """Its strips, such as "3 copies", or "4 and 2 of parity"."""
        if self.is_mirror:
            return say_count(self.strips, "copy", "copies")
        return f"{self.k} and {self.m} of parity"

    def strip_names(self) -> list[str]:
        """Short names of an extent's strips: A, B, C of copies; 1, 2 and P1 of data and parity."""
        if self.is_mirror:
            return [chr(ord("A") + i) for i in range(self.strips)]
        return [str(i + 1) for i in range(self.k)] + [f"P{i + 1}" for i in range(self.m)]

    def strip_lines(self) -> list[str]:
        """The same, where there is room for a word."""
        kinds = ["Copy"] * self.strips if self.is_mirror else ["Data"] * self.k + ["Parity"] * self.m
        return [
            f"{kind} {name.removeprefix('P')}" for kind, name in zip(kinds, self.strip_names(), strict=True)
        ]

    def sentence(self) -> str:
        """The protection in words."""
        if self.strips == 1:
            return "one copy, which survives no loss"
        losses = "any one" if self.survives == 1 else f"any {_WORDS.get(self.survives, str(self.survives))}"
        ending = "" if self.survives == 1 else "s"
        held = f"{_WORDS[self.strips]} copies" if self.is_mirror else f"strips of {self.counted()}"
        survived = f"survives the loss of {losses} {self.level}{ending}"
        if not self.survives:
            survived = f"survives the loss of no {self.level}"
        return f"{held}, {self.apart()}; {survived}"

    def apart(self) -> str:
        """How its strips are kept apart, in words."""
        if self.per_domain == 1:
            return f"each in another {self.level}"
        most = _WORDS.get(self.per_domain, str(self.per_domain))
        return f"at most {most} in one {self.level} and each on another disk"


def mirror(copies: int, level: Level, per_domain: int = 1) -> Scheme:
    """So many copies of everything. Raises NotPossible for fewer than one or more than five."""
    if copies < 1:
        raise NotPossible(f"A volume has between 1 and {MOST_COPIES} copies, not {copies}.", about="copies")
    return Scheme(1, copies - 1, level, per_domain)
