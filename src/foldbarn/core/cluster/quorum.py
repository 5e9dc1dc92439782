"""Votes: who may decide, and which losses leave a majority."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from foldbarn.core.units import say_count, say_list


@dataclass(frozen=True, slots=True)
class Voter:
    """One vote: a keeper, or the witness. Where it stands; a witness apart from all has empty room and
    rack.
    """

    name: str
    room: str = ""
    rack: str = ""
    witness: bool = False


@dataclass(frozen=True, slots=True)
class LossEffect:
    """Losing one thing (or a set): the votes gone and whether the rest still decides."""

    what: str
    votes_lost: int
    votes_left: int
    decides: bool


def majority(votes: int) -> int:
    """The least number of votes that is more than half."""
    return votes // 2 + 1


def tolerates(votes: int) -> int:
    """How many votes may be lost, whichever they are."""
    return votes - majority(votes) if votes else 0


def survivable(voters: Sequence[Voter]) -> list[frozenset[str]]:
    """Every set of voters (by name, the empty set included) whose loss leaves a majority, smallest sets
    first. For up to 9 voters.
    """
    names = [v.name for v in voters]
    most = tolerates(len(names))
    return [frozenset(lost) for size in range(most + 1) for lost in combinations(names, size)]


def domain_losses(voters: Sequence[Voter]) -> list[LossEffect]:
    """What losing each room, each rack, each keeper and the witness would do to the vote."""
    groups: dict[str, list[Voter]] = {}
    for voter in voters:
        if voter.room:
            groups.setdefault(f"room {voter.room}", []).append(voter)
    for voter in voters:
        if voter.rack:
            groups.setdefault(f"rack {voter.rack}", []).append(voter)
    for voter in voters:
        groups[f"witness {voter.name}" if voter.witness else voter.name] = [voter]
    need = majority(len(voters))
    return [
        LossEffect(what, len(lost), len(voters) - len(lost), len(voters) - len(lost) >= need)
        for what, lost in groups.items()
    ]


def vote_sentence(voters: Sequence[Voter]) -> str:
    """The arithmetic in words: "3 votes, 2 decide, any 1 may be lost"."""
    votes = len(voters)
    lose = tolerates(votes)
    ending = f"any {lose} may be lost" if lose else "none may be lost"
    return f"{say_count(votes, 'vote')}, {majority(votes)} decide, {ending}"


def witness_beside(witness: Voter, members: Sequence[Voter]) -> str:
    """Which domain a witness shares with members, and which members; empty where it stands apart from all.

    A vote that fails together with what it is to decide about decides nothing.
    """
    for level, where in (("rack", witness.rack), ("room", witness.room)):
        mates = [m.name for m in members if where and (m.rack if level == "rack" else m.room) == where]
        if mates:
            return f"{level} {where} with {say_list(mates)}"
    return ""


def doubts(voters: Sequence[Voter]) -> list[str]:
    """What is unwise about where the votes stand."""
    found = []
    keepers = [v for v in voters if not v.witness]
    racks: dict[str, list[str]] = {}
    for keeper in keepers:
        racks.setdefault(keeper.rack, []).append(keeper.name)
    found += [
        f"{say_list(names)} share rack {rack}: losing it takes {len(names)} votes at once"
        for rack, names in racks.items()
        if len(names) > 1 and rack
    ]
    rooms = {k.room for k in keepers if k.room}
    for room in sorted(rooms):
        if not (inside := [v for v in voters if v.room != room]) or len(inside) < majority(len(voters)):
            found.append(f"losing room {room} would leave no majority")
    for witness in (v for v in voters if v.witness):
        beside = [
            k.name
            for k in keepers
            if (witness.rack and k.rack == witness.rack) or (witness.room and k.room == witness.room)
        ]
        if beside:
            found.append(
                f"the witness {witness.name} stands in the same "
                f"{'rack' if any(k.rack == witness.rack for k in keepers) else 'room'} as "
                f"{say_list(beside)}"
            )
    if len(voters) % 2 == 0 and voters:
        found.append(f"{len(voters)} votes tolerate no more losses than {len(voters) - 1}")
    return found
