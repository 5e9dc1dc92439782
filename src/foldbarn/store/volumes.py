"""Volumes."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

import numpy as np
from sqlalchemy import ColumnElement, delete, func, select, update

from foldbarn.core.arrays import Disks, Ints
from foldbarn.core.pools.protection import Scheme
from foldbarn.core.site import UNWRITTEN, Ply, Purpose
from foldbarn.core.volumes.tiers import in_hot
from foldbarn.store import moves, placements, vms
from foldbarn.store.database import Session
from foldbarn.store.placements import write_placement
from foldbarn.store.tables import PlacementRow, PlyRow, PoolRow, SettingAsideRow, SnapshotRow, VolumeRow


@dataclass(frozen=True, slots=True)
class Made:
    """A volume that a change has made: its number, its pool's, the bytes of a strip, whether it is not open
    yet, and the numbers of its plies.
    """

    number: int
    name: str
    pool: int
    strip_bytes: int
    forming: bool
    plies: tuple[int, ...]


def of_change(session: Session, change: int, nth: int = 0) -> Made | None:
    """The volume that a change has made, of several the nth; none where it has not, or has withdrawn it."""
    return next(iter(all_of_change(session, change, nth, nth + 1)), None)


def all_of_change(session: Session, change: int, first: int, last: int) -> list[Made]:
    """Those that a change has made, from the first to before the last, and not withdrawn."""
    rows = session.execute(
        select(VolumeRow.id, VolumeRow.name, VolumeRow.pool_id, PoolRow.strip_bytes, VolumeRow.forming)
        .join(PoolRow, PoolRow.id == VolumeRow.pool_id)
        .where(VolumeRow.change_id == change, VolumeRow.nth >= first, VolumeRow.nth < last)
        .order_by(VolumeRow.nth)
    ).all()
    plies: dict[int, list[int]] = {row.id: [] for row in rows}
    mine = select(PlyRow.volume_id, PlyRow.id).where(PlyRow.volume_id.in_(plies)).order_by(PlyRow.id)
    for volume, ply in session.execute(mine):
        plies[volume].append(ply)
    return [Made(*row, tuple(plies[row.id])) for row in rows]


def row_of(session: Session, volume: int) -> VolumeRow | None:
    return session.get(VolumeRow, volume)


def add(session: Session, row: VolumeRow, plies: Sequence[Ply]) -> None:
    """A new volume with its plies."""
    session.add(row)
    session.flush()
    for ply in plies:
        add_ply(session, row.id, ply, plies[0].extents)


def add_ply(session: Session, volume: int, ply: Ply, holds: int = 0) -> None:
    """One more ply of a volume (by number), with its placement. holds: of a hot one, extents of the ply of
    all of it, of which those lie here that it has a place for.
    """
    scheme = ply.scheme
    lies_here = None
    if ply.purpose == Purpose.HOT:
        here = ~ply.unwritten if ply.elsewhere is None else ~ply.elsewhere
        lies_here = here.reshape(holds, -1)[:, 0].astype(np.uint8).tobytes()
    row = PlyRow(
        volume_id=volume,
        purpose=ply.purpose.value,
        k=scheme.k,
        m=scheme.m,
        level=scheme.level.value,
        per_domain=scheme.per_domain,
        tier=ply.tier.value,
        extents=len(ply.placement),
        forming=ply.forming,
        source_id=ply.source or None,
        holds=lies_here,
    )
    session.add(row)
    session.flush()
    write_placement(session, row.id, ply.placement)


@dataclass(frozen=True, slots=True)
class Lands:
    """Where what is written to a landing belongs: the ply of all of its volume, strips of data in that; and
    how many copies of it land.
    """

    ply: int
    strips: int
    copies: int


def lands_for(session: Session, ply: int) -> Lands | None:
    """None for a ply that is no landing."""
    row = session.get_one(PlyRow, ply)
    if row.purpose != Purpose.LANDING.value:
        return None
    mine = PlyRow.volume_id == row.volume_id, PlyRow.purpose == Purpose.WHOLE.value
    whole = session.scalars(select(PlyRow).where(*mine)).one()
    return Lands(ply=whole.id, strips=whole.extents * whole.k, copies=row.m + 1)


def held_as(session: Session, plies: Collection[int]) -> dict[int, tuple[Purpose, int]]:
    """What plies are for, and the strips of data in an extent of each, by number."""
    rows = session.execute(select(PlyRow.id, PlyRow.purpose, PlyRow.k).where(PlyRow.id.in_(plies)))
    return {ply: (Purpose(purpose), data) for ply, purpose, data in rows}


def forming_landings(session: Session, volumes: Sequence[int]) -> list[int]:
    """The landings of some volumes whose strips have still to be made; numbers of plies."""
    mine = PlyRow.volume_id.in_(volumes), PlyRow.purpose == Purpose.LANDING.value, PlyRow.forming
    return list(session.scalars(select(PlyRow.id).where(*mine).order_by(PlyRow.id)))


def forget_past(session: Session, volume: int) -> None:
    """Nothing more that is overwritten of it is kept."""
    _forget_plies(session, PlyRow.volume_id == volume, PlyRow.purpose == Purpose.PAST.value)
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(spans=[]))


def keeps_for(session: Session, ply: int) -> int | None:
    """The ply of all of the volume whose past a ply holds; None for a ply that holds none."""
    return _whole_of(session, ply, Purpose.PAST)


def beside(session: Session, ply: int) -> int | None:
    """The ply of all of the volume of which a hot one holds some instead; None for any other."""
    return _whole_of(session, ply, Purpose.HOT)


def _whole_of(session: Session, ply: int, purpose: Purpose) -> int | None:
    """The ply of all of its volume; None for one that is for another purpose."""
    row = session.get_one(PlyRow, ply)
    if row.purpose != purpose.value:
        return None
    mine = PlyRow.volume_id == row.volume_id, PlyRow.purpose == Purpose.WHOLE.value
    return session.scalars(select(PlyRow.id).where(*mine)).one()


def forget_landing(session: Session, volume: int) -> None:
    """It has none any more; what waits there settles before its nodes let go of it."""
    _forget_plies(session, PlyRow.volume_id == volume, PlyRow.purpose == Purpose.LANDING.value)
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(waiting=0))


def rename(session: Session, volume: int, name: str) -> None:
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(name=name))


def set_values(session: Session, volume: int, **values: Any) -> None:
    """Labels, operations, throughput and serving_nodes, those that are given."""
    if "labels" in values:
        values["labels"] = list(values["labels"])
    if values:
        session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(**values))


def set_only_on(session: Session, volume: int, nodes: Iterable[int], disks: Iterable[int]) -> None:
    """Nodes and disks (by number) of which alone some may hold it; any of its pool where there are none."""
    where = {"only_nodes": sorted(nodes), "only_disks": sorted(disks)}
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(**where))


def may_lie_on_too(session: Session, disk: int, other: int, *, instead: bool) -> None:
    """Whatever was to lie on a disk (by number) may lie on another one too, or instead."""
    rows = select(VolumeRow).where(VolumeRow.only_disks.contains([disk])).with_for_update()
    for row in session.scalars(rows):
        gone = {disk} if instead else set()
        row.only_disks = sorted({*row.only_disks, other} - gone)


def park(session: Session, volume: int, *, parked: bool) -> None:
    """Whether its consumers wait."""
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(parked=parked))


# What goes with the plies where two volumes change places; name, attachments, labels, limits and by how many
# nodes it is served do not.
_OF_PLIES = (
    "pool_id",
    "written",
    "waiting",
    "spans",
    "snapshots_taken",
    "growth",
    "short_extents",
    "refuses",
    "only_nodes",
    "only_disks",
)


def change_places(session: Session, volume: int, other: int, *, snapshot: int) -> None:
    """A volume gets what another one that is not open yet is held by, and that gets its plies and snapshots.
    It reads what is still to come from a snapshot (by number) of what it was, and its consumers go on.
    """
    ids = (volume, other)
    rows = select(VolumeRow).where(VolumeRow.id.in_(ids)).order_by(VolumeRow.id).with_for_update()
    by_number = {row.id: row for row in session.scalars(rows)}
    mine, theirs = by_number[volume], by_number[other]
    plies = {row.id: row for row in session.scalars(select(PlyRow).where(PlyRow.volume_id.in_(ids)))}
    ours = {number for number, row in plies.items() if row.volume_id == volume}
    # A volume has one landing only, at any moment: those of the other are none while they change places.
    purposes = {number: plies[number].purpose for number in plies.keys() - ours}
    for number in purposes:
        plies[number].purpose = Purpose.WHOLE.value
    session.flush()
    for number in ours:
        plies[number].volume_id = other
    session.flush()
    for number, purpose in purposes.items():
        plies[number].volume_id, plies[number].purpose = volume, purpose
    for ply in plies.values():
        ply.version += 1
    for name in _OF_PLIES:
        was = getattr(mine, name)
        setattr(mine, name, getattr(theirs, name))
        setattr(theirs, name, was)
    session.execute(update(SnapshotRow).where(SnapshotRow.volume_id == volume).values(volume_id=other))
    session.execute(update(VolumeRow).where(VolumeRow.origin_id == volume).values(origin_id=other))
    session.refresh(theirs, ["origin_id"])
    mine.origin_id, mine.origin_snapshot, mine.parked = other, snapshot, False
    theirs.origin_id, theirs.origin_snapshot, theirs.forming = None, None, False
    for row in (mine, theirs):
        row.snapshots_altered += 1
    session.flush()


def set_offline(session: Session, volume: int, *, offline: bool, by: int) -> None:
    """Whether consumers are kept from it, as a change has it (by, its number)."""
    said = {"offline": offline, "offline_by": by}
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(**said))


def take_back_offline(session: Session, volume: int, *, offline: bool, by: int) -> None:
    """It is as it was before this change, where that was the last to alter it."""
    mine = VolumeRow.id == volume, VolumeRow.offline_by == by
    session.execute(update(VolumeRow).where(*mine).values(offline=offline, offline_by=None))


def put_in_bin(session: Session, volume: int, days: int, by: int) -> None:
    """It is in the bin from now on, for so many days; by: the number of the change that puts it there."""
    now = func.now()
    binned = {"binned_at": now, "kept_until": now + timedelta(days=days), "binned_by": by}
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(**binned))


def erase(session: Session, volume: int) -> None:
    """Its strips are being dropped from here on: it comes back no more."""
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(erasing=True))


def take_out_of_bin(session: Session, volume: int, by: int | None = None) -> None:
    """It is as if it had never been deleted. by: only where that change put it there."""
    mine = [VolumeRow.id == volume, *([] if by is None else [VolumeRow.binned_by == by])]
    back = {"binned_at": None, "kept_until": None, "binned_by": None}
    session.execute(update(VolumeRow).where(*mine).values(**back))


def extend(session: Session, volume: int, size: int, extents: Mapping[int, int]) -> None:
    """A volume (by number) has so many bytes from here on, and its plies (by number) so many extents; for
    those that are added no room is set aside. Nobody moves strips of its pool meanwhile.
    """
    added = 0
    for ply in session.scalars(select(PlyRow).where(PlyRow.id.in_(list(extents))).order_by(PlyRow.id)):
        more = extents[ply.id] - ply.extents
        if more > 0:
            lengthen(session, ply.id, more)
        if ply.purpose == Purpose.WHOLE.value:
            added = more
    mine = PlyRow.volume_id == volume, PlyRow.purpose == Purpose.HOT.value
    for hot in session.scalars(select(PlyRow).where(*mine)):
        hot.holds = (hot.holds or b"") + bytes(added)
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(size_bytes=size))


def lengthen(session: Session, ply: int, more: int) -> None:
    """So many extents more of a ply, that lie nowhere yet. Nobody moves strips of its pool meanwhile."""
    placements.append_extents(session, ply, more)
    row = session.get_one(PlyRow, ply)
    row.extents += more
    row.version += 1
    session.flush()


def shorten(session: Session, ply: int, extents: int) -> None:
    """A ply has its first so many extents only, and nothing is to come to the others. Nobody moves strips of
    its pool meanwhile.
    """
    row = session.get_one(PlyRow, ply)
    moves.forget_extents(session, ply, np.arange(extents, row.extents))
    session.execute(delete(SettingAsideRow).where(SettingAsideRow.ply_id == ply))
    placements.cut_off(session, ply, extents)
    row.extents = extents
    row.version += 1
    session.flush()


def set_extents(session: Session, ply: int, extents: Ints, rows: Disks) -> None:
    """Room is kept for some extents of a ply, on disks as in `to_come`, [extents, strips]."""
    placements.set_extents(session, ply, extents, rows)


def clear_extents(session: Session, ply: int, extents: Ints) -> None:
    """Some extents of a ply lie in it no more, and no room is kept for them."""
    width = session.scalars(select(PlyRow.k + PlyRow.m).where(PlyRow.id == ply)).one()
    moves.forget_extents(session, ply, extents)
    placements.set_extents(session, ply, extents, np.full((len(extents), width), UNWRITTEN, dtype=np.int32))


def hold_there(session: Session, volume: int, extents: Ints, *, up: bool) -> None:
    """Some extents of the ply of all of a volume (by number) lie in its hot one from here on (up), or there
    no more, and what held them is forgotten.
    """
    mine = {p.purpose: p for p in session.scalars(select(PlyRow).where(PlyRow.volume_id == volume))}
    whole, hot = mine[Purpose.WHOLE.value], mine[Purpose.HOT.value]
    holds = np.frombuffer(hot.holds or b"", dtype=np.uint8).copy()
    holds[extents] = up
    hot.holds = holds.tobytes()
    session.flush()
    if up:
        clear_extents(session, whole.id, extents)
    else:
        clear_extents(session, hot.id, in_hot(extents, whole.k))
    both = PlyRow.id.in_((whole.id, hot.id))
    session.execute(update(PlyRow).where(both).values(version=PlyRow.version + 1))


def forget_hot(session: Session, volume: int) -> None:
    """It has no hot ply any more, and nothing lay there."""
    _forget_plies(session, PlyRow.volume_id == volume, PlyRow.purpose == Purpose.HOT.value)


def made(session: Session, ply: int) -> None:
    """Every strip of a ply is there."""
    grown = {"forming": False, "version": PlyRow.version + 1}
    session.execute(update(PlyRow).where(PlyRow.id == ply).values(**grown))


def forget_anew(session: Session, volume: int) -> None:
    """It is not written anew: what has been written of it belongs to nothing."""
    _forget_plies(session, PlyRow.volume_id == volume, PlyRow.purpose == Purpose.ANEW.value)


def take_over(session: Session, volume: int, policy_version: int | None) -> None:
    """What was written anew holds a volume from here on, by another policy (the row of its version), and what
    held it is forgotten.
    """
    mine = PlyRow.volume_id == volume
    anew = update(PlyRow).where(mine, PlyRow.purpose == Purpose.ANEW.value)
    held = PlyRow.purpose == Purpose.WHOLE.value
    old = list(session.scalars(select(PlyRow.id).where(mine, held)))
    session.execute(anew.values(purpose=Purpose.WHOLE.value, source_id=None, version=PlyRow.version + 1))
    _forget_plies(session, PlyRow.id.in_(old))
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(policy_version_id=policy_version))


def _forget_plies(session: Session, *which: ColumnElement[bool]) -> int:
    """Returns how many moves they had."""
    plies = list(session.scalars(select(PlyRow.id).where(*which)))
    moved = moves.forget_plies(session, plies)
    session.execute(delete(SettingAsideRow).where(SettingAsideRow.ply_id.in_(plies)))
    session.execute(delete(PlacementRow).where(PlacementRow.ply_id.in_(plies)))
    session.execute(delete(PlyRow).where(PlyRow.id.in_(plies)))
    return moved


def open_(session: Session, volume: int) -> None:
    """It may be used from here on."""
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(forming=False))


def close_again(session: Session, volume: int) -> None:
    """One that nobody has used yet is as if it were still being made."""
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(forming=True))


def hold_as(session: Session, ply: int, scheme: Scheme, placement: Disks, policy_version: int | None) -> None:
    """The ply of all of a volume is held by another scheme of as many data strips, and the volume by another
    policy (the row of its version). Nobody moves strips of its pool meanwhile.
    """
    row = session.get_one(PlyRow, ply)
    row.m, row.level, row.per_domain = scheme.m, scheme.level.value, scheme.per_domain
    row.version += 1
    moves.forget_strips(session, ply, scheme.strips)
    session.execute(delete(PlacementRow).where(PlacementRow.ply_id == ply))
    write_placement(session, ply, placement)
    mine = update(VolumeRow).where(VolumeRow.id == row.volume_id)
    session.execute(mine.values(policy_version_id=policy_version))


def forget(session: Session, volume: int) -> int:
    """Deletes a volume, its plies and their moves; the virtual machine that it was the last part of goes with
    it. Returns how many moves there were.
    """
    moved = _forget_plies(session, PlyRow.volume_id == volume)
    vm = session.scalar(select(VolumeRow.vm_id).where(VolumeRow.id == volume))
    session.execute(delete(VolumeRow).where(VolumeRow.id == volume))
    if vm is not None:
        vms.forget_empty(session, vm)
    return moved


def stand_alone(session: Session, volume: int) -> None:
    """It reads from no other volume any more."""
    alone = {"origin_id": None, "origin_snapshot": None, "copying_left": False}
    session.execute(update(VolumeRow).where(VolumeRow.id == volume).values(**alone))


def leave_copying(session: Session, volume: int, *, left: bool) -> None:
    """Whether a person called off the writing of what it still reads from another volume."""
    mine = VolumeRow.id == volume, VolumeRow.origin_id.is_not(None), VolumeRow.copying_left != left
    session.execute(update(VolumeRow).where(*mine).values(copying_left=left))
