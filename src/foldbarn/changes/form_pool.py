"""Forming a pool from chosen disks."""

from __future__ import annotations

from collections import Counter, defaultdict
from typing import Any, ClassVar

import numpy as np
from pydantic import Field
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from foldbarn.changes.kind import Kind, Params, register
from foldbarn.changes.preview import DomainRow, LedgerOut, Note, PlannedStep, Preview, Row
from foldbarn.changes.runner import Run
from foldbarn.core.capacity import LEDGER_LABELS, PoolSpace, account_pool, by_domain, stranded_slots
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.hardware import POOL_SIGNATURE
from foldbarn.core.media import MEDIA_WORDS
from foldbarn.core.names import check_name, natural_key
from foldbarn.core.protection import Level, Protection
from foldbarn.core.reading import read_inventory
from foldbarn.core.site import Contact, Disk, Pool, Role, SiteView
from foldbarn.core.units import GIB, MIB, say_binary, say_count, say_list, say_size
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import DiskRow, NodeRow, PoolRow
from foldbarn.store.views import current_view


class FormPoolParams(Params):
    """A pool as wished for. Disks by name; sizes in bytes."""

    name: str
    disks: list[str]
    copies: int = 3
    level: Level = Level.RACK
    headroom: Level | None = Level.NODE
    extent_bytes: int = Field(default=GIB, ge=64 * MIB, le=64 * GIB)


@register
class FormPool(Kind[FormPoolParams]):
    """claim (ours), prepare (agents), check (read back from agents)."""

    name: ClassVar[str] = "form-pool"
    params: ClassVar[type[Params]] = FormPoolParams
    inside: ClassVar[frozenset[str]] = frozenset({"claim"})

    def about(self, params: FormPoolParams) -> str:
        return params.name.strip()

    def touches(self, params: FormPoolParams) -> str:
        return "disks"

    def preview(self, view: SiteView, params: FormPoolParams) -> Preview:
        blockers = _blockers(view, params)
        chosen = [view.disks_by_name[name] for name in dict.fromkeys(params.disks) if name in view.disks_by_name]
        nodes = {d.node for d in chosen}
        preview = Preview(
            kind=self.name,
            title=f"Form {params.name.strip() or 'a pool'}",
            summary=f"From {say_count(len(chosen), 'disk')} of {say_count(len(nodes), 'node')}. Nothing has been changed yet.",
            revision=view.revision,
            steps=[
                PlannedStep(name="claim", title=f"Claim {say_count(len(chosen), 'disk')}", detail="From here no other change can take them."),
                PlannedStep(name="prepare", title="Prepare each disk", detail="The agents write the pool's mark and its metadata.", seconds=1),
                PlannedStep(name="check", title="Read the disks back", detail="Each must show the pool's mark before the pool opens.", seconds=1),
            ],
            domain_level=params.level.value,
            blockers=blockers,
        )
        if chosen and 1 <= params.copies <= 5:
            _effects(preview, view, params, chosen)
        return preview.sealed()

    def step_claim(self, run: Run[FormPoolParams], session: Session) -> str:
        params = run.params
        disks = list(session.scalars(select(DiskRow).where(DiskRow.name.in_(params.disks)).order_by(DiskRow.id).with_for_update()))
        taken = [d.name for d in disks if d.role != Role.UNCLAIMED]
        if taken or len(disks) != len(set(params.disks)):
            raise NotPossible(f"{say_list(sorted(taken, key=natural_key))} can no longer be claimed.", next_step="Withdraw this change and preview again.")
        pool = PoolRow(
            name=params.name.strip(), extent_bytes=params.extent_bytes, copies=params.copies, level=params.level.value,
            headroom=params.headroom.value if params.headroom else None, change_id=run.change,
        )  # fmt: skip
        session.add(pool)
        session.flush()
        for disk in disks:
            disk.role, disk.pool_id = Role.CAPACITY.value, pool.id
        return f"{say_count(len(disks), 'disk')} claimed."

    def step_prepare(self, run: Run[FormPoolParams]) -> str:
        by_node = _serials_by_node(run)
        mark = current_view().mark
        run.tell_nodes({node: {"kind": "prepare", "pool": run.params.name.strip(), "site": mark, "disks": disks} for node, disks in by_node.items()})
        return f"{say_count(sum(map(len, by_node.values())), 'disk')} prepared on {say_count(len(by_node), 'node')}."

    def step_check(self, run: Run[FormPoolParams]) -> str:
        read_back(run, _serials_by_node(run), run.params.name.strip())
        with transaction() as session:
            session.execute(update(PoolRow).where(PoolRow.change_id == run.change).values(forming=False))
            announce(session, "site")
        return "Every disk shows the pool's mark."

    def withdraw(self, run: Run[FormPoolParams]) -> None:
        by_node = _serials_by_node(run)
        run.step = 99  # orders of its own
        run.tell_nodes({node: {"kind": "release", "disks": disks} for node, disks in by_node.items()})
        with transaction() as session:
            pool = session.scalars(select(PoolRow).where(PoolRow.change_id == run.change)).one_or_none()
            if pool is not None:
                session.execute(update(DiskRow).where(DiskRow.pool_id == pool.id).values(pool_id=None, role=Role.UNCLAIMED.value))
                session.delete(pool)
            announce(session, "site")


