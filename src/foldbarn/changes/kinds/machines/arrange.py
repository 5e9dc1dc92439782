"""Putting nodes into racks and racks into rooms, and giving nodes other names. Nothing on any node
changes.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import ClassVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.effects import AnyEffect, LevelRow, Levels, Note, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Payload
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.machines.arranging import level_effects, warnings
from foldbarn.core.moving.apart import too_close
from foldbarn.core.names import check_name, expand, folded, natural_key
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store import nodes, places
from foldbarn.store.database import Session
from foldbarn.store.views import current_view, load_view

LONGEST_PLACE = 63


class RackWish(BaseModel):
    """A rack and its nodes, from the bottom stall up; enclosures stand in racks like nodes."""

    model_config = ConfigDict(extra="forbid")
    name: str
    nodes: list[str] = Field(default_factory=list)


class RoomWish(BaseModel):
    model_config = ConfigDict(extra="forbid")
    name: str
    racks: list[RackWish] = Field(default_factory=list)


class ArrangeParams(Params):
    """The whole arrangement, room by room. Every node stands in it exactly once."""

    rooms: list[RoomWish]


def arrangement(view: SiteView) -> list[RoomWish]:
    """How things stand now."""
    return [
        RoomWish(
            name=room.name,
            racks=[
                RackWish(
                    name=rack.name,
                    nodes=[n.name for n in view.nodes if n.rack == k]
                    + [e.name for e in view.enclosures if e.rack == k],
                )
                for k, rack in enumerate(view.racks)
                if rack.room == r
            ],
        )
        for r, room in enumerate(view.rooms)
    ]


class RackAt(Payload):
    """A rack and what stands in it, by number, nodes and enclosures."""

    name: str
    nodes: tuple[int, ...]
    enclosures: tuple[int, ...]


class RoomAt(Payload):
    name: str
    racks: tuple[RackAt, ...]


class PutInPlace(Inside):
    """Everything stands where it is said to, at once."""

    name: ClassVar[str] = "put-in-place"
    rooms: tuple[RoomAt, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        node_names = {n.number: n.name for n in view.nodes}
        box_names = {e.number: e.name for e in view.enclosures}
        wished = [
            (
                room.name,
                {
                    rack.name: [
                        *(node_names[n] for n in rack.nodes if n in node_names),
                        *(box_names[n] for n in rack.enclosures if n in box_names),
                    ]
                    for rack in room.racks
                },
            )
            for room in self.rooms
        ]
        if {name for _, racks in wished for names in racks.values() for name in names} != places.standing(
            session
        ):
            raise NotPossible(
                "Nodes have come or gone since the preview.",
                next_step="Withdraw this change and arrange again.",
            )
        return f"{say_count(places.place(session, wished), 'node')} moved."


@register
class Arrange(Kind[ArrangeParams]):
    """place: everything at once, in one transaction."""

    name: ClassVar[str] = "arrange"
    params: ClassVar[type[Params]] = ArrangeParams

    def plan(self, view: SiteView, params: ArrangeParams) -> Plan:
        now = arrangement(view)
        before, after = _places(now), _places(params.rooms)
        blockers = [Note(sentence=s, about="rooms") for s in _against(view, params)]
        texts = [
            TextRow(label=name, before=_say(before.get(name)), after=_say(after[name]))
            for name in sorted(after, key=natural_key)
            if before.get(name, ("", "", 0))[:2] != after[name][:2]
        ]
        levels = Levels(before=[LevelRow.of(e) for e in level_effects(view, *_maps(now))], after=[])
        warned: list[Note] = []
        if not blockers:
            found = level_effects(view, *_maps(params.rooms))
            levels.after = [LevelRow.of(e) for e in found]
            warned = [warning("uneven-level", s) for s in warnings(found)] + _broken_spread(view, params)
        effects: list[AnyEffect] = [levels, Texts(rows=texts)]
        step = PutInPlace(rooms=tuple(_room_at(view, room) for room in params.rooms))
        return Plan(
            title="Arrange rooms and racks",
            about="rooms and racks",
            summary=f"{say_count(len(texts), 'node')} would stand elsewhere. Nothing on any node changes; "
            "what changes is what may fail together.",
            steps=[Planned(step, "Write down where everything stands", "At once, for all nodes.")],
            effects=effects,
            touches=[alone(Thing.PLACES)],
            blockers=blockers,
            warnings=warned,
            undo=Undo(self.name, {"rooms": [r.model_dump() for r in now]}),
        )


def _room_at(view: SiteView, room: RoomWish) -> RoomAt:
    """The same by number; what is not known is left out, and stands in the blockers."""
    node_numbers = {n.name: n.number for n in view.nodes}
    box_numbers = {e.name: e.number for e in view.enclosures}

    def numbers(names: Iterable[str], known: dict[str, int]) -> tuple[int, ...]:
        return tuple(known[name] for name in names if name in known)

    racks = tuple(
        RackAt(
            name=rack.name,
            nodes=numbers(rack.nodes, node_numbers),
            enclosures=numbers(rack.nodes, box_numbers),
        )
        for rack in room.racks
    )
    return RoomAt(name=room.name, racks=racks)


def as_places(rooms: list[RoomWish]) -> list[tuple[str, dict[str, list[str]]]]:
    """An arrangement as the store takes it."""
    return [(room.name, {rack.name: rack.nodes for rack in room.racks}) for room in rooms]


def _places(rooms: list[RoomWish]) -> dict[str, tuple[str, str, int]]:
    """Room, rack and stall by node."""
    return {
        name: (room.name, rack.name, i)
        for room in rooms
        for rack in room.racks
        for i, name in enumerate(rack.nodes)
    }


def _maps(rooms: list[RoomWish]) -> tuple[dict[str, str], dict[str, str]]:
    """Rack by node, and room by rack."""
    return (
        {name: rack.name for room in rooms for rack in room.racks for name in rack.nodes},
        {rack.name: room.name for room in rooms for rack in room.racks},
    )


def _say(place_: tuple[str, str, int] | None) -> str:
    return f"{place_[0]}, {place_[1]}" if place_ else "nowhere"


def _against(view: SiteView, params: ArrangeParams) -> list[str]:
    found = []
    everything = [n.name for n in view.nodes] + [e.name for e in view.enclosures]
    wanted = [name for room in params.rooms for rack in room.racks for name in rack.nodes]
    if unknown := sorted(set(wanted) - set(everything), key=natural_key):
        found.append(f"There is no node named {say_list(unknown)}.")
    if left := sorted(set(everything) - set(wanted), key=natural_key):
        found.append(f"{say_list(left)} {'stands' if len(left) == 1 else 'stand'} nowhere.")
    if twice := sorted({n for n in wanted if wanted.count(n) > 1}, key=natural_key):
        found.append(f"{say_list(twice)} {'stands' if len(twice) == 1 else 'stand'} in two places.")
    for kind, names in (
        ("room", [r.name for r in params.rooms]),
        ("rack", [k.name for r in params.rooms for k in r.racks]),
    ):
        found += [
            f"'{name[:70]}' cannot be the name of a {kind}: it has 1 to {LONGEST_PLACE} characters, "
            "without blanks at its ends."
            for name in names
            if not name.strip() or name != name.strip() or len(name) > LONGEST_PLACE
        ]
        lowered = [folded(n) for n in names]
        if doubles := sorted({n for n in names if lowered.count(folded(n)) > 1}, key=natural_key):
            found.append(f"Two {kind}s are named {say_list(doubles)}; case does not tell names apart.")
    return found


def _broken_spread(view: SiteView, params: ArrangeParams) -> list[Note]:
    """Volumes whose copies would no longer be kept apart as promised."""
    rack_of, room_of = _maps(params.rooms)
    racks, rooms = sorted(set(rack_of.values())), sorted(set(room_of.values()))
    names = [n.name for n in view.nodes] + [e.name for e in view.enclosures]
    rack_rows = np.array([racks.index(rack_of[n]) for n in names], dtype=np.int64)
    room_rows = np.array([rooms.index(room_of[rack_of[n]]) for n in names], dtype=np.int64)
    found = []
    for ply in view.plies:
        scheme = ply.scheme
        by_box = {"rack": rack_rows, "room": room_rows}.get(scheme.level.value)
        if by_box is None or scheme.strips < 2:
            continue
        rows = view.rows(ply)
        domains = np.append(by_box[view.disk_box], -1)[rows]
        close = too_close(domains, np.where(domains < 0, -1, rows), scheme.per_domain)
        together = int(close.any(axis=1).sum())
        if together:
            what = "copies" if scheme.is_mirror else "strips"
            where = f"{what} in the same {scheme.level}"
            if scheme.per_domain > 1:
                where = f"more than {scheme.per_domain} {what} in the same {scheme.level}"
            words = (
                f"{say_count(together, 'extent')} of {ply.name} would have {where}, and are then moved apart "
                "where there is room."
            )
            found.append(warning("breaks-spread", words, about=ply.name))
    return found


class RenameParams(Params):
    """nodes: as they are named now; their new names in the same order, as a pattern such as heron-{01..12} or
    one by one.
    """

    nodes: list[str]
    pattern: str = ""
    names: list[str] = Field(default_factory=list)


class GiveNames(Inside):
    """New names of nodes, by number, and of the disks named after them."""

    name: ClassVar[str] = "rename"
    names: dict[int, str]

    def carry_out(self, run: Run, session: Session) -> str:
        view = current_view()
        for number in self.names:
            view.node_numbered(number)
        others = [n.name for n in view.nodes if n.number not in self.names]
        for name in self.names.values():
            check_name(name, "node", others)
        nodes.rename(session, self.names)
        return f"{say_count(len(self.names), 'node')} renamed."


@register
class Rename(Kind[RenameParams]):
    """rename: nodes, and the disks named after them, at once."""

    name: ClassVar[str] = "rename"
    params: ClassVar[type[Params]] = RenameParams

    def plan(self, view: SiteView, params: RenameParams) -> Plan:
        title, about = f"Rename {say_count(len(params.nodes), 'node')}", say_list(params.nodes)
        try:
            pairs = _pairs(view, params)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        named = [view.node(old) for old, _ in pairs]
        names = {node.number: new for node, (_, new) in zip(named, pairs, strict=True)}
        back = {"nodes": [new for _, new in pairs], "names": [old for old, _ in pairs]}
        return Plan(
            title=title,
            about=about,
            summary="The names that agents use for themselves stay as they are; disks named after a node "
            "follow it.",
            steps=[Planned(GiveNames(names=names), "Write down the new names", "At once, for all of them.")],
            effects=[Texts(rows=[TextRow(label=old, before=old, after=new) for old, new in pairs])],
            touches=[alone(Thing.PLACES)],
            meant=Meant(nodes=tuple(named)),
            undo=Undo(self.name, back),
        )


def _pairs(view: SiteView, params: RenameParams) -> list[tuple[str, str]]:
    """Old and new names. Raises NotPossible, NotFound, Conflict."""
    if not params.nodes:
        raise NotPossible("No node is chosen.", about="nodes")
    if len(set(params.nodes)) != len(params.nodes):
        raise NotPossible("A node is named twice.", about="nodes")
    for name in params.nodes:
        view.node(name)
    names = params.names or expand(params.pattern.strip())
    if len(names) != len(params.nodes):
        raise NotPossible(
            f"The pattern stands for {say_count(len(names), 'name')}, and "
            f"{say_count(len(params.nodes), 'node')} are chosen.",
            about="pattern",
        )
    others = [n.name for n in view.nodes if n.name not in params.nodes]
    return [(old, check_name(new, "node", others)) for old, new in zip(params.nodes, names, strict=True)]
