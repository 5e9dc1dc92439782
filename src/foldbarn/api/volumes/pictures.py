"""Volumes, as a page shows them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.policies.pictures import standing_out
from foldbarn.api.volumes.models import (
    AnewOut,
    ExtentOut,
    FateOut,
    HeatOut,
    HitOut,
    LandingOut,
    MoreOut,
    StripOut,
    VolumeOut,
    VolumePage,
    WhatIf,
)
from foldbarn.core.errors import NotFound
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.policies.matching import room_for
from foldbarn.core.policies.policy import Wishes
from foldbarn.core.site import Ply, SiteView, Tier, Volume
from foldbarn.core.volumes.heat import HALF_LIFE_SECONDS, Heat
from foldbarn.core.volumes.loss import fate, fate_of, present_strips, without
from foldbarn.core.watch.lamps import Outlook, worst
from foldbarn.store.tables import ChangeRow, VolumeRow

HIT_POINTS = 100  # of a curve, at the most
MOST_MISSING = 2000  # notches drawn on one copy's line


def _volume_fields(outlook: Outlook, row: int) -> dict[str, object]:
    view = outlook.view
    volume, found = view.volumes[row], outlook.fates[row]
    ply, landing = volume.whole, volume.landing
    footprint = make_figure(
        f"{volume.name} on disks",
        "bytes",
        [
            Part("+", "extents", ply.extents, "count"),
            Part("×", "bytes of a strip", view.pools[volume.pool].strip_bytes, "bytes"),
            Part(
                "×", "copies" if ply.scheme.is_mirror else "strips of an extent", ply.scheme.strips, "count"
            ),
            *([Part("+", "its landing", _landing_bytes(view, landing), "bytes")] if landing else []),
        ],
        "Room is set aside when the volume is made. Strips that are missing now are counted too.",
    )
    return {
        "name": volume.name,
        "pool": view.pools[volume.pool].name,
        "size_bytes": volume.size_bytes,
        "copies": ply.scheme.strips,
        "mirror": ply.scheme.is_mirror,
        "data_strips": ply.scheme.k,
        "counted": ply.scheme.counted(),
        "keeps": standing_out(view, volume),
        "level": ply.scheme.level.value,
        "protection": ply.scheme.sentence(),
        "survives": ply.scheme.survives,
        "tier": ply.tier.value,
        "written_bytes": volume.written_bytes,
        "extents": ply.extents,
        "extent_bytes": view.data_bytes(ply),
        "forming": volume.forming,
        "anew": _anew_out(view, volume),
        "landing": _landing_out(view, volume),
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


def _landing_bytes(view: SiteView, landing: Ply) -> int:
    """What it takes on disks."""
    return landing.placement.size * view.pools[landing.pool].strip_bytes


def _landing_out(view: SiteView, volume: Volume) -> LandingOut | None:
    landing = volume.landing
    if landing is None:
        return None
    found = fate(view, landing)
    return LandingOut(
        counted=landing.scheme.counted(),
        survives=landing.scheme.survives,
        bytes=landing.extents * view.pools[landing.pool].strip_bytes,
        on_disks=_landing_bytes(view, landing),
        waiting=volume.waiting_bytes,
        forming=landing.forming,
        data=found.state,
    )


def _anew_out(view: SiteView, volume: Volume) -> AnewOut | None:
    ply = volume.anew
    if ply is None:
        return None
    return AnewOut(
        counted=ply.scheme.counted(),
        level=ply.scheme.level.value,
        tier=ply.tier.value,
        strips=ply.placement.size,
        there=int((ply.placement > 0).sum()),
        bytes=ply.placement.size * view.pools[volume.pool].strip_bytes,
    )


def volume_out(outlook: Outlook, row: int) -> VolumeOut:
    return VolumeOut.model_validate(_volume_fields(outlook, row))


def _row_of(view: SiteView, volume: Volume) -> int:
    return next(i for i, v in enumerate(view.volumes) if v is volume)


def volume_page(
    outlook: Outlook, name: str, stored: VolumeRow | None, history: Sequence[ChangeRow]
) -> VolumePage:
    """Raises NotFound."""
    view = outlook.view
    volume = view.volume(name)
    row = _row_of(view, volume)
    ply, strip_bytes = volume.whole, view.pools[volume.pool].strip_bytes
    lies = np.concatenate([view.rows(part).reshape(-1) for part in volume.plies])
    held = np.bincount(lies, minlength=len(view.disks) + 1)[:-1]
    missing = ~present_strips(view, ply)
    level = ply.scheme.level
    names = view.domain_names(level)
    return VolumePage.model_validate(
        _volume_fields(outlook, row)
        | {
            "shares": {view.disks[r].name: int(held[r]) * strip_bytes for r in np.flatnonzero(held).tolist()},
            "lines": ply.scheme.strip_lines(),
            "missing": [
                np.flatnonzero(missing[:, s])[:MOST_MISSING].tolist() for s in range(ply.scheme.strips)
            ],
            "missing_count": sum(int((~present_strips(view, part)).sum()) for part in volume.plies),
            "holders": StateOut.of(
                worst(
                    outlook.node_with_disks(n)
                    for n in np.unique(view.disk_node[np.flatnonzero(held)]).tolist()
                )
            ),
            "what_if": [
                _what_if(view, volume, names[d], d)
                for d in np.unique(view.domain_of(level)[(held > 0) & view.disk_ready]).tolist()
            ],
            "change": stored.change_id if stored else None,
            "made_at": stored.made_at if stored else None,
            "history": [change_line(row) for row in history],
        }
    )


def more_out(view: SiteView, name: str) -> MoreOut:
    """Raises NotFound."""
    volume = view.volume(name)
    policy, scheme = view.policy_of(volume), volume.whole.scheme
    wishes = policy.wishes if policy else Wishes(scheme, scheme.survives, fast=volume.whole.tier == Tier.FAST)
    room = room_for(view, view.pools[volume.pool], wishes)
    return MoreOut(bytes=room.bytes, limit=room.limit, for_landing=room.for_landing)


def _what_if(view: SiteView, volume: Volume, name: str, domain: int) -> WhatIf:
    """What is away already is not lost once more."""
    level = volume.whole.scheme.level
    left = without(view, level, domain)
    after = fate_of(view, volume, left)
    goes = np.append(view.disk_ready & ~left, False)
    hit = sum(int(goes[view.rows(ply)].any(axis=1).sum()) for ply in volume.plies)
    return WhatIf(domain=name, extents_hit=hit, unreadable=after.unavailable + after.lost)


def heat_out(view: SiteView, volume: Volume, heat: Heat | None) -> HeatOut:
    """More points where the curve bends most: among the hottest."""
    points = []
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
    )


def extent_out(view: SiteView, name: str, number: int) -> ExtentOut:
    """Where the copies of one extent (counted from 0) lie. Raises NotFound."""
    volume = view.volume(name)
    last = volume.whole.extents - 1
    if not 0 <= number <= last:
        raise NotFound(f"{volume.name} has extents 0 to {last}, and no {number}.", about="extent")
    strips = []
    names = volume.whole.scheme.strip_names()
    for strip, row in enumerate(view.rows(volume.whole)[number].tolist()):
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
