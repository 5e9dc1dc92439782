"""How a volume's data is protected: how many strips an extent has, and what they must keep apart."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.errors import NotPossible


class Level(StrEnum):
    """A level of the physical tree at which things fail as a whole, widest first."""

    ROOM = "room"
    RACK = "rack"
    NODE = "node"
    DISK = "disk"


MOST_COPIES = 5


@dataclass(frozen=True, slots=True)
class Protection:
    """Mirror-n spread over one level: k = 1 data strip and m = n − 1 more, at most `per_domain` in one
    domain.
    """

    copies: int
    level: Level
    per_domain: int = 1

    def __post_init__(self) -> None:
        if not 1 <= self.copies <= MOST_COPIES:
            raise NotPossible(
                f"A volume has between 1 and {MOST_COPIES} copies, not {self.copies}.", about="copies"
            )
        if self.per_domain < 1:
            raise NotPossible("At least one strip must be allowed in a domain.", about="per_domain")

    @property
    def strips(self) -> int:
        """w = k + m: strips of one extent."""
        return self.copies

    @property
    def survives(self) -> int:
        """Domains that may be lost with the data still readable: floor(m / t)."""
        return (self.copies - 1) // self.per_domain

    @property
    def least_domains(self) -> int:
        """Domains without which nothing can be placed: ceil(w / t)."""
        return -(-self.strips // self.per_domain)

    def sentence(self) -> str:
        """The protection in words."""
        if self.copies == 1:
            return "one copy, which survives no loss"
        words = {2: "two", 3: "three", 4: "four", 5: "five"}
        losses = "any one" if self.survives == 1 else f"any {words.get(self.survives, str(self.survives))}"
        ending = "" if self.survives == 1 else "s"
        return (
            f"{words[self.copies]} copies, each in another {self.level}; survives the loss of {losses} "
            f"{self.level}{ending}"
        )
