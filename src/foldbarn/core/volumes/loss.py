"""What losses do to data: extents by state, for any set of lost disks and for every single domain at
once.
"""

from __future__ import annotations

from dataclasses import dataclass, fields
from enum import StrEnum
from typing import cast

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.moving.apart import occurrences, seen_first
from foldbarn.core.names import natural_key
from foldbarn.core.pools.protection import Level, Scheme
from foldbarn.core.site import Ply, Pool, Purpose, SiteView, Tier, Volume


class DataState(StrEnum):
    """What can be said of data, best first."""

    WHOLE = "whole"  # all strips present
    REDUCED = "reduced"  # some strips missing, further losses survivable
    BARE = "bare"  # readable, and no further loss survivable
    UNAVAILABLE = "unavailable"  # not readable until something returns
    LOST = "lost"  # not readable, and what is missing will not return


@dataclass(frozen=True, slots=True)
class Fate:
    """A ply's extents by state; they sum to its extents."""

    whole: int
    reduced: int
    bare: int
    unavailable: int
    lost: int = 0

    @property
    def state(self) -> DataState:
        """The worst state any extent is in."""
        for state in reversed(DataState):
            if getattr(self, state.value):
                return state
        return DataState.WHOLE

    @property
    def short(self) -> int:
        """Extents that are not whole."""
        return self.reduced + self.bare + self.unavailable + self.lost


def state_by_present(scheme: Scheme) -> list[DataState]:
    """State of an extent by the number of strips present, [strips + 1]."""

    def state(present: int) -> DataState:
        if present == scheme.strips:
            return DataState.WHOLE
        if present < scheme.k:
            return DataState.UNAVAILABLE
        return DataState.BARE if present == scheme.k else DataState.REDUCED

    return [state(present) for present in range(scheme.strips + 1)]


def present_strips(view: SiteView, ply: Ply, ready: Flags | None = None) -> Flags:
    """Whether each strip can be read, [extents, strips]; `ready` by disk row, the view's own when None."""
    usable = np.append(view.disk_ready if ready is None else ready, False)
    present: Flags = usable[view.rows(ply)]
    return present


def enough_to_read(view: SiteView, ply: Ply) -> Flags:
    """Whether each extent can be read now, [extents]."""
    present = present_strips(view, ply)
    if ply.scheme.k == 1:
        return np.asarray(present.any(axis=1))
    return np.asarray(present.sum(axis=1) >= ply.scheme.k)


def losses_survived(view: SiteView, ply: Ply) -> int:
    """Losses of domains of its scheme's level, whichever they are, that would leave every extent of a ply
    readable as it lies now; -1 where one cannot be read. What was never written survives all that the scheme
    does.
    """
    scheme = ply.scheme
    present = present_strips(view, ply)[~ply.unwritten]
    if not len(present):
        return scheme.survives
    spare = present.sum(axis=1) - scheme.k
    if spare.min() < 0:
        return -1
    domains = np.append(view.domain_of(scheme.level), -1)[view.rows(ply)[~ply.unwritten]]
    domains = np.where(present, domains, -1)
    if scheme.per_domain == 1 and (seen_first(domains) | ~present).all():
        return int(spare.min())
    taken = np.where(seen_first(domains), occurrences(domains), 0)
    worst = np.cumsum(-np.sort(-taken, axis=1), axis=1)
    return int((worst <= spare[:, None]).sum(axis=1).min())


def ended_by(labels: Ints, readable: Flags, k: int) -> Flags:
    """Strips whose label's loss ends their extent, [extents, strips], each label of an extent flagged once:
    it can be read now, and fewer than k strips that can be read would be left.

    labels, readable: [extents, strips].
    """
    count = readable.sum(axis=1)
    ended = np.zeros(labels.shape, dtype=np.bool_)
    for strip in range(labels.shape[1]):
        same = (labels == labels[:, strip : strip + 1]) & readable
        left = count - same.sum(axis=1)
        first = same.argmax(axis=1) == strip
        ended[:, strip] = readable[:, strip] & first & (count >= k) & (left < k)
    return ended


STATES = list(DataState)


