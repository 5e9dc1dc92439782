"""Making a volume: its extents are placed apart, and room for every strip is set aside on the disks."""

from __future__ import annotations

import zlib
from collections import defaultdict
from dataclasses import dataclass, replace
from functools import partial
from typing import ClassVar

import numpy as np
from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import DomainRow, Note, PlannedStep, Preview, Row
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import check_not_closing
from foldbarn.core.arrays import Disks
from foldbarn.core.capacity import (
    Fit,
    Limit,
    by_domain,
    fits,
    free_figure,
    most_that_fits,
    pool_space,
    stranded_slots,
)
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.healing import healing_sentence, heals
from foldbarn.core.names import check_name, folded
from foldbarn.core.placement import place
from foldbarn.core.protection import Level, Protection
from foldbarn.core.site import Contact, Pool, SiteView, Tier, Volume
from foldbarn.core.touching import Meant, Thing, Touch, shared
from foldbarn.core.units import parse_size, say_binary, say_count, say_size
from foldbarn.store import nodes, pools, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.placements import read_placement
from foldbarn.store.tables import VolumeRow
from foldbarn.store.views import current_view, load_view

MOST_EXTENTS = 4_000_000  # placed in a few seconds; a larger volume wants larger extents


class CreateVolumeParams(Params):
    """A volume as wished for. size: as typed, such as "1 TiB", or bytes."""

    name: str
    pool: str
    size: str = Field(max_length=40)
    copies: int = 3
    level: Level = Level.RACK
    tier: Tier = Tier.BULK


@register
class CreateVolume(Kind[CreateVolumeParams]):
    """place (ours), reserve (agents), check (read back from agents)."""

    name: ClassVar[str] = "create-volume"
    params: ClassVar[type[Params]] = CreateVolumeParams
    inside: ClassVar[frozenset[str]] = frozenset({"place"})

    def about(self, params: CreateVolumeParams) -> str:
        return params.name.strip()

    def meant(self, view: SiteView, params: CreateVolumeParams) -> Meant:
        return Meant(pools=(view.pool(params.pool),))

    def touches(self, view: SiteView, params: CreateVolumeParams) -> list[Touch]:
        return [shared(Thing.POOL, view.pool(params.pool).number)]

    def preview(self, view: SiteView, params: CreateVolumeParams) -> Preview:
        name = params.name.strip()
        preview = Preview(
            kind=self.name,
            title=f"Make {name or 'a volume'}",
            summary="",
            revision=view.revision,
            steps=[
                PlannedStep(
                    name="place",
                    title="Choose a disk for every strip",
                    detail="Each extent's copies go to different domains.",
                ),
                PlannedStep(
                    name="reserve",
                    title="Set the strips aside",
                    detail="Every agent reserves its strips.",
                    seconds=1,
                ),
                PlannedStep(
                    name="check",
                    title="Read the strips back",
                    detail="Each disk must hold what it was given before the volume opens.",
                    seconds=1,
                ),
            ],
            domain_level=params.level.value,
        )
        try:
            check_name(params.name, "volume", [v.name for v in view.volumes])
        except BarnError as error:
            preview.blockers.append(Note.of(error))
        try:
            _plan(preview, view, params)
        except BarnError as error:
            preview.blockers.append(Note.of(error))
        return preview.sealed()

    def step_place(self, run: Run[CreateVolumeParams], session: Session) -> str:
        """Looks again at everything the preview looked at: what is made at the same time in the same pool
        comes before or after.
        """
        params = run.params
        locked = pools.locked(session, run.pool(current_view(), params.pool).number)
        view = load_view(session)
        if locked is None:
            raise NotPossible(f"{params.pool} is gone.", about="pool")
        check_name(params.name, "volume", [v.name for v in view.volumes])
        wish = wish_in(view, view.pool(locked.name), params)
        row = VolumeRow(
            name=params.name.strip(),
            pool_id=locked.id,
            size_bytes=wish.size,
            copies=params.copies,
            level=params.level.value,
            extents=wish.extents,
            tier=params.tier.value,
            change_id=run.change,
        )
        placement = placement_for(view, wish, params.name)
        volumes.add(session, row, placement)
        return f"{say_count(placement.size, 'strip')} of {say_count(wish.extents, 'extent')} placed."

    def step_reserve(self, run: Run[CreateVolumeParams]) -> str:
        made, wanted = _made(run), _strips_by_node(run)
        order = {"kind": "reserve", "volume": made.number, "bytes": made.strip_bytes}
        run.tell_nodes({node: {**order, "strips": strips} for node, strips in wanted.items()})
        return f"Reserved on {say_count(len(wanted), 'node')}."

    def step_check(self, run: Run[CreateVolumeParams]) -> str:
        names, made = run.urls(), _made(run)
        for node, disks in _strips_by_node(run).items():
            agent = run.agent(node)
            for serial, strips in disks.items():
                held = run.insist(names[node][0], partial(agent.strips, serial, made.number))
                there = {(e, s) for v, e, s in held.tolist() if v == made.number}
                missing = {(e, s) for e, s in strips} - there
                if missing:
                    raise NotPossible(
                        f"{names[node][0]} says it reserved every strip, but {len(missing)} are not "
                        f"on disk {serial}."
                    )
        with run.writing() as session:
            volumes.open_(session, made.number)
            announce(session, "site")
        return "Every disk holds its strips."

    def withdraw(self, run: Run[CreateVolumeParams]) -> None:
        """Nobody moves its strips meanwhile: a rebuild may have had some on their way."""
        with transaction() as session:
            made = volumes.of_change(session, run.change)
        if made is None:
            return
        with run.holding_strips(run.pool(current_view(), run.params.pool)):
            wanted = _strips_by_node(run)
            heard = {n.number for n in current_view().nodes if n.contact == Contact.HEARD}
            orders = {
                node: {serial: [[made.number, e, s] for e, s in strips] for serial, strips in disks.items()}
                for node, disks in wanted.items()
            }
            run.tell_nodes(
                {n: {"kind": "drop", "strips": strips} for n, strips in orders.items() if n in heard}
            )
            with run.writing() as session:
                nodes.owe(session, orders.keys() - heard)
                # Copies of its strips that were on their way are dropped by the comparison that follows.
                if volumes.forget(session, made.number):
                    pools.look(session, [made.pool], f"{made.name} was withdrawn")
                announce(session, "site")


