"""Disks that join or leave a pool: what stands against it, preparing and reading them back, binding
caches.
"""

from __future__ import annotations

import json
import zlib
from collections import defaultdict
from collections.abc import Iterable
from functools import partial
from typing import Any

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.preview import Note, Preview
from foldbarn.changes.engine.runner import Run
from foldbarn.core.errors import NotPossible, Overtaken
from foldbarn.core.hardware import POOL_SIGNATURE
from foldbarn.core.names import folded
from foldbarn.core.reading import read_inventory
from foldbarn.core.roles import Override, binding_of
from foldbarn.core.site import POOLED, Contact, Disk, Pool, Role, SiteView
from foldbarn.core.units import say_list, say_size
from foldbarn.store.changes import preview_of
from foldbarn.store.database import transaction
from foldbarn.store.views import current_view


class OverrideIn(BaseModel):
    """Another role than the rule's, with the reason that is kept."""

    model_config = ConfigDict(extra="forbid")
    role: Role
    reason: str = Field(default="", max_length=300)


def overrides_of(wishes: dict[str, OverrideIn]) -> dict[str, Override]:
    return {name: Override(wish.role, wish.reason) for name, wish in wishes.items()}


def overrides_so_far(wishes: dict[str, OverrideIn]) -> dict[str, Override]:
    """The same while a person is still filling them in: what has no reason yet is shown all the same."""
    return {
        name: Override(w.role, w.reason.strip() or "no reason yet")
        for name, w in wishes.items()
        if w.role in POOLED
    }


def chosen_disks(view: SiteView, names: Iterable[str]) -> list[Disk]:
    """Those of these disks that are known, each once, in the order named."""
    found = (view.known_disk(name) for name in names)
    return list(dict.fromkeys(disk for disk in found if disk is not None))


def choice_blockers(view: SiteView, names: list[str]) -> list[Note]:
    """What stands against taking these disks."""
    found: list[Note] = []
    if not names:
        found.append(
            Note(
                sentence="No disk is chosen.",
                about="disks",
                next_step="Choose fit disks of at least as many domains as copies.",
            )
        )
    if unknown := [name for name in names if view.known_disk(name) is None]:
        found.append(Note(sentence=f"There is no disk named {say_list(unknown)}.", about="disks"))
    return found + [note for disk in chosen_disks(view, names) if (note := disk_blocker(view, disk))]


def check_not_closing(pool: Pool) -> None:
    """Raises NotPossible where a pool is being deleted, so that it takes nothing new."""
    if pool.closing:
        raise NotPossible(f"{pool.name} is being deleted.", about="pool", next_step="Choose another pool.")


def disk_blocker(view: SiteView, disk: Disk) -> Note | None:
    """What stands against pooling a disk."""
    node = view.nodes[disk.node]
    if disk.pool >= 0:
        return Note(
            sentence=f"{disk.name} is taken: it belongs to pool {view.pools[disk.pool].name}.", about="disks"
        )
    if disk.role in (Role.UNFIT, Role.BOOT):
        return Note(sentence=f"{disk.name} is not fit: {say_list(disk.why)}.", about="disks")
    if not disk.present:
        return Note(sentence=f"{disk.name} is missing from {node.name}.", about="disks")
    if node.contact != Contact.HEARD:
        return Note(
            sentence=f"{disk.name} cannot be prepared: {node.name} is not heard.",
            about="disks",
            next_step="Bring the node back, or leave its disks out.",
        )
    return None


def sizes_of(disks: Iterable[Disk]) -> dict[str, int]:
    return {d.name: d.size_bytes for d in disks}


def check_unchanged(run: Run[Any], names: Iterable[str], pool: str) -> None:
    """Raises Overtaken where a disk is no longer what the preview was made from: gone, smaller, read-only,
    taken by someone else.
    """
    view = current_view()
    with transaction() as session:
        sizes = Preview.model_validate(preview_of(session, run.change)).disk_sizes
    for name in names:
        disk = run.disk(view, name)
        if disk.size_bytes < sizes.get(name, 0):
            raise Overtaken(
                f"{disk.name} has become smaller: {say_size(disk.size_bytes)}, where the preview "
                f"counted on {say_size(sizes[name])}."
            )
        if (
            (disk.pool < 0 or folded(view.pools[disk.pool].name) != folded(pool))
            and not _carries(disk, pool)
            and (note := disk_blocker(view, disk))
        ):
            raise Overtaken(note.sentence, about=note.about)
        if bad := [r.sentence for r in disk.reasons if r.code == "read-only"]:
            raise Overtaken(f"{disk.name} cannot be taken: {say_list(bad)}.")


