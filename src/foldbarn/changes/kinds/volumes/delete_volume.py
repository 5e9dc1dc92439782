"""Deleting a volume. It cannot be undone, and wants the name typed."""

from __future__ import annotations

from collections import defaultdict
from typing import Any, ClassVar

import numpy as np

from foldbarn.changes.engine.effects import Note, OnDisks, Row, Sums, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.core.errors import NotFound
from foldbarn.core.figures import Figure
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.placement import strips_by_disk
from foldbarn.core.site import Contact, Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import nodes, pools, volumes
from foldbarn.store.database import Session
from foldbarn.store.views import current_view, load_view


class DeleteVolumeParams(Params):
    """typed: the volume's name once more."""

    volume: str
    typed: str = ""


class DropStrips(Outside):
    """Has the agents drop what they hold of a volume (by number). What silent nodes hold is dropped when they
    return.
    """

    name: ClassVar[str] = "drop-strips"
    no_way_back: ClassVar = "begun"
    why_no_way_back: ClassVar[str] = "its strips are being dropped"
    volume: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        volume = _still_there(view, self.volume)
        if volume is None:
            return "It is gone already."
        with run.holding_strips(view.pools[volume.pool]):
            return self._drop(run)

    def _drop(self, run: Run) -> str:
        view = current_view()
        volume = _still_there(view, self.volume)
        if volume is None:
            return "It is gone already."
        orders: dict[int, dict[str, Any]] = {}
        silent = set()
        for ply in volume.plies:
            for number, strips in strips_by_disk(ply.placement).items():
                disk = view.known_number(number)
                if disk is None:
                    continue  # it is no more, and what it held with it
                node = view.nodes[disk.node]
                if node.contact != Contact.HEARD:
                    silent.add(node.number)
                elif disk.present:
                    order = orders.setdefault(node.number, {"kind": "drop", "strips": defaultdict(list)})
                    order["strips"][disk.serial] += [[ply.number, e, s] for e, s in strips]
        with run.writing() as session:
            nodes.owe(session, silent)
        run.tell_nodes(orders)
        dropped = say_count(_strips(volume), "strip")
        return f"{dropped} dropped on {say_count(len(orders), 'node')}."


class ForgetVolume(Inside):
    """A volume (by number) is no more."""

    name: ClassVar[str] = "forget-volume"
    lasting: ClassVar[bool] = True
    volume: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = _still_there(view, self.volume)
        if volume is None:
            return "It was forgotten already."
        volumes.forget(session, volume.number)
        pools.look(session, [view.pools[volume.pool].number], f"{volume.name} was deleted")
        return f"{volume.name} is gone."


@register
class DeleteVolume(Kind[DeleteVolumeParams]):
    """drop (agents), forget (ours). What silent nodes hold is dropped when they return."""

    name: ClassVar[str] = "delete-volume"
    params: ClassVar[type[Params]] = DeleteVolumeParams

    def plan(self, view: SiteView, params: DeleteVolumeParams) -> Plan:
        title, about = f"Delete {params.volume}", params.volume
        try:
            volume = view.volume(params.volume)
        except NotFound as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        pool = view.pools[volume.pool]
        on_disks = _bytes_on_disks(view, pool, volume)
        used = pool_space(view, pool).used * pool.strip_bytes
        freed = _strips(volume) * pool.strip_bytes
        taken = Row(
            label=f"Taken on the disks of {pool.name}",
            before=Figure("Taken", used, "bytes"),
            after=Figure("Taken", used - freed, "bytes"),
        )
        return Plan(
            title=title,
            about=about,
            summary=f"{say_size(volume.size_bytes)} in {pool.name}. This cannot be undone.",
            steps=[
                Planned(
                    DropStrips(volume=volume.number),
                    "Drop its strips",
                    "From here on its data cannot be had back.",
                    seconds=1,
                ),
                Planned(ForgetVolume(volume=volume.number), "Forget it", "Its room is free for others."),
            ],
            effects=[Sums(rows=[taken]), OnDisks(leaving=on_disks)],
            touches=[alone(Thing.VOLUME, volume.number), shared(Thing.POOL, pool.number)],
            meant=Meant(volumes=(volume,)),
            blockers=_against_volume(volume, params.typed),
            warnings=_silent(view, on_disks),
            type_to_confirm=volume.name,
        )


def _strips(volume: Volume) -> int:
    """That lie on disks."""
    return sum(int((ply.placement > 0).sum()) for ply in volume.plies)


def _bytes_on_disks(view: SiteView, pool: Pool, volume: Volume) -> dict[str, int]:
    """What lies on each disk, by its name."""
    names = {d.number: d.name for d in view.disks}
    numbers = np.concatenate([ply.placement.reshape(-1) for ply in volume.plies])
    values, counts = np.unique(numbers, return_counts=True)
    return {
        names[n]: c * pool.strip_bytes
        for n, c in zip(values.tolist(), counts.tolist(), strict=True)
        if n in names
    }


def _against_volume(volume: Volume, typed: str) -> list[Note]:
    found = []
    if volume.forming:
        words, step = f"{volume.name} is still being made.", "Withdraw that change instead."
        found.append(Note(sentence=words, about="volume", next_step=step))
    if typed != volume.name:
        words = f"Type {volume.name} to confirm that its data may be destroyed."
        found.append(Note(sentence=words, about="typed"))
    return found


def _silent(view: SiteView, on_disks: dict[str, int]) -> list[Note]:
    """Of the nodes that cannot be told."""
    theirs = (view.nodes[d.node] for d in view.disks if d.name in on_disks)
    silent = sorted({n.name for n in theirs if n.contact != Contact.HEARD})
    if not silent:
        return []
    words = f"{say_list(silent)} cannot be told now; what lies there is dropped when it returns."
    return [warning("cannot-be-told", words)]


def _still_there(view: SiteView, number: int) -> Volume | None:
    """The volume of that number; none where it is gone, though a newer one may have its name."""
    return next((v for v in view.volumes if v.number == number), None)
