"""Emptying the bin of volumes. It cannot be undone, and wants a name typed."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any, ClassVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.effects import Note, OnDisks, Row, Sums, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.placement import strips_by_disk
from foldbarn.core.site import Contact, Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.bin import bin_of, bytes_held
from foldbarn.core.volumes.origins import against_losing
from foldbarn.store import nodes, pools, volumes
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view, load_view

OF_A_VOLUME = (Thing.VOLUME, Thing.TARGET, Thing.COPYING)


class EmptyBinParams(Params):
    """Volumes in the bin of a pool, by name; all of them when there are none. typed: the name of the volume
    once more, or of the pool where they are several.
    """

    pool: str
    volumes: list[str] = Field(default_factory=list, max_length=1000)
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
        if volume.binned is None:
            raise Overtaken(f"{volume.name} is not in the bin.", about="volumes")
        if refusal := against_losing(view, volume, about="volumes"):
            if run.step > 1:
                return f"It stays in the bin: {refusal.sentence}"  # others are gone already
            raise Overtaken(refusal.sentence, about="volumes", next_step=refusal.next_step)
        with run.holding_strips(view.pools[volume.pool]):
            return self._drop(run)

    def _drop(self, run: Run) -> str:
        view = current_view()
        volume = _still_there(view, self.volume)
        if volume is None:
            return "It is gone already."
        orders: dict[int, dict[str, Any]] = {}
        silent = set()
        for ply in volume.every_ply:
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
            volumes.erase(session, volume.number)
            nodes.owe(session, silent)
            announce(session, "site")
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
        if not volume.erasing:
            return "It is kept."
        volumes.forget(session, volume.number)
        pools.look(session, [view.pools[volume.pool].number], f"{volume.name} was deleted")
        return f"{volume.name} is gone."


def to_type(pool: Pool, chosen: Sequence[Volume]) -> str:
    """What is typed to confirm that these volumes of a pool may be destroyed."""
    return chosen[0].name if len(chosen) == 1 else pool.name


@register
class EmptyBin(Kind[EmptyBinParams]):
    """For each volume: drop (agents), forget (ours). What silent nodes hold is dropped when they return."""

    name: ClassVar[str] = "empty-bin"
    params: ClassVar[type[Params]] = EmptyBinParams

    def plan(self, view: SiteView, params: EmptyBinParams) -> Plan:
        title, about = f"Empty the bin of {params.pool or '...'}", params.pool
        try:
            pool = view.pool(params.pool)
            chosen = _chosen(view, pool, params.volumes)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        used, freed = pool_space(view, pool).used * pool.strip_bytes, bytes_held(view, chosen)
        taken = Row(
            label=f"Taken on the disks of {pool.name}",
            before=Figure("Taken", used, "bytes"),
            after=Figure("Taken", used - freed, "bytes"),
        )
        on_disks = _bytes_on_disks(view, pool, chosen)
        size = say_size(sum(v.size_bytes for v in chosen))
        return Plan(
            title=f"Empty the bin of {say_list([v.name for v in chosen])}",
            about=pool.name,
            summary=f"{say_count(len(chosen), 'volume')}, {size}, in {pool.name}. This cannot be undone.",
            steps=[step for volume in chosen for step in _steps(volume)],
            effects=[
                Texts(heads=["Volume", "It had", "Then"], rows=[_row(v) for v in chosen]),
                Sums(rows=[taken]),
                OnDisks(leaving=on_disks),
            ],
            touches=[
                *(alone(what, v.number) for v in chosen for what in OF_A_VOLUME),
                shared(Thing.POOL, pool.number),
            ],
            meant=Meant(pools=(pool,), volumes=tuple(chosen)),
            blockers=[*_against_readers(view, chosen), *_against_typed(pool, chosen, params.typed)],
            warnings=_silent(view, on_disks),
            type_to_confirm=to_type(pool, chosen),
        )


def _chosen(view: SiteView, pool: Pool, names: list[str]) -> list[Volume]:
    """Raises NotFound, NotPossible."""
    if not names:
        if found := bin_of(view, pool):
            return found
        raise NotPossible(f"The bin of {pool.name} is empty.", about="volumes")
    chosen = list({v.number: v for v in map(view.volume, names)}.values())
    for volume in chosen:
        if view.pools[volume.pool] is not pool:
            raise NotPossible(f"{volume.name} is not in {pool.name}.", about="volumes")
        if volume.binned is None:
            words = f"{volume.name} is not in the bin."
            raise NotPossible(words, about="volumes", next_step="Delete it first.")
    return chosen


def _steps(volume: Volume) -> list[Planned]:
    return [
        Planned(
            DropStrips(volume=volume.number),
            f"Drop the strips of {volume.name}",
            "From here on its data cannot be had back.",
            seconds=1,
            about=volume.name,
        ),
        Planned(
            ForgetVolume(volume=volume.number),
            f"Forget {volume.name}",
            "Its room is free for others.",
            about=volume.name,
        ),
    ]


def _row(volume: Volume) -> TextRow:
    count = len(volume.snapshots)
    beside = f", with {say_count(count, 'snapshot')}" if count else ""
    return TextRow(label=volume.name, before=f"{say_size(volume.size_bytes)}{beside}", after="gone")


def _strips(volume: Volume) -> int:
    """That lie on disks."""
    return sum(int((ply.placement > 0).sum()) for ply in volume.every_ply)


def _bytes_on_disks(view: SiteView, pool: Pool, chosen: Sequence[Volume]) -> dict[str, int]:
    """What lies on each disk, by its name."""
    names = {d.number: d.name for d in view.disks}
    numbers = np.concatenate([ply.placement.reshape(-1) for volume in chosen for ply in volume.every_ply])
    values, counts = np.unique(numbers, return_counts=True)
    return {
        names[n]: c * pool.strip_bytes
        for n, c in zip(values.tolist(), counts.tolist(), strict=True)
        if n in names
    }


def _against_readers(view: SiteView, chosen: Sequence[Volume]) -> list[Note]:
    found = (against_losing(view, volume, about="volumes") for volume in chosen)
    return [Note.of(refusal) for refusal in found if refusal is not None]


def _against_typed(pool: Pool, chosen: Sequence[Volume], typed: str) -> list[Note]:
    wanted = to_type(pool, chosen)
    if typed == wanted:
        return []
    whose = "its" if len(chosen) == 1 else "their"
    return [Note(sentence=f"Type {wanted} to confirm that {whose} data may be destroyed.", about="typed")]


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