def extent_states(view: SiteView, ply: Ply, ready: Flags | None = None) -> Ints:
    """The place among STATES of the state of each extent of a ply, [extents], when the disks flagged in
    `ready` (by row; as they are now when None) can be read.

    An unreadable extent is lost, rather than unavailable, when so few of its strips lie on known disks that
    it could not be read with all of them. One that was never written, or that another ply holds, is whole.
    """
    present = present_strips(view, ply, ready).sum(axis=1)
    somewhere = (view.rows(ply) < len(view.disks)).sum(axis=1)
    by_count = np.array([STATES.index(state) for state in state_by_present(ply.scheme)], dtype=np.int64)
    found: Ints = by_count[present]
    found[somewhere < ply.scheme.k] = STATES.index(DataState.LOST)
    found[ply.unwritten] = STATES.index(DataState.WHOLE)
    return found


def _all_there(view: SiteView, ply: Ply) -> bool:
    """Whether every strip can be read now: by far the most usual, and many times quicker to see."""
    return not ply.has_gaps and view.all_ready(ply.disk_numbers)


def whole_at_once(view: SiteView) -> Flags:
    """Whether of each volume all strips can be read now, and nothing is read from an origin, [volumes]: what
    `fate_of` counts as whole, for many of them together.
    """
    columns = view.columns
    found: Flags = columns.of(_all_placed, np.bool_).copy()
    owners, numbers = columns.together(_disk_numbers)
    found[owners[~view.ready_by_number[numbers]]] = False
    return found


def _all_placed(volume: Volume) -> bool:
    return volume.origin is None and not any(ply.has_gaps for ply in volume.plies)


def _disk_numbers(volume: Volume) -> Disks:
    """Of the disks where strips of its plies lie."""
    return np.concatenate([ply.disk_numbers for ply in volume.plies])


def _counted(states: Ints) -> Fate:
    return Fate(*np.bincount(states, minlength=len(STATES)).tolist())


def fate(view: SiteView, ply: Ply, ready: Flags | None = None) -> Fate:
    """A ply's extents by state, as extent_states has it; what another ply holds is counted there."""
    if not ply.extents_here:
        return Fate(0, 0, 0, 0)
    if ready is None and _all_there(view, ply):
        return Fate(ply.extents_here, 0, 0, 0)
    states = extent_states(view, ply, ready)
    return _counted(states if ply.elsewhere is None else states[~ply.elsewhere])


def fate_of(view: SiteView, volume: Volume, ready: Flags | None = None) -> Fate:
    """A volume's extents by state: those of all its plies, and those that are read from its origin."""
    parts = [fate(view, ply, ready) for ply in volume.plies]
    if volume.origin is not None:
        parts.append(fate_through(view, volume, ready))
    if len(parts) == 1:
        return parts[0]
    return Fate(*(sum(getattr(part, f.name) for part in parts) for f in fields(Fate)))


def fate_through(view: SiteView, volume: Volume, ready: Flags | None = None) -> Fate:
    """The extents that a volume reads from its origin, by state."""
    return _counted(states_through(view, volume, ready))


# From a snapshot. ----------------------------------------------------------------------------------------


def states_through(view: SiteView, volume: Volume, ready: Flags | None = None) -> Ints:
    """The place among STATES of the state of each extent that a volume reads from its origin, in order."""
    assert volume.origin is not None
    through = np.flatnonzero(volume.through)
    origin, k = view.volume_numbered(volume.origin.volume), volume.whole.scheme.k
    worst = _snapshot_state(view, origin, volume.origin.snapshot, ready)
    data = np.zeros(volume.whole.extents * k, dtype=np.int64)
    theirs = _states_of_data(view, origin, ready)[: len(data)]
    data[: len(theirs)] = theirs
    found: Ints = np.maximum(data.reshape(-1, k).max(axis=1)[through], STATES.index(worst))
    return found


def _states_of_data(view: SiteView, volume: Volume, ready: Flags | None) -> Ints:
    """The place among STATES of the state of each strip of data of a volume, in order."""
    whole, hot = volume.whole, volume.hot
    found = np.repeat(extent_states(view, whole, ready), whole.scheme.k)
    if hot is not None:
        upper = np.repeat(volume.upper, whole.scheme.k)
        found[upper] = extent_states(view, hot, ready)[upper]
    return found


