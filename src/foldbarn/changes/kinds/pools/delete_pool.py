"""Deleting a pool that holds no volume. It cannot be undone, and wants the name typed."""

from __future__ import annotations

from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.pools.disks import serials_by_node
from foldbarn.changes.kinds.pools.joining import refuse_volumes, release
from foldbarn.core.claims.offers import against_leaving_pool
from foldbarn.core.errors import NotFound
from foldbarn.core.site import Contact, Disk, Pool, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.bin import bin_of
from foldbarn.core.volumes.ending import teardown
from foldbarn.store import disks, pools
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view, load_view


class DeletePoolParams(Params):
    """typed: the pool's name once more."""

    pool: str
    typed: str = ""


class Close(Inside):
    """A pool (by number) takes nothing new from here on."""

    name: ClassVar[str] = "close-pool"
    pool: int

    def carry_out(self, run: Run, session: Session) -> str:
        """Volumes are placed, and disks claimed, under the same lock of the pool's row: one of the two comes
        first.
        """
        pool = pools.locked(session, self.pool)
        if pool is None:
            return "It is gone already."
        refuse_volumes(session, pool)
        if offered := against_leaving_pool(load_view(session), self.pool):
            raise offered
        pool.closing = True
        return f"{pool.name} takes nothing new."

    def take_back(self, run: Run) -> None:
        with run.writing() as session:
            pools.set_values(session, self.pool, {"closing": False})
            announce(session, "site")


class BlankPool(Outside):
    """Has the agents blank all disks of a pool (by number), which hold nothing of it any more."""

    name: ClassVar[str] = "blank-pool"
    no_way_back: ClassVar = "begun"
    why_no_way_back: ClassVar[str] = "its disks are being blanked"
    pool: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        try:
            pool = view.pool_numbered(self.pool)
        except NotFound:
            return "It is gone already."
        by_node = serials_by_node(view, view.all_of(pool))
        release(run, by_node)
        count = sum(map(len, by_node.values()))
        return f"{say_count(count, 'disk')} blanked on {say_count(len(by_node), 'node')}."


class ForgetPool(Inside):
    """A pool (by number) is no more, and its disks are free."""

    name: ClassVar[str] = "forget-pool"
    lasting: ClassVar[bool] = True
    pool: int

    def carry_out(self, run: Run, session: Session) -> str:
        pool = pools.locked(session, self.pool)
        if pool is None:
            return "It was forgotten already."
        refuse_volumes(session, pool)
        for disk in disks.of_pool(session, pool.id):
            disks.leave(disk)
        pools.delete(session, pool)
        return f"{pool.name} is gone."


@register
class DeletePool(Kind[DeletePoolParams]):
    """close (ours), blank (agents), forget (ours)."""

    name: ClassVar[str] = "delete-pool"
    params: ClassVar[type[Params]] = DeletePoolParams

    def plan(self, view: SiteView, params: DeletePoolParams) -> Plan:
        title, about = f"Delete pool {params.pool}", params.pool
        try:
            pool = view.pool(params.pool)
        except NotFound as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        members = view.all_of(pool)
        count = say_count(len(members), "disk")
        raw = say_size(sum(d.size_bytes for d in members))
        return Plan(
            title=title,
            about=about,
            summary=f"{count}, {raw} raw. This cannot be undone.",
            steps=[
                Planned(Close(pool=pool.number), "Close it", "From here on it takes no volume and no disk."),
                Planned(
                    BlankPool(pool=pool.number),
                    "Blank its disks",
                    "Each must hold nothing of it any more.",
                    seconds=1,
                ),
                Planned(ForgetPool(pool=pool.number), "Forget it", "Its disks are fit and free again."),
            ],
            effects=[
                Texts(rows=[TextRow(label=count, before=f"in {pool.name}", after="fit and free")]),
                *_before(view, pool),
            ],
            touches=[alone(Thing.POOL, pool.number)],
            meant=Meant(pools=(pool,)),
            blockers=_against_pool(view, pool, members, params.typed),
            type_to_confirm=pool.name,
        )


def _before(view: SiteView, pool: Pool) -> list[Texts]:
    """What has to be done first, in this order."""
    rows = [
        TextRow(label=f"{place}. {deed.title}", before=deed.because, after=deed.how)
        for place, deed in enumerate(teardown(view, pool), 1)
    ]
    return [Texts(heads=["Before that, in this order", "Because", "How"], rows=rows)] if rows else []


def _against_pool(view: SiteView, pool: Pool, members: list[Disk], typed: str) -> list[Note]:
    found = []
    if held := [v for v in view.volumes_of(pool) if v.binned is None]:
        words = f"{pool.name} holds {say_count(len(held), 'volume')}: {say_list([v.name for v in held])}."
        found.append(Note(sentence=words, about="pool", next_step="Go in the order below."))
    if binned := bin_of(view, pool):
        words = f"In its bin {'is' if len(binned) == 1 else 'are'} {say_list([v.name for v in binned])}."
        found.append(Note(sentence=words, about="pool", next_step="Empty its bin first."))
    if offered := against_leaving_pool(view, pool.number):
        found.append(Note.of(offered))
    away = [d for d in members if view.nodes[d.node].contact != Contact.HEARD or not d.present]
    if silent := sorted({view.nodes[d.node].name for d in away}):
        words = f"Disks of {say_list(silent)} cannot be reached, so they could not be blanked."
        found.append(Note(sentence=words, about="pool", next_step="Bring them back first."))
    if typed != pool.name:
        found.append(Note(sentence=f"Type {pool.name} to confirm.", about="typed"))
    return found
