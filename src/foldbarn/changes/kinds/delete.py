"""Deleting a volume, and a pool that holds none. Neither can be undone; both want the name typed."""

from __future__ import annotations

from collections import defaultdict
from typing import Any, ClassVar

import numpy as np

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, Row, TextRow
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import release, serials_by_node
from foldbarn.core.capacity import pool_space
from foldbarn.core.errors import NotFound, NotPossible
from foldbarn.core.figures import Figure
from foldbarn.core.names import natural_key
from foldbarn.core.site import Contact, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import disks, nodes, pools, volumes
from foldbarn.store.database import Session, announce
from foldbarn.store.tables import PoolRow
from foldbarn.store.views import current_view, load_view


class DeleteVolumeParams(Params):
    """typed: the volume's name once more."""

    volume: str
    typed: str = ""


@register
class DeleteVolume(Kind[DeleteVolumeParams]):
    """drop (agents), forget (ours). What silent nodes hold is dropped when they return."""

    name: ClassVar[str] = "delete-volume"
    params: ClassVar[type[Params]] = DeleteVolumeParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"forget"})

    def about(self, params: DeleteVolumeParams) -> str:
        return params.volume

    def meant(self, view: SiteView, params: DeleteVolumeParams) -> Meant:
        return Meant(volumes=(view.volume(params.volume),))

    def touches(self, view: SiteView, params: DeleteVolumeParams) -> list[Touch]:
        volume = view.volume(params.volume)
        return [alone(Thing.VOLUME, volume.number), shared(Thing.POOL, view.pools[volume.pool].number)]

    def preview(self, view: SiteView, params: DeleteVolumeParams) -> Preview:
        preview = Preview(
            kind=self.name,
            title=f"Delete {params.volume}",
            summary="",
            revision=view.revision,
            type_to_confirm=params.volume,
            steps=[
                PlannedStep(
                    name="drop",
                    title="Drop its strips",
                    detail="From here on its data cannot be had back.",
                    seconds=1,
                    can_withdraw=False,
                ),
                PlannedStep(
                    name="forget",
                    title="Forget it",
                    detail="Its room is free for others.",
                    can_withdraw=False,
                ),
            ],
        )
        try:
            volume = view.volume(params.volume)
        except NotFound as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        pool = view.pools[volume.pool]
        preview.summary = f"{say_size(volume.size_bytes)} in {pool.name}. This cannot be undone."
        if volume.forming:
            preview.blockers.append(
                Note(
                    sentence=f"{volume.name} is still being made.",
                    about="volume",
                    next_step="Withdraw that change instead.",
                )
            )
        if params.typed != volume.name:
            preview.blockers.append(
                Note(sentence=f"Type {volume.name} to confirm that its data may be destroyed.", about="typed")
            )
        freed = int((volume.placement > 0).sum()) * pool.extent_bytes
        used = pool_space(view, pool).used * pool.extent_bytes
        preview.rows = [
            Row(
                label=f"Taken on the disks of {pool.name}",
                before=Figure("Taken", used, "bytes"),
                after=Figure("Taken", used - freed, "bytes"),
            )
        ]
        names = {d.number: d.name for d in view.disks}
        values, counts = np.unique(volume.placement, return_counts=True)
        preview.leaving = {
            names[n]: c * pool.extent_bytes
            for n, c in zip(values.tolist(), counts.tolist(), strict=True)
            if n in names
        }
        silent = sorted(
            {
                view.nodes[d.node].name
                for d in view.disks
                if d.name in preview.leaving and view.nodes[d.node].contact != Contact.HEARD
            }
        )
        if silent:
            preview.warnings.append(
                Note(
                    sentence=f"{say_list(silent)} cannot be told now; what lies there is dropped when it "
                    "returns."
                )
            )
        return preview.sealed()

    def step_drop(self, run: Run[DeleteVolumeParams]) -> str:
        view = current_view()
        volume = _still_there(view, run)
        if volume is None:
            return "It is gone already."
        with run.holding_strips(view.pools[volume.pool]):
            return self._drop(run)

    def _drop(self, run: Run[DeleteVolumeParams]) -> str:
        view = current_view()
        volume = _still_there(view, run)
        if volume is None:
            return "It is gone already."
        rows = view.rows(volume)
        orders: dict[int, dict[str, Any]] = {}
        silent = set()
        for row, disk in enumerate(view.disks):
            node = view.nodes[disk.node]
            strips = np.argwhere(rows == row)
            if len(strips) and node.contact != Contact.HEARD:
                silent.add(node.number)
            elif len(strips) and disk.present:
                order = orders.setdefault(node.number, {"kind": "drop", "strips": defaultdict(list)})
                order["strips"][disk.serial] = [[volume.number, e, s] for e, s in strips.tolist()]
        with run.writing() as session:
            nodes.owe(session, silent)
        run.tell_nodes(orders)
        return (
            f"{say_count(int((volume.placement > 0).sum()), 'strip')} dropped on "
            f"{say_count(len(orders), 'node')}."
        )

    def step_forget(self, run: Run[DeleteVolumeParams], session: Session) -> str:
        view = load_view(session)
        volume = _still_there(view, run)
        if volume is None:
            return "It was forgotten already."
        volumes.forget(session, volume.number)
        pools.look(session, [view.pools[volume.pool].number], f"{volume.name} was deleted")
        return f"{volume.name} is gone."

    def withdraw(self, run: Run[DeleteVolumeParams]) -> None:
        run.refuse_once("begun", "drop", "its strips are being dropped")