def read_back(run: Run[Any], by_node: dict[int, list[str]], pool: str) -> None:
    """Raises NotPossible where a disk (by node, by serial number) does not show the pool's mark."""
    names = run.urls()
    for node, serials in by_node.items():
        agent = run.agent(node)
        seen = {d.serial: d for d in read_inventory(run.insist(names[node][0], agent.inventory)).disks}
        for serial in serials:
            disk = seen.get(serial)
            if disk is None or disk.signature != POOL_SIGNATURE or disk.label != pool:
                raise NotPossible(f"{names[node][0]} says it prepared disk {serial}, but the disk does not show the pool's mark.")


def _serials_by_node(run: Run[FormPoolParams]) -> dict[int, list[str]]:
    found: dict[int, list[str]] = defaultdict(list)
    with transaction() as session:
        query = select(NodeRow.id, DiskRow.serial).join(DiskRow, DiskRow.node_id == NodeRow.id).join(PoolRow, PoolRow.id == DiskRow.pool_id)
        for node, serial in session.execute(query.where(PoolRow.change_id == run.change).order_by(DiskRow.id)):
            found[node].append(serial)
    return dict(found)


def _blockers(view: SiteView, params: FormPoolParams) -> list[Note]:
    """Everything that stands against this wish, each as a sentence."""
    found: list[Note] = []
    try:
        check_name(params.name, "pool", [p.name for p in view.pools])
    except BarnError as error:
        found.append(Note.of(error))
    if not params.disks:
        found.append(Note(sentence="No disk is chosen.", about="disks", next_step="Choose fit disks of at least as many racks as copies."))
    unknown = [name for name in params.disks if name not in view.disks_by_name]
    if unknown:
        found.append(Note(sentence=f"There is no disk named {say_list(unknown)}.", about="disks"))
    chosen = [view.disks_by_name[name] for name in dict.fromkeys(params.disks) if name in view.disks_by_name]
    found += [note for disk in chosen if (note := disk_blocker(view, disk))]
    if not 1 <= params.copies <= 5:
        found.append(Note(sentence=f"A pool's usual protection has between 1 and 5 copies, not {params.copies}.", about="copies"))
        return found
    domains = {int(view.domain_of(params.level)[_row(view, d)]) for d in chosen}
    if chosen and len(domains) < params.copies:
        found.append(
            Note(
                sentence=f"{params.copies} copies need {say_count(params.copies, params.level.value)}; the chosen disks lie in {len(domains)}.",
                about="copies",
                next_step=f"Choose disks in another {params.level.value}, or fewer copies.",
            )
        )
    elif chosen and _account(view, params, chosen, params.copies)[1].usable == 0:
        found.append(Note(sentence=f"The pool would be too small to hold one extent of {say_binary(params.extent_bytes)}.", about="disks"))
    return found


def disk_blocker(view: SiteView, disk: Disk) -> Note | None:
    """What stands against pooling a disk."""
    node = view.nodes[disk.node]
    if disk.pool >= 0:
        return Note(sentence=f"{disk.name} is taken: it belongs to pool {view.pools[disk.pool].name}.", about="disks")
    if disk.role in (Role.UNFIT, Role.BOOT):
        return Note(sentence=f"{disk.name} is not fit: {say_list(disk.why)}.", about="disks")
    if not disk.present:
        return Note(sentence=f"{disk.name} is missing from {node.name}.", about="disks")
    if node.contact != Contact.HEARD:
        return Note(
            sentence=f"{disk.name} cannot be prepared: {node.name} is not heard.", about="disks", next_step="Bring the node back, or leave its disks out."
        )
    return None


