"""Hosts, and which volumes are attached to them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from sqlalchemy import delete, func, select, update

from foldbarn.core.hosts.attachments import Attachment, FileSystem, Target
from foldbarn.core.hosts.facts import Facts, from_kept
from foldbarn.core.hosts.initiators import Initiator, Transport
from foldbarn.core.names import natural_key
from foldbarn.core.site import Contact, Host
from foldbarn.store.database import Session
from foldbarn.store.tables import AttachmentRow, HostRow, InitiatorRow, TargetRow

# Hosts, as the view has them. ----------------------------------------------------------------------------


def read_hosts(session: Session) -> tuple[Host, ...]:
    """All hosts, by name."""
    names: dict[int, list[Initiator]] = {}
    for row in session.scalars(select(InitiatorRow)):
        names.setdefault(row.host_id, []).append(Initiator(Transport(row.transport), row.name))
    rows = sorted(session.scalars(select(HostRow)), key=lambda row: natural_key(row.name))
    return tuple(
        Host(
            number=row.id,
            name=row.name,
            group=row.group_name,
            initiators=tuple(sorted(names.get(row.id, []))),
            agent_url=row.agent_url,
            contact=Contact(row.contact),
            reason=row.reason,
            since=row.since.timestamp(),
            facts=from_kept(row.facts) if row.facts else Facts(),
        )
        for row in rows
    )


def read_targets(session: Session, nodes: Mapping[int, int]) -> tuple[Target, ...]:
    """The targets of all volumes that are attached, by number of the volume. nodes: those there are, by
    number.
    """
    attached: dict[int, list[Attachment]] = {}
    for row in session.scalars(select(AttachmentRow).order_by(AttachmentRow.id)):
        found = Attachment(row.host_id, Transport(row.transport), row.read_only, row.mount_at, row.secret_of)
        attached.setdefault(row.target_id, []).append(found)
    return tuple(
        Target(
            volume=row.volume_id,
            file_system=FileSystem(row.file_system),
            gateways=tuple(number for number in row.gateways if number in nodes),
            attachments=tuple(attached[row.id]),
        )
        for row in session.scalars(select(TargetRow).order_by(TargetRow.volume_id))
        if row.id in attached
    )


# Hosts, as changes write them. -----------------------------------------------------------------------------


def row_of(session: Session, host: int) -> HostRow | None:
    return session.get(HostRow, host, with_for_update=True)


def stored(session: Session, host: int) -> HostRow:
    return session.get_one(HostRow, host)


def add(session: Session, change: int, name: str, group: str, url: str, names: Sequence[Initiator]) -> None:
    row = HostRow(name=name, group_name=group, agent_url=url, made_by=change)
    session.add(row)
    session.flush()
    _set_initiators(session, row.id, names)


def alter(
    session: Session, host: int, by: int, name: str, group: str, url: str, names: Sequence[Initiator]
) -> None:
    """A host (by number) is so from here on, by a change; what another agent told of it is forgotten."""
    row = session.get_one(HostRow, host)
    if row.agent_url != url:
        row.contact, row.reason, row.heard_at, row.facts = Contact.AWAITED.value, "", None, {}
        row.since = func.now()
    row.name, row.group_name, row.agent_url, row.altered_by = name, group, url, by
    _set_initiators(session, host, names)


def altered_by(session: Session, host: int) -> int | None:
    """The change that altered a host last; none where none has."""
    return session.scalar(select(HostRow.altered_by).where(HostRow.id == host))


def made_by(session: Session, change: int) -> int | None:
    """The number of the host that a change has made; none where it has not."""
    return session.scalar(select(HostRow.id).where(HostRow.made_by == change))


def forget(session: Session, host: int) -> None:
    """Deletes a host; no volume may be attached to it any more."""
    session.execute(delete(HostRow).where(HostRow.id == host))


def _set_initiators(session: Session, host: int, names: Sequence[Initiator]) -> None:
    session.execute(delete(InitiatorRow).where(InitiatorRow.host_id == host))
    session.add_all(InitiatorRow(host_id=host, transport=one.transport.value, name=one.name) for one in names)
    session.flush()


# Attachments. ----------------------------------------------------------------------------------------------


def attach(session: Session, change: int, target: Target, fresh: Sequence[Attachment]) -> None:
    """Attaches a volume to some hosts. target: as it is to be with them."""
    row = session.scalars(select(TargetRow).where(TargetRow.volume_id == target.volume)).one_or_none()
    if row is None:
        row = TargetRow(volume_id=target.volume)
        session.add(row)
    row.file_system, row.gateways = target.file_system.value, list(target.gateways)
    session.flush()
    for one in fresh:
        session.add(
            AttachmentRow(
                target_id=row.id,
                host_id=one.host,
                transport=one.transport.value,
                read_only=one.read_only,
                mount_at=one.at,
                secret_of=one.secret_of,
                made_by=change,
            )
        )
    session.flush()


def detach(session: Session, volume: int, hosts: Sequence[int]) -> None:
    """Parts a volume (by number) from some hosts."""
    target = select(TargetRow.id).where(TargetRow.volume_id == volume).scalar_subquery()
    mine = AttachmentRow.target_id == target, AttachmentRow.host_id.in_(list(hosts))
    session.execute(delete(AttachmentRow).where(*mine))


def detach_made_by(session: Session, change: int) -> None:
    """Takes back what a change has attached."""
    session.execute(delete(AttachmentRow).where(AttachmentRow.made_by == change))


def set_gateways(session: Session, gateways: Mapping[int, Sequence[int]]) -> None:
    """The nodes that serve volumes to hosts, by number of the volume."""
    for volume, nodes in gateways.items():
        mine = update(TargetRow).where(TargetRow.volume_id == volume)
        session.execute(mine.values(gateways=list(nodes)))


# Hearing. --------------------------------------------------------------------------------------------------


class HostAgent(NamedTuple):
    """Where a host tells how it is, and whether it is heard."""

    url: str
    contact: str


def with_agents(session: Session) -> dict[int, HostAgent]:
    """By number of the host."""
    columns = HostRow.id, HostRow.agent_url, HostRow.contact
    rows = session.execute(select(*columns).where(HostRow.agent_url != ""))
    return {number: HostAgent(*rest) for number, *rest in rows}


def told(session: Session, host: int) -> tuple[str, dict[str, Any]] | None:
    """Contact of a host (by number), and what it told last; None where it is gone."""
    row = session.execute(select(HostRow.contact, HostRow.facts).where(HostRow.id == host)).one_or_none()
    return None if row is None else (row.contact, row.facts)


def note_heard(session: Session, host: int, url: str, facts: dict[str, Any] | None) -> None:
    """A host (by number) answered at that address. facts: what it told; None where that is what it told
    before.
    """
    row = session.get(HostRow, host, with_for_update=True)
    if row is None or row.agent_url != url:
        return  # another agent's by now
    row.heard_at = func.now()
    if row.contact != Contact.HEARD:
        row.contact, row.reason, row.since = Contact.HEARD.value, "", func.now()
    if facts is not None:
        row.facts = facts


def note_silent(session: Session, host: int, url: str, contact: Contact, why: str) -> bool:
    """A host (by number) did not answer, or not in its protocol. True where that is news."""
    row = session.get(HostRow, host, with_for_update=True)
    if row is None or row.agent_url != url or (row.contact, row.reason) == (contact.value, why):
        return False
    if row.contact != contact:
        row.since = func.now()
    row.contact, row.reason = contact.value, why
    return True
