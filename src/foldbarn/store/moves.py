"""Strips on their way from disk to disk."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from sqlalchemy import delete, func, insert, select, update

from foldbarn.core.arrays import Ints
from foldbarn.core.moving.moves import Moves
from foldbarn.store.database import Session
from foldbarn.store.tables import ChangeRow, MoveRow, NodeRow

Strip = tuple[int, int, int]  # ply, extent, strip
OPEN = MoveRow.state.in_(("waiting", "ordered"))


def under_way(session: Session) -> dict[Strip, int]:
    """The number of the disk that each strip on its way goes to, of all changes."""
    rows = session.execute(select(MoveRow.ply_id, MoveRow.extent, MoveRow.strip, MoveRow.to_disk).where(OPEN))
    return {(ply, extent, strip): to for ply, extent, strip, to in rows}


def carriers(session: Session, plies: Iterable[int]) -> dict[int, list[int]]:
    """Of plies (by number), the changes on whose way their strips are, in the order of their numbers."""
    mine = MoveRow.ply_id.in_(list(plies))
    rows = select(MoveRow.ply_id, MoveRow.change_id).where(OPEN, mine).distinct().order_by(MoveRow.change_id)
    found: dict[int, list[int]] = defaultdict(list)
    for ply, change in session.execute(rows):
        found[ply].append(change)
    return found


def plan(session: Session, change: int, part: str, moves: Moves) -> None:
    """Writes planned moves down; they wait to be ordered."""
    columns = ("ply_id", "extent", "strip", "leaves", "to_disk", "makes_room")
    arrays = (moves.ply, moves.extent, moves.strip, moves.leaves, moves.to, moves.makes_room)
    values = zip(*(a.tolist() for a in arrays), strict=True)
    rows = [dict(zip(columns, row, strict=True)) | {"change_id": change, "part": part} for row in values]
    if rows:
        session.execute(insert(MoveRow), rows)


def planned_any(session: Session, change: int, part: str) -> bool:
    """Whether a change has a plan in this part: it has planned moves, and none of them was called off
    since.
    """
    mine = MoveRow.change_id == change, MoveRow.part == part
    off = func.count(MoveRow.id).filter(MoveRow.state == "withdrawn")
    planned, called_off = session.execute(select(func.count(MoveRow.id), off).where(*mine)).one()
    return bool(planned) and not called_off


def counts(session: Session, change: int, part: str) -> tuple[int, int]:
    """Moves still open, and moves copied, of a part of a change."""
    mine = MoveRow.change_id == change, MoveRow.part == part
    found = session.execute(
        select(MoveRow.state, func.count(MoveRow.id)).where(*mine).group_by(MoveRow.state)
    )
    by_state = {state: count for state, count in found}
    still = by_state.get("waiting", 0) + by_state.get("ordered", 0)
    return still, by_state.get("copied", 0) + by_state.get("dropped", 0)


def of_change(session: Session, change: int, *states: str) -> list[MoveRow]:
    mine = select(MoveRow).where(MoveRow.change_id == change, MoveRow.state.in_(states))
    return list(session.scalars(mine.order_by(MoveRow.id)))


def of_order(session: Session, change: int, order: str) -> list[MoveRow]:
    """The moves of an order, in the order's own sequence."""
    mine = select(MoveRow).where(MoveRow.change_id == change, MoveRow.order_id == order)
    return list(session.scalars(mine.order_by(MoveRow.id)))


def copied_away(session: Session, change: int, disks: Iterable[int]) -> list[MoveRow]:
    """Moves of a change that have left these disks, which still hold the old strips."""
    mine = MoveRow.change_id == change, MoveRow.state == "copied", MoveRow.leaves.in_(list(disks))
    return list(session.scalars(select(MoveRow).where(*mine)))


def orders_of(session: Session, change: int) -> list[tuple[str, int, str]]:
    """Orders of a change that are under way, each with the number and the name of the node that carries it
    out.
    """
    rows = session.execute(
        select(MoveRow.order_id, NodeRow.id, NodeRow.name)
        .join(NodeRow, NodeRow.id == MoveRow.maker_id)
        .where(MoveRow.change_id == change, MoveRow.state == "ordered", MoveRow.order_id.is_not(None))
        .distinct()
    )
    return [(str(order), node, name) for order, node, name in rows]


def set_state(session: Session, moves: Iterable[int], state: str) -> None:
    if numbers := list(moves):
        session.execute(update(MoveRow).where(MoveRow.id.in_(numbers)).values(state=state))


def give_to(session: Session, moves: Iterable[int], order: str, maker: int) -> None:
    """These moves are an order that a node (by number) carries out."""
    given = {"state": "ordered", "order_id": order, "maker_id": maker}
    session.execute(update(MoveRow).where(MoveRow.id.in_(list(moves))).values(given))


def give_back(session: Session, change: int, order: str) -> None:
    """Moves of an order that will not be done wait again."""
    mine = MoveRow.change_id == change, MoveRow.order_id == order, MoveRow.state == "ordered"
    session.execute(update(MoveRow).where(*mine).values(state="waiting", order_id=None, maker_id=None))


def call_off(session: Session, change: int) -> None:
    """What has not arrived stays where it is."""
    session.execute(update(MoveRow).where(MoveRow.change_id == change, OPEN).values(state="withdrawn"))


def settle(session: Session, change: int) -> None:
    """The old strips of everything that a change has copied are gone."""
    mine = MoveRow.change_id == change, MoveRow.state == "copied"
    session.execute(update(MoveRow).where(*mine).values(state="dropped"))


def forget_plies(session: Session, plies: Iterable[int]) -> int:
    """Deletes the moves of plies that are no more; returns how many there were."""
    return int(session.execute(delete(MoveRow).where(MoveRow.ply_id.in_(list(plies)))).rowcount)  # type: ignore[attr-defined]


def forget_strips(session: Session, ply: int, beyond: int) -> None:
    """Deletes the moves of strips from this one on, which the ply has no more."""
    session.execute(delete(MoveRow).where(MoveRow.ply_id == ply, MoveRow.strip >= beyond))


def forget_extents(session: Session, ply: int, extents: Ints) -> None:
    """Deletes the moves of some extents, which lie in the ply no more."""
    which = MoveRow.extent.in_(extents.tolist())
    session.execute(delete(MoveRow).where(MoveRow.ply_id == ply, which))


def forget_ended(session: Session, seconds: float) -> int:
    """Deletes the moves of changes that ended longer ago than this: their sums stand with the change. Returns
    how many there were.
    """
    old = select(ChangeRow.id).where(
        ChangeRow.state.in_(("done", "withdrawn")),
        ChangeRow.ended_at < func.now() - func.make_interval(0, 0, 0, 0, 0, 0, seconds),
    )
    return int(session.execute(delete(MoveRow).where(MoveRow.change_id.in_(old))).rowcount)  # type: ignore[attr-defined]
