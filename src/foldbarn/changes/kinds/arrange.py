"""Putting nodes into racks and racks into rooms, and giving nodes other names. Nothing on any node
changes.
"""

from __future__ import annotations

from typing import ClassVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import LevelRow, Note, PlannedStep, Preview, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.core.arranging import level_effects, warnings
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.names import check_name, expand, folded, natural_key
from foldbarn.core.protection import Protection
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.store import nodes, places
from foldbarn.store.database import Session
from foldbarn.store.views import current_view

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


@register
class Arrange(Kind[ArrangeParams]):
    """place: everything at once, in one transaction."""

    name: ClassVar[str] = "arrange"
    params: ClassVar[type[Params]] = ArrangeParams
    inside: ClassVar[frozenset[str]] = frozenset({"place"})

    def about(self, params: ArrangeParams) -> str:
        return "rooms and racks"

    def touches(self, view: SiteView, params: ArrangeParams) -> list[Touch]:
        return [alone(Thing.PLACES)]

    def preview(self, view: SiteView, params: ArrangeParams) -> Preview:
        before, after = _places(arrangement(view)), _places(params.rooms)
        blockers = [Note(sentence=s, about="rooms") for s in _against(view, params)]
        texts = [
            TextRow(label=name, before=_say(before.get(name)), after=_say(after[name]))
            for name in sorted(after, key=natural_key)
            if before.get(name, ("", "", 0))[:2] != after[name][:2]
        ]
        preview = Preview(
            kind=self.name,
            title="Arrange rooms and racks",
            summary=f"{say_count(len(texts), 'node')} would stand elsewhere. Nothing on any node changes; "
            "what changes is what may fail together.",
            revision=view.revision,
            texts=texts,
            steps=[
                PlannedStep(
                    name="place", title="Write down where everything stands", detail="At once, for all nodes."
                )
            ],
            levels_before=[LevelRow.of(e) for e in level_effects(view, *_maps(arrangement(view)))],
            undo={"kind": self.name, "params": {"rooms": [r.model_dump() for r in arrangement(view)]}},
            blockers=blockers,
        )
        if not blockers:
            effects = level_effects(view, *_maps(params.rooms))
            preview.levels_after = [LevelRow.of(e) for e in effects]
            preview.warnings = [Note(sentence=s) for s in warnings(effects)] + [
                Note(sentence=s) for s in _broken_spread(view, params)
            ]
        return preview.sealed()

    def step_place(self, run: Run[ArrangeParams], session: Session) -> str:
        if set(_places(run.params.rooms)) != places.standing(session):
            raise NotPossible(
                "Nodes have come or gone since the preview.",
                next_step="Withdraw this change and arrange again.",
            )
        moved = places.place(session, as_places(run.params.rooms))
        return f"{say_count(moved, 'node')} moved."

    def withdraw(self, run: Run[ArrangeParams]) -> None:
        """The one step is done at once or not at all, so there is nothing to put back before it."""


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


def _broken_spread(view: SiteView, params: ArrangeParams) -> list[str]:
    """Volumes whose copies would no longer be kept apart as promised."""
    rack_of, room_of = _maps(params.rooms)
    racks, rooms = sorted(set(rack_of.values())), sorted(set(room_of.values()))
    names = [n.name for n in view.nodes] + [e.name for e in view.enclosures]
    rack_rows = np.array([racks.index(rack_of[n]) for n in names], dtype=np.int64)
    room_rows = np.array([rooms.index(room_of[rack_of[n]]) for n in names], dtype=np.int64)
    found = []
    for volume in view.volumes:
        protection: Protection = volume.protection
        by_box = {"rack": rack_rows, "room": room_rows}.get(protection.level.value)
        if by_box is None or protection.strips < 2:
            continue
        domains = np.append(by_box[view.disk_box], -1)[view.rows(volume)]
        domains = np.sort(domains, axis=1)
        together = int(((domains[:, 1:] == domains[:, :-1]) & (domains[:, 1:] >= 0)).any(axis=1).sum())
        if together:
            found.append(
                f"{say_count(together, 'extent')} of {volume.name} would have copies in the same "
                f"{protection.level}, "
                "and are then moved apart where there is room."
            )
    return found


class RenameParams(Params):
    """nodes: as they are named now; their new names in the same order, as a pattern such as heron-{01..12} or
    one by one.
    """

    nodes: list[str]
    pattern: str = ""
    names: list[str] = Field(default_factory=list)


@register
class Rename(Kind[RenameParams]):
    """rename: nodes, and the disks named after them, at once."""

    name: ClassVar[str] = "rename"
    params: ClassVar[type[Params]] = RenameParams
    inside: ClassVar[frozenset[str]] = frozenset({"rename"})

    def about(self, params: RenameParams) -> str:
        return say_list(params.nodes)

    def meant(self, view: SiteView, params: RenameParams) -> Meant:
        return Meant(nodes=tuple(view.node(n) for n in params.nodes))

    def touches(self, view: SiteView, params: RenameParams) -> list[Touch]:
        return [alone(Thing.PLACES)]

    def preview(self, view: SiteView, params: RenameParams) -> Preview:
        blockers: list[Note] = []
        pairs: list[tuple[str, str]] = []
        try:
            pairs = _pairs(view, params)
        except BarnError as error:
            blockers.append(Note.of(error))
        return Preview(
            kind=self.name,
            title=f"Rename {say_count(len(params.nodes), 'node')}",
            summary="The names that agents use for themselves stay as they are; disks named after a node "
            "follow it.",
            revision=view.revision,
            texts=[TextRow(label=old, before=old, after=new) for old, new in pairs],
            undo={
                "kind": self.name,
                "params": {"nodes": [new for _, new in pairs], "names": [old for old, _ in pairs]},
            },
            steps=[
                PlannedStep(
                    name="rename", title="Write down the new names", detail="At once, for all of them."
                )
            ],
            blockers=blockers,
        ).sealed()

    def step_rename(self, run: Run[RenameParams], session: Session) -> str:
        pairs = _pairs(current_view(), _now(run))
        numbers = {current_view().node(old).number: new for old, new in pairs}
        nodes.rename(session, numbers)
        return f"{say_count(len(pairs), 'node')} renamed."

    def withdraw(self, run: Run[RenameParams]) -> None:
        """The one step is done at once or not at all."""


def _now(run: Run[RenameParams]) -> RenameParams:
    """The wish by the names that its nodes have now."""
    view = current_view()
    return run.params.model_copy(update={"nodes": [run.node(view, name).name for name in run.params.nodes]})


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
