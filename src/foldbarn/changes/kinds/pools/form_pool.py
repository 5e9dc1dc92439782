"""Forming a pool from chosen disks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import (
    AnyEffect,
    DomainRow,
    Domains,
    Endurance,
    Ledgers,
    Note,
    OnDisks,
    Promise,
    Row,
    Sums,
    warning,
)
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.disks import (
    OverrideIn,
    choice_blockers,
    chosen_disks,
    overrides_of,
    overrides_so_far,
)
from foldbarn.changes.kinds.pools.effects import roles
from foldbarn.changes.kinds.pools.grow_pool import looks_needed
from foldbarn.changes.kinds.pools.joining import (
    Bind,
    Given,
    Taken,
    check_unchanged,
    given,
    join_pool,
    prepare_steps,
    refuse_volumes,
    taken,
)
from foldbarn.core.errors import BarnError
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.names import check_name, labels_of
from foldbarn.core.pools.capacity import LEDGER_LABELS, PoolSpace, by_domain, pool_space, stranded_slots
from foldbarn.core.pools.compressing import UNITS
from foldbarn.core.pools.healing import headroom_sentence
from foldbarn.core.pools.media import classes_of
from foldbarn.core.pools.printing import print_ledger
from foldbarn.core.pools.protection import MOST_COPIES, Level, mirror
from foldbarn.core.pools.roles import (
    Assignment,
    Serves,
    assign_roles,
    cache_concerns,
    endurance,
    expected_writes,
)
from foldbarn.core.site import Disk, Pool, Priority, Role, SiteView
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import GIB, MIB, TIB, say_binary, say_count, say_list, say_size
from foldbarn.store import disks as store_disks
from foldbarn.store import pools as store_pools
from foldbarn.store.database import Session, announce
from foldbarn.store.tables import PoolRow
from foldbarn.store.views import current_view


class PoolSettings(Params):
    """What can be set of a pool, also later. Sizes in bytes, rates in bytes per second over all disks (0: no
    limit).
    """

    copies: int = 3
    level: Level = Level.RACK
    headroom: Level | None = Level.NODE
    headroom_losses: int = Field(default=1, ge=1, le=5)
    fill_line: float = Field(default=0.85, gt=0.1, le=1.0)
    allocation_bytes: int = Field(default=MIB, ge=4096, le=TIB)
    overcommit_cap: float = Field(default=1.0, gt=0, le=100)
    rebuild_rate: int = Field(default=0, ge=0, le=10**13)
    level_rate: int = Field(default=0, ge=0, le=10**13)
    priority: Priority = Priority.CONSUMERS
    daily_writes: int = Field(default=0, ge=0, le=10**18)
    labels: list[str] = Field(default_factory=list, max_length=200)


SETTINGS = tuple(PoolSettings.model_fields)


class FormPoolParams(PoolSettings):
    """A pool as wished for. Disks by name. serves: what the fastest of several media classes is for;
    overrides: other roles, by disk name. compress_unit: bytes of the units in which its disks compress what
    they hold; 0 for disks that hold it as it is.
    """

    name: str
    disks: list[str]
    extent_bytes: int = Field(default=GIB, ge=64 * MIB, le=64 * GIB)
    serves: Serves = "cache"
    overrides: dict[str, OverrideIn] = Field(default_factory=dict)
    encrypted: bool = False
    compress_unit: int = Field(default=0, ge=0)


def columns_of(settings: dict[str, Any]) -> dict[str, Any]:
    """Settings as the store keeps them: the usual protection, so far a mirror, as a scheme."""
    columns = {name: value for name, value in settings.items() if name != "copies"}
    if "labels" in settings:
        columns["labels"] = list(labels_of(settings["labels"]))
    return columns | ({"k": 1, "m": settings["copies"] - 1} if "copies" in settings else {})


def pool_as(
    params: PoolSettings, number: int, name: str, strip_bytes: int, *, encrypted: bool, compress_unit: int
) -> Pool:
    """The pool that these settings describe. Raises NotPossible for labels that are none."""
    return Pool(
        number,
        name,
        strip_bytes,
        mirror(params.copies, params.level),
        params.headroom,
        params.fill_line,
        False,
        params.headroom_losses,
        params.allocation_bytes,
        params.overcommit_cap,
        encrypted,
        params.rebuild_rate,
        params.level_rate,
        params.priority,
        params.daily_writes,
        labels=labels_of(params.labels),
        compress_unit=compress_unit,
    )


class Claim(Inside):
    """A pool that is being formed, and its disks: no other change can take them."""

    name: ClassVar[str] = "claim"
    pool: str
    strip_bytes: int
    encrypted: bool
    compress_unit: int = 0
    settings: PoolSettings
    disks: tuple[Taken, ...]
    roles: tuple[Given, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        check_unchanged(current_view(), self.disks, self.pool)
        check_name(self.pool, "pool", store_pools.names(session))
        row = PoolRow(
            name=self.pool,
            strip_bytes=self.strip_bytes,
            encrypted=self.encrypted,
            compress_unit=self.compress_unit,
            change_id=run.change,
            **columns_of(self.settings.model_dump(mode="json")),
        )
        joined = join_pool(session, store_pools.add(session, row), self.roles)
        return f"{say_count(joined, 'disk')} claimed."

    def take_back(self, run: Run) -> None:
        with run.writing() as session:
            made = store_pools.of_change(session, run.change)
            if made is not None:
                refuse_volumes(session, made)
                for disk in store_disks.of_pool(session, made.id):
                    store_disks.leave(disk)
                store_pools.delete(session, made)
            announce(session, "site")


@register
class FormPool(Kind[FormPoolParams]):
    """claim (ours), prepare (agents), read back (from agents; then it opens), bind (agents, where there is
    cache).
    """

    name: ClassVar[str] = "form-pool"
    params: ClassVar[type[Params]] = FormPoolParams

    def plan(self, view: SiteView, params: FormPoolParams) -> Plan:
        chosen = chosen_disks(view, params.disks)
        blockers = _name_blockers(view, params) + choice_blockers(view, params.disks)
        try:
            assigned = assign_roles(chosen, params.serves, overrides_of(params.overrides))
        except BarnError as error:
            blockers.append(Note.of(error))
            assigned = assign_roles(chosen, params.serves, overrides_so_far(params.overrides))
        blockers += _shape_blockers(view, params, assigned)
        effects: list[AnyEffect] = [roles(view, assigned)]
        warnings: list[Note] = []
        if _can_be_told(params, assigned):
            effects += _effects(view, params, assigned)
            warnings = _warnings(view, params, assigned)
        return Plan(
            title=f"Form {params.name.strip() or 'a pool'}",
            about=params.name.strip(),
            summary=f"From {say_count(len(chosen), 'disk')} of "
            f"{say_count(len({d.node for d in chosen}), 'node')}.",
            steps=_steps(view, params, chosen, assigned),
            effects=effects,
            touches=[alone(Thing.DISK, d.number) for d in chosen],
            meant=Meant(disks=tuple(chosen)),
            blockers=blockers,
            warnings=warnings,
        )


def _can_be_told(params: FormPoolParams, assigned: Sequence[Assignment]) -> bool:
    """Whether there is a pool whose room can be computed."""
    return 1 <= params.copies <= MOST_COPIES and any(a.role == Role.CAPACITY for a in assigned)


def _steps(
    view: SiteView, params: FormPoolParams, chosen: Sequence[Disk], assigned: Sequence[Assignment]
) -> list[Planned]:
    disks = taken(chosen)
    claim = Claim(
        pool=params.name.strip(),
        strip_bytes=params.extent_bytes,  # of a mirror, whose extents are one strip of data
        encrypted=params.encrypted,
        compress_unit=params.compress_unit,
        settings=PoolSettings(**params.model_dump(include=set(SETTINGS))),
        disks=disks,
        roles=given(view, assigned),
    )
    title = f"Claim {say_count(len(chosen), 'disk')}"
    found = [Planned(claim, title, "From here no other change can take them."), *prepare_steps(0, disks)]
    if any(a.role == Role.CACHE for a in assigned):
        found.append(Planned(Bind(), "Bind cache devices to disks", "Evenly, within each node.", seconds=1))
    return found


def _name_blockers(view: SiteView, params: FormPoolParams) -> list[Note]:
    found: list[Note] = []
    try:
        check_name(params.name, "pool", [p.name for p in view.pools])
    except BarnError as error:
        found.append(Note.of(error))
    if params.compress_unit not in UNITS:
        units = say_list([say_binary(unit) for unit in UNITS if unit], most=len(UNITS))
        words = f"Disks do not compress in units of {params.compress_unit:,} bytes."
        found.append(
            Note(sentence=words, about="compress_unit", next_step=f"Choose one of {units}, or none.")
        )
    if params.encrypted and (view.cluster is None or not view.cluster.encrypted):
        found.append(
            Note(
                sentence="There is no data key to encrypt with.",
                about="encrypted",
                next_step="Form the cluster with a passphrase first.",
            )
        )
    return found


def _shape_blockers(view: SiteView, params: FormPoolParams, assigned: list[Assignment]) -> list[Note]:
    """What stands against the protection on these disks."""
    if not 1 <= params.copies <= MOST_COPIES:
        return [
            Note(
                sentence=f"A pool's usual protection has between 1 and {MOST_COPIES} copies, not "
                f"{params.copies}.",
                about="copies",
            )
        ]
    capacity = [view.disk(a.disk) for a in assigned if a.role == Role.CAPACITY]
    if assigned and not capacity:
        return [
            Note(
                sentence="No disk would be capacity, so the pool could hold nothing.",
                about="disks",
                next_step="Leave some disks as capacity.",
            )
        ]
    domains = {int(view.domain_of(params.level)[_row(view, d)]) for d in capacity}
    if capacity and len(domains) < params.copies:
        sentence = (
            f"{params.copies} copies need {say_count(params.copies, params.level.value)}; the chosen "
            f"disks lie in {len(domains)}."
        )
        return [
            Note(
                sentence=sentence,
                about="copies",
                next_step=f"Choose disks in another {params.level.value}, or fewer copies.",
            )
        ]
    if capacity and _formed(view, params, assigned, params.copies)[2].usable == 0:
        return [
            Note(
                sentence="The pool would be too small to hold one extent of "
                f"{say_binary(params.extent_bytes)}.",
                about="disks",
            )
        ]
    return []


def _row(view: SiteView, disk: Disk) -> int:
    return int(view.row_of_number[disk.number])


def _formed(
    view: SiteView, params: FormPoolParams, assigned: list[Assignment], copies: int
) -> tuple[SiteView, Pool, PoolSpace]:
    """The site with the pool as it would be with this many copies, and its room."""
    pool = pool_as(
        params.model_copy(update={"copies": copies}),
        -1,
        params.name.strip(),
        params.extent_bytes,
        encrypted=params.encrypted,
        compress_unit=params.compress_unit,
    )
    roles = {a.disk: a for a in assigned}
    row = len(view.pools)
    disks = tuple(
        replace(d, pool=row, role=roles[d.name].role, tier=roles[d.name].tier) if d.name in roles else d
        for d in view.disks
    )
    formed = replace(view, pools=(*view.pools, pool), disks=disks)
    return formed, pool, pool_space(formed, pool)


def _effects(view: SiteView, params: FormPoolParams, assigned: list[Assignment]) -> list[AnyEffect]:
    """What the pool would hold: for two and three copies, and for the number wished for."""
    disks = [view.disk(a.disk) for a in assigned]
    rows, ledgers = [_raw_row(disks)], []
    for copies in sorted({2, 3, params.copies}):
        _, _, space = _formed(view, params, assigned, copies)
        ledgers.append(print_ledger(f"{copies} copies" if copies > 1 else "1 copy", space.ledger))
        rows.append(_usable_row(disks, copies, space))
    formed, pool, space = _formed(view, params, assigned, params.copies)
    in_pool = formed.in_pool(pool).tolist()
    return [
        Sums(rows=rows),
        Ledgers(ledgers=ledgers),
        _domains(formed, pool),
        OnDisks(
            arriving={formed.disks[r].name: int(formed.disk_slots[r]) * pool.strip_bytes for r in in_pool}
        ),
        Promise(sentence=f"Usual protection: {pool.usual.sentence()}."),
        _endurance(formed, pool, space),
    ]


def _raw_row(disks: Sequence[Disk]) -> Row:
    sizes = sorted(Counter(d.size_bytes for d in disks).items())
    by_size = [
        Part("+", f"{say_count(count, 'disk')} of {say_size(size)}", count * size, "bytes")
        for size, count in sizes
    ]
    return Row(label="Raw", after=make_figure("Raw", "bytes", by_size))


def _usable_row(disks: Sequence[Disk], copies: int, space: PoolSpace) -> Row:
    raw = sum(d.size_bytes for d in disks)
    parts = [Part("+", f"{say_count(len(disks), 'disk')}, raw", raw, "bytes")]
    parts += [
        Part("−", label, amount, "bytes")
        for n, label in LEDGER_LABELS.items()
        if n not in {"protection_kept", "free"} and (amount := getattr(space.ledger, n))
    ]
    parts.append(Part("÷", say_count(copies, "copy", "copies"), copies, "count"))
    label = f"Usable with {say_count(copies, 'copy', 'copies')}"
    return Row(label=label, after=make_figure(f"Usable with {copies} copies", "bytes", parts))


def _domains(formed: SiteView, pool: Pool) -> Domains:
    rows = formed.in_pool(pool)
    level = pool.usual.level
    slots, spread_of = formed.disk_slots[rows], formed.domain_of(level)[rows]
    labels, room = by_domain(slots, spread_of)
    stranded = stranded_slots(slots, spread_of, pool.usual)
    names = formed.domain_names(level)
    return Domains(
        level=level.value,
        title="Usable for strips",
        rows=[
            DomainRow(
                name=names[label],
                room=slots_here * pool.strip_bytes,
                takes=(slots_here - stranded[label]) * pool.strip_bytes,
                stranded=stranded[label] * pool.strip_bytes,
            )
            for label, slots_here in zip(labels.tolist(), room.tolist(), strict=True)
        ],
    )


def _flash(formed: SiteView, pool: Pool) -> tuple[list[Disk], list[Disk]]:
    """Cache devices and capacity disks."""
    disks = formed.all_of(pool)
    return [d for d in disks if d.role == Role.CACHE], [d for d in disks if d.role == Role.CAPACITY]


def _endurance(formed: SiteView, pool: Pool, space: PoolSpace) -> Endurance:
    cache, capacity = _flash(formed, pool)
    writes = expected_writes(pool.daily_writes, space.usable * pool.extent_bytes, pool.usual)
    said = [f"{e.sentence('cache device')}." for e in endurance(cache, writes.daily_bytes)]
    said += [
        f"{e.sentence('capacity disk')}."
        for e in endurance([d for d in capacity if d.media != "hdd"], writes.daily_bytes)
    ]
    return Endurance(sentences=[*said, f"Counted on {writes.sentence}."] if said else [])


def _warnings(view: SiteView, params: FormPoolParams, assigned: list[Assignment]) -> list[Note]:
    formed, pool, space = _formed(view, params, assigned, params.copies)
    cache, capacity = _flash(formed, pool)
    writes = expected_writes(pool.daily_writes, space.usable * pool.extent_bytes, pool.usual)
    found = [warning("cache", s) for s in cache_concerns(cache, capacity, writes.daily_bytes)]
    if space.headroom is not None and not space.headroom.possible:
        step = f"Add disks in another {pool.usual.level}, or hold fewer copies."
        found.append(warning("cannot-heal", headroom_sentence(formed, pool, space), next_step=step))
    for tier in formed.tiers_of(pool):
        kinds = sorted(set(classes_of((d.media, d.bus) for d in capacity if d.tier == tier)))
        if len(kinds) > 1:
            words = (
                f"The disks that hold data are of several kinds ({say_list([k.words for k in kinds])}); "
                "every volume will be as slow as the slowest."
            )
            found.append(warning("mixed-media", words, about=tier.value))
    if space.ledger.stranded * 20 > space.ledger.raw:
        words = (
            f"{say_size(space.ledger.stranded)} cannot be used, because the {pool.usual.level}s are uneven."
        )
        found.append(warning("stranded", words))
    return found + looks_needed([view.disk(a.disk) for a in assigned])
