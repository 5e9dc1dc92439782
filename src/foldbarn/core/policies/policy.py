"""What a policy says: a named, versioned set of wishes that a volume keeps."""

from __future__ import annotations

from dataclasses import dataclass

from foldbarn.core.errors import NotPossible
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.units import say_count

MOST_DATA = 16  # strips of data in a stripe: more take longer to read than they save room
MOST_PARITY = 4  # strips of parity


@dataclass(frozen=True, slots=True)
class Wishes:
    """What each volume of a policy is promised.

    survives: losses at the scheme's level that must leave all of its data readable. fast: its data lies on
    the fast tier of its pool. encrypted: only on disks that hold everything encrypted.
    """

    scheme: Scheme
    survives: int
    fast: bool = False
    encrypted: bool = False

    def sentence(self) -> str:
        """The promise, whole."""
        where = " On the fast tier." if self.fast else ""
        sealed = " Encrypted on every disk." if self.encrypted else ""
        protection = self.scheme.sentence()
        return f"{protection[0].upper()}{protection[1:]}.{where}{sealed}"


@dataclass(frozen=True, slots=True)
class Policy:
    """One version of a policy. number: of the policy; current: whether it is the newest version, which new
    volumes get. draft: whether it is written down only, and no volume may keep it yet.
    """

    number: int
    name: str
    version: int
    wishes: Wishes
    meant_for: str = ""
    current: bool = True
    draft: bool = False


def against_draft(policy: Policy) -> NotPossible | None:
    """Why no volume may keep a policy that is a draft; None for any other."""
    if not policy.draft:
        return None
    return NotPossible(
        f"{policy.name} is a draft: no volume keeps it yet.",
        about="policy",
        next_step="Change it, and save it as more than a draft once a pool can keep it.",
    )


def scheme_wished(copies: int | None, data: int | None, parity: int | None, level: Level) -> Scheme:
    """The scheme of either so many copies or so many strips of data and of parity.

    Raises NotPossible where it is neither or both, or a number is out of bounds.
    """
    if (copies is None) == (data is None and parity is None):
        raise NotPossible(
            "A policy protects by copies or by parity.",
            about="copies",
            next_step="Say how many copies, or how many strips of data and of parity.",
        )
    if copies is not None:
        return mirror(copies, level)
    if data is None or not 2 <= data <= MOST_DATA:
        raise NotPossible(
            f"A stripe has between 2 and {MOST_DATA} strips of data, not {0 if data is None else data}.",
            about="data",
            next_step="For one strip of data, wish for copies." if data == 1 else None,
        )
    if parity is None or not 1 <= parity <= MOST_PARITY:
        raise NotPossible(
            f"A stripe has between 1 and {MOST_PARITY} strips of parity, not {parity or 0}.", about="parity"
        )
    return Scheme(data, parity, level)


def wishes_of(
    scheme: Scheme, survives: int | None = None, fast: bool = False, encrypted: bool = False
) -> Wishes:
    """Wishes that do not contradict one another. survives: all that the scheme survives when None. Raises
    NotPossible.
    """
    wanted = scheme.survives if survives is None else survives
    if wanted < 0:
        raise NotPossible("The number of losses to survive is not negative.", about="survives")
    if wanted > scheme.survives:
        level = scheme.level.value
        raise NotPossible(
            f"It is to survive the loss of {say_count(wanted, level)}, and {scheme.counted()} "
            f"{'survives' if scheme.strips == 1 else 'survive'} {say_count(scheme.survives, level)}.",
            about="survives",
            next_step=f"Wish for at least {wanted + 1} copies."
            if scheme.is_mirror
            else f"Wish for at least {wanted} of parity.",
        )
    return Wishes(scheme, wanted, fast, encrypted)
