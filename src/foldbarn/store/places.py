"""Rooms and racks, and what stands in them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sqlalchemy import delete, select

from foldbarn.core.names import folded
from foldbarn.store.database import Session
from foldbarn.store.tables import EnclosureRow, NodeRow, RackRow, RoomRow


def standing(session: Session) -> set[str]:
    """Names of everything that stands in a rack. Nobody else moves it until the transaction ends."""
    nodes = session.scalars(select(NodeRow).order_by(NodeRow.id).with_for_update())
    boxes = session.scalars(select(EnclosureRow).order_by(EnclosureRow.id).with_for_update())
    return {row.name for row in nodes} | {row.name for row in boxes}


def place(session: Session, rooms: Sequence[tuple[str, Mapping[str, Sequence[str]]]]) -> int:
    """Makes rooms and racks as wished, puts everything in its place, and removes racks and rooms that are
    left empty.

    rooms: name, and by name of its racks what stands there, from the bottom stall up. Returns how many nodes
    moved.
    """
    known_rooms = {folded(r.name): r for r in session.scalars(select(RoomRow))}
    known_racks = {folded(r.name): r for r in session.scalars(select(RackRow))}
    nodes = {n.name: n for n in session.scalars(select(NodeRow))}
    boxes = {e.name: e for e in session.scalars(select(EnclosureRow))}
    kept_rooms, kept_racks, moved = set(), set(), 0
    for room_name, racks in rooms:
        room = known_rooms.get(folded(room_name)) or RoomRow(name=room_name)
        room.name = room_name
        session.add(room)
        session.flush()
        kept_rooms.add(room.id)
        for rack_name, names in racks.items():
            rack = known_racks.get(folded(rack_name)) or RackRow(name=rack_name)
            rack.name, rack.room_id = rack_name, room.id
            session.add(rack)
            session.flush()
            kept_racks.add(rack.id)
            for position, name in enumerate(names):
                if name in boxes:
                    boxes[name].rack_id = rack.id
                    continue
                moved += nodes[name].rack_id != rack.id
                nodes[name].rack_id, nodes[name].position = rack.id, position
    session.flush()
    session.execute(delete(RackRow).where(RackRow.id.not_in(kept_racks)))
    session.execute(delete(RoomRow).where(RoomRow.id.not_in(kept_rooms)))
    return moved
