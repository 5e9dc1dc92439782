"""Virtual machines, and which volumes are part of them."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import delete, exists, select, text, update

from foldbarn.core.names import natural_key
from foldbarn.core.site import PartOf, Vm
from foldbarn.store.database import Session
from foldbarn.store.tables import VmRow, VolumeRow


def read_vms(session: Session) -> tuple[Vm, ...]:
    """All of them, by name."""
    rows = sorted(session.scalars(select(VmRow)), key=lambda row: natural_key(row.name))
    return tuple(
        Vm(
            number=row.id,
            name=row.name,
            cpus=row.cpus,
            memory_bytes=row.memory_bytes,
            disks=tuple(row.disks),
            host=row.host_id,
            resumes=row.resumes,
            template=row.template,
        )
        for row in rows
    )


def stored(session: Session, vm: int) -> VmRow:
    return session.get_one(VmRow, vm)


def one_at_a_time(session: Session) -> None:
    """Until this transaction ends nobody else adds one: of two of one name the second is told so."""
    session.execute(text("lock table vm in share row exclusive mode"))


def add(session: Session, change: int, vm: Vm, parts: Mapping[int, PartOf]) -> None:
    """A new one, and what volumes of the change (by their place among those that it has made) are of it."""
    row = VmRow(
        name=vm.name, cpus=vm.cpus, memory_bytes=vm.memory_bytes, disks=list(vm.disks), made_by=change
    )
    session.add(row)
    session.flush()
    for nth, part in parts.items():
        make_part(session, change, nth, PartOf(row.id, part.what, part.place))


def make_part(session: Session, change: int, nth: int, part: PartOf) -> None:
    """A volume of the change (by its place among those that it has made) is part of a virtual machine."""
    mine = VolumeRow.change_id == change, VolumeRow.nth == nth
    said = {"vm_id": part.vm, "vm_part": part.what.value, "vm_place": part.place}
    session.execute(update(VolumeRow).where(*mine).values(**said))


def switch(session: Session, vm: int, host: int | None, change: int) -> None:
    """It is switched on at a host (by number), or at none, by a change."""
    mine = update(VmRow).where(VmRow.id == vm)
    session.execute(mine.values(host_id=host, switched_by=change))


def rename(session: Session, vm: int, name: str) -> None:
    session.execute(update(VmRow).where(VmRow.id == vm).values(name=name))


def set_template(session: Session, vm: int, *, template: bool) -> None:
    """Whether it stays off, and others are made from it."""
    session.execute(update(VmRow).where(VmRow.id == vm).values(template=template))


def resume_with(session: Session, vm: int, place: int | None) -> None:
    """With what its memory held, by the place of that, it goes on when it is switched on next; with nothing
    where that is None.
    """
    session.execute(update(VmRow).where(VmRow.id == vm).values(resumes=place))


def unswitch(session: Session, vm: int, change: int) -> None:
    """It is on at none, where it was this change that switched it."""
    mine = update(VmRow).where(VmRow.id == vm, VmRow.switched_by == change)
    session.execute(mine.values(host_id=None))


def made_by(session: Session, change: int) -> int | None:
    """The number of the one that a change has made; none where it has not."""
    return session.scalar(select(VmRow.id).where(VmRow.made_by == change))


def forget(session: Session, vm: int) -> None:
    """It is no more, and its volumes are part of nothing."""
    nothing = {"vm_id": None, "vm_part": "", "vm_place": 0}
    session.execute(update(VolumeRow).where(VolumeRow.vm_id == vm).values(**nothing))
    session.execute(delete(VmRow).where(VmRow.id == vm))


def forget_empty(session: Session, vm: int) -> None:
    """The same, where no volume is left of it."""
    left = exists().where(VolumeRow.vm_id == VmRow.id)
    session.execute(delete(VmRow).where(VmRow.id == vm, ~left))
