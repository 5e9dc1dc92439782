"""Connecting a host as one that runs virtual machines, and altering by what it is asked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.core.errors import BarnError, Conflict, NotPossible
from foldbarn.core.machines.network import check_address
from foldbarn.core.site import Host, SiteView, VmHost
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_binary, say_count, say_list
from foldbarn.core.vms.power import RIGHTS
from foldbarn.links.vm_hosts import VmHostService
from foldbarn.sealed import seal, unseal
from foldbarn.store import hosts, vm_hosts
from foldbarn.store.database import announce, transaction
from foldbarn.store.views import load_view
from foldbarn.store.vm_hosts import Access, Said

LONGEST_URL, LONGEST_WORD = 500, 200


class ConnectVmHostParams(Params):
    """host: by name. url: where its Redfish service answers. password: of the account by which it is asked;
    recorded nowhere but sealed; empty, where it is connected, for the one it has.
    """

    host: str
    url: str = Field(default="", max_length=LONGEST_URL)
    user: str = Field(default="", max_length=LONGEST_WORD)
    password: str = Field(default="", max_length=LONGEST_WORD)


class AskVmHost(Outside):
    """The service of a host (by number) is asked what it runs, and what the account may do; what it says is
    written down with the address. password: sealed; empty for the one that is known.
    """

    name: ClassVar[str] = "ask-vm-host"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is connected, and can be disconnected"
    host: int
    url: str
    user: str
    password: str = ""

    def carry_out(self, run: Run) -> str:
        sealed = self.password or self._known_password()
        run.say(f"Asking {self.url}.")
        said = ask_whole(self.url, self.user, unseal(sealed), stranger=True)
        with run.writing() as session:
            if hosts.row_of(session, self.host) is None:
                raise NotPossible("The host is gone.", about="host")
            vm_hosts.one_at_a_time(session)
            view = load_view(session)
            check_same(view, view.host_numbered(self.host), said.identity)
            access = Access(self.url, self.user, sealed)
            vm_hosts.connect(session, self.host, run.change, access, said)
            announce(session, "site")
        lacks = f" The account lacks {say_list(list(said.missing))}." if said.missing else ""
        has = f"{say_count(said.cpus, 'processor')} and {say_binary(said.memory_bytes)} of memory"
        return f"It has {has}, and runs {say_count(len(said.guests), 'VM')}.{lacks}"

    def _known_password(self) -> str:
        with transaction() as session:
            found = vm_hosts.access_of(session, self.host)
        if found is None:
            raise NotPossible("It is not connected any more.", about="password")
        return found.password


def ask_whole(url: str, user: str, password: str, *, stranger: bool = False) -> Said:
    """What a service says of itself, and of the account. Raises what asking it does."""
    service = VmHostService(url, user, password, stranger=stranger)
    runs = service.runs()
    return Said(runs.identity, runs.cpus, runs.memory_bytes, service.missing(), runs.guests)


def check_same(view: SiteView, host: Host, identity: str) -> None:
    """Raises Conflict where the service is that of another host, or another one than it was."""
    twin = next((one for one in view.vm_hosts if one.identity == identity and one.host != host.number), None)
    if twin is not None:
        other = view.host_numbered(twin.host).name
        raise Conflict(f"What answers there is the service of {other}.", about="url")
    known = view.vm_host(host.number)
    if known is not None and known.identity != identity:
        words = (
            f"What answers there is another service than {host.name} had: what that runs is not known here."
        )
        raise Conflict(words, about="url", next_step="Disconnect it, and connect it anew.")


@register
class ConnectVmHost(Kind[ConnectVmHostParams]):
    """ask what it runs (its service), and write that down (ours)."""

    name: ClassVar[str] = "connect-vm-host"
    params: ClassVar[type[Params]] = ConnectVmHostParams

    def plan(self, view: SiteView, params: ConnectVmHostParams) -> Plan:
        title = f"Connect {params.host or 'a host'} as a VM host"
        try:
            host = view.host(params.host)
            old = view.vm_host(host.number)
            url = check_address(params.url, "The address of its service", about="url")
            if not params.user.strip():
                raise NotPossible("It is asked by an account: give its name.", about="user")
            if not params.password and old is None:
                raise NotPossible("It is asked by an account: give its password.", about="password")
        except BarnError as error:
            return Plan(title=title, about=params.host, blockers=[Note.of(error)])
        user = params.user.strip()
        step = AskVmHost(host=host.number, url=url, user=user)
        words = "It says what it has, what it runs, and what the account may do. Nothing on it is altered."
        rights = say_list([f"{right} ({why})" for right, why in RIGHTS.items()])
        needs = f"It has to have these privileges, and needs no more: {rights}."
        return Plan(
            title=f"Connect {host.name} as a VM host",
            about=host.name,
            steps=[Planned(step, "Ask it, and write it down", words, seconds=1)],
            effects=[
                Texts(heads=["", "Now", "Then"], rows=_rows(old, url, user, anew=bool(params.password))),
                Promise(title="The account", sentence=needs),
            ],
            touches=[alone(Thing.HOST, host.number)],
            meant=Meant(hosts=(host,)),
            undo=Undo("disconnect-vm-host", {"host": host.name}) if old is None else None,
        )

    def to_keep(self, view: SiteView, params: ConnectVmHostParams) -> dict[str, Any]:
        return params.model_dump(mode="json", exclude={"password"})

    def with_secrets(self, params: ConnectVmHostParams, steps: Sequence[Planned]) -> Sequence[Planned]:
        if not params.password:
            return steps
        first, *rest = steps
        sealed = seal(params.password)
        return [replace(first, step=first.step.model_copy(update={"password": sealed})), *rest]


def _rows(old: VmHost | None, url: str, user: str, *, anew: bool) -> list[TextRow]:
    known = "the one it has"
    rows = [
        TextRow(label="Its service", before=old.url if old else "", after=url),
        TextRow(label="Account", before=old.user if old else "", after=user),
        TextRow(label="Password", before=known if old else "", after="a new one" if anew else known),
    ]
    return [row for row in rows if row.before != row.after] or rows[:1]
