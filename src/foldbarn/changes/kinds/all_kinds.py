"""Importing this registers every kind of change."""

from foldbarn.changes.kinds import (
    addresses,
    arrange,
    change_role,
    clear_disk,
    cluster,
    create_volume,
    delete,
    describe,
    form_pool,
    give_up,
    grow_pool,
    purposes,
    rebuild,
    replace_disk,
    retire,
    set_pool,
)

__all__ = [
    "addresses",
    "arrange",
    "change_role",
    "clear_disk",
    "cluster",
    "create_volume",
    "delete",
    "describe",
    "form_pool",
    "give_up",
    "grow_pool",
    "purposes",
    "rebuild",
    "replace_disk",
    "retire",
    "set_pool",
]
