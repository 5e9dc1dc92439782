"""What nodes keep in memory of what is read most: how much room policies have for it there, alone and
together. Method: docs/methods.md, "Roles, cache, endurance".
"""

from __future__ import annotations

from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.policy import Cache, Policy, Wishes
from foldbarn.core.pools.only_on import may_hold
from foldbarn.core.site import Node, OnlyOn, Pool, SiteView, Tier

MOST_TOGETHER = 50  # per cent of a node's memory: what else a node does needs some, too


def room_in(node: Node, policy: Policy) -> int:
    """Bytes of a node's memory in which it keeps what is read most of the volumes of a policy's version."""
    return node.memory_bytes * policy.wishes.memory // 100


def shares_a_room(policy: Policy) -> str:
    """What all volumes have in common that share a room: they keep the same version."""
    return f"{policy.number}.{policy.version}"


def taken_together(view: SiteView, without: int = 0) -> int:
    """Per cent of a node's memory that may be taken there by all policies: of each by the version that new
    volumes get, and by those that volumes keep still. without: the number of one whose newest version counts
    only where volumes keep it.
    """
    kept = {volume.policy for volume in view.volumes if volume.policy is not None}
    return sum(
        policy.wishes.memory
        for policy in view.policies
        if not policy.draft
        and ((policy.number, policy.version) in kept or (policy.current and policy.number != without))
    )


def too_much(view: SiteView, wishes: Wishes, policy: int = 0) -> NotPossible | None:
    """Why a version that wishes for this may not come into force beside all others; None where it may.
    policy: the number of the one that it is a version of.
    """
    others = taken_together(view, without=policy)
    if not wishes.memory or others + wishes.memory <= MOST_TOGETHER:
        return None
    left = MOST_TOGETHER - others
    return NotPossible(
        f"Policies in force, and versions that volumes keep, take {others} % of each node's memory: with "
        f"this it would be {others + wishes.memory} %, and {MOST_TOGETHER} % is the most.",
        about="memory",
        next_step=f"Wish for at most {left} %." if left > 0 else "Wish for another cache, or change another.",
    )


def silent_of_memory(view: SiteView, pool: Pool, tier: Tier, only: OnlyOn) -> list[str]:
    """Names of the nodes with disks of a tier that do not tell how much memory they have."""
    rows, may = view.in_pool(pool, tier), may_hold(view, only)
    mine = rows if may is None else rows[may[rows]]
    nodes = {view.disks[row].node for row in mine.tolist()}
    return [view.nodes[n].name for n in sorted(nodes) if not view.nodes[n].memory_bytes]


def is_in_memory(policy: Policy | None) -> bool:
    return policy is not None and policy.wishes.cache == Cache.MEMORY
