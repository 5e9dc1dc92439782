"""Changes, as a page shows them."""

from __future__ import annotations

from foldbarn.api.changes.models import (
    ChangeLine,
    ChangeOut,
    ChangePage,
    Defaults,
    FileSystemOut,
    OtherChange,
    RecordOut,
    StepOut,
)
from foldbarn.changes.engine.step import moves_strips
from foldbarn.changes.kinds.pools.form_pool import FormPoolParams
from foldbarn.changes.kinds.volumes.create_volume import CreateVolumeParams
from foldbarn.changes.kinds.volumes.several import MOST_VOLUMES
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.policies.policy import MOST_DATA, MOST_PARITY
from foldbarn.core.pools.compressing import UNITS
from foldbarn.core.pools.protection import MOST_COPIES, Level
from foldbarn.core.touching import Touched
from foldbarn.core.volumes.bin import MOST_DAYS, USUAL_DAYS
from foldbarn.core.volumes.snapshots import USUAL_ROOM
from foldbarn.services.changes import again_at
from foldbarn.store.tables import ChangeRow, RecordRow, StepRow


def wish_defaults() -> Defaults:
    """As the kinds themselves fill in what is left out."""
    return Defaults(
        pool=FormPoolParams(name="", disks=[]),
        volume_tier=CreateVolumeParams(name="", pool="", size="").tier,
        levels=list(Level),
        headrooms=[level for level in reversed(Level) if level != Level.ROOM],
        most_copies=MOST_COPIES,
        most_data=MOST_DATA,
        most_parity=MOST_PARITY,
        compress_units=list(UNITS),
        file_systems=[FileSystemOut(name=one, shared=one.shared) for one in FileSystem],
        transports=list(Transport),
        bin_days=USUAL_DAYS,
        most_bin_days=MOST_DAYS,
        snapshot_room=USUAL_ROOM,
        most_volumes=MOST_VOLUMES,
    )


def change_out(row: ChangeRow, steps: list[StepRow], waits_for: ChangeRow | None) -> ChangeOut:
    return ChangeOut.model_validate(_change_fields(row, steps, waits_for))


def change_line(row: ChangeRow) -> ChangeLine:
    return ChangeLine.model_validate(
        {"number": row.id, "title": row.title, "state": row.state, "actor": row.actor, "made_at": row.made_at}
    )


def change_page(
    row: ChangeRow,
    steps: list[StepRow],
    waits_for: ChangeRow | None,
    asked: list[RecordRow],
    found: list[Touched],
) -> ChangePage:
    return ChangePage.model_validate(
        _change_fields(row, steps, waits_for)
        | {
            "params": row.params,
            "preview": row.preview,
            "records": [RecordOut.model_validate(r, from_attributes=True) for r in asked],
            "touched": found,
        }
    )


def _change_fields(row: ChangeRow, steps: list[StepRow], waits_for: ChangeRow | None) -> dict[str, object]:
    left = (row.total - row.done) / row.rate if row.rate and row.total else None
    return {
        "number": row.id,
        "kind": row.kind,
        "about": row.about,
        "title": row.title,
        "state": row.state,
        "asked": row.asked,
        "actor": row.actor,
        "reason": row.reason,
        "problem": row.problem,
        "again_at": again_at(row),
        "waits_for": OtherChange(number=waits_for.id, title=waits_for.title) if waits_for else None,
        "done_bytes": row.done,
        "total_bytes": row.total,
        "rate": row.rate,
        "rate_cap": row.rate_cap,
        "moved_bytes": row.moved,
        "work_seconds": row.work_seconds,
        "can_slow": any(moves_strips(s.name) for s in steps),
        "seconds_left": left,
        "made_at": row.made_at,
        "started_at": row.started_at,
        "ended_at": row.ended_at,
        "steps": [StepOut.model_validate(s, from_attributes=True) for s in steps],
    }
