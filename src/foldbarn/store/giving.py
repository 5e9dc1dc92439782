"""Extents of volumes that room is being set aside for, and what nodes ask room for."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy import delete, exists, or_, select

from foldbarn.core.arrays import Ints
from foldbarn.core.machines.reading import Wants
from foldbarn.core.policies.giving import Placed
from foldbarn.core.site import Contact, Short
from foldbarn.store import moves
from foldbarn.store.database import Session
from foldbarn.store.placements import set_extents
from foldbarn.store.tables import NodeRow, SettingAsideRow, SiteRow, VolumeRow


@dataclass(frozen=True, slots=True, eq=False)
class Begun:
    """Extents of a ply (by number) that are placed, and that not every consumer may write yet. held: every
    node has set its strips aside.
    """

    id: int
    ply: int
    extents: Ints
    held: bool = False


def wanted(session: Session) -> tuple[bool, int]:
    """Whether any node that is heard wants room, or any is being given; and the site's revision. By one
    statement, since it is looked at every second.
    """
    wants = exists().where(NodeRow.contact == Contact.HEARD.value, NodeRow.wants != {})
    found = session.execute(select(or_(wants, exists(SettingAsideRow.id)), SiteRow.revision)).one()
    return bool(found[0]), int(found[1])


def asked(session: Session) -> dict[int, Wants]:
    """What nodes that are heard want room for, together, by the number of a ply."""
    columns = NodeRow.wants
    rows = session.scalars(select(columns).where(NodeRow.contact == Contact.HEARD.value, NodeRow.wants != {}))
    found: dict[int, list[Wants]] = defaultdict(list)
    for told in rows:
        for ply, wants in told.items():
            ranges = tuple((int(a), int(b)) for a, b in wants["strips"])
            found[int(ply)].append(Wants(ranges, bool(wants["refuses"])))
    return {
        ply: Wants(tuple(sorted({r for one in all_ for r in one.strips})), any(one.refuses for one in all_))
        for ply, all_ in found.items()
    }


def begun(session: Session) -> list[Begun]:
    """All that has been begun, oldest first."""
    rows = session.scalars(select(SettingAsideRow).order_by(SettingAsideRow.id))
    return [Begun(row.id, row.ply_id, np.array(row.extents, dtype=np.int64), row.held) for row in rows]


def being_set_aside(session: Session) -> set[tuple[int, int]]:
    """Ply and extent of what not every node has set aside yet: it may be missing there."""
    return {(one.ply, extent) for one in begun(session) if not one.held for extent in one.extents.tolist()}


def begin(session: Session, ply: int, extents: Ints, placed: Sequence[Placed]) -> Begun:
    """Extents of a ply have these places from here on. The caller holds the pool's row."""
    _place(session, placed)
    row = SettingAsideRow(ply_id=ply, extents=extents.tolist())
    session.add(row)
    session.flush()
    return Begun(row.id, ply, extents)


def hold(session: Session, id_: int) -> bool:
    """Every node has set its strips aside: from here on it is not taken back. False where the volume, or what
    held it, has gone meanwhile.
    """
    row = session.get(SettingAsideRow, id_, with_for_update=True)
    if row is None:
        return False
    row.held = True
    return True


def done(session: Session, id_: int) -> None:
    """Consumers may write there."""
    session.execute(delete(SettingAsideRow).where(SettingAsideRow.id == id_))


def take_back(session: Session, one: Begun, placed: Sequence[Placed]) -> bool:
    """As if it had not been begun. The caller holds the pool's row. False where it has gone already, or is
    held.
    """
    row = session.get(SettingAsideRow, one.id, with_for_update=True)
    if row is None or row.held:
        return False
    session.delete(row)
    for part in placed:
        moves.forget_extents(session, part.ply, part.extents)
    _place(session, placed)
    return True


def _place(session: Session, placed: Iterable[Placed]) -> None:
    for part in placed:
        set_extents(session, part.ply, part.extents, part.rows)


def note_short(session: Session, volume: int, short: Short | None) -> bool:
    """What a volume (by number) wants and finds no room for. Returns whether that is news."""
    row = session.get(VolumeRow, volume, with_for_update=True)
    extents, refuses = (short.extents, short.refuses) if short else (0, False)
    if row is None or (row.short_extents, row.refuses) == (extents, refuses):
        return False
    row.short_extents, row.refuses = extents, refuses
    return True
