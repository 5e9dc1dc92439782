"""Hosts that run virtual machines: by what they are asked, and what they told last."""

from __future__ import annotations

from dataclasses import asdict, dataclass

from sqlalchemy import delete, func, select, text

from foldbarn.core.site import Contact, Guest, VmHost
from foldbarn.store.database import Session
from foldbarn.store.tables import VmHostRow


@dataclass(frozen=True, slots=True)
class Access:
    """By what a VM host is asked; password: sealed."""

    url: str
    user: str
    password: str


@dataclass(frozen=True, slots=True)
class Said:
    """What a VM host said of itself; missing: privileges that the account lacks."""

    identity: str
    cpus: int
    memory_bytes: int
    missing: tuple[str, ...]
    guests: tuple[Guest, ...]


def read_vm_hosts(session: Session) -> tuple[VmHost, ...]:
    """All of them, by number of the host."""
    return tuple(
        VmHost(
            host=row.host_id,
            url=row.url,
            user=row.user_name,
            identity=row.identity,
            cpus=row.cpus,
            memory_bytes=row.memory_bytes,
            missing=tuple(row.missing),
            contact=Contact(row.contact),
            reason=row.reason,
            since=row.since.timestamp(),
            guests=tuple(Guest(**guest) for guest in row.guests),
        )
        for row in session.scalars(select(VmHostRow).order_by(VmHostRow.host_id))
    )


def access_of(session: Session, host: int) -> Access | None:
    """None where the host (by number) runs no virtual machines."""
    row = session.scalars(select(VmHostRow).where(VmHostRow.host_id == host)).one_or_none()
    return None if row is None else Access(row.url, row.user_name, row.password)


def all_access(session: Session) -> dict[int, Access]:
    """By number of the host."""
    rows = session.scalars(select(VmHostRow))
    return {row.host_id: Access(row.url, row.user_name, row.password) for row in rows}


def one_at_a_time(session: Session) -> None:
    """Until this transaction ends nobody else connects one: of two at one service the second is told so."""
    session.execute(text("lock table vm_host in share row exclusive mode"))


def connect(session: Session, host: int, change: int, access: Access, said: Said) -> None:
    """A host (by number) runs virtual machines from here on, or is asked by another account."""
    row = _row(session, host)
    if row is None:
        row = VmHostRow(host_id=host, made_by=change, url="", user_name="", password="", identity="")
        row.cpus, row.memory_bytes = 0, 0
        session.add(row)
    row.url, row.user_name, row.password, row.altered_by = access.url, access.user, access.password, change
    row.contact, row.since = Contact.AWAITED.value, func.now()
    _write(row, said)
    session.flush()


def _row(session: Session, host: int) -> VmHostRow | None:
    mine = select(VmHostRow).where(VmHostRow.host_id == host)
    return session.scalars(mine.with_for_update()).one_or_none()


def _write(row: VmHostRow, said: Said) -> bool:
    """True where that is news."""
    was = row.identity, row.cpus, row.memory_bytes, list(row.missing or []), list(row.guests or [])
    was_heard = row.contact == Contact.HEARD
    guests = [asdict(guest) for guest in said.guests]
    now = said.identity, said.cpus, said.memory_bytes, list(said.missing), guests
    if was != now:
        row.identity, row.cpus, row.memory_bytes, row.missing, row.guests = now
    if not was_heard:
        row.contact, row.reason, row.since = Contact.HEARD.value, "", func.now()
    return was != now or not was_heard


def note_heard(session: Session, host: int, url: str, said: Said) -> bool:
    """A host (by number) told at that address what it runs; true where that is news."""
    row = _row(session, host)
    if row is None or row.url != url or row.identity != said.identity:
        return False
    return _write(row, said)


def note_silent(session: Session, host: int, url: str, contact: Contact, why: str) -> bool:
    """It did not answer, or not as it should; true where that is news."""
    row = _row(session, host)
    if row is None or row.url != url or (row.contact, row.reason) == (contact.value, why):
        return False
    if row.contact != contact:
        row.since = func.now()
    row.contact, row.reason = contact.value, why
    return True


def forget(session: Session, host: int) -> None:
    """A host (by number) runs no virtual machines any more, as far as anybody here knows."""
    session.execute(delete(VmHostRow).where(VmHostRow.host_id == host))
