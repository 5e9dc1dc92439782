"""What is offered to namespaces, and by what it is held."""

from __future__ import annotations

from foldbarn.core.errors import NotPossible
from foldbarn.core.site import SiteView
from foldbarn.core.units import say_list


def against_leaving_policy(view: SiteView, policy: int) -> NotPossible | None:
    """Why a policy (by number) cannot go: it is offered to somebody; None where it is not."""
    classes = [one.name for one in view.classes if one.policy == policy]
    spaces = list(dict.fromkeys(grant.namespace for grant in view.grants if grant.policy == policy))
    said = [
        *([f"published as {say_list(classes)}"] if classes else []),
        *([f"granted to {say_list(spaces)}"] if spaces else []),
    ]
    if not said:
        return None
    words = f"It is {', and '.join(said)}."
    return NotPossible(words, about="policy", next_step="Withdraw the classes and the grants first.")


def against_leaving_pool(view: SiteView, pool: int) -> NotPossible | None:
    """Why a pool (by number) cannot go: volumes of a class are to lie there; None where they are not."""
    classes = [one.name for one in view.classes if one.pool == pool]
    if not classes:
        return None
    one, name = len(classes) == 1, view.pool_numbered(pool).name
    words = f"The class{'' if one else 'es'} {say_list(classes)} {'lies' if one else 'lie'} in {name}."
    return NotPossible(words, about="pool", next_step="Withdraw it, or let it take whichever pool is best.")