def _row(view: SiteView, disk: Disk) -> int:
    return int(view.row_of_number[disk.number])


def _account(view: SiteView, params: FormPoolParams, disks: list[Disk], copies: int) -> tuple[Pool, PoolSpace]:
    """The pool as it would be with this many copies, and its room."""
    pool = Pool(0, params.name.strip(), params.extent_bytes, Protection(copies, params.level), params.headroom)
    rows = np.array([_row(view, d) for d in disks], dtype=np.int64)
    sizes = np.array([d.size_bytes for d in disks], dtype=np.int64)
    spread_of = view.domain_of(params.level)[rows]
    headroom_of = view.domain_of(params.headroom)[rows] if params.headroom else None
    return pool, account_pool(sizes, np.zeros(len(rows), dtype=np.int64), 0, 0, spread_of, headroom_of, pool)


def _effects(preview: Preview, view: SiteView, params: FormPoolParams, disks: list[Disk]) -> None:
    """Fills in what the pool would hold: for two and three copies, and for the number wished for."""
    rows = [_row(view, d) for d in disks]
    raw = sum(d.size_bytes for d in disks)
    sizes = sorted(Counter(d.size_bytes for d in disks).items())
    by_size = [Part("+", f"{say_count(count, 'disk')} of {say_size(size)}", count * size, "bytes") for size, count in sizes]
    preview.rows.append(Row(label="Raw", after=make_figure("Raw", "bytes", by_size)))
    for copies in sorted({2, 3, params.copies}):
        pool, space = _account(view, params, disks, copies)
        preview.ledgers.append(LedgerOut.of(f"{copies} copies" if copies > 1 else "1 copy", space.ledger))
        parts = [Part("+", f"{say_count(len(disks), 'disk')}, raw", raw, "bytes")]
        parts += [
            Part("−", label, amount, "bytes")
            for n, label in LEDGER_LABELS.items()
            if n not in {"protection_kept", "free"} and (amount := getattr(space.ledger, n))
        ]
        parts.append(Part("÷", say_count(copies, "copy", "copies"), copies, "count"))
        preview.rows.append(Row(label=f"Usable with {say_count(copies, 'copy', 'copies')}", after=make_figure(f"Usable with {copies} copies", "bytes", parts)))
    pool, space = _account(view, params, disks, params.copies)
    slots = np.array([pool.slots_of(d.size_bytes) for d in disks], dtype=np.int64)
    spread_of = view.domain_of(params.level)[rows]
    labels, room = by_domain(slots, spread_of)
    stranded = stranded_slots(slots, spread_of, pool.usual)
    names = view.domain_names(params.level)
    for label, slots_here in zip(labels.tolist(), room.tolist(), strict=True):
        left = stranded[label]
        preview.domains.append(
            DomainRow(name=names[label], room=slots_here * pool.extent_bytes, takes=(slots_here - left) * pool.extent_bytes, stranded=left * pool.extent_bytes)
        )
    preview.arriving = {d.name: pool.slots_of(d.size_bytes) * pool.extent_bytes for d in disks}
    preview.protection = f"Usual protection: {pool.usual.sentence()}."
    preview.warnings += _warnings(view, pool, space, disks)


def _warnings(view: SiteView, pool: Pool, space: PoolSpace, disks: list[Disk]) -> list[Note]:
    found = []
    if space.healing is not None and not space.healing.possible:
        domains = len({int(view.domain_of(pool.usual.level)[_row(view, d)]) for d in disks})
        sentence = (
            f"After losing any one {space.healing.level} nothing can be rebuilt until it returns: {domains} {pool.usual.level}s for {pool.usual.copies} copies."
        )
        found.append(Note(sentence=sentence, next_step=f"Add disks in another {pool.usual.level}, or hold fewer copies."))
    media = sorted({MEDIA_WORDS[d.media] for d in disks})
    if len(media) > 1:
        found.append(Note(sentence=f"The disks are of several kinds ({say_list(media)}); every volume will be as slow as the slowest."))
    if space.ledger.stranded * 20 > space.ledger.raw:
        found.append(Note(sentence=f"{say_size(space.ledger.stranded)} cannot be used, because the {pool.usual.level}s are uneven."))
    found += [Note(sentence=f"{d.name} needs a look: {say_list(list(d.watch))}.") for d in disks if d.watch]
    return found
