"""Clearing a disk of what it carries, so that it can be used. It cannot be undone, and wants the disk's name
typed.
"""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.core.errors import NotFound, NotPossible
from foldbarn.core.hardware import ReportedDisk
from foldbarn.core.reading import read_inventory
from foldbarn.core.site import Contact, Disk, Node, Role, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import say_list, say_size
from foldbarn.store.views import current_view


class ClearDiskParams(Params):
    """disk: its name; typed: the name once more, as a person typed it to confirm."""

    disk: str
    typed: str = ""


@register
class ClearDisk(Kind[ClearDiskParams]):
    """look (agent: is it still what was shown?), wipe (agent), check (read back)."""

    name: ClassVar[str] = "clear-disk"
    params: ClassVar[type[Params]] = ClearDiskParams

    def about(self, params: ClearDiskParams) -> str:
        return params.disk

    def meant(self, view: SiteView, params: ClearDiskParams) -> Meant:
        return Meant(disks=(view.disk(params.disk),))

    def touches(self, view: SiteView, params: ClearDiskParams) -> list[Touch]:
        return [alone(Thing.DISK, view.disk(params.disk).number)]

    def preview(self, view: SiteView, params: ClearDiskParams) -> Preview:
        blockers, texts, summary = [], [], ""
        try:
            disk = view.disk(params.disk)
        except NotFound as error:
            blockers.append(Note.of(error))
        else:
            blockers += [Note(sentence=sentence, about="disk") for sentence in _against(view, disk)]
            if not blockers and params.typed != disk.name:
                blockers.append(
                    Note(
                        sentence=f"Type {disk.name} to confirm that what it carries may be destroyed.",
                        about="typed",
                    )
                )
            texts = [
                TextRow(
                    label="Destroyed",
                    before=sentence,
                    after="nothing",
                )
                for sentence in disk.why
            ]
            summary = (
                f"{disk.name}: {disk.model}, {say_size(disk.size_bytes)}, serial {disk.serial}, in "
                f"{view.nodes[disk.node].name}. This cannot be undone."
            )
        return Preview(
            kind=self.name,
            title=f"Clear {params.disk}",
            summary=summary,
            revision=view.revision,
            texts=texts,
            type_to_confirm=params.disk,
            steps=[
                PlannedStep(
                    name="look",
                    title="Look once more",
                    detail="The disk must still carry what is shown here, and nothing of it may be in use.",
                ),
                PlannedStep(
                    name="wipe",
                    title="Wipe its signatures",
                    detail="From here on what it carried cannot be had back.",
                    seconds=1,
                    can_withdraw=False,
                ),
                PlannedStep(
                    name="check", title="Read it back", detail="It must show nothing any more.", seconds=1
                ),
            ],
            blockers=blockers,
        ).sealed()

    def step_look(self, run: Run[ClearDiskParams]) -> str:
        view = current_view()
        disk = run.disk(view, run.params.disk)
        node = view.nodes[disk.node]
        seen = _seen(run, node, disk)
        if seen is None:
            raise NotPossible(f"{node.name} no longer shows {disk.name}.")
        if seen.boot or seen.mounted:
            raise NotPossible(f"{disk.name} is in use now: {say_list(list(seen.mounted))}.")
        if against := _against(view, disk):
            raise NotPossible(" ".join(against))
        return (
            f"It carries {seen.signature or seen.partition_table or 'nothing'}, and nothing of it is in use."
        )

    def step_wipe(self, run: Run[ClearDiskParams]) -> str:
        view = current_view()
        disk = run.disk(view, run.params.disk)
        run.tell_nodes(
            {view.nodes[disk.node].number: {"kind": "clear", "disk": disk.serial, "site": view.mark}}
        )
        return "Its signatures are wiped."

    def step_check(self, run: Run[ClearDiskParams]) -> str:
        view = current_view()
        disk = run.disk(view, run.params.disk)
        node = view.nodes[disk.node]
        seen = _seen(run, node, disk)
        if seen is None or seen.signature or seen.partition_table:
            raise NotPossible(
                f"{node.name} says it cleared {disk.name}, but the disk still shows "
                f"{seen.signature or seen.partition_table if seen else 'nothing'}."
            )
        return "It shows nothing any more; its verdict follows with the next report."

    def withdraw(self, run: Run[ClearDiskParams]) -> None:
        """Before the wipe nothing has been done; after it there is nothing to put back."""


def _seen(run: Run[ClearDiskParams], node: Node, disk: Disk) -> ReportedDisk | None:
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
