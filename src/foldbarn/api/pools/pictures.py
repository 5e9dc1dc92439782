"""Pools, as a page shows them."""

from __future__ import annotations

from collections import Counter

import numpy as np

from foldbarn.api.bodies import StateOut
from foldbarn.api.pools.models import (
    AdditionOut,
    CacheLossOut,
    DomainUse,
    HealingOut,
    PolicyKept,
    PoolOut,
    PoolPage,
    RepairOut,
    SettingOut,
    SizingOut,
    UsableOut,
)
from foldbarn.changes.kinds.pools.effects import roles
from foldbarn.changes.kinds.pools.set_pool import LABELS, settings_in_words, settings_of
from foldbarn.core.moving.levelling import imbalance
from foldbarn.core.names import natural_key
from foldbarn.core.policies.matching import answer
from foldbarn.core.pools.capacity import (
    UsableRow,
    best_additions,
    by_domain,
    free_figure,
    usable_by_protection,
)
from foldbarn.core.pools.compressing import Measured, compression_sentence
from foldbarn.core.pools.filling import filling_of
from foldbarn.core.pools.healing import healing_in_words, healing_of, healing_sentence
from foldbarn.core.pools.printing import print_ledger
from foldbarn.core.pools.protection import Level
from foldbarn.core.pools.roles import (
    Assignment,
    assign_roles,
    binding_of,
    cache_concerns,
    cache_share,
    endurance,
    expected_writes,
)
from foldbarn.core.pools.sizing import Sizing, say_chance
from foldbarn.core.site import Disk, Pool, Role, SiteView, Tier
from foldbarn.core.units import say_binary, say_duration
from foldbarn.core.volumes.loss import cache_losses
from foldbarn.core.watch.lamps import Outlook


def pool_out(outlook: Outlook, row: int) -> PoolOut:
    view = outlook.view
    pool, space = view.pools[row], outlook.spaces[row]
    rows = view.in_pool(pool)
    level = pool.usual.level
    names = view.domain_names(level)
    labels, room = by_domain(view.disk_slots[rows], view.domain_of(level)[rows])
    used = by_domain(view.disk_used[rows], view.domain_of(level)[rows])[1]
    extent, strip = pool.extent_bytes, pool.strip_bytes
    free = free_figure(pool, space)
    return PoolOut(
        name=pool.name,
        state=StateOut.of(outlook.pool(row)),
        worst=StateOut.of(outlook.pool_with_volumes(row)),
        forming=pool.forming,
        copies=pool.usual.strips,
        level=level.value,
        protection=pool.usual.sentence(),
        extent_bytes=extent,
        disks=len(view.all_of(pool)),
        nodes=[view.nodes[n].name for n in dict.fromkeys(view.disk_node[rows].tolist())],
        volumes=[v.name for v in view.volumes_kept if v.pool == row],
        full=space.full,
        fill_line=pool.fill_line,
        roles=dict(Counter(d.role.value for d in view.all_of(pool))),
        tiers=[tier for tier in reversed(Tier) if len(view.in_pool(pool, tier))],
        encrypted=pool.encrypted,
        free=free,
        usable_bytes=space.usable * extent,
        ledger=print_ledger(pool.name, space.ledger, free),
        healing=healing_sentence(view, pool, space),
        filling=filling.sentence() if (filling := filling_of(view, pool)) else "",
        imbalance=imbalance(view, pool),
        domains=[
            DomainUse(
                name=names[d], room=r * strip, used=u * strip, stranded=space.stranded.get(d, 0) * strip
            )
            for d, r, u in zip(labels.tolist(), room.tolist(), used.tolist(), strict=True)
        ],
    )