def _snapshot_state(view: SiteView, volume: Volume, number: int, ready: Flags | None = None) -> DataState:
    """How well what a volume has overwritten since a snapshot (by number) can be read: where some of that
    cannot, nobody knows here of which extents that is.
    """
    snapshot = next((s for s in volume.snapshots if s.number == number), None)
    if snapshot is None or not snapshot.there:
        return DataState.LOST
    if volume.past is None or (ready is None and _all_there(view, volume.past)):
        return DataState.WHOLE
    worst = STATES[int(extent_states(view, volume.past, ready).max())]
    return worst if worst in (DataState.UNAVAILABLE, DataState.LOST) else DataState.WHOLE


def can_be_read(view: SiteView, volume: Volume, number: int) -> bool:
    """Whether what a volume has overwritten since a snapshot (by number) can be read now."""
    return _snapshot_state(view, volume, number) == DataState.WHOLE


def knows_which(view: SiteView, volume: Volume) -> bool:
    """Whether it is known which extents of a volume cannot be read now: not where some of what its origin has
    overwritten since the snapshot cannot be, and all that is read through counts as unreadable for that.
    """
    if volume.origin is None:
        return True
    origin, number = view.volume_numbered(volume.origin.volume), volume.origin.snapshot
    lost = next((s.lost for s in origin.snapshots if s.number == number), "")
    return bool(lost) or can_be_read(view, origin, number)


def readable_data(view: SiteView, source: Ply) -> Flags:
    """Whether each strip of data of a ply can be read now, where it lies; what was never written can. Of the
    ply of all of a volume, what its hot one holds is looked for there.
    """
    k = source.scheme.k
    flags: Flags = np.repeat(enough_to_read(view, source) | source.unwritten, k)
    hot = hot_beside(view, source)
    if hot is not None and source.elsewhere is not None:
        upper = np.repeat(source.elsewhere, k)
        flags[upper] = enough_to_read(view, hot)[upper]
    return flags


def hot_beside(view: SiteView, source: Ply) -> Ply | None:
    """The hot ply of the volume that a ply is all of; None where there is none, and for any other ply."""
    return view.volume_numbered(source.volume).hot if source.purpose == Purpose.WHOLE else None


@dataclass(frozen=True, slots=True)
class CacheLoss:
    """What the failure of one cache device takes with it: what the disks it serves had not yet been given.

    disks: names of those; extents: with a strip there, which are a strip short until that one has been
    compared and brought up to date; unreadable: of these, with too few others.
    """

    device: str
    disks: tuple[str, ...]
    used_bytes: int
    extents: int
    unreadable: int


def cache_losses(view: SiteView, pool: Pool, bound: dict[int, int]) -> list[CacheLoss]:
    """For each cache device of a pool, what its failure takes with it. bound: number of the device that
    serves each disk, by number.
    """
    devices = {number: row for row, number in enumerate(sorted(set(bound.values())))}
    serves = np.full(len(view.disks) + 1, len(devices), dtype=np.int64)
    for disk, device in bound.items():
        serves[view.row_of_number[disk]] = devices[device]
    hit = np.zeros(len(devices) + 1, dtype=np.int64)
    lost = np.zeros(len(devices) + 1, dtype=np.int64)
    ready = np.append(view.disk_ready, False)
    for ply in view.plies_of(pool):
        rows = view.rows(ply)
        by_device = serves[rows]
        ordered = np.sort(by_device, axis=1)
        first = np.ones(ordered.shape, dtype=np.bool_)
        first[:, 1:] = ordered[:, 1:] != ordered[:, :-1]
        hit += np.bincount(ordered[first], minlength=len(hit))
        lost += np.bincount(by_device[ended_by(by_device, ready[rows], ply.scheme.k)], minlength=len(lost))
    names = {d.number: d.name for d in view.disks}
    found = []
    for device, row in devices.items():
        disks = sorted((names[n] for n, d in bound.items() if d == device), key=natural_key)
        used = int(view.disk_used[np.flatnonzero(serves[:-1] == row)].sum()) * pool.strip_bytes
        found.append(CacheLoss(names[device], tuple(disks), used, int(hit[row]), int(lost[row])))
    return sorted(found, key=lambda c: natural_key(c.device))


