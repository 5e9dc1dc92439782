"""Taking a site's text: nodes that are not known yet are awaited, and everything is put where the text
says.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.machines.arrange import RackWish, RoomWish, arrangement, as_places
from foldbarn.changes.marked import MOST_CHARACTERS
from foldbarn.changes.text import (
    BadText,
    SiteText,
    differences,
    inventory_of,
    known_nodes,
    new_nodes,
    read_text,
)
from foldbarn.core.errors import BarnError
from foldbarn.core.names import folded
from foldbarn.core.site import Contact, SiteView
from foldbarn.core.touching import Thing, alone
from foldbarn.core.units import say_count
from foldbarn.store import places
from foldbarn.store.database import Session
from foldbarn.store.intake import add_node, take_inventory
from foldbarn.store.site import keep_text
from foldbarn.store.tables import NodeRow
from foldbarn.store.views import load_view


class DescribeParams(Params):
    text: str = Field(max_length=MOST_CHARACTERS)


class TakeText(Inside):
    """Everything that a text says, at once. new: the nodes that nobody knew when it was previewed; known: the
    numbers of the others, by what the text calls them.
    """

    name: ClassVar[str] = "take-text"
    text: str
    new: tuple[str, ...]
    known: dict[str, int] = Field(default_factory=dict)

    def carry_out(self, run: Run, session: Session) -> str:
        site = read_text(self.text)
        known = known_nodes(site, load_view(session), self.known)
        names: dict[str, str] = {}  # what nodes are called here, by what the text calls them
        added = 0
        for room in site.rooms:
            for rack in room.racks:
                for position, text in enumerate(rack.nodes):
                    inventory = inventory_of(text, room.name, rack.name, position)
                    if folded(text.name) in known:
                        node = session.get_one(NodeRow, known[folded(text.name)].number)
                    else:
                        node, added = add_node(session, inventory, source="text"), added + 1
                    names[text.name] = node.name
                    if node.contact == Contact.AWAITED:
                        take_inventory(session, node, inventory)
                    node.dedicated, node.bmc_url = text.dedicated, text.bmc
        session.flush()
        places.place(session, as_places(_wished(site, names, load_view(session))))
        keep_text(session, self.text)
        return f"{say_count(added, 'node')} added and awaited."


@register
class Describe(Kind[DescribeParams]):
    """take: everything at once, in one transaction."""

    name: ClassVar[str] = "describe"
    params: ClassVar[type[Params]] = DescribeParams

    def plan(self, view: SiteView, params: DescribeParams) -> Plan:
        title, about = "Take the site's text", "the site's text"
        try:
            site = read_text(params.text)
            known = known_nodes(site, view)
        except BadText as error:
            notes = [
                Note(sentence=f"Line {line}: {sentence}", about=f"line {line}")
                for line, sentence in error.errors
            ]
            return Plan(title=title, about=about, blockers=notes)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        found, new = differences(site, view, known), new_nodes(site, known)
        summary = (
            f"{say_count(len(new), 'node')} would be new. Machines are right about themselves, the text "
            "about where they stand."
            if found
            else "Text and machines agree."
        )
        warnings = []
        if folded(site.site) != folded(view.name):
            words = f"The text is of a site named {site.site}; this one is {view.name}, and keeps its name."
            warnings.append(warning("other-site", words))
        texts = [TextRow(label=label, before=now, after=said) for label, said, now in found]
        step = Planned(
            TakeText(
                text=params.text,
                new=tuple(new),
                known={name: known[folded(name)].number for name in site.names() if folded(name) in known},
            ),
            "Write down what the text says",
            "Nodes that are not known yet are awaited; no machine is touched.",
        )
        return Plan(
            title=title,
            about=about,
            summary=summary,
            steps=[step],
            effects=[Texts(heads=["Differs", "Machines say", "Text says"], rows=texts)],
            touches=[alone(Thing.PLACES)],
            warnings=warnings,
        )


def _wished(site: SiteText, names: Mapping[str, str], view: SiteView) -> list[RoomWish]:
    """The text's arrangement; what it does not name stays where it is. names: of its nodes here, by what the
    text calls them.
    """
    rooms = [
        RoomWish(
            name=r.name,
            racks=[RackWish(name=k.name, nodes=[names[n.name] for n in k.nodes]) for k in r.racks],
        )
        for r in site.rooms
    ]
    told = {n for r in rooms for k in r.racks for n in k.nodes}
    for room in arrangement(view):
        for rack in room.racks:
            left = [n for n in rack.nodes if n not in told]
            if not left:
                continue
            same = next((k for r in rooms for k in r.racks if folded(k.name) == folded(rack.name)), None)
            if same is None:
                same = RackWish(name=rack.name)
                home = next((r for r in rooms if folded(r.name) == folded(room.name)), None)
                if home is None:
                    home = RoomWish(name=room.name)
                    rooms.append(home)
                home.racks.append(same)
            same.nodes += left
    return rooms
