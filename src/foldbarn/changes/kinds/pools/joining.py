"""Disks that join a pool: the steps that all such changes share."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterable, Sequence
from functools import partial
from typing import Any, ClassVar

from foldbarn.changes.engine.plan import Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside, Payload
from foldbarn.changes.kinds.pools.disks import carries, disk_blocker, serials_by_node
from foldbarn.core.errors import NotFound, NotPossible, Overtaken
from foldbarn.core.machines.hardware import POOL_SIGNATURE
from foldbarn.core.machines.reading import read_inventory
from foldbarn.core.names import folded, natural_key
from foldbarn.core.pools.roles import Assignment, binding_of
from foldbarn.core.site import Contact, Disk, Pool, Role, SiteView, Tier
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import disks as store_disks
from foldbarn.store import pools as store_pools
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import PoolRow
from foldbarn.store.views import current_view


class Taken(Payload):
    """A disk that is to be taken, by number, with the bytes that it must still have."""

    disk: int
    size_bytes: int


class Given(Payload):
    """A disk (by number) and the role that it was planned to get."""

    disk: int
    role: Role
    tier: Tier
    reason: str
    by_rule: Role
    overridden: bool

    def assignment(self, name: str) -> Assignment:
        return Assignment(name, self.role, self.tier, self.reason, self.by_rule, self.overridden)


def taken(disks: Iterable[Disk]) -> tuple[Taken, ...]:
    return tuple(Taken(disk=d.number, size_bytes=d.size_bytes) for d in disks)


def given(view: SiteView, assigned: Iterable[Assignment]) -> tuple[Given, ...]:
    return tuple(
        Given(
            disk=view.disk(a.disk).number,
            role=a.role,
            tier=a.tier,
            reason=a.reason,
            by_rule=a.by_rule,
            overridden=a.overridden,
        )
        for a in assigned
    )


def check_unchanged(view: SiteView, disks: Iterable[Taken], pool: str) -> list[Disk]:
    """The disks, to be taken into the pool of this name. Raises Overtaken where one is no longer what it was
    planned with: gone, smaller, read-only, taken by someone else.
    """
    found = []
    for one in disks:
        disk = view.known_number(one.disk)
        if disk is None:
            raise Overtaken("A disk that was to be taken is gone.")
        if disk.size_bytes < one.size_bytes:
            raise Overtaken(
                f"{disk.name} has become smaller: {say_size(disk.size_bytes)}, where the preview "
                f"counted on {say_size(one.size_bytes)}."
            )
        elsewhere = disk.pool < 0 or folded(view.pools[disk.pool].name) != folded(pool)
        if elsewhere and not carries(disk, pool) and (note := disk_blocker(view, disk)):
            raise Overtaken(note.sentence, about=note.about)
        if bad := [r.sentence for r in disk.reasons if r.code == "read-only"]:
            raise Overtaken(f"{disk.name} cannot be taken: {say_list(bad)}.")
        found.append(disk)
    return found


def join_pool(session: Session, pool: int, roles: Sequence[Given]) -> int:
    """Gives disks that belong to nobody to a pool (by number), in the roles planned. Returns how many.

    Raises NotPossible where one is taken by now.
    """
    rows = store_disks.locked(session, [one.disk for one in roles])
    if gone := [d.name for d in rows if d.pool_id is not None]:
        raise NotPossible(
            f"{say_list(sorted(gone, key=natural_key))} can no longer be taken.",
            next_step="Withdraw this change and preview again.",
        )
    by_disk = {one.disk: one for one in roles}
    for row in rows:
        store_disks.join(row, pool, by_disk[row.id].assignment(row.name))
    return len(rows)


def refuse_volumes(session: Session, pool: PoolRow) -> None:
    """Raises NotPossible where a pool holds volumes."""
    if names := store_pools.volumes_in(session, pool.id):
        raise NotPossible(
            f"{pool.name} holds {say_list(sorted(names, key=natural_key))}.",
            next_step="Withdraw this change, or delete them and let it go on.",
        )


class ForPool(Outside):
    """A step for disks of a pool, by number; 0 stands for the pool that its change makes."""

    pool: int = 0
    disks: tuple[Taken, ...]

    @property
    def done_again(self) -> bool:
        """Disks of a pool that the change has made are claimed before they are prepared, and may hold data
        afterwards. Others belong to nobody until they join.
        """
        return self.pool != 0

    def its_pool(self, run: Run, view: SiteView) -> Pool:
        """Raises Overtaken where it is gone."""
        try:
            return view.pool_numbered(self.pool or made_by(run))
        except NotFound as error:
            raise Overtaken(error.sentence) from error

    def serials(self, view: SiteView) -> dict[int, list[str]]:
        """Serial numbers by node number."""
        return serials_by_node(view, (view.disk_numbered(one.disk) for one in self.disks))


class Prepare(ForPool):
    """Has the agents write the pool's mark, and this site's, to disks."""

    name: ClassVar[str] = "prepare"

    def carry_out(self, run: Run) -> str:
        view = current_view()
        pool = self.its_pool(run, view)
        if pool.closing:
            raise Overtaken(f"{pool.name} is being deleted.")
        check_unchanged(view, self.disks, pool.name)
        order = {"kind": "prepare", "pool": pool.name, "site": view.mark, "encrypted": pool.encrypted}
        order["compress_unit"] = pool.compress_unit
        by_node = self.serials(view)
        run.tell_nodes({node: {**order, "disks": disks} for node, disks in by_node.items()})
        return f"{say_count(len(self.disks), 'disk')} prepared on {say_count(len(by_node), 'node')}."

    def take_back(self, run: Run) -> None:
        """Those that have joined for good stay."""
        view = current_view()
        with transaction() as session:
            row = store_pools.of_change(session, run.change)
            if row is not None:
                refuse_volumes(session, row)
            made = row.id if row is not None else 0
        ours = [d for one in self.disks if (d := view.known_number(one.disk)) is not None]
        release(run, serials_by_node(view, (d for d in ours if _free(view, d, made))))


def _free(view: SiteView, disk: Disk, made: int) -> bool:
    return disk.pool < 0 or view.pools[disk.pool].number == made


class ReadBack(ForPool):
    """Reads from the agents that the disks show the pool's mark. opens: the pool can be used from then on."""

    name: ClassVar[str] = "read-back"
    opens: bool = False

    def carry_out(self, run: Run) -> str:
        view = current_view()
        pool = self.its_pool(run, view)
        _read_back(run, self.serials(view), pool)
        if self.opens:
            with run.writing() as session:
                store_pools.set_values(session, pool.number, {"forming": False})
                announce(session, "site")
        return "Every disk shows the pool's mark." if len(self.disks) != 1 else "It shows the pool's mark."