def pool_page_out(outlook: Outlook, name: str, running: list[int], measured: Measured) -> PoolPage:
    """running: numbers of the open changes that touch it; measured: what compressing has come to. Raises
    NotFound.
    """
    view = outlook.view
    pool = view.pool(name)
    row = view.pool_row(pool)
    space = outlook.spaces[row]
    extent = pool.extent_bytes
    disks = view.all_of(pool)
    by_rule = {a.disk: a for a in assign_roles(disks, "fast tier" if space.fast else "cache")}
    assigned = [
        _as_assigned(d, by_rule[d.name])
        for d in sorted(disks, key=lambda d: (d.node, d.role != Role.CACHE, natural_key(d.name)))
    ]
    cache, capacity = (
        [d for d in disks if d.role == Role.CACHE],
        [d for d in disks if d.role == Role.CAPACITY],
    )
    writes = expected_writes(pool.daily_writes, space.usable * extent, pool.usual)
    lasting = [f"{e.sentence('cache device')}." for e in endurance(cache, writes.daily_bytes)]
    lasting += [
        f"{e.sentence('capacity disk')}."
        for e in endurance([d for d in capacity if d.media != "hdd"], writes.daily_bytes)
    ]
    words = settings_in_words(pool)
    return PoolPage(
        pool=pool_out(outlook, row),
        policies=[
            PolicyKept(
                policy=p.name, keeps=said.keeps, against=said.against[0].sentence if said.against else ""
            )
            for p in view.current_policies
            for said in [answer(view, pool, p.wishes, room=False)]
        ],
        fast_usable=space.fast.usable * extent if space.fast else 0,
        fast_free=space.fast.free * extent if space.fast else 0,
        without_headroom=space.without_headroom * extent,
        roles=roles(view, assigned).rows,
        cache_share=cache_share(cache, capacity),
        cache_losses=[
            CacheLossOut.model_validate(c, from_attributes=True)
            for c in cache_losses(view, pool, binding_of(view, pool))
        ],
        endurance=[*lasting, f"Counted on {writes.sentence}."] if lasting else [],
        concerns=cache_concerns(cache, capacity, writes.daily_bytes),
        protections=[usable_out(u, pool) for u in usable_by_protection(view, pool)],
        additions=[AdditionOut.model_validate(a, from_attributes=True) for a in best_additions(view, pool)],
        heals=_heals(view, pool),
        settings=[
            *(SettingOut(name=n, label=label, value=words[n]) for n, label in LABELS.items()),
            SettingOut(name="extent_bytes", label="Extent", value=say_binary(extent)),
            SettingOut(
                name="encrypted",
                label="Encrypted",
                value="yes, with the cluster's data key" if pool.encrypted else "no",
            ),
            SettingOut(name="compress_unit", label="Compressed", value=compression_sentence(pool, measured)),
        ],
        params={"pool": pool.name, **settings_of(pool)},
        running=running,
    )


def _heals(view: SiteView, pool: Pool) -> list[HealingOut]:
    """What can be lost and made whole again, at every level of which the pool has more than one thing."""
    rows = view.in_pool(pool)
    found = []
    for level in Level:
        if view.volumes_of(pool) and len(np.unique(view.domain_of(level)[rows])) > 1:
            healing = healing_of(view, pool, level)
            found.append(
                HealingOut(level=level.value, holds=healing.holds, sentence=healing_in_words(healing))
            )
    return found


def _as_assigned(disk: Disk, rule: Assignment) -> Assignment:
    """A disk's role as it is, beside what the rule would say."""
    chosen = bool(disk.role_reason) and disk.role != rule.role
    return Assignment(disk.name, disk.role, disk.tier, disk.role_reason or rule.reason, rule.by_rule, chosen)


def usable_out(found: UsableRow, pool: Pool) -> UsableOut:
    scheme = found.scheme
    return UsableOut(
        copies=scheme.strips,
        level=scheme.level.value,
        words=scheme.sentence(),
        usable=found.usable,
        with_headroom=found.with_headroom,
        heals=found.heals,
        why_not=found.why_not,
        usual=scheme == pool.usual,
    )


def sizing_out(name: str, sizing: Sizing) -> SizingOut:
    view, pool, space = sizing.view, sizing.pool, sizing.space
    rows = view.in_pool(pool)
    level, strip = pool.usual.level, pool.strip_bytes
    labels, room = by_domain(view.disk_slots[rows], view.domain_of(level)[rows])
    names = view.domain_names(level)
    return SizingOut(
        name=name,
        problem="",
        next_step="",
        nodes=len(view.nodes),
        disks=len(view.disks),
        raw=sizing.ledger.raw,
        usable=sizing.usable_bytes,
        without_headroom=sizing.without_headroom_bytes,
        ledger=print_ledger(name, sizing.ledger),
        protection=pool.usual.sentence(),
        domains=[
            DomainUse(name=names[d], room=r * strip, used=0, stranded=space.stranded.get(d, 0) * strip)
            for d, r in zip(labels.tolist(), room.tolist(), strict=True)
        ],
        protections=[usable_out(u, pool) for u in sizing.protections],
        healing=sizing.healing,
        repair_disk=RepairOut.of(sizing.repair_disk),
        repair_node=RepairOut.of(sizing.repair_node),
        chance=say_chance(sizing.chance),
        chance_inputs=_chance_inputs(sizing),
        additions=[AdditionOut.model_validate(a, from_attributes=True) for a in sizing.additions],
        concerns=sizing.concerns,
    )


def _chance_inputs(sizing: Sizing) -> str:
    """What the chance of loss was made from, in words."""
    chance, copies = sizing.chance, sizing.pool.usual.strips
    if chance is None:
        return "Where nothing is held, nothing can be lost."
    repaired = ""
    if copies > 1:
        repaired = f"what a disk held is whole again after {say_duration(chance.repair_seconds)}"
        if sizing.repair_disk is not None and sizing.repair_disk.replacing:
            repaired += f", {say_duration(sizing.repair_disk.replacing)} of it until a replacement is there"
        repaired += "; "
    sets = f"{chance.groups:,.0f} sets of {copies} disks hold all copies of some extent"
    if copies == 1:
        sets = f"{chance.groups:,.0f} disks hold the only copy of some extent"
    return f"{chance.failure_rate:.2%} of disks fail in a year; {repaired}{sets}."
