"""Policies and their versions."""

from __future__ import annotations

from collections import defaultdict

from sqlalchemy import delete, func, select

from foldbarn.core.errors import Conflict, NotFound
from foldbarn.core.names import natural_key
from foldbarn.core.policies.policy import Cache, Policy, Wishes
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.volumes.schedules import Schedule
from foldbarn.store.database import Session
from foldbarn.store.tables import PolicyRow, PolicyVersionRow, VolumeRow


def every_version(session: Session) -> tuple[Policy, ...]:
    """Every version of every policy, by name and version."""
    rows = session.execute(
        select(PolicyVersionRow, PolicyRow.name).join(PolicyRow, PolicyRow.id == PolicyVersionRow.policy_id)
    ).all()
    newest: dict[int, int] = defaultdict(int)
    for row, _ in rows:
        newest[row.policy_id] = max(newest[row.policy_id], row.version)
    found = [
        Policy(
            number=row.policy_id,
            name=name,
            version=row.version,
            wishes=Wishes(
                scheme=Scheme(row.k, row.m, Level(row.level), row.per_domain),
                survives=row.survives,
                fast=row.fast,
                encrypted=row.encrypted,
                landing=row.landing,
                share=row.share,
                labels=tuple(row.labels),
                operations=row.operations,
                throughput=row.throughput,
                cache=Cache(row.cache),
                thin=row.thin,
                share_copies=row.share_copies,
                first=row.first,
                schedule=Schedule(row.hourly, row.daily, row.weekly, row.snapshot_room),
                memory=row.memory,
                compressed=row.compressed,
            ),
            meant_for=row.meant_for,
            current=row.version == newest[row.policy_id],
            draft=row.draft,
        )
        for row, name in rows
    ]
    return tuple(sorted(found, key=lambda p: (natural_key(p.name), p.version)))


def version_ids(session: Session) -> dict[int, tuple[int, int]]:
    """Number and version of the policy, by the number of the version's row."""
    rows = session.execute(select(PolicyVersionRow.id, PolicyVersionRow.policy_id, PolicyVersionRow.version))
    return {row: (policy, version) for row, policy, version in rows}


def version_id(session: Session, policy: int, version: int) -> int:
    """The row of a version. Raises NotFound where it is gone."""
    mine = PolicyVersionRow.policy_id == policy, PolicyVersionRow.version == version
    found = session.scalars(select(PolicyVersionRow.id).where(*mine)).one_or_none()
    if found is None:
        raise NotFound("The policy is gone.", about="policy")
    return found


def save(session: Session, change: int, *, policy: int, base: int, said: Policy) -> int:
    """A new version, which says this. policy: its number, 0 for a new one; base: the version it was written
    upon, 0 for none. Returns its version.

    Raises Conflict where someone has written another meanwhile, NotFound where it is gone.
    """
    if policy:
        row = session.get(PolicyRow, policy, with_for_update=True)
        if row is None:
            raise NotFound("The policy is gone.", about="name")
        mine = PolicyVersionRow.policy_id == policy
        newest = session.scalar(select(func.max(PolicyVersionRow.version)).where(mine))
        if newest != base:
            raise Conflict(
                f"{row.name} is in its version {newest} by now; this was written upon version {base}.",
                about="name",
                next_step="Look at what it says now, and wish again.",
            )
    else:
        row = PolicyRow(name=said.name)
        session.add(row)
        session.flush()
    wishes, scheme = said.wishes, said.wishes.scheme
    session.add(
        PolicyVersionRow(
            policy_id=row.id,
            version=base + 1,
            k=scheme.k,
            m=scheme.m,
            level=scheme.level.value,
            per_domain=scheme.per_domain,
            survives=wishes.survives,
            fast=wishes.fast,
            encrypted=wishes.encrypted,
            landing=wishes.landing,
            share=wishes.share,
            labels=list(wishes.labels),
            operations=wishes.operations,
            throughput=wishes.throughput,
            cache=wishes.cache.value,
            thin=wishes.thin,
            share_copies=wishes.share_copies,
            first=wishes.first,
            memory=wishes.memory,
            compressed=wishes.compressed,
            hourly=wishes.schedule.hourly,
            daily=wishes.schedule.daily,
            weekly=wishes.schedule.weekly,
            snapshot_room=wishes.schedule.room,
            meant_for=said.meant_for,
            draft=said.draft,
            change_id=change,
        )
    )
    return base + 1


def users(session: Session, policy: int) -> list[str]:
    """Names of the volumes that keep any version of a policy."""
    mine = select(PolicyVersionRow.id).where(PolicyVersionRow.policy_id == policy)
    rows = session.scalars(select(VolumeRow.name).where(VolumeRow.policy_version_id.in_(mine)))
    return sorted(rows, key=natural_key)


def forget(session: Session, policy: int) -> None:
    """Deletes a policy with all its versions; no volume may keep it any more."""
    session.execute(delete(PolicyVersionRow).where(PolicyVersionRow.policy_id == policy))
    session.execute(delete(PolicyRow).where(PolicyRow.id == policy))