def _still_there(view: SiteView, run: Run[DeleteVolumeParams]) -> Volume | None:
    """The volume that was meant; none where it is gone, though a newer one may have its name."""
    try:
        return run.volume(view, run.params.volume)
    except NotFound:
        return None


class DeletePoolParams(Params):
    """typed: the pool's name once more."""

    pool: str
    typed: str = ""


@register
class DeletePool(Kind[DeletePoolParams]):
    """close (ours), release (agents), forget (ours)."""

    name: ClassVar[str] = "delete-pool"
    params: ClassVar[type[Params]] = DeletePoolParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"close", "forget"})

    def about(self, params: DeletePoolParams) -> str:
        return params.pool

    def meant(self, view: SiteView, params: DeletePoolParams) -> Meant:
        return Meant(pools=(view.pool(params.pool),))

    def touches(self, view: SiteView, params: DeletePoolParams) -> list[Touch]:
        return [alone(Thing.POOL, view.pool(params.pool).number)]

    def preview(self, view: SiteView, params: DeletePoolParams) -> Preview:
        preview = Preview(
            kind=self.name,
            title=f"Delete pool {params.pool}",
            summary="",
            revision=view.revision,
            type_to_confirm=params.pool,
            steps=[
                PlannedStep(
                    name="close",
                    title="Close it",
                    detail="From here on it takes no volume and no disk.",
                ),
                PlannedStep(
                    name="release",
                    title="Blank its disks",
                    detail="Each must hold nothing of it any more.",
                    seconds=1,
                    can_withdraw=False,
                ),
                PlannedStep(
                    name="forget",
                    title="Forget it",
                    detail="Its disks are fit and free again.",
                    can_withdraw=False,
                ),
            ],
        )
        try:
            pool = view.pool(params.pool)
        except NotFound as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        members = view.all_of(pool)
        preview.summary = (
            f"{say_count(len(members), 'disk')}, {say_size(sum(d.size_bytes for d in members))} raw. "
            "This cannot be undone."
        )
        preview.texts = [
            TextRow(label=say_count(len(members), "disk"), before=f"in {pool.name}", after="fit and free")
        ]
        if held := [v.name for v in view.volumes_of(pool)]:
            words = f"{pool.name} holds {say_count(len(held), 'volume')}: {say_list(held)}."
            preview.blockers.append(
                Note(sentence=words, about="pool", next_step="Delete them first, in any order.")
            )
        silent = sorted(
            {
                view.nodes[d.node].name
                for d in members
                if view.nodes[d.node].contact != Contact.HEARD or not d.present
            }
        )
        if silent:
            words = f"Disks of {say_list(silent)} cannot be reached, so they could not be blanked."
            preview.blockers.append(Note(sentence=words, about="pool", next_step="Bring them back first."))
        if params.typed != pool.name:
            preview.blockers.append(Note(sentence=f"Type {pool.name} to confirm.", about="typed"))
        return preview.sealed()

    def step_close(self, run: Run[DeletePoolParams], session: Session) -> str:
        """Volumes are placed, and disks claimed, under the same lock of the pool's row: one of the two comes
        first.
        """
        pool = pools.locked(session, _number(run))
        if pool is None:
            return "It is gone already."
        _refuse_volumes(session, pool)
        pool.closing = True
        return f"{pool.name} takes nothing new."

    def step_release(self, run: Run[DeletePoolParams]) -> str:
        view = current_view()
        try:
            pool = run.pool(view, run.params.pool)
        except NotFound:
            return "It is gone already."
        by_node = serials_by_node(view, view.all_of(pool))
        release(run, by_node)
        return (
            f"{say_count(sum(map(len, by_node.values())), 'disk')} blanked on "
            f"{say_count(len(by_node), 'node')}."
        )

    def step_forget(self, run: Run[DeletePoolParams], session: Session) -> str:
        pool = pools.locked(session, _number(run))
        if pool is None:
            return "It was forgotten already."
        _refuse_volumes(session, pool)
        for disk in disks.of_pool(session, pool.id):
            disks.leave(disk)
        pools.delete(session, pool)
        return f"{pool.name} is gone."

    def withdraw(self, run: Run[DeletePoolParams]) -> None:
        run.refuse_once("begun", "release", "its disks are being blanked")
        with run.writing() as session:
            pools.set_values(session, _number(run), {"closing": False})
            announce(session, "site")


def _number(run: Run[DeletePoolParams]) -> int:
    """Of the pool that was meant, though it may be gone; 0 where none ever was."""
    return next(iter(run.numbers("pool")), 0)


def _refuse_volumes(session: Session, pool: PoolRow) -> None:
    if names := pools.volumes_in(session, pool.id):
        raise NotPossible(
            f"{pool.name} holds {say_list(sorted(names, key=natural_key))}.",
            next_step="Withdraw this change, or delete them and let it go on.",
        )
