"""What can be lost and still be made whole, in words."""

from __future__ import annotations

import numpy as np

from foldbarn.core.capacity import PoolSpace, survives_losses
from foldbarn.core.protection import Level
from foldbarn.core.site import Pool, SiteView
from foldbarn.core.units import say_count, say_list, say_size

_WORDS = {1: "one", 2: "two", 3: "three", 4: "four", 5: "five"}


def losses_in_words(losses: int, level: Level) -> str:
    """Such as "any one rack" or "any two nodes"."""
    return f"any {_WORDS.get(losses, str(losses))} {level.value}{'' if losses == 1 else 's'}"


def healing_sentence(view: SiteView, pool: Pool, space: PoolSpace) -> str:
    """What can be lost and still be rebuilt, in words; the worst case by name."""
    protection = pool.usual
    if space.healing is None:
        return "Nothing is held back for rebuilding; what can be rebuilt depends on what is free at the time."
    lost = losses_in_words(space.healing.losses, space.healing.level)
    if not space.healing.possible:
        rows = view.in_pool(pool)
        domains = len(np.unique(view.domain_of(protection.level)[rows]))
        return (
            f"After losing {lost} nothing can be rebuilt until it returns: {say_count(domains, protection.level.value)} "
            f"hold{'s' if domains == 1 else ''} {say_count(protection.copies, 'copy', 'copies')} of everything."
        )
    if not survives_losses(protection, space.healing.level):
        apart = f"its copies are kept apart by {protection.level.value} only" if protection.copies > 1 else "there is one copy of everything"
        return f"There is room to rebuild after losing {lost}, but nothing to rebuild from: {apart}. {say_size(space.held_back)} raw is held back."
    asked = ""
    if space.healing.losses < pool.headroom_losses:
        asked = f" Healing from {losses_in_words(pool.headroom_losses, space.healing.level)} was asked for; that would leave too few {protection.level.value}s."
    in_turn = ", one after the other," if space.healing.losses > protection.survives else ""
    names = view.domain_names(space.healing.level)
    worst = say_list([names[w] for w in space.healing.worst])
    return f"After losing {lost}{in_turn} everything can be rebuilt; {say_size(space.held_back)} raw is held back for it. The worst case is {worst}.{asked}"
