"""Clearing a disk of what it carries, so that it can be used. It cannot be undone, and wants the disk's name
typed.
"""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.core.errors import NotFound, NotPossible
from foldbarn.core.machines.hardware import ReportedDisk
from foldbarn.core.machines.reading import read_inventory
from foldbarn.core.site import Contact, Disk, Node, Role, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_list, say_size
from foldbarn.store.views import current_view


class ClearDiskParams(Params):
    """disk: its name; typed: the name once more, as a person typed it to confirm."""

    disk: str
    typed: str = ""


class LookAgain(Outside):
    """The disk (by number) must still carry what was shown, and nothing of it may be in use."""

    name: ClassVar[str] = "look-again"
    disk: int
    carries: tuple[str, ...]  # the codes of why it is unfit

    def carry_out(self, run: Run) -> str:
        view = current_view()
        disk = view.disk_numbered(self.disk)
        node = view.nodes[disk.node]
        seen = _seen(run, node, disk)
        if seen is None:
            raise NotPossible(f"{node.name} no longer shows {disk.name}.")
        if seen.boot or seen.mounted:
            raise NotPossible(f"{disk.name} is in use now: {say_list(list(seen.mounted))}.")
        if against := _against(view, disk):
            raise NotPossible(" ".join(against))
        if _carried(disk) != self.carries:
            step = "Withdraw this change and preview it again."
            raise NotPossible(f"{disk.name} carries something else now.", next_step=step)
        return (
            f"It carries {seen.signature or seen.partition_table or 'nothing'}, and nothing of it is in use."
        )


class Wipe(Outside):
    """Wipes the signatures of a disk (by number)."""

    name: ClassVar[str] = "wipe"
    lasting: ClassVar[bool] = True
    disk: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        disk = view.disk_numbered(self.disk)
        order = {"kind": "clear", "disk": disk.serial, "site": view.mark}
        run.tell_nodes({view.nodes[disk.node].number: order})
        return "Its signatures are wiped."


class ReadCleared(Outside):
    """The disk (by number) must show nothing any more."""

    name: ClassVar[str] = "read-cleared"
    disk: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        disk = view.disk_numbered(self.disk)
        node = view.nodes[disk.node]
        seen = _seen(run, node, disk)
        if seen is None or seen.signature or seen.partition_table:
            raise NotPossible(
                f"{node.name} says it cleared {disk.name}, but the disk still shows "
                f"{seen.signature or seen.partition_table if seen else 'nothing'}."
            )
        return "It shows nothing any more; its verdict follows with the next report."


@register
class ClearDisk(Kind[ClearDiskParams]):
    """look (agent: is it still what was shown?), wipe (agent), read back."""

    name: ClassVar[str] = "clear-disk"
    params: ClassVar[type[Params]] = ClearDiskParams

    def plan(self, view: SiteView, params: ClearDiskParams) -> Plan:
        title, about = f"Clear {params.disk}", params.disk
        try:
            disk = view.disk(params.disk)
        except NotFound as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        blockers = [Note(sentence=sentence, about="disk") for sentence in _against(view, disk)]
        if not blockers and params.typed != disk.name:
            words = f"Type {disk.name} to confirm that what it carries may be destroyed."
            blockers.append(Note(sentence=words, about="typed"))
        node = view.nodes[disk.node]
        texts = [TextRow(label="Destroyed", before=sentence, after="nothing") for sentence in disk.why]
        return Plan(
            title=title,
            about=about,
            summary=f"{disk.name}: {disk.model}, {say_size(disk.size_bytes)}, serial {disk.serial}, in "
            f"{node.name}. This cannot be undone.",
            steps=[
                Planned(
                    LookAgain(disk=disk.number, carries=_carried(disk)),
                    "Look once more",
                    "The disk must still carry what is shown here, and nothing of it may be in use.",
                ),
                Planned(
                    Wipe(disk=disk.number),
                    "Wipe its signatures",
                    "From here on what it carried cannot be had back.",
                    seconds=1,
                ),
                Planned(
                    ReadCleared(disk=disk.number),
                    "Read it back",
                    "It must show nothing any more.",
                    seconds=1,
                ),
            ],
            effects=[Texts(rows=texts)],
            touches=[alone(Thing.DISK, disk.number)],
            meant=Meant(disks=(disk,)),
            blockers=blockers,
            type_to_confirm=disk.name,
        )


def _carried(disk: Disk) -> tuple[str, ...]:
    return tuple(sorted(f"{reason.code} {reason.about}".strip() for reason in disk.reasons))


def _seen(run: Run, node: Node, disk: Disk) -> ReportedDisk | None:
    """The disk as its node shows it now; None where it does not. Raises Unreachable."""
    agent = run.agent(node.number)
    return next(
        (d for d in read_inventory(run.insist(node.name, agent.inventory)).disks if d.serial == disk.serial),
        None,
    )


def _against(view: SiteView, disk: Disk) -> list[str]:
    node = view.nodes[disk.node]
    found = []
    if disk.pool >= 0:
        found.append(f"{disk.name} belongs to pool {view.pools[disk.pool].name}.")
    elif disk.role == Role.BOOT or any(r.code in ("boot", "mounted") for r in disk.reasons):
        found.append(f"{disk.name} is never cleared: {say_list(disk.why)}.")
    elif disk.role == Role.UNCLAIMED:
        found.append(f"{disk.name} carries nothing; it is fit as it is.")
    elif not disk.clearable:
        found.append(f"Clearing would not make {disk.name} fit: {say_list(disk.why)}.")
    if node.contact != Contact.HEARD:
        found.append(f"{node.name} is not heard, so nobody could clear its disks.")
    if not disk.present:
        found.append(f"{disk.name} is missing from {node.name}.")
    return found
