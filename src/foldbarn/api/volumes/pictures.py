"""Volumes, as a page shows them."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime

import numpy as np

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.policies.pictures import Carriers, carried_by, standing_out
from foldbarn.api.volumes.models import (
    AnewOut,
    AnswerOut,
    AskedOut,
    BinnedOut,
    ClaimedOut,
    ComingOut,
    ExtentOut,
    FateOut,
    HeatOut,
    HitOut,
    HotOut,
    LandingOut,
    LimitsOut,
    MoreOut,
    OriginOut,
    PaceOut,
    PartOut,
    PastOut,
    ReaderOut,
    ServedOut,
    SnapshotOut,
    StripOut,
    VolumeOut,
    VolumePage,
    VolumesOut,
    WhatIf,
)
from foldbarn.core.arrays import Flags, Ints, runs
from foldbarn.core.errors import NotFound
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.policies.limits import limits_of
from foldbarn.core.policies.matching import hot_extents, room_for
from foldbarn.core.policies.policy import Wishes
from foldbarn.core.policies.shares import Served
from foldbarn.core.pools.only_on import names_of
from foldbarn.core.site import Ply, SiteView, Tier, Volume
from foldbarn.core.vms.parts import called, goes_into_snapshots
from foldbarn.core.volumes.heat import HALF_LIFE_SECONDS, Heat
from foldbarn.core.volumes.loss import fate, fate_of, present_strips, without
from foldbarn.core.volumes.origins import bearer_of, readers_of, snapshot_of
from foldbarn.core.volumes.pace import Pace
from foldbarn.core.volumes.schedules import auto_name, coming
from foldbarn.core.volumes.snapshots import Share, Snapshot, by_age, held, shares
from foldbarn.core.volumes.thin import is_thin, to_set_aside
from foldbarn.core.volumes.tiers import in_hot
from foldbarn.core.watch.asking import Listed
from foldbarn.core.watch.claimed import claim_state
from foldbarn.core.watch.kept import room_state, snapshot_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.reach import lane_state
from foldbarn.core.watch.states import worst
from foldbarn.core.watch.vms import vm_state
from foldbarn.store.tables import ChangeRow, VolumeRow

SHOWN_COMING = 3  # snapshots that are taken by themselves
HIT_POINTS = 100  # of a curve, at the most
MOST_MISSING = 2000  # notches drawn on one copy's line


_FORMULAS = tuple("=+-@\t\r")
_WHEN = {
    True: "Room is set aside as it is about to be written.",
    False: "Room is set aside when the volume is made.",
}


def _volume_fields(outlook: Outlook, row: int) -> dict[str, object]:
    view = outlook.view
    volume, found = view.volumes[row], outlook.fate(row)
    ply, landing, hot, past = volume.whole, volume.landing, volume.hot, volume.past
    thin, lanes = is_thin(view, volume), outlook.lanes_from(volume)
    bearer = bearer_of(view, volume).whole
    footprint = make_figure(
        f"{volume.name} on disks",
        "bytes",
        [
            Part("+", "extents", ply.extents_set_aside, "count"),
            Part("×", "bytes of a strip", view.pools[volume.pool].strip_bytes, "bytes"),
            Part(
                "×", "copies" if ply.scheme.is_mirror else "strips of an extent", ply.scheme.strips, "count"
            ),
            *([Part("+", "its landing", _held_bytes(view, landing), "bytes")] if landing else []),
            *([Part("+", "room for its snapshots", _held_bytes(view, past), "bytes")] if past else []),
            *([Part("+", "what is hot, on the fast tier", _held_bytes(view, hot), "bytes")] if hot else []),
        ],
        f"{_WHEN[thin]} Strips that are missing now are counted too.",
    )
    unset = int(to_set_aside(volume).sum()) if volume.origin else ply.extents_here - ply.extents_set_aside
    return {
        "name": volume.name,
        "pool": view.pools[volume.pool].name,
        "size_bytes": volume.size_bytes,
        "copies": bearer.scheme.strips,
        "mirror": bearer.scheme.is_mirror,
        "data_strips": bearer.scheme.k,
        "counted": bearer.scheme.counted(),
        "keeps": standing_out(view, volume),
        "part_of": view.vm_numbered(volume.part.vm).name if volume.part is not None else None,
        "share": share.name if (share := view.share_of(volume.number)) is not None else None,
        "level": bearer.scheme.level.value,
        "protection": bearer.scheme.sentence(),
        "survives": bearer.scheme.survives,
        "tier": bearer.tier.value,
        "written_bytes": volume.written_bytes,
        "extents": ply.extents,
        "extent_bytes": view.data_bytes(ply),
        "thin": thin,
        "unset": unset,
        "unset_bytes": unset * ply.scheme.strips * view.pools[volume.pool].strip_bytes,
        "forming": volume.forming,
        "offline": volume.offline,
        "binned": _binned_out(volume),
        "anew": _anew_out(view, volume),
        "landing": _landing_out(view, volume),
        "past": _past_out(view, volume),
        "hot": _hot_out(view, volume),
        "origin": _origin_out(view, volume),
        "labels": list(volume.labels),
        "only_on": names_of(view, volume.only_on),
        "limits": _limits_out(view, volume),
        "serving_nodes": volume.serving_nodes,
        "hosts": len(lanes),
        "connected": sum(lane.live > 0 for lane in lanes),
        "state": StateOut.of(outlook.volume(row)),
        "data": found.state,
        "footprint": footprint,
        "fate": FateOut(
            whole=found.whole,
            reduced=found.reduced,
            bare=found.bare,
            unavailable=found.unavailable,
            lost=found.lost,
        ),
    }


def _binned_out(volume: Volume) -> BinnedOut | None:
    if volume.binned is None:
        return None
    since, until = (datetime.fromtimestamp(at, UTC) for at in (volume.binned.since, volume.binned.until))
    return BinnedOut(since=since, until=until)


def _held_bytes(view: SiteView, ply: Ply) -> int:
    """What a ply takes on disks."""
    return ply.extents_set_aside * ply.scheme.strips * view.pools[ply.pool].strip_bytes


def _hot_out(view: SiteView, volume: Volume) -> HotOut | None:
    hot, policy = volume.hot, view.policy_of(volume)
    if hot is None:
        return None
    extents = int(volume.upper.sum())
    return HotOut(
        counted=hot.scheme.counted(),
        extents=extents,
        bytes=extents * view.data_bytes(volume.whole),
        on_disks=_held_bytes(view, hot),
        spared=extents * volume.whole.scheme.strips * view.pools[volume.pool].strip_bytes,
        most=hot_extents(view.pools[volume.pool], volume, policy.wishes) if policy else 0,
        outright=policy is not None and policy.wishes.first > 0,
    )


def _landing_out(view: SiteView, volume: Volume) -> LandingOut | None:
    landing = volume.landing
    if landing is None:
        return None
    found = fate(view, landing)
    return LandingOut(
        counted=landing.scheme.counted(),
        survives=landing.scheme.survives,
        bytes=landing.extents * view.pools[landing.pool].strip_bytes,
        on_disks=_held_bytes(view, landing),
        waiting=volume.waiting_bytes,
        forming=landing.forming,
        data=found.state,
    )


def _past_out(view: SiteView, volume: Volume) -> PastOut | None:
    past, state = volume.past, room_state(view, volume)
    if past is None or state is None:
        return None
    return PastOut(
        counted=past.scheme.counted(),
        bytes=past.extents * view.data_bytes(past),
        on_disks=_held_bytes(view, past),
        held=held(volume.spans),
        state=StateOut.of(state),
    )


def _limits_out(view: SiteView, volume: Volume) -> LimitsOut:
    found = limits_of(view, volume)
    return LimitsOut(
        operations=found.operations,
        throughput=found.throughput,
        own_operations=found.own_operations,
        own_throughput=found.own_throughput,
        asked_operations=volume.operations,
        asked_throughput=volume.throughput,
    )


def _origin_out(view: SiteView, volume: Volume) -> OriginOut | None:
    if volume.origin is None:
        return None
    origin, snapshot = snapshot_of(view, volume)
    extents = volume.whole.extents
    return OriginOut(
        volume=origin.name,
        snapshot=snapshot.name,
        shown=volume.origin.shown,
        own=extents - int(volume.through.sum()),
        extents=extents,
        binned=origin.binned is not None,
        left=volume.origin.left,
    )


def _coming_out(outlook: Outlook, volume: Volume) -> list[ComingOut]:
    policy = outlook.view.policy_of(volume)
    if policy is None or volume.binned is not None or not goes_into_snapshots(volume):
        return []
    mine = {s.number: s.taken_at for s in volume.snapshots if s.scheduled and s.there}
    found = coming(policy.wishes.schedule, mine, outlook.now, SHOWN_COMING)
    names = {s.number: s.name for s in volume.snapshots} | {one.number: auto_name(one.at) for one in found}
    return [
        ComingOut(at=datetime.fromtimestamp(one.at, UTC), drops=[names[number] for number in one.drops])
        for one in found
    ]


def _snapshots_out(outlook: Outlook, volume: Volume) -> list[SnapshotOut]:
    found = shares(volume.spans, volume.marks)
    nothing = Share(0, 0)
    return [_snapshot_out(outlook, volume, s, found.get(s.number, nothing)) for s in by_age(volume.snapshots)]


def _reader_out(outlook: Outlook, reader: Volume) -> ReaderOut:
    return ReaderOut(
        name=reader.name,
        shown=bool(reader.origin and reader.origin.shown),
        extents=reader.whole.extents,
        left=int(reader.through.sum()),
        state=StateOut.of(outlook.volume(_row_of(outlook.view, reader))),
    )


def _snapshot_out(outlook: Outlook, volume: Volume, snapshot: Snapshot, share: Share) -> SnapshotOut:
    view = outlook.view
    return SnapshotOut(
        name=snapshot.name,
        taken_at=datetime.fromtimestamp(snapshot.taken_at, UTC) if snapshot.taken_at else None,
        alone=share.alone,
        shared=share.shared,
        differs=share.alone + share.shared,
        bytes=snapshot.bytes,
        read_by=[_reader_out(outlook, reader) for reader in readers_of(view, volume, [snapshot.number])],
        lost=bool(snapshot.lost),
        asked=_asked_out(view, snapshot),
        state=StateOut.of(snapshot_state(view, volume, snapshot)),
    )


def _asked_out(view: SiteView, snapshot: Snapshot) -> AskedOut | None:
    asked = snapshot.asked
    if asked is None:
        return None
    where = view.orchestrator_numbered(asked.orchestrator).name
    return AskedOut(orchestrator=where, path=asked.path, fills=asked.fills)


def _anew_out(view: SiteView, volume: Volume) -> AnewOut | None:
    ply = volume.anew
    if ply is None:
        return None
    strips = int((~ply.unwritten).sum()) * ply.scheme.strips
    return AnewOut(
        counted=ply.scheme.counted(),
        level=ply.scheme.level.value,
        tier=ply.tier.value,
        strips=strips,
        there=int((ply.placement > 0).sum()),
        bytes=strips * view.pools[volume.pool].strip_bytes,
        moves=volume.hot is not None,
    )


def volume_out(outlook: Outlook, row: int) -> VolumeOut:
    return VolumeOut.model_validate(_volume_fields(outlook, row))


def volumes_out(outlook: Outlook, found: Listed, *, page: int, per: int) -> VolumesOut:
    """A page of what is listed, so many on each; the last one where there are fewer."""
    matching = len(found.rows)
    pages = max(1, -(-matching // per))
    page = min(page, pages)
    return VolumesOut(
        volumes=[volume_out(outlook, row) for row in found.rows[(page - 1) * per : page * per].tolist()],
        matching=matching,
        kept=found.kept,
        page=page,
        pages=pages,
        answers=[AnswerOut(question=question, count=count) for question, count in found.counts.items()],
    )


def volume_list(outlook: Outlook, rows: Sequence[int]) -> Iterator[str]:
    """Volumes as a JSON array, one in each line."""
    yield "["
    for place, row in enumerate(rows):
        yield f"{',' if place else ''}\n{volume_out(outlook, row).model_dump_json()}"
    yield "\n]\n"


def volume_table(outlook: Outlook, rows: Sequence[int]) -> Iterator[str]:
    """Volumes as comma-separated values with their heads, sizes in bytes."""
    yield _csv_line(list(_COLUMNS))
    for row in rows:
        volume = volume_out(outlook, row)
        yield _csv_line([told(volume) for told in _COLUMNS.values()])


_COLUMNS: dict[str, Callable[[VolumeOut], object]] = {
    "name": lambda v: v.name,
    "pool": lambda v: v.pool,
    "size_bytes": lambda v: v.size_bytes,
    "written_bytes": lambda v: v.written_bytes,
    "on_disks_bytes": lambda v: int(v.footprint.value),
    "vm": lambda v: v.part_of or "",
    "policy": lambda v: v.keeps.policy if v.keeps else "",
    "labels": lambda v: " ".join(v.labels),
    "protection": lambda v: f"{v.counted} by {v.level}",
    "survives": lambda v: v.survives,
    "thin": lambda v: "yes" if v.thin else "no",
    "hosts": lambda v: v.hosts,
    "connected": lambda v: v.connected,
    "data": lambda v: v.data.value,
    "state": lambda v: v.state.lamp.value,
    "reason": lambda v: v.state.reason,
}


def _csv_line(values: Sequence[object]) -> str:
    """A text that a spreadsheet would take for a formula is told apart by a quotation mark before it."""
    line = io.StringIO()
    told = [f"'{v}" if isinstance(v, str) and v[:1] in _FORMULAS else v for v in values]
    csv.writer(line).writerow(told)
    return line.getvalue()


def _row_of(view: SiteView, volume: Volume) -> int:
    return next(i for i, v in enumerate(view.volumes) if v is volume)


def _part(outlook: Outlook, volume: Volume) -> PartOut | None:
    if volume.part is None:
        return None
    vm = outlook.view.vm_numbered(volume.part.vm)
    return PartOut(name=vm.name, called=called(volume), state=StateOut.of(vm_state(outlook, vm)))


def _claimed(outlook: Outlook, volume: Volume) -> ClaimedOut | None:
    kept = outlook.view.claim_of(volume.number)
    if kept is None:
        return None
    return ClaimedOut(
        number=kept.number,
        orchestrator=outlook.view.orchestrator_numbered(kept.orchestrator).name,
        path=kept.path,
        state=StateOut.of(claim_state(outlook, kept)),
        used_by=kept.used_by,
    )


def shares_of(view: SiteView, volume: Volume) -> dict[str, int]:
    """Bytes of a volume by name of the disk; of one that shows a snapshot, of the original."""
    held, strip_bytes = _held(view, bearer_of(view, volume)), view.pools[volume.pool].strip_bytes
    return {view.disks[r].name: int(held[r]) * strip_bytes for r in np.flatnonzero(held).tolist()}


def _held(view: SiteView, bearer: Volume) -> Ints:
    """Strips of a volume, [disks]."""
    lies = np.concatenate([view.rows(part).reshape(-1) for part in bearer.plies])
    return np.bincount(lies, minlength=len(view.disks) + 1)[:-1]


def volume_page(
    outlook: Outlook,
    name: str,
    stored: VolumeRow | None,
    history: Sequence[ChangeRow],
    carriers: Carriers,
) -> VolumePage:
    """Raises NotFound."""
    view = outlook.view
    volume = view.volume(name)
    row = _row_of(view, volume)
    ply, bearer = volume.whole, bearer_of(view, volume)
    held = _held(view, bearer)
    missing = _missing(view, ply)
    level = bearer.whole.scheme.level
    names = view.domain_names(level)
    return VolumePage.model_validate(
        _volume_fields(outlook, row)
        | {
            "claim": _claimed(outlook, volume),
            "vm": _part(outlook, volume),
            "shares": shares_of(view, volume),
            "lines": ply.scheme.strip_lines() if bearer is volume else ["All of it"],
            "missing": [
                np.flatnonzero(missing[:, s])[:MOST_MISSING].tolist()
                for s in range(ply.scheme.strips if bearer is volume else 1)
            ],
            "missing_count": sum(int(_missing(view, part).sum()) for part in volume.plies),
            "upper": None if volume.hot is None else np.flatnonzero(volume.upper)[:MOST_MISSING].tolist(),
            "unset_ranges": [list(r) for r in runs(to_set_aside(volume))[:MOST_MISSING]],
            "through_ranges": [list(r) for r in runs(volume.through)[:MOST_MISSING]],
            "through_bytes": int(volume.through.sum())
            * ply.scheme.strips
            * view.pools[volume.pool].strip_bytes,
            "reached": StateOut.of(worst(map(lane_state, outlook.lanes_from(volume)))),
            "holders": StateOut.of(
                worst(
                    outlook.node_with_disks(n)
                    for n in np.unique(view.disk_node[np.flatnonzero(held)]).tolist()
                )
            ),
            "what_if": [
                _what_if(view, volume, bearer, names[d], d)
                for d in np.unique(view.domain_of(level)[(held > 0) & view.disk_ready]).tolist()
            ],
            "change": stored.change_id if stored else None,
            "made_at": stored.made_at if stored else None,
            "history": [change_line(row) for row in history],
            "coming": _coming_out(outlook, volume),
            "snapshots": _snapshots_out(outlook, volume),
            "mended_by": carried_by(volume, carriers),
        }
    )


def _missing(view: SiteView, ply: Ply) -> Flags:
    """Strips that cannot be read now, [extents, strips]."""
    flags: Flags = ~present_strips(view, ply) & ~ply.unwritten[:, None]
    return flags


def more_out(view: SiteView, name: str) -> MoreOut:
    """Raises NotFound."""
    volume = view.volume(name)
    policy, scheme = view.policy_of(volume), volume.whole.scheme
    plain = Wishes(scheme, scheme.survives, fast=volume.whole.tier == Tier.FAST, thin=volume.thin)
    wishes = policy.wishes if policy else plain
    room = room_for(view, view.pools[volume.pool], wishes)
    return MoreOut(bytes=room.bytes, limit=room.limit, for_landing=room.for_landing)


def _what_if(view: SiteView, volume: Volume, bearer: Volume, name: str, domain: int) -> WhatIf:
    """What is away already is not lost once more. bearer: the volume whose strips hold it."""
    level = bearer.whole.scheme.level
    left = without(view, level, domain)
    after = fate_of(view, volume, left)
    goes = np.append(view.disk_ready & ~left, False)
    hit = sum(int(goes[view.rows(ply)].any(axis=1).sum()) for ply in bearer.plies)
    return WhatIf(domain=name, extents_hit=hit, unreadable=after.unavailable + after.lost)


def heat_out(view: SiteView, volume: Volume, heat: Heat | None, pace: Pace) -> HeatOut:
    """More points where the curve bends most: among the hottest."""
    points, upper = [], None
    if heat is not None and volume.hot is not None and len(heat.warmth) == len(volume.upper):
        there = int(volume.upper.sum())
        served = float(heat.warmth[volume.upper].sum() / max(heat.warmth.sum(), 1e-12))
        upper = HitOut(extents=there, bytes=there * view.data_bytes(volume.whole), served=served)
    if heat is not None and heat.curve.served[-1] > 0:
        steps = (np.arange(HIT_POINTS + 1) / HIT_POINTS) ** 2
        for extents in np.unique(np.rint(heat.curve.extents * steps).astype(np.int64)).tolist():
            data = extents * heat.data * view.pools[volume.pool].strip_bytes
            points.append(HitOut(extents=extents, bytes=data, served=float(heat.curve.served[extents])))
    return HeatOut(
        operations_per_second=heat.operations_per_second if heat else 0.0,
        watched_seconds=heat.seconds if heat else 0.0,
        half_life_seconds=HALF_LIFE_SECONDS,
        points=points,
        upper=upper,
        pace=pace_out(pace),
    )


def pace_out(pace: Pace) -> PaceOut:
    work = pace.work
    done = work.operations or None
    return PaceOut(
        operations_per_second=pace.a_second(work.operations),
        reads=done and work.reads / done,
        block_bytes=done and (work.read_bytes + work.written_bytes) / done,
        mean_seconds=pace.mean,
        late_seconds=pace.within(),
    )


def served_out(view: SiteView, served: Served) -> ServedOut:
    return ServedOut(
        volume=view.volume_numbered(served.volume).name,
        now=served.now,
        then=served.then,
        extents_now=served.extents_now,
        extents_then=served.extents_then,
        short_of_room=served.short_of_room,
    )


def extent_out(view: SiteView, name: str, number: int) -> ExtentOut:
    """Where the copies of one extent (counted from 0) lie: nowhere, where no room is set aside for it yet.
    Raises NotFound.
    """
    volume = view.volume(name)
    last = volume.whole.extents - 1
    if not 0 <= number <= last:
        raise NotFound(f"{volume.name} has extents 0 to {last}, and no {number}.", about="extent")
    strips: list[StripOut] = []
    if to_set_aside(volume)[number]:
        return ExtentOut(number=number, strips=strips)
    if volume.through[number]:
        return ExtentOut(number=number, strips=strips, through=True)
    names = volume.whole.scheme.strip_names()
    rows = view.rows(volume.whole)[number]
    if volume.hot is not None and volume.upper[number]:
        data, copies = volume.whole.scheme.k, volume.hot.scheme.strip_names()
        names = [f"{copy} of strip {s + 1}" if data > 1 else copy for s in range(data) for copy in copies]
        rows = view.rows(volume.hot)[in_hot(np.array([number]), data)].reshape(-1)
    for strip, row in enumerate(rows.tolist()):
        disk = view.disks[row] if row < len(view.disks) else None
        strips.append(
            StripOut(
                copy_name=names[strip],
                disk=disk.name if disk else None,
                node=view.nodes[disk.node].name if disk else None,
                readable=bool(disk and view.disk_ready[row]),
            )
        )
    return ExtentOut(number=number, strips=strips)