@dataclass(frozen=True, slots=True)
class VolumeWish:
    """A volume that its pool can take as it stands: bytes, extents."""

    pool: Pool
    size: int
    extents: int
    protection: Protection
    tier: Tier


def wish_in(view: SiteView, pool: Pool, params: CreateVolumeParams) -> VolumeWish:
    """The one rule of what a pool takes, for the preview and for the step. Raises NotPossible with what
    stands against it.
    """
    size = rounded_size(parse_size(params.size), pool)
    protection = Protection(params.copies, params.level)
    if params.tier not in view.tiers_of(pool):
        raise NotPossible(
            f"{pool.name} has no fast tier.",
            about="tier",
            next_step="Choose the bulk tier, or form a pool of two media classes.",
        )
    check_not_closing(pool)
    if pool.forming:
        raise NotPossible(
            f"{pool.name} is still being formed.", about="pool", next_step="Wait until its change is done."
        )
    extents = extents_of(size, pool)
    spread_of = view.domain_of(protection.level)[_open_disks(view, pool, params.tier)]
    reachable = len(np.unique(spread_of))
    if reachable < protection.least_domains:
        level = protection.level.value
        step = (
            f"Choose at most {reachable} copies, or another pool."
            if reachable
            else "Bring its nodes back first."
        )
        raise NotPossible(
            f"{protection.copies} copies need {say_count(protection.copies, level)}; {pool.name} has "
            f"room in {reachable} now.",
            about="copies",
            next_step=step,
        )
    if not fits(view, pool, protection, params.tier, extents):
        raise _too_large(size, pool, protection, most_that_fits(view, pool, protection, params.tier))
    return VolumeWish(pool, size, extents, protection, params.tier)


def _made(run: Run[CreateVolumeParams]) -> volumes.Made:
    with transaction() as session:
        made = volumes.of_change(session, run.change)
    if made is None:
        raise NotPossible("The volume is gone.", next_step="Withdraw this change.")
    return made


