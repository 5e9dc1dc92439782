"""Making a volume from a snapshot of another one. It is open at once, and reads what has not been written of
it yet from there; `stand_alone` writes that.
"""

from __future__ import annotations

from typing import ClassVar

import numpy as np

from foldbarn.changes.engine.effects import Note, OnDisks, Promise, Row, Sums
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.snapshots.reading import against_name, find_to_read, may_give_way
from foldbarn.changes.kinds.volumes.create_volume import (
    plainly,
    plies_for,
    steps_for,
    strips_placed,
    touches_of,
    wish_in,
    with_new,
)
from foldbarn.changes.kinds.volumes.warnings import unreadable, warnings_of
from foldbarn.core.errors import BarnError
from foldbarn.core.figures import Figure
from foldbarn.core.policies.policy import Policy, Wishes, against_draft
from foldbarn.core.site import SiteView, Volume
from foldbarn.core.touching import Meant, Thing, shared
from foldbarn.core.units import say_size
from foldbarn.core.volumes.origins import against_strips
from foldbarn.core.volumes.snapshots import Origin


class CopySnapshotParams(Params):
    """A snapshot of a volume, which may be in the bin, both by name; and the name of the new volume. pool,
    policy: that of the original where nothing is said.
    """

    volume: str
    snapshot: str
    name: str = ""
    pool: str = ""
    policy: str = ""


@register
class CopySnapshot(Kind[CopySnapshotParams]):
    """place (ours), reserve (agents), read back (from agents)."""

    name: ClassVar[str] = "copy-snapshot"
    params: ClassVar[type[Params]] = CopySnapshotParams

    def plan(self, view: SiteView, params: CopySnapshotParams) -> Plan:
        name = params.name.strip()
        title = f"Make {name or 'a volume'} from {params.snapshot or 'a snapshot'}"
        blockers = against_name(view, name)
        try:
            volume, snapshot = find_to_read(view, params.volume, params.snapshot)
            policy, wishes = wished_of(view, volume, params.policy)
            pool = view.pool(params.pool) if params.pool else view.pools[volume.pool]
            if refusal := against_strips(view, volume, view.pool_row(pool)):
                raise refusal
            wish = wish_in(view, pool, snapshot.bytes or volume.size_bytes, wishes, copied=True)
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[*blockers, Note.of(error)])
        plies = plies_for(view, wish, name, volume)
        origin = Origin(volume.number, snapshot.number)
        after = with_new(view, wish, name, plies, origin=origin)
        on_disks = Figure("On disks", strips_placed(plies) * pool.strip_bytes, "bytes")
        return Plan(
            title=f"Make {name or 'a volume'} from {snapshot.name} of {volume.name}",
            about=name,
            summary=f"{say_size(wish.size)} in {pool.name}. {wishes.sentence()}",
            steps=steps_for(wish, name, policy, origin=(origin.volume, origin.snapshot)),
            effects=[
                Promise(
                    title="At once",
                    sentence="It can be read and written as soon as it is made. What has not been written of "
                    f"it yet is read from {snapshot.name} of {volume.name}, and is written by itself next.",
                ),
                Promise(
                    title="Until it stands alone",
                    sentence=f"{snapshot.name} cannot be deleted, nor the bin be emptied of {volume.name}. "
                    "After that neither has anything of the other.",
                ),
                Sums(
                    pool=pool.name,
                    rows=[
                        Row(label="On disks, once it is written", after=on_disks),
                        *room_rows(view, after, pool, {ply.tier for ply in plies}),
                    ],
                ),
                OnDisks(arriving=arriving(after, after.volumes[-1])),
            ],
            touches=[*touches_of([pool], policy), shared(Thing.VOLUME, volume.number)],
            meant=Meant(volumes=(volume,), pools=(pool,), policies=(policy,) if policy else ()),
            blockers=blockers,
            warnings=[
                *unreadable(after, after.volumes[-1]),
                *may_give_way(view, volume, snapshot),
                *warnings_of(view, after, pool, wish.scheme, wish.tier),
            ],
        )


def arriving(after: SiteView, made: Volume) -> dict[str, int]:
    """What comes to each disk, by its name, at once and as it is written."""
    rows = np.concatenate([after.rows_kept_for(ply).reshape(-1) for ply in made.every_ply])
    counts = np.bincount(rows, minlength=len(after.disks) + 1)[:-1]
    size = after.pools[made.pool].strip_bytes
    return {after.disks[row].name: int(counts[row]) * size for row in np.flatnonzero(counts).tolist()}


def wished_of(view: SiteView, volume: Volume, named: str = "") -> tuple[Policy | None, Wishes]:
    """The policy that a copy is to keep, if any, and what it is promised: as the original where none is
    named. Raises NotFound, NotPossible.
    """
    own = view.policy_of(volume)
    if named or own is not None:
        policy = view.policy(named or (own.name if own else ""))
        if draft := against_draft(policy):
            raise draft
        return policy, policy.wishes
    return None, plainly(volume.whole.scheme, volume.whole.tier, thin=volume.thin)