def without(view: SiteView, level: Level, domain: int) -> Flags:
    """The disks that can be read now, less those of one domain; by row."""
    kept: Flags = view.disk_ready & (view.domain_of(level) != domain)
    return kept


@dataclass(frozen=True, slots=True, eq=False)
class SingleLosses:
    """For every ply and domain at a level: how many extents lose 0, 1, ... strips with that domain.

    lost: [plies, domains, w + 1], w the most strips of any ply. Disks that are away already are not
    counted.
    """

    level: Level
    lost: Ints


def single_losses(view: SiteView, level: Level) -> SingleLosses:
    """The effect of losing each domain of a level in turn, in one pass over all placements."""
    domains = len(view.domain_names(level))
    domain_of = np.append(view.domain_of(level), domains).astype(np.int32)
    widest = max((p.scheme.strips for p in view.plies), default=1)
    result = np.zeros((len(view.plies), domains, widest + 1), dtype=np.int64)
    for row, ply in enumerate(view.plies):
        strips = ply.scheme.strips
        held = domain_of[view.rows(ply)]
        # Strips of one extent in the same domain: how often each strip's domain occurs, counted at its first
        # strip.
        same = np.ones(held.shape, dtype=np.int64)
        first = np.ones(held.shape, dtype=np.bool_)
        for a in range(strips):
            for b in range(a + 1, strips):
                twin = held[:, a] == held[:, b]
                if twin.any():
                    same[:, a] += twin
                    first[:, b] &= ~twin
        keys = held[first].astype(np.int64) * (widest + 1) + same[first]
        counts = np.bincount(keys, minlength=(domains + 1) * (widest + 1)).reshape(domains + 1, widest + 1)[
            :domains
        ]
        counts[:, 0] = ply.extents - counts[:, 1:].sum(axis=1)
        result[row] = counts
    return SingleLosses(level, result)


def survivors(losses: SingleLosses, view: SiteView) -> Flags:
    """Whether each ply stays readable through each single loss, [plies, domains], if all disks are ready
    now.
    """
    kept = [losses.lost[row, :, ply.scheme.m + 1 :].sum(axis=1) == 0 for row, ply in enumerate(view.plies)]
    return np.array(kept, dtype=np.bool_)


def survives_at(view: SiteView, pool: Pool, tier: Tier, scheme: Scheme, level: Level) -> int:
    """Losses of domains of a level, whichever they are, that leave every extent readable that may come to lie
    on a tier of a pool under a scheme, as it stands and as it may be moved.
    """
    if level == Level.DISK:
        return scheme.m  # two strips of an extent never share a disk
    most = _most_taken(view, pool, tier, scheme.level, scheme.per_domain, level)
    return int((np.cumsum(most) <= scheme.m).sum())


def _most_taken(view: SiteView, pool: Pool, tier: Tier, spread: Level, per_domain: int, loss: Level) -> Ints:
    """Strips of one extent that each further loss may take, the worst one first, where a domain of the spread
    level holds at most so many, each on another disk. Found once for each picture of the site.
    """
    key = ("most taken", pool.number, tier, spread, per_domain, loss)
    if key in view.findings:
        return cast(Ints, view.findings[key])
    rows = view.in_pool(pool, tier)
    order = list(Level)
    spread_of, loss_of = view.domain_of(spread)[rows], view.domain_of(loss)[rows]
    if order.index(loss) <= order.index(spread):
        _, first, disks = np.unique(spread_of, return_index=True, return_counts=True)
        taken = np.bincount(loss_of[first], weights=np.minimum(disks, per_domain)).astype(np.int64)
    else:
        _, first, disks = np.unique(loss_of, return_index=True, return_counts=True)
        inside = spread_of[first]
        # Of one domain the things with the most disks are lost first, and together take what it may hold.
        order_of = np.lexsort((-disks, inside))
        held, starts = disks[order_of], np.searchsorted(inside[order_of], inside[order_of], side="left")
        before = np.cumsum(held) - held
        before -= before[starts]
        taken = np.clip(per_domain - before, 0, held)
    most: Ints = np.sort(taken[taken > 0])[::-1]
    view.findings[key] = most
    return most