class Bind(Outside):
    """Tells the nodes of a pool (by number) which cache device serves which disk."""

    name: ClassVar[str] = "bind"
    pool: int = 0

    def carry_out(self, run: Run) -> str:
        return bind(run, self.pool or made_by(run))


def made_by(run: Run) -> int:
    """Number of the pool that the change has made; 0 where it has made none."""
    with transaction() as session:
        made = store_pools.of_change(session, run.change)
        return made.id if made is not None else 0


def release(run: Run, by_node: dict[int, list[str]]) -> None:
    """Has the agents blank disks that hold nothing."""
    run.tell_nodes({node: {"kind": "release", "disks": disks} for node, disks in by_node.items()})


def _read_back(run: Run, by_node: dict[int, list[str]], pool: Pool) -> None:
    """Raises NotPossible where a disk (by node, by serial number) does not show the pool's mark, or does not
    encrypt or compress as it should.
    """
    names = run.urls()
    for node, serials in by_node.items():
        agent = run.agent(node)
        report = run.insist(names[node][0], agent.inventory)
        seen = {d.serial: d for d in read_inventory(report).disks}
        for serial in serials:
            disk = seen.get(serial)
            if disk is None or disk.signature != POOL_SIGNATURE or disk.label != pool.name:
                raise NotPossible(
                    f"{names[node][0]} says it prepared disk {serial}, but the disk does not show "
                    "the pool's mark."
                )
            if pool.encrypted and serial not in report.get("encrypted", []):
                raise NotPossible(
                    f"{names[node][0]} says it prepared disk {serial}, but it does not encrypt what it holds."
                )
            if report.get("compressed", {}).get(serial, 0) != pool.compress_unit:
                raise NotPossible(
                    f"{names[node][0]} says it prepared disk {serial}, but it does not compress what it "
                    f"holds as {pool.name} is to."
                )


def bind(run: Run, number: int) -> str:
    """Tells every reachable node of a pool which cache device serves which of its disks. Returns what was
    done, in a sentence.
    """
    view = current_view()
    try:
        pool = view.pool_numbered(number)
    except NotFound:
        return "The pool is gone."
    by_number = {d.number: d for d in view.disks}
    orders: dict[int, dict[str, Any]] = {}
    for disk in view.all_of(pool):
        node = view.nodes[disk.node]
        if node.contact == Contact.HEARD:
            orders.setdefault(node.number, {"kind": "bind", "pool": pool.name, "cache": {}})
    bound = binding_of(view, pool)
    for number_, device in bound.items():
        served, server = by_number[number_], by_number[device]
        order = orders.get(view.nodes[served.node].number)
        if order is not None and served.present and server.present:
            order["cache"][served.serial] = server.serial
    by_name = {n.number: n.name for n in view.nodes}
    for number_, order in orders.items():  # the same binding is the same order, another one a new one
        digest = zlib.crc32(json.dumps(order, sort_keys=True).encode())
        told = {"id": run.order_id(f"node{number_}", f"bind-{digest:x}"), **order}
        run.insist(by_name[number_], partial(run.agent(number_).send, told))
    return f"{len(bound)} disks are served by {len(set(bound.values()))} cache devices."


def prepare_steps(pool: int, disks: tuple[Taken, ...]) -> list[Planned]:
    """Preparing disks for a pool (by number; 0 for the one that the change makes), and reading them back."""
    return [
        Planned(
            Prepare(pool=pool, disks=disks),
            "Prepare each disk",
            "The agents write the pool's mark and its metadata.",
            seconds=1,
        ),
        Planned(
            ReadBack(pool=pool, disks=disks, opens=not pool),
            "Read the disks back",
            "Each must show the pool's mark before anything is placed on it.",
            seconds=1,
        ),
    ]