def _carries(disk: Disk, pool: str) -> bool:
    """Whether a disk is unfit only because it carries the pool's mark already: it was prepared, and its node
    has reported that.
    """
    return disk.role == Role.UNFIT and all(
        r.code == "marked" and folded(r.about) == folded(pool) for r in disk.reasons
    )


def serials_by_node(view: SiteView, disks: Iterable[Disk]) -> dict[int, list[str]]:
    """Serial numbers by node number."""
    found: dict[int, list[str]] = defaultdict(list)
    for disk in disks:
        found[view.nodes[disk.node].number].append(disk.serial)
    return dict(found)


def prepare(run: Run[Any], by_node: dict[int, list[str]], pool: str, encrypted: bool) -> None:
    """Has the agents write the pool's mark, and this site's, to disks."""
    mark = current_view().mark
    run.tell_nodes(
        {
            node: {"kind": "prepare", "pool": pool, "site": mark, "encrypted": encrypted, "disks": disks}
            for node, disks in by_node.items()
        }
    )


def release(run: Run[Any], by_node: dict[int, list[str]]) -> None:
    """Has the agents blank disks that hold nothing."""
    run.tell_nodes({node: {"kind": "release", "disks": disks} for node, disks in by_node.items()})


def read_back(run: Run[Any], by_node: dict[int, list[str]], pool: str, encrypted: bool = False) -> None:
    """Raises NotPossible where a disk (by node, by serial number) does not show the pool's mark, or does not
    encrypt though it should.
    """
    names = run.urls()
    for node, serials in by_node.items():
        agent = run.agent(node)
        report = run.insist(names[node][0], agent.inventory)
        seen = {d.serial: d for d in read_inventory(report).disks}
        for serial in serials:
            disk = seen.get(serial)
            if disk is None or disk.signature != POOL_SIGNATURE or disk.label != pool:
                raise NotPossible(
                    f"{names[node][0]} says it prepared disk {serial}, but the disk does not show "
                    "the pool's mark."
                )
            if encrypted and serial not in report.get("encrypted", []):
                raise NotPossible(
                    f"{names[node][0]} says it prepared disk {serial}, but it does not encrypt what it holds."
                )


def bind(run: Run[Any], pool_name: str) -> str:
    """Tells every reachable node of a pool which cache device serves which of its disks. Returns what was
    done, in a sentence.
    """
    view = current_view()
    pool = view.pool(pool_name)
    by_number = {d.number: d for d in view.disks}
    orders: dict[int, dict[str, Any]] = {}
    for disk in view.all_of(pool):
        node = view.nodes[disk.node]
        if node.contact == Contact.HEARD:
            orders.setdefault(node.number, {"kind": "bind", "pool": pool.name, "cache": {}})
    bound = binding_of(view, pool)
    for number, device in bound.items():
        served, server = by_number[number], by_number[device]
        order = orders.get(view.nodes[served.node].number)
        if order is not None and served.present and server.present:
            order["cache"][served.serial] = server.serial
    by_name = {n.number: n.name for n in view.nodes}
    for number, order in orders.items():  # the same binding is the same order, another one a new one
        digest = zlib.crc32(json.dumps(order, sort_keys=True).encode())
        run.insist(
            by_name[number],
            partial(
                run.agent(number).send, {"id": run.order_id(f"node{number}", f"bind-{digest:x}"), **order}
            ),
        )
    return f"{len(bound)} disks are served by {len(set(bound.values()))} cache devices."


def meant_disks(run: Run[Any], view: SiteView, names: Iterable[str]) -> list[Disk]:
    """The disks that a wish names, each once, whatever they are called now. Raises NotFound where one is
    gone.
    """
    return list(dict.fromkeys(run.disk(view, name) for name in names))


def overrides_now(run: Run[Any], view: SiteView, wishes: dict[str, OverrideIn]) -> dict[str, Override]:
    """Roles that a wish gives disks, by the names that these have now."""
    return {run.disk(view, name).name: one for name, one in overrides_of(wishes).items()}
