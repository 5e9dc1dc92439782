"""Storage classes, grants, and claims."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, delete, func, literal_column, select, update
from sqlalchemy.dialects.postgresql import insert

from foldbarn.core.claims.claims import AccessMode, Claim, Source, VolumeMode
from foldbarn.core.claims.classes import BindingMode, Reclaim, StorageClass
from foldbarn.core.claims.grants import Grant, Limits
from foldbarn.core.claims.kept import Hindrance, KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.names import natural_key
from foldbarn.core.volumes.snapshots import Origin
from foldbarn.store.database import Session
from foldbarn.store.tables import ClaimRow, GrantRow, SiteRow, StorageClassRow

# Classes. ------------------------------------------------------------------------------------------------


def read_classes(session: Session) -> tuple[StorageClass, ...]:
    """All of them, by name."""
    rows = sorted(session.scalars(select(StorageClassRow)), key=lambda row: natural_key(row.name))
    return tuple(
        StorageClass(
            name=row.name,
            policy=row.policy_id,
            pool=row.pool_id,
            reclaim=Reclaim(row.reclaim),
            binding=BindingMode(row.binding),
            expands=row.expands,
            file_system=FileSystem(row.file_system),
            mount_options=tuple(row.mount_options),
            default=row.is_default,
            number=row.id,
        )
        for row in rows
    )


def add_class(session: Session, change: int, said: StorageClass) -> None:
    """Raises nothing where it is the default one: which that was before is to be told first."""
    row = StorageClassRow(made_by=change)
    _write_class(row, said)
    session.add(row)
    session.flush()


def class_row(session: Session, number: int) -> StorageClassRow | None:
    return session.get(StorageClassRow, number, with_for_update=True)


def alter_class(session: Session, change: int, said: StorageClass) -> None:
    row = session.get_one(StorageClassRow, said.number, with_for_update=True)
    _write_class(row, said)
    row.altered_by = change
    session.flush()


def _write_class(row: StorageClassRow, said: StorageClass) -> None:
    row.name, row.policy_id, row.pool_id = said.name, said.policy, said.pool
    row.reclaim, row.binding, row.expands = said.reclaim.value, said.binding.value, said.expands
    row.file_system, row.mount_options = said.file_system.value, list(said.mount_options)
    row.is_default = said.default


def set_default(session: Session, number: int | None) -> None:
    """Which class claims get that name none; None for no class."""
    others = update(StorageClassRow).where(StorageClassRow.is_default)
    session.execute(others.values(is_default=False))
    if number is not None:
        mine = update(StorageClassRow).where(StorageClassRow.id == number)
        session.execute(mine.values(is_default=True))


def class_made_by(session: Session, change: int) -> int | None:
    return session.scalar(select(StorageClassRow.id).where(StorageClassRow.made_by == change))


def class_altered_by(session: Session, number: int) -> int | None:
    return session.scalar(select(StorageClassRow.altered_by).where(StorageClassRow.id == number))


def forget_class(session: Session, number: int) -> None:
    session.execute(delete(StorageClassRow).where(StorageClassRow.id == number))


# Grants. -------------------------------------------------------------------------------------------------


def read_grants(session: Session) -> tuple[Grant, ...]:
    """All of them, by orchestrator, namespace and policy."""
    rows = session.scalars(
        select(GrantRow).order_by(GrantRow.orchestrator_id, GrantRow.namespace, GrantRow.policy_id)
    )
    return tuple(
        Grant(
            policy=row.policy_id,
            namespace=row.namespace,
            limits=Limits(row.bytes, row.claims),
            bytes_a_claim=row.bytes_a_claim,
            by_class={name: Limits(**said) for name, said in row.by_class.items()},
            number=row.id,
            orchestrator=row.orchestrator_id,
        )
        for row in rows
    )


def grant_row(session: Session, number: int) -> GrantRow | None:
    return session.get(GrantRow, number, with_for_update=True)


def lock_grants(session: Session, namespaces: Collection[tuple[int, str]]) -> None:
    """Nobody else promises anything to some namespaces, each with its orchestrator by number, or alters what
    they were granted, until this transaction ends.
    """
    wanted = select(GrantRow.id, GrantRow.orchestrator_id, GrantRow.namespace).order_by(GrantRow.id)
    mine = [number for number, *whose in session.execute(wanted) if tuple(whose) in namespaces]
    session.execute(select(GrantRow.id).where(GrantRow.id.in_(mine)).order_by(GrantRow.id).with_for_update())


def add_grant(session: Session, change: int, said: Grant) -> None:
    row = GrantRow(made_by=change)
    _write_grant(row, said)
    session.add(row)
    session.flush()


def alter_grant(session: Session, change: int, said: Grant) -> None:
    row = session.get_one(GrantRow, said.number, with_for_update=True)
    _write_grant(row, said)
    row.altered_by = change
    session.flush()


def _write_grant(row: GrantRow, said: Grant) -> None:
    row.orchestrator_id, row.namespace, row.policy_id = said.orchestrator, said.namespace, said.policy
    row.bytes, row.claims, row.bytes_a_claim = said.limits.bytes, said.limits.claims, said.bytes_a_claim
    row.by_class = {
        name: {"bytes": limits.bytes, "claims": limits.claims} for name, limits in said.by_class.items()
    }


def grant_made_by(session: Session, change: int) -> int | None:
    return session.scalar(select(GrantRow.id).where(GrantRow.made_by == change))


def grant_altered_by(session: Session, number: int) -> int | None:
    return session.scalar(select(GrantRow.altered_by).where(GrantRow.id == number))


def forget_grant(session: Session, number: int) -> None:
    session.execute(delete(GrantRow).where(GrantRow.id == number))


# Claims. -------------------------------------------------------------------------------------------------


def note(session: Session) -> None:
    """That something is known of claims that was not before: who keeps a picture of them reads them anew.

    Call it late in a transaction: it locks the site's row.
    """
    session.execute(update(SiteRow).values(claims_revision=SiteRow.claims_revision + 1))


_VERSION: ColumnElement[str] = literal_column("claim.ctid::text || ' ' || claim.xmin::text")


def versions(session: Session) -> dict[int, str]:
    """Of the rows of claims, by number: another version of a row has another."""
    return {number: version for number, version in session.execute(select(ClaimRow.id, _VERSION))}


def read_claims(session: Session, numbers: Collection[int] | None = None) -> dict[int, KeptClaim]:
    """By number; all, or some."""
    table = ClaimRow.__table__
    rows = select(table) if numbers is None else select(table).where(table.c.id.in_(numbers))
    return {row.id: _read(row) for row in session.execute(rows)}


def _read(row: Any) -> KeptClaim:
    claim = Claim(
        uid=row.uid,
        namespace=row.namespace,
        name=row.name,
        class_name=row.asked_class,
        size=row.bytes,
        modes=frozenset(AccessMode(mode) for mode in row.modes),
        volume_mode=VolumeMode(row.volume_mode),
        source=Source(row.source_kind, row.source_name) if row.source_kind else None,
    )
    filled = row.origin_volume is not None and row.origin_snapshot is not None
    return KeptClaim(
        number=row.id,
        orchestrator=row.orchestrator_id,
        claim=claim,
        life=Life(row.life),
        since=row.since.timestamp(),
        seen_at=row.seen_at.timestamp(),
        promised=row.promised,
        reclaim=Reclaim(row.reclaim),
        policy=row.policy,
        class_name=row.class_name,
        file_system=FileSystem(row.file_system),
        mount_options=tuple(row.mount_options),
        by_secret=row.by_secret,
        volume=row.volume_id,
        hindrance=Hindrance(row.hindrance) if row.hindrance else None,
        sentence=row.sentence,
        cure=row.cure,
        used_by=row.used_by,
        origin=Origin(row.origin_volume, row.origin_snapshot) if filled else None,
        near=tuple(row.near),
    )


def add_claims(session: Session, orchestrator: int, found: Iterable[Claim]) -> None:
    """Claims that have come; one that is known already is left as it is."""
    rows = [
        {
            "orchestrator_id": orchestrator,
            "uid": one.uid,
            "namespace": one.namespace,
            "name": one.name,
            "asked_class": one.class_name,
            "bytes": one.size,
            "modes": sorted(one.modes),
            "volume_mode": one.volume_mode.value,
            "source_kind": one.source.kind if one.source else "",
            "source_name": one.source.name if one.source else "",
        }
        for one in found
    ]
    if rows:
        session.execute(insert(ClaimRow).on_conflict_do_nothing(constraint="claim_kept_once"), rows)


def locked(session: Session, numbers: Collection[int]) -> dict[int, ClaimRow]:
    """Rows of some claims, which nobody else alters until this transaction ends."""
    wanted = select(ClaimRow).where(ClaimRow.id.in_(numbers)).order_by(ClaimRow.id).with_for_update()
    return {row.id: row for row in session.scalars(wanted.execution_options(populate_existing=True))}


def set_asked(row: ClaimRow, claim: Claim) -> None:
    """What a claim asks for by now."""
    row.asked_class, row.bytes, row.modes = claim.class_name, claim.size, sorted(claim.modes)
    row.source_kind, row.source_name = (claim.source.kind, claim.source.name) if claim.source else ("", "")


def set_origin(row: ClaimRow, origin: Origin | None) -> None:
    """The snapshot that a claim is to be filled from; none where there is none yet, or none any more."""
    row.origin_volume, row.origin_snapshot = (origin.volume, origin.snapshot) if origin else (None, None)


def set_near(row: ClaimRow, near: Sequence[str]) -> None:
    """Names of the places where the pod runs that a claim is made for."""
    row.near = list(near)


def set_life(row: ClaimRow, life: Life) -> None:
    if row.life != life:
        row.life, row.since = life.value, func.now()


def say_hindrance(row: ClaimRow, hindrance: Hindrance | None, sentence: str = "", cure: str = "") -> None:
    row.hindrance = None if hindrance is None else hindrance.value
    row.sentence, row.cure = sentence, cure


def parted(session: Session, volumes: Sequence[int]) -> None:
    """Claims for which some volumes (by number) were to be made have none, and wait again."""
    mine = update(ClaimRow).where(ClaimRow.volume_id.in_(volumes), ClaimRow.life == Life.MAKING.value)
    session.execute(mine.values(volume_id=None, promised=0, life=Life.WAITING.value, since=func.now()))


def forget_of(session: Session, orchestrator: int) -> None:
    """Forgets the claims of an orchestrator; none of them may have a volume."""
    session.execute(delete(ClaimRow).where(ClaimRow.orchestrator_id == orchestrator))


def forget_old(session: Session, seconds: float) -> int:
    """Forgets claims of which all has been over for so long, the volume included; how many that were."""
    old = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, seconds)
    mine = ClaimRow.life == Life.OVER.value, ClaimRow.volume_id.is_(None), ClaimRow.since < old
    found = session.execute(delete(ClaimRow).where(*mine))
    return int(found.rowcount)  # type: ignore[attr-defined]


def sort_key(kept: KeptClaim, names: Mapping[int, Any]) -> tuple[object, ...]:
    """names: sort keys of orchestrators, by number."""
    claim = kept.claim
    return (
        names.get(kept.orchestrator, ()),
        natural_key(claim.namespace),
        natural_key(claim.name),
        kept.number,
    )
