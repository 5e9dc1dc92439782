"""Switching the file service of the cluster on, and altering where it is served and under which names."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside, Payload
from foldbarn.changes.kinds.shares.telling import tell_files
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.shares.addresses import (
    against_taken,
    carrier_of,
    could_serve,
    homes_for,
    paired,
    read_range,
)
from foldbarn.core.shares.belonging import mounts_of
from foldbarn.core.shares.naming import check_server, names_for, said_server, unnamed
from foldbarn.core.shares.share import FileAddress, FileService
from foldbarn.core.shares.takeover import Takeover, takeover
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list
from foldbarn.links.name_servers import look_for_all
from foldbarn.settings import settings
from foldbarn.store import shares
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.shares import AddressSaid
from foldbarn.store.views import current_view, load_view


class ServeFilesParams(Params):
    """addresses: those of version 4, alone or in ranges; addresses6: those of version 6, as many, or none of
    one of both. names: of these in order, by a pattern or one after the other. name_server: by which the
    names are looked for; empty for none. nodes: on which they are at home, in order; chosen apart from one
    another where none is named.
    """

    addresses: str = Field(default="", max_length=4000)
    addresses6: str = Field(default="", max_length=4000)
    names: str = Field(default="", max_length=20_000)
    name_server: str = Field(default="", max_length=100)
    nodes: list[str] = Field(default_factory=list, max_length=1000)


class AddressAt(Payload):
    """An address of one version or both, its name, and the node (by number) that it is at home on."""

    name: str
    at: tuple[str, ...]
    home: int

    def said(self) -> AddressSaid:
        return AddressSaid(self.name, self.at, self.home)


class SaveFiles(Inside):
    """The file service is switched on, with these addresses. before: what it had; None where it was off."""

    name: ClassVar[str] = "save-files"
    name_server: str
    addresses: tuple[AddressAt, ...]
    before: tuple[AddressAt, ...] | None = None
    server_before: str = ""

    def carry_out(self, run: Run, session: Session) -> str:
        shares.one_at_a_time(session)
        view = load_view(session)
        if _known(view.files) != (None if self.before is None else _named(self.before)):
            words = "The file service was switched on or off, or altered, meanwhile."
            raise Overtaken(words, about="addresses", next_step="Withdraw this change and preview it again.")
        wanted = [address for one in self.addresses for address in one.at]
        if refusals := [*against_taken(view, wanted), *against_leaving(view, set(wanted))]:
            raise refusals[0]
        shares.save_service(session, self.name_server, [one.said() for one in self.addresses])
        announce(session, "site")
        return f"{say_count(len(self.addresses), 'address', 'addresses')} written down."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            shares.one_at_a_time(session)
            view = load_view(session)
            if view.files is None:
                return
            if self.before is None:
                if refusals := against_stopping(view):
                    raise refusals[0]
                shares.forget_service(session)
            else:
                back = {address for one in self.before for address in one.at}
                if refusals := against_leaving(view, back):
                    raise refusals[0]
                shares.save_service(session, self.server_before, [one.said() for one in self.before])
            announce(session, "site")


def _named(addresses: Sequence[AddressAt]) -> set[tuple[str, tuple[str, ...]]]:
    """Without homes, which may move by themselves."""
    return {(one.name, one.at) for one in addresses}


def _known(service: FileService | None) -> set[tuple[str, tuple[str, ...]]] | None:
    return None if service is None else _named(as_it_is(service))


def against_leaving(view: SiteView, wanted: set[str]) -> list[NotPossible]:
    """Why addresses that are not wanted any more cannot go: shares are served there."""
    found = []
    for one in view.files.addresses if view.files is not None else ():
        if set(one.at) & wanted:
            continue
        mine = [share.name for share in view.shares if share.address == one.number]
        if mine:
            words = f"{say_list(mine, 4)} {'is' if len(mine) == 1 else 'are'} served at {one.name}."
            step = "Give them another address first."
            found.append(NotPossible(words, about="addresses", next_step=step))
    return found


def against_stopping(view: SiteView) -> list[NotPossible]:
    """Why the service cannot be switched off: there are shares, also in the bin."""
    if not view.shares:
        return []
    names = say_list([share.name for share in view.shares], 4)
    doing = "is" if len(view.shares) == 1 else "are"
    words = f"{names} {doing} served by it, or {doing} in the bin."
    step = "Delete the shares first, and empty the bin of them."
    return [NotPossible(words, about="addresses", next_step=step)]


class AwaitAddresses(Outside):
    """Each address is on a node, as that tells. The cluster may take a moment to deal them out."""

    name: ClassVar[str] = "await-addresses"

    def carry_out(self, run: Run) -> str:
        left: list[FileAddress] = []
        for attempt in range(settings().attempts):
            run.check_asked()
            view = current_view()
            if view.files is None:
                return "The file service is switched off."
            left = [one for one in view.files.addresses if carrier_of(view, one) is None]
            if not left:
                return f"All {say_count(len(view.files.addresses), 'address', 'addresses')} are served."
            time.sleep(settings().look_seconds * (1 + attempt))
        names = say_list([one.at[0] for one in left], 4)
        return f"No node has told yet that it has {names}."


class LookForNames(Outside):
    """The name server is asked what it says of each name, and of each address; what is missing is said, and
    stands on the page of the service. Clients may mount by address meanwhile.
    """

    name: ClassVar[str] = "look-for-names"

    def carry_out(self, run: Run) -> str:
        service = current_view().files
        if service is None:
            return "The file service is switched off."
        if not service.name_server:
            return "No name server is known: nobody has looked for the names."
        found = look_for_all(service)
        with transaction() as session:
            if shares.note_resolved(session, found):
                announce(session, "site")
        service = current_view().files or service
        faults = unnamed(service)
        if not faults:
            return "Every name is known, forward and backward."
        return " ".join(fault.sentence for _, fault in faults[:4])


@dataclass(frozen=True, slots=True)
class _Wished:
    name_server: str
    addresses: tuple[AddressAt, ...]


def _wished(view: SiteView, params: ServeFilesParams) -> _Wished:
    """Raises NotFound, NotPossible."""
    four = read_range(params.addresses) if params.addresses.strip() else []
    six = read_range(params.addresses6, "addresses6") if params.addresses6.strip() else []
    if not four and not six:
        words = "The file service needs addresses, at which clients reach it."
        raise NotPossible(words, about="addresses", next_step="Such as 10.30.0.21-10.30.0.24.")
    each = paired(four, six)
    names = names_for(params.names, len(each))
    server = said_server(*check_server(params.name_server)) if params.name_server.strip() else ""
    homes = _homes(view, params, each)
    found = tuple(
        AddressAt(name=name, at=at, home=home) for name, at, home in zip(names, each, homes, strict=True)
    )
    return _Wished(server, found)


def _homes(view: SiteView, params: ServeFilesParams, each: list[tuple[str, ...]]) -> list[int]:
    known = view.files.addresses if view.files is not None else ()
    if not params.nodes:
        keep = {place: one.home for place, at in enumerate(each) for one in known if set(one.at) & set(at)}
        return homes_for(view, len(each), keep)
    nodes = [view.node(name) for name in params.nodes]
    could = {node.number for node in could_serve(view)}
    if strangers := [node.name for node in nodes if node.number not in could]:
        words = f"{say_list(strangers)} cannot serve: no member of the cluster, or given up."
        raise NotPossible(words, about="nodes")
    if len(nodes) != len(each):
        words = f"{say_count(len(nodes), 'node')} for {say_count(len(each), 'address', 'addresses')}."
        raise NotPossible(words, about="nodes", next_step="Name a node for each address, or none.")
    return [node.number for node in nodes]


@register
class ServeFiles(Kind[ServeFilesParams]):
    """save (ours), tell (agents), await addresses (agents), look for names (name server)."""

    name: ClassVar[str] = "serve-files"
    params: ClassVar[type[Params]] = ServeFilesParams

    def plan(self, view: SiteView, params: ServeFilesParams) -> Plan:
        on, about = view.files is not None, "file service"
        title = "Alter the file service" if on else "Switch the file service on"
        if view.cluster is None or view.cluster.forming:
            said = "The file service is served by a cluster, and there is none yet."
            note = Note(sentence=said, about="addresses", next_step="Form one first.")
            return Plan(title=title, about=about, blockers=[note])
        try:
            wished = _wished(view, params)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        wanted = [address for one in wished.addresses for address in one.at]
        before = as_it_is(view.files) if view.files is not None else None
        server = view.files.name_server if view.files is not None else ""
        step = SaveFiles(
            name_server=wished.name_server, addresses=wished.addresses, before=before, server_before=server
        )
        same = before == wished.addresses and server == wished.name_server
        refusals = [*against_taken(view, wanted), *against_leaving(view, set(wanted))]
        fate = takeover(view)
        return Plan(
            title=title,
            about=about,
            summary=f"{say_count(len(wished.addresses), 'address', 'addresses')} on "
            f"{say_list([view.node_numbered(one.home).name for one in wished.addresses])}.",
            steps=[
                Planned(step, "Write down its addresses and names"),
                tell_files("They deal the addresses out among them, each to where it is at home."),
                Planned(AwaitAddresses(), "See that each address is served", "Its node tells so.", seconds=3),
                Planned(
                    LookForNames(),
                    "Look for the names, forward and backward",
                    "What is missing is said; clients may mount by address meanwhile.",
                    seconds=1,
                ),
            ],
            effects=[
                Texts(heads=["Address", "Name", "At home on"], rows=_rows(view, wished)),
                Promise(title="When a node falls away", sentence=fate.sentence),
                Promise(title="Ports", sentence=_ports()),
            ],
            touches=[alone(Thing.FILES)],
            meant=Meant(),
            blockers=[
                *(Note.of(error) for error in refusals),
                *([unchanged("addresses")] if same else []),
            ],
            warnings=[*_known_by(view, wished), *_of_fate(fate), *_untested(wished)],
            undo=_undo(view, view.files),
        )


def _ports() -> str:
    return (
        "Clients reach its nodes at TCP port 2049 (NFS; of version 3 also 111, and those that it names) and "
        "445 (SMB)."
    )


def as_it_is(service: FileService) -> tuple[AddressAt, ...]:
    return tuple(AddressAt(name=one.name, at=one.at, home=one.home) for one in service.addresses)


def _rows(view: SiteView, wished: _Wished) -> list[TextRow]:
    return [
        TextRow(label=", ".join(one.at), before=one.name, after=view.node_numbered(one.home).name)
        for one in wished.addresses
    ]


def _known_by(view: SiteView, wished: _Wished) -> list[Note]:
    """That clients have mounted under a name that goes."""
    if view.files is None:
        return []
    found = []
    for one in view.files.addresses:
        now = next((other.name for other in wished.addresses if set(other.at) & set(one.at)), one.name)
        mounted = [
            mount.said
            for share in view.shares
            if share.address == one.number
            for mount in mounts_of(view, share)
        ]
        if now != one.name and mounted:
            words = (
                f"{say_list(mounted, 4)} may have mounted by the name {one.name}: what is mounted goes on, "
            )
            words += "and is not found again under that name once they start anew."
            found.append(warning("name-goes", words))
    return found


def _of_fate(fate: Takeover) -> list[Note]:
    """That some node may not fall away."""
    return [] if fate.is_sure else [warning("not-taken-over", fate.sentence)]


def _untested(wished: _Wished) -> list[Note]:
    if wished.name_server:
        return []
    words = "Without a name server nobody looks whether clients find the names."
    return [warning("names-not-looked-for", words)]


def _undo(view: SiteView, service: FileService | None) -> Undo:
    if service is None:
        return Undo("stop-files", {})
    versions = [
        [a for one in service.addresses for a in one.at if (":" in a) == six] for six in (False, True)
    ]
    return Undo(
        "serve-files",
        {
            "addresses": " ".join(versions[0]),
            "addresses6": " ".join(versions[1]),
            "names": " ".join(one.name for one in service.addresses),
            "name_server": service.name_server,
            "nodes": [view.node_numbered(one.home).name for one in service.addresses],
        },
    )
