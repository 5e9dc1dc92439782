"""Registering a host, and altering what is known of one."""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.engine.targets import TARGETS
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.changes.kinds.hosts.naming import HostAt
from foldbarn.core.errors import BarnError, Overtaken
from foldbarn.core.hosts.attaching import HostWish, host_wished
from foldbarn.core.hosts.lanes import Lane, lanes_of
from foldbarn.core.site import Host, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list
from foldbarn.store import hosts
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view

NEW = 0  # the number of a host that has none yet


class SaveHostParams(Params):
    """host: the one that is altered, by name; empty for a new one. initiators: iSCSI names and NVMe qualified
    names by which it connects. agent_url: where it tells how it is; empty where nothing on it does.
    """

    host: str = ""
    name: str = ""
    group: str = ""
    initiators: list[str] = Field(default_factory=list, max_length=100)
    agent_url: str = ""


class WriteHost(Inside):
    """What is known of a host (by number; 0 for a new one). was: the same, before; none of a new one."""

    name: ClassVar[str] = "write-host"
    host: int
    to_be: HostAt
    was: HostAt | None = None

    def carry_out(self, run: Run, session: Session) -> str:
        view, to_be = load_view(session), self.to_be
        names = [one.name for one in to_be.names]
        wish = host_wished(view, to_be.called, to_be.group, names, to_be.agent_url, self.host or None)
        said = wish.name, wish.group, wish.agent_url, wish.initiators
        if self.host == NEW:
            hosts.add(session, run.change, *said)
        elif hosts.row_of(session, self.host) is None:
            raise Overtaken("The host is gone.", about="host")
        else:
            hosts.alter(session, self.host, run.change, *said)
        announce(session, "site")
        return f"{wish.name} is written down."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            made = hosts.made_by(session, run.change)
            if made is not None:
                hosts.forget(session, made)
            elif self.was is not None and hosts.altered_by(session, self.host) == run.change:
                # Others may have taken its old names since.
                was, names = self.was, [one.name for one in self.was.names]
                back = host_wished(load_view(session), was.called, was.group, names, was.agent_url, self.host)
                said = back.name, back.group, back.agent_url, back.initiators
                hosts.alter(session, self.host, run.change, *said)
            announce(session, "site")


class TellOfHost(Outside):
    """The nodes that serve volumes to a host (by number) let it in under the names it has."""

    name: ClassVar[str] = "tell-of-host"
    host: int

    def carry_out(self, run: Run) -> str:
        served = [t for t in current_view().targets if t.attachment(self.host)]
        return tell_for_a_step(run, TARGETS, {node for target in served for node in target.gateways})


@register
class SaveHost(Kind[SaveHostParams]):
    """write (ours), tell the nodes that serve it (agents)."""

    name: ClassVar[str] = "save-host"
    params: ClassVar[type[Params]] = SaveHostParams

    def plan(self, view: SiteView, params: SaveHostParams) -> Plan:
        title, old = f"Register {params.name.strip() or 'a host'}", None
        try:
            if params.host:
                title = f"Change what is known of {params.host}"
                old = view.host(params.host)
            number = old.number if old else None
            wish = host_wished(view, params.name, params.group, params.initiators, params.agent_url, number)
        except BarnError as error:
            return Plan(title=title, about=params.host or params.name, blockers=[Note.of(error)])
        to_be, was = HostAt.of(wish), HostAt.of(old) if old else None
        served = lanes_of(view, host=old.number) if old else []
        steps = [Planned(WriteHost(host=old.number if old else NEW, to_be=to_be, was=was), "Write it down")]
        if old and served and old.initiators != wish.initiators:
            words = "They let it in under these names, and under no others."
            step = TellOfHost(host=old.number)
            steps.append(Planned(step, "Tell the nodes that serve it", words, seconds=1))
        return Plan(
            title=title,
            about=wish.name,
            steps=steps,
            effects=[Texts(heads=["", "Now", "Then"], rows=_rows(old, wish))],
            # New ones come one after the other, so that of two with the same name the second is told so.
            touches=[alone(Thing.HOST, old.number if old else NEW)],
            meant=Meant(hosts=(old,)) if old else Meant(),
            blockers=[unchanged("name")] if to_be == was else [],
            warnings=[*_loses_paths(old, wish, served)],
            undo=_undo(old, wish),
        )


def _rows(old: Host | None, wish: HostWish) -> list[TextRow]:
    def row(label: str, before: str, after: str) -> TextRow:
        return TextRow(label=label, before=before if old else "", after=after)

    names = say_list([one.name for one in old.initiators], most=16) if old else ""
    rows = [
        row("Name", old.name if old else "", wish.name),
        row("Group", (old.group or "none") if old else "", wish.group or "none"),
        row("It connects as", names, say_list([one.name for one in wish.initiators], most=16)),
        row("It tells how it is at", (old.agent_url or "none") if old else "", wish.agent_url or "none"),
    ]
    return [one for one in rows if one.before != one.after]


def _loses_paths(old: Host | None, wish: HostWish, served: list[Lane]) -> list[Note]:
    """That it is let in no more under a name by which it may be connected."""
    gone = {one.name for one in old.initiators} - {one.name for one in wish.initiators} if old else set()
    lost = [lane.volume.name for lane in served if lane.live]
    if old is None or not gone or not lost:
        return []
    words = f"{old.name} is connected to {say_list(lost)}, and is let in no more as {say_list(sorted(gone))}."
    return [warning("loses-paths", words, next_step="Have it connect under its new name afterwards.")]


def _undo(old: Host | None, wish: HostWish) -> Undo:
    if old is None:
        return Undo("delete-host", {"host": wish.name})
    names = [one.name for one in old.initiators]
    params = {"host": wish.name, "name": old.name, "group": old.group, "agent_url": old.agent_url}
    return Undo("save-host", params | {"initiators": names})
