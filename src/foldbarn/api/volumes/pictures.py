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
    MoreOut,
    StripOut,
    VolumeOut,
    VolumePage,
    WhatIf,
)
from foldbarn.core.arrays import Flags
from foldbarn.core.errors import NotFound
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.pools.capacity import most_that_fits
from foldbarn.core.site import Ply, SiteView, Volume
from foldbarn.core.volumes.loss import fate, present_strips, without
from foldbarn.core.watch.lamps import Outlook, worst
from foldbarn.store.tables import ChangeRow, VolumeRow

MOST_MISSING = 2000  # notches drawn on one copy's line


def _volume_fields(outlook: Outlook, row: int) -> dict[str, object]:
    view = outlook.view
    volume, found = view.volumes[row], outlook.fates[row]
    ply = volume.plies[0]  # a volume has one until policies give it more
    footprint = make_figure(
        f"{volume.name} on disks",
        "bytes",
        [
            Part("+", "extents", volume.extents, "count"),
            Part("×", "bytes of a strip", view.pools[volume.pool].strip_bytes, "bytes"),
            Part(
                "×", "copies" if ply.scheme.is_mirror else "strips of an extent", ply.scheme.strips, "count"
            ),
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
        "extents": volume.extents,
        "extent_bytes": view.data_bytes(ply),
        "forming": volume.forming,
        "anew": _anew_out(view, volume),
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
    ply, strip_bytes = volume.plies[0], view.pools[volume.pool].strip_bytes
    held = np.bincount(view.rows(ply).reshape(-1), minlength=len(view.disks) + 1)[:-1]
    missing = ~present_strips(view, ply)
    level = ply.scheme.level
    domain_of = np.append(view.domain_of(level), -1)[view.rows(ply)]
    readable = np.where(missing, -1, domain_of)  # a strip that is away already is not lost once more
    names = view.domain_names(level)
    return VolumePage.model_validate(
        _volume_fields(outlook, row)
        | {
            "shares": {view.disks[r].name: int(held[r]) * strip_bytes for r in np.flatnonzero(held).tolist()},
            "lines": ply.scheme.strip_lines(),
            "missing": [
                np.flatnonzero(missing[:, s])[:MOST_MISSING].tolist() for s in range(ply.scheme.strips)
            ],
            "missing_count": int(missing.sum()),
            "holders": StateOut.of(
                worst(
                    outlook.node_with_disks(n)
                    for n in np.unique(view.disk_node[np.flatnonzero(held)]).tolist()
                )
            ),
            "what_if": [
                _what_if(view, ply, names[d], readable == d, d)
                for d in np.unique(readable[readable >= 0]).tolist()
            ],
            "change": stored.change_id if stored else None,
            "made_at": stored.made_at if stored else None,
            "history": [change_line(row) for row in history],
        }
    )


def more_out(view: SiteView, name: str) -> MoreOut:
    """Raises NotFound."""
    volume = view.volume(name)
    ply = volume.plies[0]
    fit = most_that_fits(view, view.pools[volume.pool], ply.scheme, ply.tier)
    return MoreOut(bytes=fit.extents * view.data_bytes(ply), limit=fit.limit)


def _what_if(view: SiteView, ply: Ply, name: str, hit: Flags, domain: int) -> WhatIf:
    after = fate(view, ply, without(view, ply.scheme.level, domain))
    return WhatIf(
        domain=name, extents_hit=int(hit.any(axis=1).sum()), unreadable=after.unavailable + after.lost
    )


def extent_out(view: SiteView, name: str, number: int) -> ExtentOut:
    """Where the copies of one extent (counted from 0) lie. Raises NotFound."""
    volume = view.volume(name)
    if not 0 <= number < volume.extents:
        raise NotFound(
            f"{volume.name} has extents 0 to {volume.extents - 1}, and no {number}.", about="extent"
        )
    strips = []
    names = volume.plies[0].scheme.strip_names()
    for strip, row in enumerate(view.rows(volume.plies[0])[number].tolist()):
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