def rounded_size(size: int, pool: Pool) -> int:
    """The size rounded up to the pool's allocation unit, in bytes."""
    return -(-size // pool.allocation_bytes) * pool.allocation_bytes


def extents_of(size: int, pool: Pool) -> int:
    """Extents that a volume of this many bytes takes; the last one may be partly used.

    Raises NotPossible for a size that would take more than four million.
    """
    extents = -(-size // pool.extent_bytes)
    if extents > MOST_EXTENTS:
        raise NotPossible(
            f"{say_size(size)} would take {extents:,} extents of {say_binary(pool.extent_bytes)}; "
            f"{MOST_EXTENTS:,} are the most for one volume.",
            about="size",
        )
    return extents


def placement_for(view: SiteView, wish: VolumeWish, name: str) -> Disks:
    """Disk numbers of every strip of a new volume, [extents, copies]. The same site and name give the same
    placement.
    """
    rows = _open_disks(view, wish.pool, wish.tier)
    domain_of = view.domain_of(wish.protection.level)[rows]
    seed = zlib.crc32(folded(name.strip()).encode())
    placed = place(
        view.disk_free[rows], domain_of, view.disk_node[rows], wish.extents, wish.protection.strips, seed
    )
    numbers: Disks = view.disk_numbers[rows][placed]
    return numbers


def _open_disks(view: SiteView, pool: Pool, tier: Tier) -> np.ndarray:
    """Rows of the disks of a tier that can take new strips."""
    rows = view.in_pool(pool, tier)
    return rows[view.disk_open[rows] & (view.disk_free[rows] > 0)]


def _plan(preview: Preview, view: SiteView, params: CreateVolumeParams) -> None:
    """Fills in placement and effects. Raises what stands against the volume."""
    pool = view.pool(params.pool)
    wish = wish_in(view, pool, params)
    size, extents, protection, level = wish.size, wish.extents, wish.protection, params.level.value
    rows = _open_disks(view, pool, params.tier)
    spread_of = view.domain_of(protection.level)[rows]
    space = pool_space(view, pool).of(params.tier)
    placement = placement_for(view, wish, params.name)
    taken = np.bincount(view.row_of_number[placement].reshape(-1), minlength=len(view.disks))
    preview.arriving = {
        view.disks[r].name: int(taken[r]) * pool.extent_bytes for r in np.flatnonzero(taken).tolist()
    }
    volume = Volume(
        0, params.name.strip() or "it", view.pool_row(pool), size, protection, placement, tier=params.tier
    )
    after = replace(view, volumes=(*view.volumes, volume))
    space_after = pool_space(after, pool).of(params.tier)
    asked = parse_size(params.size)
    rounded = (
        f", rounded up from {say_size(asked)} to whole units of {say_binary(pool.allocation_bytes)}"
        if size > asked * 1.001
        else ""
    )
    preview.summary = (
        f"{say_size(size)}{rounded} in {pool.name}, as {say_count(extents, 'extent')} "
        f"of {say_binary(pool.extent_bytes)}."
    )
    preview.protection = f"{protection.sentence().capitalize()}."
    preview.rows += [
        Row(
            label="On disks",
            after=make_figure(
                "On disks",
                "bytes",
                [
                    Part("+", "extents", extents, "count"),
                    Part("×", "bytes in an extent", pool.extent_bytes, "bytes"),
                    Part("×", "copies", protection.copies, "count"),
                ],
                f"Rounded up to whole extents of {say_binary(pool.extent_bytes)}.",
            ),
        ),
        Row(
            label=f"Free in {pool.name}",
            before=free_figure(pool, space),
            after=free_figure(pool, space_after),
        ),
        Row(
            label=f"{pool.name} full",
            before=Figure("full", space.full, "share"),
            after=Figure("full", space_after.full, "share"),
        ),
    ]
    if heals(view, pool, space) and not heals(after, pool, space_after):
        preview.warnings.append(Note(sentence=healing_sentence(after, pool, space_after), about="copies"))
    names = view.domain_names(protection.level)
    labels, room = by_domain(view.disk_free[rows], spread_of)
    takes = by_domain(taken[rows], spread_of)[1]
    left = stranded_slots(view.disk_free[rows], spread_of, protection)
    preview.domains = [
        DomainRow(
            name=names[d],
            room=r * pool.extent_bytes,
            takes=t * pool.extent_bytes,
            stranded=left[d] * pool.extent_bytes,
        )
        for d, r, t in zip(labels.tolist(), room.tolist(), takes.tolist(), strict=True)
    ]
    if protection.survives == 0:
        preview.warnings.append(
            Note(
                sentence="With one copy, the loss of any disk it lies on loses data for good.", about="copies"
            )
        )
    if protection.level in (Level.NODE, Level.DISK) and len(np.unique(view.disk_rack[rows])) > 1:
        preview.warnings.append(
            Note(
                sentence=f"Copies are kept apart by {level} only: one rack may hold them all.", about="level"
            )
        )


def _too_large(size: int, pool: Pool, protection: Protection, fit: Fit) -> NotPossible:
    """The refusal, with what limits the size."""
    limits = {
        Limit.APART: "where its copies can be kept apart",
        Limit.FILL_LINE: f"up to its fill line of {pool.fill_line:.0%}",
        Limit.CAP: f"up to its cap on overcommit of {pool.overcommit_cap:g}",
    }
    steps = {
        Limit.APART: "Choose a smaller size, fewer copies, or add disks.",
        Limit.FILL_LINE: "Choose a smaller size, fewer copies, or add disks.",
        Limit.CAP: "Choose a smaller size, or raise the cap in the pool's settings.",
    }
    words = (
        f"{say_size(size)} does not fit: {pool.name} can take "
        f"{say_size(fit.extents * pool.extent_bytes)} more "
        f"with {say_count(protection.copies, 'copy', 'copies')}, {limits[fit.limit]}."
    )
    return NotPossible(words, about="size", next_step=steps[fit.limit])


def _strips_by_node(run: Run[CreateVolumeParams]) -> dict[int, dict[str, list[list[int]]]]:
    """The volume's strips, [extent, strip], by node number and disk serial; empty before it is placed."""
    view = current_view()
    with transaction() as session:
        made = volumes.of_change(session, run.change)
        placement = read_placement(session, made.number) if made else None
    found: dict[int, dict[str, list[list[int]]]] = defaultdict(dict)
    if placement is None:
        return {}
    for number in np.unique(placement[placement > 0]).tolist():
        disk = view.disks[int(view.row_of_number[number])]
        found[view.nodes[disk.node].number][disk.serial] = np.argwhere(placement == number).tolist()
    return dict(found)
